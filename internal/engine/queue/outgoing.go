package queue

import (
	"bytes"
	"errors"
	"io"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/forward"
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
		Asked:    j.asked,
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

// outgoing is the message as it is sent by a route to recipients of the same terms. The
// caller calls done when it is sent.
func (a *author) outgoing(
	r *config.Route,
	j *job,
	t agreed,
) (*deliver.Message, func(), *deliver.Failure) {
	m := a.message(j)
	done, failure := a.asAgreed(m, t.Terms)
	if failure == nil && m.EightBit && t.sevenBit != "" { // it is signed, or cannot be taken apart
		failure = needs8Bit(t.sevenBit)
	}
	if failure == nil {
		failure = a.sign(r, j, m)
	}
	if failure == nil && t.Domain != "" && r.NextHop != config.HopLMTP {
		a.passOn(j, t.Way, m)
	}
	return m, done, failure
}

// passOn seals what we found of the sender of a message that a domain of ours passes on, and puts
// our return path in place of the sender's. A message goes on without a seal where none can be made.
func (a *author) passOn(j *job, w forward.Way, m *deliver.Message) {
	if w.Returned && len(a.ReturnKey) > 0 {
		m.Sender = forward.ReturnPath(a.ReturnKey, j.message, w.Domain)
	}
	service := &a.cfg.Load().Service
	if a.Signer == nil || j.direction != mail.In || service.Forwards.Seal == "off" {
		return
	}
	fields, err := a.Signer.Seal(w.Domain, string(service.HostName), m.Content)
	if err != nil {
		a.Log.Warn(
			"a message that is passed on could not be sealed",
			"message",
			j.message,
			"error",
			err,
		)
		return
	}
	m.Prepend(fields)
}

// sign adds the signatures of the domain that a message is from. Only what our
// people, our machines and we ourselves wrote is signed: a stranger may write any
// From. Towards our own mailbox servers nothing is.
func (a *author) sign(r *config.Route, j *job, l *deliver.Message) *deliver.Failure {
	if a.Signer == nil || !a.Signer.Any() || j.direction == mail.In || r.NextHop == config.HopLMTP {
		return nil
	}
	cfg := a.cfg.Load()
	fields, err := a.Signer.Sign(a.ctx, j.mayWriteAs(cfg), l.Content)
	if errors.Is(err, senderauth.ErrLocked) && cfg.Service.WithoutKey == config.SendUnsigned {
		return nil
	}
	if err != nil {
		return &deliver.Failure{
			Cause: diagnose.OurTrouble,
			Reply: mail.LastReply{
				Stage:    diagnose.StageRoute,
				Enhanced: "4.3.0",
				Text:     "the message could not be signed: " + err.Error(),
			},
		}
	}
	l.Prepend(fields)
	return nil
}
