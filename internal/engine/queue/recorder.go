package queue

import (
	"context"
	"errors"
	"slices"
	"sync/atomic"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/engine/batch"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// outcomeStore records outcomes.
type outcomeStore interface {
	Finish(ctx context.Context, node int,
		outcomes []*store.Outcome) (foreign []*store.Entry, err error)
}

// recorder records what became of attempts, in groups.
type recorder struct {
	*base
	heart     *heart
	leases    *leases
	scheduler *scheduler
	flows     *flows

	outcomes chan *store.Outcome
	put      atomic.Int64 // outcomes put to be recorded
	written  atomic.Int64 // of them, recorded
	left     atomic.Int64 // deliveries that came to their end
}

func newRecorder(b *base, h *heart, x *leases, f *flows) *recorder {
	return &recorder{
		base:     b,
		heart:    h,
		leases:   x,
		flows:    f,
		outcomes: make(chan *store.Outcome, 2048),
	}
}

// record counts and tells an outcome, and gives it to the writer. It waits while
// the writer has more than it can take: what is not recorded must stay little.
func (r *recorder) record(j *job, o *store.Outcome) {
	d := o.Delivery
	o.Run = j.run
	o.Origin = &report.Origin{Direction: j.direction, Sender: j.sender, Client: j.client,
		Listener: j.listener, Account: j.account, At: j.received, Size: j.size}
	lane := d.LaneID
	if d.State == mail.Deferred && o.Lane != 0 {
		lane = o.Lane
	}
	r.count(d, j.sender, j.size, lane, o.At)
	if d.State == mail.Delivered {
		counters.Took(r.Tally.Delivery, o.At.Sub(j.received), d.MessageID.String())
	}
	if r.Ended != nil && d.State.Final() && j.direction != mail.In && r.cfg.Load().LimitsBounces() {
		r.Ended(
			j.holder(),
			d.State == mail.Bounced,
		) // what expires tells of the way, not of the list
	}
	r.put.Add(1)
	r.outcomes <- o
	r.publish(d, j.sender, o.At)
}

// count counts what became of a delivery.
func (r *recorder) count(d *mail.Delivery, sender string, size int64, lane ident.ID, at time.Time) {
	r.Tally.Add(endings[d.State].count, size)
	if d.State == mail.Deferred {
		r.flows.add(lane, at, 0, 0, 1)
	} else {
		r.flows.add(lane, at, 0, 1, 0)
		r.left.Add(1)
	}
	if r.Snags != nil {
		r.Snags.Delivery(d, sender, at)
	}
}

// endings are how what became of a delivery is counted and called.
var endings = map[mail.State]struct {
	count string
	event mail.Kind
}{
	mail.Delivered: {counters.Delivered, mail.EventDelivered},
	mail.Deferred:  {counters.Deferred, mail.EventDeferred},
	mail.Bounced:   {counters.Bounced, mail.EventBounced},
	mail.Expired:   {counters.Expired, mail.EventExpired},
}

// publish tells those who watch what became of a delivery.
func (r *recorder) publish(d *mail.Delivery, sender string, at time.Time) {
	if r.Hub.Watched() {
		e := mail.Event{
			At:        at,
			Kind:      endings[d.State].event,
			MessageID: d.MessageID,
			N:         d.N,
			Delivery:  d.ID().String(),
			Node:      r.Name,
			Text:      replyText(d),
		}
		r.Hub.Publish(feed.Event{
			Event:     e,
			Sender:    sender,
			Recipient: d.Recipient,
			State:     d.State,
			Lane:      d.LaneID.String(),
		})
	}
}

func replyText(d *mail.Delivery) string {
	if d.Last == nil {
		return ""
	}
	return d.Last.String()
}

const groupOutcomes = 500

// How long until outcomes that the database did not take are tried again, and until the log says so
// again.
const (
	recordAgain = 150 * time.Millisecond
	sayAgain    = 10 * time.Second
)

// writeOutcomes records outcomes in groups until the channel is closed. It does
// not stop trying: an outcome that is not recorded would be a message sent twice.
func (r *recorder) writeOutcomes() {
	for first := range r.outcomes {
		group := []*store.Outcome{first}
	gather:
		for len(group) < groupOutcomes {
			select {
			case o, ok := <-r.outcomes:
				if !ok {
					break gather
				}
				group = append(group, o)
			default:
				break gather
			}
		}
		n := len(group)
		r.finish(group)
		r.written.Add(int64(n))
	}
}

// finish records a group. An outcome whose data the database refuses is recorded by
// itself, without what may be to blame.
func (r *recorder) finish(group []*store.Outcome) {
	var said time.Time
	for {
		left, err := batch.Write(group, r.finishAll, r.finishBare)
		if err == nil {
			if r.unrecorded.Swap(false) {
				r.heart.lanes.staffAll()
			}
			return
		}
		group = left
		r.unrecorded.Store(true)
		if time.Since(said) > sayAgain {
			said = time.Now()
			r.Log.Error("outcomes could not be recorded; trying again, and nothing is sent "+
				"meanwhile",
				"outcomes", len(group), "error", err)
		}
		time.Sleep(recordAgain)
		if r.gone() {
			r.Log.Error(
				"outcomes were not recorded before the stop; these messages may be sent twice",
				"outcomes",
				len(group),
			)
			return
		}
	}
}

// finishAll records a group, all or none.
func (r *recorder) finishAll(group []*store.Outcome) error {
	var notices []*store.Entry
	for _, o := range group {
		notices = append(notices, o.Generated...)
	}
	ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
	defer cancel()
	run := r.scheduler.reserve(ctx, notices)
	foreign, err := r.Store.Finish(ctx, run, group)
	if err != nil {
		r.leases.Suspect()
		r.scheduler.unreserve(notices)
		return err
	}
	if len(foreign) > 0 { // another run has told the sender
		r.scheduler.unreserve(foreign)
		notices = slices.DeleteFunc(notices,
			func(e *store.Entry) bool { return slices.Contains(foreign, e) })
	}
	for _, o := range group {
		if o.Mailbox != nil {
			r.arrived([]*store.MailboxMessage{o.Mailbox})
		}
	}
	r.scheduler.admitEntered(notices, run)
	return nil
}

// finishBare records what became of a delivery without the words that came with it,
// and as a last resort without the messages that it generated.
func (r *recorder) finishBare(o *store.Outcome, why error) {
	r.Tally.Refuse("outcomes")
	d := o.Delivery
	r.Log.Error("an outcome is refused by the database; it is recorded without its words",
		"delivery", d.ID(), "state", d.State, "error", why)
	o.Events = nil
	if r := d.Last; r != nil {
		d.Last = &mail.LastReply{Stage: r.Stage, Code: r.Code, Text: "the reply could not be kept"}
	}
	for _, bare := range []func(){func() {}, func() { o.Generated = nil }} {
		bare()
		if err := r.finishAll([]*store.Outcome{o}); err == nil {
			return
		} else if !errors.Is(err, store.ErrData) {
			r.finish([]*store.Outcome{o})
			return
		}
	}
	r.Log.Error(
		"an outcome can't be recorded at all; the delivery stays leased until this node starts "+
			"anew",
		"delivery",
		d.ID(),
		"state",
		d.State,
	)
}

// gone reports that the service stops and the database does not answer.
func (r *recorder) gone() bool { return r.stopping.Load() && r.heart.silent() > goneAfter }

// goneAfter is how long the database may be silent when the service stops.
const goneAfter = 15 * time.Second

// Left is how many deliveries came to their end here.
func (r *recorder) Left() int64 { return r.left.Load() }
