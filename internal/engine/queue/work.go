package queue

import (
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/store"
)

// idleWait is how long an open connection waits for another letter.
const idleWait = 2 * time.Second

// work is one connection of a lane: it takes letter after letter until none is
// left or the host is in trouble.
func (q *Queue) work(l *lane) {
	defer q.workers.Done()
	defer q.leave(l)
	var conn *deliver.Conn
	defer func() {
		if conn != nil {
			conn.Quit()
		}
	}()
	sent, cfg := 0, q.cfg.Load()
	for j := q.take(l); j != nil; j = q.nextJob(l, conn) {
		w := l.way.Load()
		switch w.route.NextHop {
		case "mailbox":
			q.intoMailbox(l, j)
			continue
		case "none":
			q.strand(l, j)
			continue
		}
		if now := q.cfg.Load(); now != cfg { // other terms may count by now
			cfg = now
			if conn != nil {
				conn.Quit()
				conn = nil
			}
		}
		if !q.pace(l) {
			q.abandon(l, j)
			return
		}
		if conn == nil {
			var failure *deliver.Failure
			conn, failure = q.client.Load().Connect(q.connecting, w.route, l.nextHop, j.message)
			if failure != nil {
				q.unreachable(l, j, failure)
				return
			}
			conn.CloseWith(q.ctx)
			sent = 0
		}
		q.conclude(l, j, q.send(cfg, w.route, conn, j))
		sent++
		if conn.Broken() || sent >= w.terms.LettersPerConnection {
			conn.Quit()
			conn = nil
		}
	}
}

// nextJob waits a little for another letter while a connection is open.
func (q *Queue) nextJob(l *lane, conn *deliver.Conn) *job {
	if j := q.take(l); j != nil || conn == nil {
		return j
	}
	q.mu.Lock()
	l.idling++
	stopping := q.stopping
	q.mu.Unlock()
	defer func() {
		q.mu.Lock()
		l.idling--
		q.mu.Unlock()
	}()
	if stopping {
		return nil
	}
	timer := time.NewTimer(idleWait)
	defer timer.Stop()
	for {
		select {
		case <-l.letter:
			if j := q.take(l); j != nil {
				return j
			}
		case <-timer.C:
			return q.take(l)
		case <-q.connecting.Done():
			return nil
		}
	}
}

// leave ends a connection; another may take its place.
func (q *Queue) leave(l *lane) {
	q.mu.Lock()
	defer q.mu.Unlock()
	l.active--
	l.touched = time.Now()
	full := q.connections >= q.cfg.Load().Service.Connections
	q.connections--
	q.staff(l)
	if full {
		q.staffAll()
	}
}

// staffAll sees to every lane. Queue.mu is held.
func (q *Queue) staffAll() {
	for _, l := range q.lanes {
		if l.pending.len() > 0 {
			q.staff(l)
		}
	}
}

// unreachable ends a job whose host could not be reached.
func (q *Queue) unreachable(l *lane, j *job, f *deliver.Failure) {
	if q.connecting.Err() != nil { // we are going down: nobody's fault
		q.abandon(l, j)
		return
	}
	refused := f.Reply.Code != 0 && !f.Permanent
	if refused && q.crowded(l, j) {
		return
	}
	if !f.Permanent {
		q.rest(l, f)
	}
	results := make([]deliver.Result, len(j.deliveries))
	for i := range results {
		results[i] = deliver.Result{Reply: f.Reply, Failure: f}
	}
	q.conclude(l, j, results)
}

// abandon gives a job back untried.
func (q *Queue) abandon(l *lane, j *job) {
	q.settleJob(l, j)
	var ids []mail.DeliveryID
	for _, d := range j.deliveries {
		ids = append(ids, d.ID())
	}
	q.mu.Lock()
	q.handBacks = append(q.handBacks, handBack{ids, time.Now()})
	q.mu.Unlock()
}

// strand keeps what no route leads on for; it is tried again when a
// configuration is applied.
func (q *Queue) strand(l *lane, j *job) {
	results := make([]deliver.Result, len(j.deliveries))
	for i, d := range j.deliveries {
		f := &deliver.Failure{Cause: diagnose.NoRoute, Reply: mail.LastReply{Stage: diagnose.StageRoute, Enhanced: "4.4.4", Text: d.RouteWhy}}
		results[i] = deliver.Result{Reply: f.Reply, Failure: f}
	}
	q.conclude(l, j, results)
}

// conclude turns the results of a transaction into outcomes.
func (q *Queue) conclude(l *lane, j *job, results []deliver.Result) {
	q.concludeWith(l, j, results, nil)
}

// concludeWith lets more be added to each outcome.
func (q *Queue) concludeWith(l *lane, j *job, results []deliver.Result, more func(i int, o *store.Outcome)) {
	cfg := q.cfg.Load()
	now := time.Now()
	worked := false
	var failed []*mail.Delivery
	var outcomes []*store.Outcome
	for i, d := range j.deliveries {
		o := q.attempted(d, now)
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
			q.deferDelivery(cfg, l, j, o, f)
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
	if about := append(failed, q.wished(j, results)...); len(about) > 0 {
		outcomes[0].Begotten = append(outcomes[0].Begotten, q.notice(cfg, j, about, now)...)
	}
	for _, o := range outcomes {
		q.record(j, o)
	}
	q.settleJob(l, j)
	if worked && l.route().Name != config.RouteNone {
		q.well(l)
	}
}

// attempted begins the outcome of an attempt.
func (q *Queue) attempted(d *mail.Delivery, now time.Time) *store.Outcome {
	d.Attempts++
	if d.FirstTryAt.IsZero() {
		d.FirstTryAt = mail.At(now)
	}
	d.LastTryAt = mail.At(now)
	return &store.Outcome{Delivery: d, At: now.UTC()}
}
