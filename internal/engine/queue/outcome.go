package queue

import (
	"context"
	"math/rand/v2"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/tally"
	"gullroute/internal/store"
)

// deferDelivery sets when a delivery is tried next, and tells why.
func (q *Queue) deferDelivery(cfg *config.Compiled, l *lane, o *store.Outcome, f *deliver.Failure) {
	d := o.Delivery
	d.State, d.Cause = mail.Deferred, f.Cause
	next := cfg.Schedule.Next(d.Attempts, o.At, d.ExpiresAt.Time, rand.Float64())
	q.mu.Lock()
	if l.restUntil.After(next) {
		next = l.restUntil
	}
	q.mu.Unlock()
	d.NextTryAt = mail.At(next)
	if f.Cause == diagnose.NoRoute && d.Attempts > 1 {
		return // nothing new to tell
	}
	o.Events = append(o.Events, mail.Event{At: o.At, Kind: mail.EventDeferred, MessageID: d.MessageID, N: d.N, Node: q.Name,
		Text: string(f.Reply.Stage) + ": " + f.Reply.String(),
		Detail: map[string]any{"attempt": d.Attempts, "cause": f.Cause, "reply": f.Reply, "next_attempt_at": next.UTC(),
			"route": d.Route, "next_hop": d.NextHop, "lane": d.LaneID}})
}

// finishRefused bounces a delivery that the configuration now refuses.
func (q *Queue) finishRefused(due *store.Due, fault *smtp.Reply) {
	d, now := &due.Delivery, time.Now()
	o := q.attempted(d, now)
	d.State, d.Cause = mail.Bounced, diagnose.RouteRefuses
	if fault.Enhanced == "5.1.1" {
		d.Cause = diagnose.NoSuchUser
	}
	d.Last = &mail.LastReply{Stage: diagnose.StageRoute, Code: fault.Code, Enhanced: fault.Enhanced, Text: fault.Text()}
	j := jobOf(due)
	j.deliveries = []*mail.Delivery{d}
	o.Begotten = q.notice(q.cfg.Load(), j, j.deliveries, now)
	q.record(j, o)
}

// expireOverdue gives up what nobody tried at its very end: the letters of a
// lane that rests.
func (q *Queue) expireOverdue(ctx context.Context) {
	cfg := q.cfg.Load()
	if cfg == nil || q.fenced() {
		return
	}
	now := time.Now()
	late := now.Add(-time.Minute) // those of a moving lane get their last attempt
	due, err := q.Store.LeaseOverdue(ctx, q.Node, late, late.Add(-cfg.Schedule.GiveUp), leaseAtOnce)
	if err != nil {
		q.Log.Error("overdue deliveries cannot be read", "error", err)
		return
	}
	for i := range due {
		d := &due[i].Delivery
		d.State = mail.Expired
		if d.Last == nil {
			d.Last = &mail.LastReply{Stage: diagnose.StageConnect, Enhanced: "4.4.7", Text: "its lane rested until its time was up"}
		}
		j := jobOf(&due[i])
		j.deliveries = []*mail.Delivery{d}
		q.record(j, &store.Outcome{Delivery: d, At: now.UTC(), Begotten: q.notice(cfg, j, j.deliveries, now)})
	}
}

// record counts and tells an outcome, and gives it to the writer. It waits while
// the writer has more than it can take: what is not recorded must stay little.
func (q *Queue) record(j *job, o *store.Outcome) {
	d := o.Delivery
	kind, eventKind := tally.Delivered, mail.EventDelivered
	switch d.State {
	case mail.Deferred:
		kind, eventKind = tally.Deferred, mail.EventDeferred
	case mail.Bounced:
		kind, eventKind = tally.Bounced, mail.EventBounced
	case mail.Expired:
		kind, eventKind = tally.Expired, mail.EventExpired
	}
	q.Tally.Add(o.At, kind, j.size)
	q.outcomes <- o
	if q.Hub.Watched() {
		e := mail.Event{At: o.At, Kind: eventKind, MessageID: d.MessageID, N: d.N, Delivery: d.ID().String(), Node: q.Name, Text: replyText(d)}
		q.Hub.Publish(live.Event{Event: e, Sender: j.sender, Recipient: d.Recipient, State: d.State, Lane: d.LaneID.String()})
	}
}

func replyText(d *mail.Delivery) string {
	if d.Last == nil {
		return ""
	}
	return d.Last.String()
}

const groupOutcomes = 500

// writeOutcomes records outcomes in groups until the channel is closed. It does
// not give up: an outcome that is not recorded would be a letter sent twice.
func (q *Queue) writeOutcomes() {
	for first := range q.outcomes {
		group := []*store.Outcome{first}
	gather:
		for len(group) < groupOutcomes {
			select {
			case o, ok := <-q.outcomes:
				if !ok {
					break gather
				}
				group = append(group, o)
			default:
				break gather
			}
		}
		q.finish(group)
	}
}

func (q *Queue) finish(group []*store.Outcome) {
	var notices []*store.Entry
	for _, o := range group {
		notices = append(notices, o.Begotten...)
	}
	q.reserve(notices)
	wait := 100 * time.Millisecond
	for {
		ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
		err := q.Store.Finish(ctx, q.Node, group)
		cancel()
		if err == nil {
			q.handOver(notices)
			return
		}
		q.Log.Error("outcomes could not be recorded; trying again", "outcomes", len(group), "error", err)
		time.Sleep(wait)
		if wait = min(2*wait, 5*time.Second); q.gone() {
			q.Log.Error("outcomes were not recorded before the stop; these letters may be sent twice", "outcomes", len(group))
			return
		}
	}
}

// gone reports that the service stops and the database does not answer.
func (q *Queue) gone() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.stopping && time.Since(time.Unix(0, q.lastSeen.Load())) > 15*time.Second
}
