package receive

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/forward"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// ReturnPaths are those that forwards have (package forward).
type ReturnPaths struct {
	Key      []byte
	Messages interface {
		Message(ctx context.Context, id ident.ID) (mail.Message, error)
	}
}

// Sender finds to whom what comes back to an address goes: the sender of the message that was
// passed on. forward.ErrOther says that the address is no return path.
func (p ReturnPaths) Sender(
	ctx context.Context,
	c *config.Compiled,
	a address.Address,
) (address.Address, error) {
	if d := c.Domain(a.Domain); d == nil || c.Mailbox(a) != nil || c.Alias(a) != nil {
		return address.Address{}, forward.ErrOther
	}
	id, err := forward.Read(p.Key, a, time.Now())
	if err != nil {
		return address.Address{}, err
	}
	m, err := p.Messages.Message(ctx, id)
	if errors.Is(err, fault.ErrNotFound) || err == nil && m.Sender == "" {
		return address.Address{}, forward.ErrEnded
	} else if err != nil {
		return address.Address{}, err
	}
	return address.Parse(m.Sender)
}

// sentBack finds where a recipient's mail goes that is a return path of ours, or what refuses it;
// every other recipient is where its mail goes.
func (se recipientTalk) sentBack(to address.Address) (address.Address, *refused) {
	if se.server.Returns == nil {
		return to, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), verifyTimeout)
	defer cancel()
	sender, err := se.server.Returns.Sender(ctx, se.cfg, to)
	no := refused{cause: diagnose.NoSuchUser}
	switch {
	case errors.Is(err, forward.ErrOther):
		return to, nil
	case errors.Is(err, forward.ErrForged), errors.Is(err, forward.ErrEnded):
		no.reply = smtp.NewReply(550, "5.1.1", "%s was a return path: %v", to.Display(), err)
	case err != nil:
		no.cause = diagnose.OurTrouble
		no.reply = smtp.NewReply(
			451,
			"4.3.0",
			"the return path cannot be looked up just now; try again later",
		)
	case !se.mail.From.IsNull():
		no.cause = diagnose.RuleRefuses
		no.reply = smtp.NewReply(
			550,
			"5.7.1",
			"%s takes notices only: mail from the null sender",
			to.Display(),
		)
	default:
		return sender, nil
	}
	return to, &no
}

// sentFirst is who sent a message that comes back under a return path of ours, as one does that
// goes round in a loop: people look for it by that sender. Others sent it themselves.
func sentFirst(paths Returns, cfg *config.Compiled, from address.Address) address.Address {
	if paths == nil || !forward.Looks(from) {
		return from
	}
	ctx, cancel := context.WithTimeout(context.Background(), verifyTimeout)
	defer cancel()
	if sender, err := paths.Sender(ctx, cfg, from); err == nil {
		return sender
	}
	return from
}
