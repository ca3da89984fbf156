package queue

import (
	"net/netip"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/store"
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
	d.LaneID, d.Route, d.NextHop, d.RouteWhy, d.Revision = ident.ID(leg.Lane()), leg.Route.Name, leg.NextHop, leg.Why, revision
}

// Replan plans a delivery that waits anew, and reports whether it goes another way now.
// The reply is not nil if the configuration refuses it; then it stays as it was. So does
// one whose recipient cannot be read.
func Replan(cfg *config.Compiled, e config.Envelope, d *mail.Delivery) (moved bool, refused *smtp.Reply) {
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

// planDue plans a delivery that was planned under another revision. A way that a person
// chose stays, as long as there is its route.
func planDue(cfg *config.Compiled, d *store.Due) (refused *smtp.Reply) {
	if d.Delivery.Detour != mail.NoDetour && cfg.Route(d.Delivery.Route) != nil {
		return nil
	}
	d.Delivery.Detour = mail.NoDetour
	moved, refused := Replan(cfg, Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size), &d.Delivery)
	if moved && d.Delivery.Cause == diagnose.NoRoute {
		d.Delivery.Cause, d.Delivery.Last = diagnose.NoCause, nil
	}
	if refused != nil {
		d.Delivery.Revision = cfg.Revision
	}
	return refused
}

// scheduleOf is the one that counts for a delivery.
func scheduleOf(cfg *config.Compiled, r *config.Route, d *mail.Delivery, nullSender bool) retry.Schedule {
	return cfg.ScheduleOf(r, domainOf(d.Recipient), nullSender)
}

func domainOf(recipient string) string { return recipient[strings.LastIndexByte(recipient, '@')+1:] }

// replan puts a delivery of a job where the routes send it.
func (j *job) replan(cfg *config.Compiled, d *mail.Delivery) {
	_, _ = Replan(cfg, Envelope(j.sender, j.account, j.client, j.listener, j.size), d) // what is refused stays
}
