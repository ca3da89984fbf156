package queue

import (
	"strings"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/retry"
	"gullroute/internal/core/smtp"
	"gullroute/internal/store"
)

// planDue plans a delivery that was planned under another revision. A way that a person
// chose stays, as long as there is its route.
func planDue(cfg *config.Compiled, d *store.Due) (refused *smtp.Reply) {
	if d.Delivery.Detour != mail.NoDetour && cfg.Route(d.Delivery.Route) != nil {
		return nil
	}
	d.Delivery.Detour = mail.NoDetour
	moved, refused := plan.Again(cfg,
		plan.Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size), &d.Delivery)
	if moved && d.Delivery.Cause == diagnose.NoRoute {
		d.Delivery.Cause, d.Delivery.Last = diagnose.NoCause, nil
	}
	if refused != nil {
		d.Delivery.Revision = cfg.Revision
	}
	return refused
}

// scheduleOf is the one that counts for a delivery.
func scheduleOf(
	cfg *config.Compiled,
	r *config.Route,
	d *mail.Delivery,
	nullSender bool,
) retry.Schedule {
	return cfg.ScheduleOf(r, domainOf(d.Recipient), nullSender)
}

func domainOf(recipient string) string {
	return recipient[strings.LastIndexByte(recipient, '@')+1:]
}

// replan puts a delivery of a job where the routes send it.
func (j *job) replan(cfg *config.Compiled, d *mail.Delivery) {
	_, _ = plan.Again(cfg, plan.Envelope(j.sender, j.account, j.client, j.listener, j.size),
		d) // what is refused stays
}
