package queue

import (
	"math/rand/v2"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/store"
)

// sender sends what lanes have to do, over their connections.
type sender struct {
	*base
	lanes    *lanes
	returns  *returns
	recorder *recorder
	author   *author
}

// idleWait is how long an open connection waits for another message.
const idleWait = 2 * time.Second

// work is one connection of a lane: it takes message after message until none is
// left or the host is in trouble.
func (s *sender) work(l *lane) {
	defer s.lanes.leave(l)
	var conn *deliver.Conn
	defer func() {
		if conn != nil {
			conn.Quit()
		}
	}()
	sent, cfg := 0, s.cfg.Load()
	for j := s.lanes.take(l); j != nil; j = s.nextJob(l, conn) {
		w := l.way.Load()
		switch w.route.NextHop {
		case "mailbox":
			s.intoMailbox(l, j)
			continue
		case "none":
			s.strand(l, j)
			continue
		}
		if now := s.cfg.Load(); now != cfg { // other terms may count by now
			cfg = now
			if conn != nil {
				conn.Quit()
				conn = nil
			}
		}
		if !s.pace(l) {
			s.abandon(l, j)
			return
		}
		if conn == nil {
			var failure *deliver.Failure
			conn, failure = s.client.Load().Connect(s.connecting, w.route, l.nextHop, j.message)
			if failure != nil {
				s.unreachable(l, j, failure)
				return
			}
			conn.CloseWith(s.ctx)
			sent = 0
		}
		s.conclude(l, j, s.send(cfg, w.route, conn, j))
		sent++
		if conn.Broken() || sent >= w.terms.MessagesPerConnection {
			conn.Quit()
			conn = nil
		}
	}
}

// nextJob waits a little for another message while a connection is open.
func (s *sender) nextJob(l *lane, conn *deliver.Conn) *job {
	if j := s.lanes.take(l); j != nil || conn == nil {
		return j
	}
	idling := func(n int) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.load.idling += n
	}
	idling(1)
	defer idling(-1)
	if s.stopping.Load() {
		return nil
	}
	timer := time.NewTimer(idleWait)
	defer timer.Stop()
	for {
		select {
		case <-l.message:
			if j := s.lanes.take(l); j != nil {
				return j
			}
		case <-timer.C:
			return s.lanes.take(l)
		case <-s.connecting.Done():
			return nil
		}
	}
}

// unreachable ends a job whose host could not be reached.
func (s *sender) unreachable(l *lane, j *job, f *deliver.Failure) {
	if s.connecting.Err() != nil { // we are going down: nobody's fault
		s.abandon(l, j)
		return
	}
	refused := f.Reply.Code != 0 && !f.Permanent
	if refused && l.crowded(j) {
		return
	}
	if !f.Permanent {
		s.lanes.backOff(l, f)
	}
	results := make([]deliver.Result, len(j.deliveries))
	for i := range results {
		results[i] = deliver.Result{Reply: f.Reply, Failure: f}
	}
	s.conclude(l, j, results)
}

// abandon gives a job back untried.
func (s *sender) abandon(l *lane, j *job) {
	var ids []mail.DeliveryID
	for _, d := range j.deliveries {
		ids = append(ids, d.ID())
	}
	s.returns.keep(handBack{ids, time.Now()})
	s.lanes.settle(l, j)
}

// strand keeps what no route leads on for; it is tried again when a
// configuration is applied.
func (s *sender) strand(l *lane, j *job) {
	results := make([]deliver.Result, len(j.deliveries))
	for i, d := range j.deliveries {
		f := &deliver.Failure{
			Cause: diagnose.NoRoute,
			Reply: mail.LastReply{Stage: diagnose.StageRoute, Enhanced: "4.4.4", Text: d.RouteWhy},
		}
		results[i] = deliver.Result{Reply: f.Reply, Failure: f}
	}
	s.conclude(l, j, results)
}

// conclude turns the results of a transaction into outcomes.
func (s *sender) conclude(l *lane, j *job, results []deliver.Result) {
	s.concludeWith(l, j, results, nil)
}

