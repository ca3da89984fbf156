package service

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/engine/feed"
)

// Who is bounded to domains sees a message if its sender or one of its recipients is at one of
// them: of the sender's own messages all, of others the deliveries to recipients of his.

// ofOwn reports a message that comes from within bounds.
func ofOwn(b rights.Bounds, m *mail.Message) bool {
	return b.None() || m.Sender != "" && b.HasAddress(m.Sender)
}

// trim takes out of a message what is about others, and reports whether anything is left.
func trim(b rights.Bounds, m *mail.Message) bool {
	if ofOwn(b, m) {
		return true
	}
	m.Deliveries = slices.DeleteFunc(m.Deliveries, func(d mail.Delivery) bool {
		return !b.HasAddress(d.Recipient) && !b.HasAddress(d.Original)
	})
	return len(m.Deliveries) > 0
}

// trimTrace takes out of a message's path what is about others.
func trimTrace(b rights.Bounds, t *api.Trace) bool {
	if b.None() {
		return true
	}
	own := ofOwn(b, &t.Message)
	if !trim(b, &t.Message) {
		return false
	}
	known := map[int16]bool{0: true}
	for i := range t.Message.Deliveries {
		known[t.Message.Deliveries[i].N] = true
	}
	t.Events = slices.DeleteFunc(t.Events, func(e mail.Event) bool { return !own && !known[e.N] })
	t.Generated = slices.DeleteFunc(t.Generated, func(m mail.Message) bool { return !trim(b, &m) })
	t.Notices = t.Notices[:0]
	for i := range t.Generated {
		t.Notices = append(t.Notices, t.Generated[i].ID)
	}
	if t.About != nil && !trim(b, t.About) {
		t.About = nil
	}
	t.Boxes = slices.DeleteFunc(
		t.Boxes,
		func(x mail.BoxUse) bool { return !b.HasAddress(x.Address) },
	)
	// Sessions carry others' messages too.
	t.Session, t.Sessions = nil, []mail.Session{}
	if !own {
		t.ForUser, t.ForRemote = "", ""
	}
	return true
}

// trimRefusal reports whether a refusal is within bounds.
func trimRefusal(b rights.Bounds, r *mail.Refusal) bool {
	return b.None() || r.Sender != "" && b.HasAddress(r.Sender) || b.HasAddress(r.Recipient)
}

// sees reports whether an event is within bounds.
func sees(b rights.Bounds, e *feed.Event) bool {
	return b.None() || e.Sender != "" && b.HasAddress(e.Sender) ||
		e.Recipient != "" && b.HasAddress(e.Recipient)
}

// errBeyond reports what is beyond somebody's bounds as what is not there: that it is there is
// nothing for him to know.
func errBeyond(what string) error { return huma.Error404NotFound("there is no such " + what) }

// mayTouch reports an address that is beyond the bounds of whoever asks.
func mayTouch(ctx context.Context, what string, a address.Address) error {
	if b := boundsOf(ctx); !b.Has(a.Domain) {
		return huma.Error404NotFound("there is no " + what + " " + a.Display())
	}
	return nil
}

// mayGive reports what of a mailbox's fields reaches beyond the bounds of whoever asks.
func mayGive(ctx context.Context, m *directory.Mailbox) error {
	b := boundsOf(ctx)
	if b.None() {
		return nil
	}
	var wrong []error
	beyond := func(field, what string) {
		wrong = append(wrong, &huma.ErrorDetail{Location: field, Message: what +
			" is beyond the domains that you look after"})
	}
	if !b.Has(m.Address.Domain) {
		beyond("address", m.Address.Display())
	}
	for _, a := range m.Addresses {
		if !b.Has(a.Domain) {
			beyond("addresses", a.Display())
		}
	}
	for _, p := range m.SendAs {
		if !b.HasPattern(p) {
			beyond("send_as", p.String())
		}
	}
	for _, s := range m.Reading.Shared {
		for _, p := range s.With {
			if !b.HasPattern(p) {
				beyond("reading.shared", p.String())
			}
		}
	}
	if len(wrong) > 0 {
		return huma.Error403Forbidden("nothing was changed", wrong...)
	}
	return nil
}
