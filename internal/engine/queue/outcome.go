package queue

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/batch"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// deferDelivery sets when a delivery is tried next, and tells why.
func (q *Queue) deferDelivery(cfg *config.Compiled, l *lane, j *job, o *store.Outcome, f *deliver.Failure) {
	d := o.Delivery
	d.State, d.Cause = mail.Deferred, f.Cause
	next := q.schedule(cfg, l.route(), d, j.from().IsNull()).Next(d.Attempts, o.At, d.ExpiresAt.Time, rand.Float64())
	q.mu.Lock()
	if l.restUntil.After(next) {
		next = l.restUntil
	}
	q.mu.Unlock()
	d.NextTryAt = mail.At(next)
	tried := d.LaneID
	if f.Cause == diagnose.NoRoute && d.Revision < cfg.Revision { // a route may have come while it was in hand
		if q.planAnew(cfg, j, d); d.LaneID != tried {
			o.Lane, d.NextTryAt, d.Cause, d.Last = tried, mail.At(o.At), diagnose.NoCause, nil
			return
		}
	}
	defer func() {
		if d.Detour == mail.DetourOnce { // it goes on as the routes say
			d.Detour, d.Revision, o.Lane = mail.NoDetour, 0, tried
			q.planAnew(cfg, j, d)
		}
	}()
	if f.Cause == diagnose.NoRoute && d.Attempts > 1 {
		return // nothing new to tell
	}
	o.Events = append(o.Events, mail.Event{At: o.At, Kind: mail.EventDeferred, MessageID: d.MessageID, N: d.N, Node: q.Name,
		Text: string(f.Reply.Stage) + ": " + f.Reply.String(),
		Detail: map[string]any{"attempt": d.Attempts, "cause": f.Cause, "reply": f.Reply, "next_attempt_at": next.UTC(),
			"route": d.Route, "next_hop": d.NextHop, "lane": d.LaneID, "recipient": d.Recipient}})
}

// schedule is the one that counts for a delivery.
func (q *Queue) schedule(cfg *config.Compiled, r *config.Route, d *mail.Delivery, nullSender bool) retry.Schedule {
	return cfg.ScheduleOf(r, domainOf(d.Recipient), nullSender)
}

func domainOf(recipient string) string { return recipient[strings.LastIndexByte(recipient, '@')+1:] }