// concludeWith lets more be added to each outcome.
func (s *sender) concludeWith(
	l *lane,
	j *job,
	results []deliver.Result,
	more func(i int, o *store.Outcome),
) {
	cfg := s.cfg.Load()
	now := time.Now()
	worked := false
	var failed []*mail.Delivery
	var outcomes []*store.Outcome
	for i, d := range j.deliveries {
		o := attempted(d, now)
		reply := results[i].Reply
		d.Last, d.Cause = &reply, diagnose.NoCause
		f := results[i].Failure
		switch {
		case f == nil:
			d.State = mail.Delivered
		case f.Permanent:
			d.State, d.Cause = mail.Bounced, f.Cause
		case !now.Before(d.ExpiresAt.Time):
			d.State, d.Cause = mail.Expired, f.Cause
		default:
			s.deferDelivery(cfg, l, j, o, f)
		}
		if f == nil || f.Reply.Code != 0 && !f.Reply.Stage.OfHost() {
			worked = true
		}
		if d.State == mail.Bounced || d.State == mail.Expired {
			failed = append(failed, d)
		}
		if more != nil {
			more(i, o)
		}
		outcomes = append(outcomes, o)
	}
	if about := append(failed, requested(j, results)...); len(about) > 0 {
		outcomes[0].Generated = append(
			outcomes[0].Generated,
			s.author.notice(cfg, j, about, now)...)
	}
	for _, o := range outcomes {
		s.recorder.record(j, o)
	}
	s.lanes.settle(l, j)
	if worked && l.route().Name != config.RouteNone {
		s.lanes.well(l)
	}
}

// attempted begins the outcome of an attempt.
func attempted(d *mail.Delivery, now time.Time) *store.Outcome {
	d.Attempts++
	if d.FirstAttemptAt.IsZero() {
		d.FirstAttemptAt = mail.At(now)
	}
	d.LastAttemptAt = mail.At(now)
	return &store.Outcome{Delivery: d, At: now.UTC()}
}

// deferDelivery sets when a delivery is tried next, and tells why.
func (s *sender) deferDelivery(
	cfg *config.Compiled,
	l *lane,
	j *job,
	o *store.Outcome,
	f *deliver.Failure,
) {
	d := o.Delivery
	d.State, d.Cause = mail.Deferred, f.Cause
	next := scheduleOf(cfg, l.route(), d,
		j.from().IsNull()).Next(d.Attempts, o.At, d.ExpiresAt.Time, rand.Float64())
	l.mu.Lock()
	if l.host.backOffUntil.After(next) {
		next = l.host.backOffUntil
	}
	l.mu.Unlock()
	d.NextAttemptAt = mail.At(next)
	tried := d.LaneID
	if f.Cause == diagnose.NoRoute &&
		d.Revision < cfg.Revision { // a route may have come while it was in hand
		if j.replan(cfg, d); d.LaneID != tried {
			o.Lane, d.NextAttemptAt, d.Cause, d.Last = tried, mail.At(o.At), diagnose.NoCause, nil
			return
		}
	}
	defer func() {
		if d.Detour == mail.DetourOnce { // it goes on as the routes say
			d.Detour, d.Revision, o.Lane = mail.NoDetour, 0, tried
			j.replan(cfg, d)
		}
	}()
	if f.Cause == diagnose.NoRoute && d.Attempts > 1 {
		return // nothing new to tell
	}
	o.Events = append(o.Events, mail.Event{
		At:        o.At,
		Kind:      mail.EventDeferred,
		MessageID: d.MessageID,
		N:         d.N,
		Node:      s.Name,
		Text:      string(f.Reply.Stage) + ": " + f.Reply.String(),
		Detail: map[string]any{
			"attempt":         d.Attempts,
			"cause":           f.Cause,
			"reply":           f.Reply,
			"next_attempt_at": next.UTC(),
			"route":           d.Route,
			"next_hop":        d.NextHop,
			"lane":            d.LaneID,
			"recipient":       d.Recipient,
		},
	})
}
