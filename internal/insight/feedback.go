package insight

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"slices"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/aggregate"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/readiness"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/inforce"
	"gullroute/internal/insight/snags"
	"gullroute/internal/store"
)

// Feedback reads the reports of others about us, and says what they mean.
type Feedback struct {
	Store     store.Feedback
	Mailboxes store.Mailboxes
	InForce   *inforce.State
	Own       *OwnMail
	Resolver  *resolve.Current
	Troubles  *snags.Keeper
	Log       *slog.Logger

	looked    time.Time // when strangers were last looked for
	strangers []stranger
}

// Of reading reports.
const (
	readAtOnce = 50
	// foreignMessages is how many messages from an unknown address are worth a word.
	foreignMessages = 5
	foreignSince    = 7 * 24 * time.Hour
	manySenders     = 200
	evidenceSince   = 30 * 24 * time.Hour
	// strangersEvery is how often they are looked for where no report came. They are told of each
	// time: a trouble of ours is over when nobody tells of it any more.
	strangersEvery = time.Minute
)

// stranger is who sends in a domain's name and nobody knows: the one with most messages.
type stranger struct{ domain, text string }

// Read reads what came to the reports' address since the last time, on one node of many, and tells
// of senders in our name that nobody knows.
func (f *Feedback) Read(ctx context.Context) error {
	at := f.InForce.Config().Service.Feedback.Address
	if at == nil {
		return nil
	}
	_, err := f.Store.Alone(
		ctx,
		"gull reports of others",
		func() error { return f.readAll(ctx, at) },
	)
	return err
}

func (f *Feedback) readAll(ctx context.Context, at *address.Address) error {
	came := false
	for {
		items, err := f.Store.Unread(ctx, at.String(), readAtOnce)
		if err != nil {
			return err
		}
		came = came || len(items) > 0
		for _, m := range items {
			if err := f.read(ctx, at.String(), m); err != nil {
				return err
			}
		}
		if len(items) < readAtOnce {
			break
		}
	}
	now := time.Now()
	if came || now.Sub(f.looked) >= strangersEvery {
		if err := f.findStrangers(ctx, now); err != nil {
			return err
		}
		f.looked = now
	}
	for _, s := range f.strangers {
		f.Troubles.Domain(diagnose.NameUsed, s.domain, s.text, now)
	}
	return nil
}

func (f *Feedback) read(ctx context.Context, mailbox string, m mail.MailboxItem) error {
	content, err := f.Mailboxes.MailboxContent(ctx, mailbox, m.ID)
	if err != nil {
		return f.Store.Skip(ctx, mailbox, m, err.Error())
	}
	d, t, err := aggregate.Open(io.LimitReader(content, 20<<20))
	cfg := f.InForce.Config()
	switch {
	case err != nil:
	case d != nil && cfg.Domain(d.Domain) == nil:
		err = errors.New("it is about " + d.Domain + ", which is not ours")
	case d != nil:
		return f.Store.AddDMARC(ctx, mailbox, m.ID, d)
	default:
		t.Policies = slices.DeleteFunc(t.Policies,
			func(p aggregate.TLSPolicy) bool { return cfg.Domain(p.Policy.Domain) == nil })
		if len(t.Policies) > 0 {
			return f.Store.AddTLS(ctx, mailbox, m.ID, t)
		}
		err = errors.New("it is about no domain of ours")
	}
	f.Log.Info(
		"a message to the reports' address is no report of us",
		"message",
		m.ID,
		"error",
		err,
	)
	return f.Store.Skip(ctx, mailbox, m, err.Error())
}

// findStrangers looks for addresses from which mail in our name comes, that nothing proves and
// nobody knows.
func (f *Feedback) findStrangers(ctx context.Context, now time.Time) error {
	var found []stranger
	for _, d := range f.InForce.Config().Domains {
		senders, err := f.senders(ctx, string(d.Name), now.Add(-foreignSince), manySenders)
		if err != nil {
			return err
		}
		var unknown, unproved int64
		var first mail.FeedbackSender
		for _, s := range senders { // those with most that nothing proves first
			if n := s.Messages - s.Passed; !s.Known && n >= foreignMessages {
				if unknown == 0 {
					first = s
				}
				unknown++
				unproved += n
			}
		}
		if unknown > 0 {
			found = append(
				found,
				stranger{string(d.Name), fmt.Sprintf("%d messages of the last week came "+
					"from %s that nobody knows, the most from %s", unproved, places(unknown), first.Source)},
			)
		}
	}
	f.strangers = found
	return nil
}

