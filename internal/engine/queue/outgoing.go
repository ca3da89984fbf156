package queue

import (
	"bytes"
	"errors"
	"io"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/senderauth"
)

// message is the job as the transcript needs it.
func (a *author) message(j *job) *deliver.Message {
	return &deliver.Message{
		ID:       j.message,
		Sender:   j.from(),
		Size:     j.size,
		UTF8:     j.utf8,
		EightBit: j.eightBit,
		Ret:      j.ret,
		EnvID:    j.envID,
		Content: func() (io.Reader, error) {
			if j.content != nil {
				return bytes.NewReader(j.content.data), nil
			}
			return a.Store.OpenContent(a.ctx, j.message)
		},
	}
}

// mayWriteAs says of an address in From whether who signed in may use it; nil, of
// machines and of ourselves, asks nothing.
func (j *job) mayWriteAs(cfg *config.Compiled) func(address.Address) bool {
	account, err := address.Parse(j.account)
	if err != nil {
		return nil
	}
	return func(from address.Address) bool {
		return relay.Belongs(cfg, config.Envelope{Account: account, Sender: from})
	}
}

// signed is the message with the signatures of the domain it is from. Only what our
// people, our machines and we ourselves wrote is signed: a stranger may write any
// From. Towards our own mailbox servers nothing is.
func (a *author) signed(r *config.Route, j *job) (*deliver.Message, *deliver.Failure) {
	l := a.message(j)
	if a.Signer == nil || !a.Signer.Any() || j.direction == mail.In || r.NextHop == config.HopLMTP {
		return l, nil
	}
	cfg := a.cfg.Load()
	fields, err := a.Signer.Sign(a.ctx, j.mayWriteAs(cfg), l.Content)
	if errors.Is(err, senderauth.ErrLocked) && cfg.Service.WithoutKey == config.SendUnsigned {
		return l, nil
	}
	if err != nil {
		return nil, &deliver.Failure{
			Cause: diagnose.OurTrouble,
			Reply: mail.LastReply{
				Stage:    diagnose.StageRoute,
				Enhanced: "4.3.0",
				Text:     "the message could not be signed: " + err.Error(),
			},
		}
	}
	if len(fields) > 0 {
		plain := l.Content
		l.Size += int64(len(fields))
		l.Content = func() (io.Reader, error) {
			rest, err := plain()
			return io.MultiReader(bytes.NewReader(fields), rest), err
		}
	}
	return l, nil
}
