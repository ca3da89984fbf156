// Package plan puts deliveries on their way: when a message is accepted, and again when the
// configuration changes or a person says so. It is computation only.
package plan

import (
	"net/netip"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// Envelope is what is on record of a message, as decisions are made on it.
func Envelope(sender, account, client, listener string, size int64) config.Envelope {
	e := config.Envelope{Listener: listener, Size: size}
	e.Sender, _ = address.Parse(sender)
	e.Account, _ = address.Parse(account)
	e.Client, _ = netip.ParseAddr(client)
	return e
}

// SetLeg puts a delivery on the way that a leg is.
func SetLeg(d *mail.Delivery, leg route.Leg, revision int) {
	d.LaneID, d.Route, d.NextHop, d.RouteWhy, d.Revision = ident.ID(
		leg.Lane(),
	), leg.Route.Name, leg.NextHop, leg.Why, revision
}

// Again plans a delivery that waits anew, and reports whether it goes another way now.
// The reply is not nil if the configuration refuses it; then it stays as it was. So does
// one whose recipient cannot be read.
func Again(
	cfg *config.Compiled,
	e config.Envelope,
	d *mail.Delivery,
) (moved bool, refused *smtp.Reply) {
	to, err := address.Parse(d.Recipient)
	if err != nil {
		return false, nil
	}
	leg, fault := route.Find(cfg, e, to)
	if fault != nil {
		return false, fault
	}
	moved = ident.ID(leg.Lane()) != d.LaneID
	SetLeg(d, leg, cfg.Revision)
	return moved, nil
}

// NewDelivery makes the delivery of a leg, due immediately unless its route keeps mail until
// it is asked for. original is the recipient as it was given, rule what let it in.
func NewDelivery(
	cfg *config.Compiled,
	m *mail.Message,
	n int,
	leg route.Leg,
	original address.Address,
	rule string,
) *mail.Delivery {
	expires := cfg.ScheduleOf(leg.Route, leg.Recipient.Domain, m.Sender == "").Expires(m.ReceivedAt)
	kept := min(leg.Route.Kept(), expires.Sub(m.ReceivedAt)/2)
	d := &mail.Delivery{
		MessageID:     m.ID,
		N:             int16(n),
		Recipient:     leg.Recipient.String(),
		Original:      original.String(),
		State:         mail.Waiting,
		LaneID:        ident.ID(leg.Lane()),
		Route:         leg.Route.Name,
		NextHop:       leg.NextHop,
		Rule:          rule,
		RouteWhy:      leg.Why,
		Revision:      cfg.Revision,
		NextAttemptAt: mail.At(m.ReceivedAt.Add(kept)),
		ExpiresAt:     mail.At(expires),
	}
	for _, a := range leg.Via {
		d.Via = append(d.Via, a.String())
	}
	return d
}