// senders are those in a domain's name; our own addresses are known.
func (f *Feedback) senders(
	ctx context.Context,
	domain string,
	since time.Time,
	limit int,
) ([]mail.FeedbackSender, error) {
	list, err := f.Store.Senders(ctx, domain, since, limit)
	ours := f.InForce.Config().Service.Addresses
	if len(ours) == 0 {
		ours, _ = f.Resolver.Addrs(ctx, string(f.InForce.Config().Service.HostName))
	}
	for i := range list {
		s := &list[i]
		switch {
		case slices.Contains(ours, s.Source):
			s.Known, s.Name = true, cmp.Or(s.Name, "this server")
		case s.Passed == s.Messages:
			s.Known = true // proved each time: somebody let it send
		}
	}
	return list, err
}

// Of says what others report of a domain since a time.
func (f *Feedback) Of(ctx context.Context, domain string, since time.Time) (api.Feedback, error) {
	out := api.Feedback{Domain: domain, Since: since.UTC(), Senders: []mail.FeedbackSender{},
		Days: []mail.FeedbackDay{}, TLS: []mail.FeedbackTLS{}}
	senders, err := f.senders(ctx, domain, since, manySenders)
	if err != nil {
		return out, err
	}
	days, err := f.Store.Days(ctx, domain, since)
	if err != nil {
		return out, err
	}
	tls, err := f.Store.TLS(ctx, domain, since)
	if err != nil {
		return out, err
	}
	out.Senders, out.Days, out.TLS = append(out.Senders, senders...), append(out.Days, days...),
		append(out.TLS, tls...)
	for _, d := range days {
		out.Messages += d.Messages
		out.Passed += d.Passed
	}
	out.Says = says(out)
	return out, nil
}

// says what reports mean, worst first.
func says(x api.Feedback) string {
	var unknown, messages int64
	var first netip.Addr
	for _, s := range x.Senders {
		if !s.Known && s.Messages > s.Passed {
			if unknown == 0 {
				first = s.Source
			}
			unknown++
			messages += s.Messages - s.Passed
		}
	}
	var failed int64
	for _, t := range x.TLS {
		if t.Result != "" {
			failed += t.Sessions
		}
	}
	switch {
	case x.Messages == 0 && len(x.TLS) == 0:
		return "Nobody has reported anything of this time yet."
	case unknown > 0:
		return fmt.Sprintf(
			"%d messages in its name came from %s that nobody knows and nothing proves, the "+
				"most from %s.",
			messages,
			places(unknown),
			first,
		)
	case x.Passed < x.Messages:
		return fmt.Sprintf(
			"%.1f %% of the messages in its name were proved; the rest came from senders that "+
				"are known.",
			100*float64(x.Passed)/float64(x.Messages),
		)
	case failed > 0:
		return fmt.Sprintf("%d connections to its hosts failed by TLS.", failed)
	}
	return "All messages in its name were proved, and all connections to its hosts did well."
}

func places(n int64) string {
	if n == 1 {
		return "one address"
	}
	return fmt.Sprintf("%d addresses", n)
}

// Evidence is what reports say of a domain for its DMARC policy.
func (f *Feedback) Evidence(ctx context.Context, domain string) (e readiness.Evidence, err error) {
	x, err := f.Of(ctx, domain, time.Now().Add(-evidenceSince))
	if err != nil {
		return e, err
	}
	e.Messages, e.Passed = x.Messages, x.Passed
	for _, s := range x.Senders {
		if s.Known && s.Name != "" && s.Messages > s.Passed {
			e.Unproved = append(e.Unproved, fmt.Sprintf("%s (%s)", s.Name, s.Source))
		}
		if !s.Known {
			e.Strange += s.Messages - s.Passed
		}
	}
	e.Days = len(x.Days)
	return e, nil
}

// State is how reading and sending goes.
func (f *Feedback) State(ctx context.Context) (s api.FeedbackState, err error) {
	cfg := f.InForce.Config()
	set := cfg.Service.Feedback
	s.Sends = set.Send == "on" && set.Address != nil
	switch {
	case set.Address == nil:
		s.Says = "No address is set at which reports are read: gull service set --feedback-address."
	case cfg.Directory.Mailbox(*set.Address) == nil:
		s.Address = set.Address.Display()
		s.Says = s.Address + " is no mailbox: make it (gull mailbox add), or nothing is read."
	default:
		s.Address = set.Address.Display()
		s.Says = "Reports are read from " + s.Address + "."
	}
	if s.Unread, err = f.Store.Faults(ctx); err != nil {
		return s, err
	}
	if s.Sent, err = f.Store.Sent(ctx); err != nil {
		return s, err
	}
	s.Sources, err = f.Store.Sources(ctx)
	s.Unread, s.Sent = append(
		[]mail.FeedbackUnread{},
		s.Unread...), append(
		[]mail.FeedbackSent{},
		s.Sent...)
	s.Sources = append([]mail.FeedbackSource{}, s.Sources...)
	return s, err
}
