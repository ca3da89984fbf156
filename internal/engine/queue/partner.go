package queue

import (
	"errors"
	"io"
	"slices"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/forward"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/reshape"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/spool"
	"gullroute/internal/store"
)

// errTooLarge is why a message is not written anew.
var errTooLarge = errors.New("the message is larger than any listener takes")

// agreed is the form of messages that was agreed with the domain that a recipient is of.
type agreed struct {
	reshape.Terms
	sevenBit string // the peer that takes no 8-bit; "" of others
	forward.Way
}

func agreedWith(cfg *config.Compiled, domain string) (t agreed) {
	if p := cfg.Peer(domain); p != nil {
		t.Terms = reshape.Terms{Plain: p.PlainText, Charset: p.Charset}
		if p.No8Bit {
			t.sevenBit = p.Name
		}
	}
	return t
}

// groups are the recipients that get the same octets, in the order in which they stand; of is
// where each stands among the job's deliveries.
func groups(
	cfg *config.Compiled,
	j *job,
	fit []deliver.Recipient,
	of []int,
) (terms []agreed, at [][]int) {
	for i, to := range fit {
		t := agreedWith(cfg, to.To.Domain)
		t.Way = forward.Of(cfg, j.from(), to.To, j.deliveries[of[i]].Via)
		k := slices.Index(terms, t)
		if k < 0 {
			k, terms, at = len(terms), append(terms, t), append(at, nil)
		}
		at[k] = append(at[k], i)
	}
	return terms, at
}

// asAgreed makes a message such as a partner's programs can read it. The caller calls done when it
// is sent.
func (a *author) asAgreed(
	m *deliver.Message,
	t reshape.Terms,
) (done func(), failed *deliver.Failure) {
	done = func() {}
	if !t.Any() {
		return done, nil
	}
	fresh, told, err := a.rewrite(m, t)
	if err != nil {
		return done, &deliver.Failure{
			Cause: diagnose.OurTrouble,
			Reply: mail.LastReply{
				Stage:    diagnose.StageRoute,
				Enhanced: "4.3.0",
				Text:     "the message could not be written as its recipients need it: " + err.Error(),
			},
		}
	}
	m.Written = told
	if fresh == nil {
		return done, nil
	}
	m.Size, m.EightBit = fresh.Size, fresh.EightBit
	m.Content = func() (io.Reader, error) { return fresh.Open(), nil }
	return fresh.Close, nil
}

// rewrite writes a message's content anew; nil is one that stays as it is.
func (a *author) rewrite(m *deliver.Message, t reshape.Terms) (*spool.Spool, []string, error) {
	content, err := m.Content()
	if err != nil {
		return nil, nil, err
	}
	const most = 1 << 30 // octets, far beyond what a listener takes
	old := spool.New(a.SpoolDir, int(min(m.Size, store.PieceSize)), store.PieceSize)
	defer old.Close()
	switch n, err := io.Copy(old, io.LimitReader(content, most)); {
	case err != nil:
		return nil, nil, err
	case n == most:
		return nil, nil, errTooLarge
	}
	report, err := parts.Scan(old.Open(), parts.Options{Text: true})
	if err != nil {
		return nil, nil, err
	}
	header, _ := message.SplitHeader(old.Head())
	edits, told, err := reshape.Partner(old, header, report, t)
	if err != nil || len(edits) == 0 {
		return nil, told, err
	}
	fresh := spool.New(a.SpoolDir, int(min(m.Size, store.PieceSize)), store.PieceSize)
	if _, err := io.Copy(fresh, reshape.Apply(old, old.Size, edits)); err != nil {
		fresh.Close()
		return nil, nil, err
	}
	return fresh, told, nil
}

// needs8Bit refuses a message that stays 8-bit.
func needs8Bit(peer string) *deliver.Failure {
	return &deliver.Failure{
		Cause:     diagnose.Needs8Bit,
		Permanent: true,
		Reply: mail.LastReply{
			Stage:    diagnose.StageRoute,
			Enhanced: "5.6.1",
			Text:     "the message is 8-bit, and it was agreed with " + peer + " to send none",
		},
	}
}