// planAnew puts a delivery where the routes send it.
func (q *Queue) planAnew(cfg *config.Compiled, j *job, d *mail.Delivery) {
	to, err := address.Parse(d.Recipient)
	if err != nil {
		return
	}
	leg, fault := route.Find(cfg, Envelope(j.sender, j.account, j.client, j.listener, j.size), to)
	if fault == nil {
		d.LaneID, d.Route, d.NextHop, d.RouteWhy, d.Revision = ident.ID(leg.Lane()), leg.Route.Name, leg.NextHop, leg.Why, cfg.Revision
	}
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
func (q *Queue) expireOverdue(ctx context.Context) error {
	cfg := q.cfg.Load()
	if cfg == nil || q.fenced() {
		return nil
	}
	now := time.Now()
	late := now.Add(-time.Minute) // those of a moving lane get their last attempt
	due, err := q.Store.LeaseOverdue(ctx, q.RunNumber(), late, late.Add(-cfg.ShortestGiveUp()), leaseAtOnce)
	if err != nil {
		q.Suspect()
		return fmt.Errorf("overdue deliveries cannot be read: %w", err)
	}
	for i := range due {
		d := &due[i].Delivery
		d.State = mail.Expired
		q.askLane(d)
		if d.Last == nil {
			d.Last = &mail.LastReply{Stage: diagnose.StageConnect, Enhanced: "4.4.7", Text: "its lane rested until its time was up"}
		}
		j := jobOf(&due[i])
		j.deliveries = []*mail.Delivery{d}
		q.record(j, &store.Outcome{Delivery: d, At: now.UTC(), Begotten: q.notice(cfg, j, j.deliveries, now)})
	}
	return nil
}

// Left is how many deliveries came to their end here.
func (q *Queue) Left() int64 { return q.left.Load() }

// Waiting is how many deliveries wait in the database, as far as it is known.
func (q *Queue) Waiting() int64 { return q.waiting.Load() }

// SetWaiting tells how many deliveries wait in the database.
func (q *Queue) SetWaiting(n int64) { q.waiting.Store(n) }

// Return sends deliveries that are leased to this node back to their senders,
// with a person's sentence.
func (q *Queue) Return(due []store.Due, say string) {
	cfg, now := q.cfg.Load(), time.Now()
	for i := 0; i < len(due); {
		j := jobOf(&due[i])
		for message := due[i].Delivery.MessageID; i < len(due) && due[i].Delivery.MessageID == message; i++ {
			d := &due[i].Delivery
			d.State, d.Cause = mail.Bounced, diagnose.Returned
			d.Last = &mail.LastReply{Stage: diagnose.StageRoute, Enhanced: "5.7.0", Text: say}
			j.deliveries = append(j.deliveries, d)
		}
		for k, d := range j.deliveries {
			o := &store.Outcome{Delivery: d, At: now.UTC()}
			if k == 0 {
				o.Begotten = q.notice(cfg, j, j.deliveries, now)
			}
			q.record(j, o)
		}
	}
}

// record counts and tells an outcome, and gives it to the writer. It waits while
// the writer has more than it can take: what is not recorded must stay little.
func (q *Queue) record(j *job, o *store.Outcome) {
	d := o.Delivery
	o.Run = j.run
	kind, eventKind := counters.Delivered, mail.EventDelivered
	switch d.State {
	case mail.Deferred:
		kind, eventKind = counters.Deferred, mail.EventDeferred
	case mail.Bounced:
		kind, eventKind = counters.Bounced, mail.EventBounced
	case mail.Expired:
		kind, eventKind = counters.Expired, mail.EventExpired
	}
	q.Tally.Add(kind, j.size)
	if d.State == mail.Deferred {
		lane := d.LaneID
		if o.Lane != 0 {
			lane = o.Lane
		}
		q.flows.add(lane, o.At, 0, 0, 1)
	} else {
		q.flows.add(d.LaneID, o.At, 0, 1, 0)
		q.left.Add(1)
	}
	if q.Snags != nil {
		q.Snags.Delivery(d, j.sender, o.At)
	}
	q.put.Add(1)
	q.outcomes <- o
	if q.Hub.Watched() {
		e := mail.Event{At: o.At, Kind: eventKind, MessageID: d.MessageID, N: d.N, Delivery: d.ID().String(), Node: q.Name, Text: replyText(d)}
		q.Hub.Publish(feed.Event{Event: e, Sender: j.sender, Recipient: d.Recipient, State: d.State, Lane: d.LaneID.String()})
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
		n := len(group)
		q.finish(group)
		q.written.Add(int64(n))
	}
}

// finish records a group. An outcome whose data the database refuses is recorded by
// itself, without what may be to blame.
func (q *Queue) finish(group []*store.Outcome) {
	wait := 100 * time.Millisecond
	for {
		left, err := batch.Write(group, q.finishAll, q.finishBare)
		if err == nil {
			return
		}
		group = left
		q.Log.Error("outcomes could not be recorded; trying again", "outcomes", len(group), "error", err)
		time.Sleep(wait)
		if wait = min(2*wait, 2*time.Second); q.gone() {
			q.Log.Error("outcomes were not recorded before the stop; these letters may be sent twice", "outcomes", len(group))
			return
		}
	}
}

// finishAll records a group, all or none.
func (q *Queue) finishAll(group []*store.Outcome) error {
	var notices []*store.Entry
	for _, o := range group {
		notices = append(notices, o.Begotten...)
	}
	run := q.reserve(notices)
	ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
	defer cancel()
	foreign, err := q.Store.Finish(ctx, run, group)
	if err != nil {
		q.Suspect()
		q.unreserve(notices)
		return err
	}
	if len(foreign) > 0 { // another run has told the sender
		q.unreserve(foreign)
		notices = slices.DeleteFunc(notices, func(e *store.Entry) bool { return slices.Contains(foreign, e) })
	}
	q.handOver(notices, run)
	return nil
}

// finishBare records what became of a delivery without the words that came with it,
// and as a last resort without the messages that it generated.
func (q *Queue) finishBare(o *store.Outcome, why error) {
	q.Tally.Refuse("outcomes")
	d := o.Delivery
	q.Log.Error("an outcome is refused by the database; it is recorded without its words", "delivery", d.ID(), "state", d.State, "error", why)
	o.Events = nil
	if r := d.Last; r != nil {
		d.Last = &mail.LastReply{Stage: r.Stage, Code: r.Code, Text: "the reply could not be kept"}
	}
	for _, bare := range []func(){func() {}, func() { o.Begotten = nil }} {
		bare()
		if err := q.finishAll([]*store.Outcome{o}); err == nil {
			return
		} else if !errors.Is(err, store.ErrData) {
			q.finish([]*store.Outcome{o})
			return
		}
	}
	q.Log.Error("an outcome can't be recorded at all; the delivery stays leased until this node starts anew", "delivery", d.ID(), "state", d.State)
}

// gone reports that the service stops and the database does not answer.
func (q *Queue) gone() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.stopping && q.silent() > 15*time.Second
}
