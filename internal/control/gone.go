package control

import (
	"context"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/store"
)

// Gone are the mailboxes that were taken out and can be given back, of the domains that whoever
// asks looks after.
func (s *Directory) Gone(ctx context.Context, b rights.Bounds) ([]mail.GoneMailbox, error) {
	all, err := s.Store.Gone(ctx)
	kept, now := s.InForce.Config().Service.MailboxesKept, time.Now()
	list := []mail.GoneMailbox{}
	for _, m := range all {
		m.EndsAt = m.RemovedAt.Add(kept)
		if m.EndsAt.After(now) && b.HasAddress(m.Address) {
			list = append(list, m)
		}
	}
	return list, err
}

// GiveBack brings a mailbox back that was taken out, the latest with its address, with password
// and mail; as gives it another address. left are further addresses that are others' now. The
// error may be form.Problems, or what may says of it.
func (s *Directory) GiveBack(
	ctx context.Context,
	who string,
	b rights.Bounds,
	was, as address.Address,
	may func(*directory.Mailbox) error,
) (m *directory.Mailbox, left []address.Address, err error) {
	gone, err := s.Gone(ctx, b)
	if err != nil {
		return nil, nil, err
	}
	aside := ""
	for _, g := range gone {
		if a, err := address.Parse(g.Address); err == nil && a.Key() == was.Key() {
			aside = g.Aside
			break
		}
	}
	if aside == "" {
		return nil, nil, fault.ErrNotFound
	}
	if m, err = s.Store.GoneMailbox(ctx, aside); err != nil {
		return nil, nil, err
	}
	if m == nil { // of before mailboxes were kept: its mail is all that there is
		m = &directory.Mailbox{}
	}
	m.Address = as
	cfg := s.InForce.Config()
	if ownMailbox(cfg, as) != nil {
		return nil, nil, fault.Refuse(
			"address",
			"%s is somebody's mailbox: give it back under another "+
				"address (--as)",
			as.Display(),
		)
	}
	kept := m.Addresses[:0:0]
	for _, a := range m.Addresses {
		switch {
		case cfg.Directory.Mailbox(a) != nil, cfg.Directory.Alias(a) != nil, a.Key() == as.Key():
			left = append(left, a)
		default:
			kept = append(kept, a)
		}
	}
	m.Addresses = kept
	if problems := cfg.Directory.CheckMailbox(m, cfg.Kind); len(problems) > 0 {
		return nil, nil, problems
	}
	if err := prepare(cfg, cfg.Directory, m); err != nil {
		return nil, nil, err
	}
	if err := may(m); err != nil {
		return nil, nil, err
	}
	c := store.DirectoryChange{Who: who, Mailboxes: []*directory.Mailbox{m},
		Records: []store.Record{{What: "mailbox", Name: m.Address.Display(), After: m.Fields()}}}
	given, err := s.Store.GiveBack(ctx, aside, c)
	if err == nil && given {
		s.known(c)
	}
	s.Cluster.Changed("directory")
	if err == nil && !given {
		err = fault.ErrNotFound
	}
	return m, left, err
}
