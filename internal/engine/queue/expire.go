package queue

import (
	"context"
	"fmt"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/store"
)

// refuse bounces a delivery that the configuration now refuses.
func (s *scheduler) refuse(due *store.Due, fault *smtp.Reply) {
	d, now := &due.Delivery, time.Now()
	o := attempted(d, now)
	d.State, d.Cause = mail.Bounced, diagnose.RouteRefuses
	if fault.Enhanced == "5.1.1" {
		d.Cause = diagnose.NoSuchUser
	}
	d.Last = &mail.LastReply{
		Stage:    diagnose.StageRoute,
		Code:     fault.Code,
		Enhanced: fault.Enhanced,
		Text:     fault.Text(),
	}
	j := jobOf(due)
	j.deliveries = []*mail.Delivery{d}
	o.Generated = s.author.notice(s.cfg.Load(), j, j.deliveries, now)
	s.recorder.record(j, o)
}

// expireOverdue expires what nobody tried at its very end: the messages of a
// lane that rests.
func (s *scheduler) expireOverdue(ctx context.Context) error {
	cfg := s.cfg.Load()
	if cfg == nil || s.heart.fenced() {
		return nil
	}
	now := time.Now()
	late := now.Add(-time.Minute) // those of a moving lane get their last attempt
	due, err := s.Store.LeaseOverdue(ctx, s.heart.RunNumber(), late,
		late.Add(-cfg.ShortestExpiry()), leaseAtOnce)
	if err != nil {
		s.leases.Suspect()
		return fmt.Errorf("overdue deliveries cannot be read: %w", err)
	}
	for i := range due {
		d := &due[i].Delivery
		d.State = mail.Expired
		s.lanes.lastSaid(d)
		if d.Last == nil {
			d.Last = &mail.LastReply{
				Stage:    diagnose.StageConnect,
				Enhanced: "4.4.7",
				Text:     "its lane was backing off until it expired",
			}
		}
		j := jobOf(&due[i])
		j.deliveries = []*mail.Delivery{d}
		s.recorder.record(j, &store.Outcome{
			Delivery:  d,
			At:        now.UTC(),
			Generated: s.author.notice(cfg, j, j.deliveries, now),
		})
	}
	return nil
}

// Return sends deliveries that are leased to this node back to their senders,
// with a person's sentence.
func (s *scheduler) Return(due []store.Due, say string) {
	cfg, now := s.cfg.Load(), time.Now()
	for i := 0; i < len(due); {
		j := jobOf(&due[i])
		for ; i < len(due) && due[i].Delivery.MessageID == j.message; i++ {
			d := &due[i].Delivery
			d.State, d.Cause = mail.Bounced, diagnose.Returned
			d.Last = &mail.LastReply{Stage: diagnose.StageRoute, Enhanced: "5.7.0", Text: say}
			j.deliveries = append(j.deliveries, d)
		}
		for k, d := range j.deliveries {
			o := &store.Outcome{Delivery: d, At: now.UTC()}
			if k == 0 {
				o.Generated = s.author.notice(cfg, j, j.deliveries, now)
			}
			s.recorder.record(j, o)
		}
	}
}
