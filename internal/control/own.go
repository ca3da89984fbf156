package control

import (
	"context"
	"slices"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Own is what people do with their own mailboxes.
type Own struct {
	Directory *Directory
	Sessions  store.OwnSessions
	Held      store.Held
	Mailboxes store.Mailboxes
	InForce   *inforce.State
}

// OwnTime is how long a session on one's own page lasts.
const OwnTime = 2 * time.Hour

// Begin begins a session of a mailbox's owner, and gives its secret.
func (o *Own) Begin(ctx context.Context, a address.Address) (secret string, err error) {
	secret = NewSecret()
	return secret, o.Sessions.Begin(ctx, HashSecret(secret), a.Key(), time.Now().Add(OwnTime))
}

// Owner is the mailbox of a session's secret; fault.ErrNotFound if it has ended.
func (o *Own) Owner(ctx context.Context, secret string) (*directory.Mailbox, error) {
	key, err := o.Sessions.Mailbox(ctx, HashSecret(secret))
	if err != nil {
		return nil, err
	}
	at := strings.LastIndexByte(key, '@')
	box := o.InForce.Config().Directory.Mailbox(
		address.Address{Local: key[:at], Domain: key[at+1:]},
	)
	if box == nil {
		return nil, fault.ErrNotFound
	}
	return box, nil
}

// End ends a session.
func (o *Own) End(ctx context.Context, secret string) error {
	return o.Sessions.End(ctx, HashSecret(secret))
}

// maxOwnHeld is how many held messages somebody is shown.
const maxOwnHeld = 100

// View is a mailbox as its owner sees it.
func (o *Own) View(ctx context.Context, m *directory.Mailbox) (api.OwnMailbox, error) {
	v := api.OwnMailbox{
		Address:    m.Address.Display(),
		Name:       m.Name,
		Addresses:  []string{},
		Quota:      int64(m.Quota),
		ForwardTo:  []string{},
		KeepCopy:   m.KeepCopy,
		MayForward: o.InForce.Config().Service.PeopleForward,
		Reads:      m.Reading.Allows(directory.ByIMAP) || m.Reading.Allows(directory.ByPOP3),
		Held:       []api.OwnHeld{},
	}
	for _, a := range append(slices.Clone(m.Addresses), m.Generated...) {
		v.Addresses = append(v.Addresses, a.Display())
	}
	for _, a := range m.ForwardTo {
		v.ForwardTo = append(v.ForwardTo, a.Display())
	}
	if r := m.Reply; r != nil {
		v.Reply = &api.OwnReply{Inside: r.Inside, Outside: r.Outside, From: r.From.String(),
			Until: r.Until.String()}
	}
	var err error
	if v.Messages, v.Octets, err = o.Mailboxes.MailboxUse(ctx, m.Address.String()); err != nil {
		return v, err
	}
	if v.AppPasswords, err = o.Directory.AppPasswords(ctx, m); err != nil {
		return v, err
	}
	uses, err := store.AppPasswords{DB: o.Mailboxes.DB}.Uses(ctx, []string{m.Address.Key()})
	if err != nil {
		return v, err
	}
	if v.LastUse = uses[m.Address.Key()]; v.LastUse == nil {
		v.LastUse = []mail.LastUse{}
	}
	held, err := o.Held.List(ctx, mail.HeldFilter{Recipient: m.Address.String(), Limit: maxOwnHeld})
	for i := range held {
		h := &held[i]
		v.Held = append(v.Held, api.OwnHeld{ID: h.ID.String(), ReceivedAt: mail.At(h.Received),
			Sender: h.Sender, Subject: h.Subject, Why: h.Why})
	}
	return v, err
}

// Change changes what somebody may change of his mailbox.
func (o *Own) Change(ctx context.Context, m *directory.Mailbox, c api.OwnChange) error {
	fresh := *m
	if c.Reply != nil {
		fresh.Reply = nil
		if c.Reply.Inside != "" || c.Reply.Outside != "" {
			fresh.Reply = &directory.Reply{Inside: c.Reply.Inside, Outside: c.Reply.Outside}
			for field, day := range map[string]struct {
				text string
				into *form.Day
			}{"from": {c.Reply.From, &fresh.Reply.From}, "until": {c.Reply.Until, &fresh.Reply.Until}} {
				if day.text == "" {
					continue
				}
				if err := day.into.UnmarshalText([]byte(day.text)); err != nil {
					return fault.Refuse("automatic_reply."+field, "%v", err)
				}
			}
		}
	}
	if c.KeepCopy != nil {
		fresh.KeepCopy = *c.KeepCopy
	}
	if c.ForwardTo != nil {
		if err := o.forward(&fresh, *c.ForwardTo); err != nil {
			return err
		}
	}
	return o.Directory.PutMailbox(ctx, m.Address.Display(), &fresh, false, false)
}

// forward sets where a mailbox's mail goes on to, as far as the settings allow.
func (o *Own) forward(m *directory.Mailbox, to []string) error {
	cfg := o.InForce.Config()
	m.ForwardTo = nil
	for _, text := range to {
		a, err := address.Parse(strings.TrimSpace(text))
		if err != nil {
			return fault.Refuse("forward_to", "%v", err)
		}
		switch cfg.Service.PeopleForward {
		case config.ForwardAnywhere:
		case config.ForwardInside:
			if cfg.Domain(a.Domain) == nil {
				return fault.Refuse(
					"forward_to",
					"mail may be forwarded to addresses of this server's domains only; ask your administrator",
				)
			}
		default:
			return fault.Refuse("forward_to",
				"people do not set forwards here; ask your administrator")
		}
		m.ForwardTo = append(m.ForwardTo, a)
	}
	return nil
}

// NewPassword gives a mailbox a new password: all its sessions end but the one that asks.
func (o *Own) NewPassword(
	ctx context.Context,
	m *directory.Mailbox,
	secret, password string,
) error {
	if err := Strong(password, m.Address.Local, m.Name); err != nil {
		return err
	}
	fresh := *m
	fresh.Password = password
	if err := o.Directory.PutMailbox(ctx, m.Address.Display(), &fresh, false, false); err != nil {
		return err
	}
	return o.Sessions.Keep(ctx, HashSecret(secret), m.Address.Key(), time.Now().Add(OwnTime))
}
