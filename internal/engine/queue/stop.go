package queue

import (
	"context"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// pauses are what people have stopped, as far as it concerns this node.
type pauses struct {
	lanes  map[ident.ID]*mail.Pause
	routes map[string]*mail.Pause
	all    *mail.Pause // delivery of everything, or this node
}

// SetPauses puts what people have stopped in force. What waits in the memory of
// a stopped lane goes back to the database; transactions under way come to their
// end.
func (q *Queue) SetPauses(list []mail.Pause) {
	p := pauses{lanes: map[ident.ID]*mail.Pause{}, routes: map[string]*mail.Pause{}}
	for i := range list {
		one := &list[i]
		switch one.Kind {
		case mail.PauseLane:
			if id, err := ident.Parse(one.Name); err == nil {
				p.lanes[id] = one
			}
		case mail.PauseRoute:
			p.routes[one.Name] = one
		case mail.PauseDelivery:
			p.all = one
		case mail.PauseNode:
			if one.Name == q.Name && p.all == nil {
				p.all = one
			}
		}
	}
	q.fetching.Lock() // what is being leased must be in memory first
	defer q.fetching.Unlock()
	q.mu.Lock()
	q.pauses = p
	var ids []mail.DeliveryID
	for _, l := range q.lanes {
		if q.paused(l) != nil {
			ids = append(ids, q.unload(l)...)
		} else if l.pending.len() > 0 {
			q.staff(l)
		}
	}
	q.mu.Unlock()
	q.GiveBack(ids)
	q.Wake()
}

// paused is what stops a lane, or nil. Queue.mu is held.
func (q *Queue) paused(l *lane) *mail.Pause {
	if q.pauses.all != nil {
		return q.pauses.all
	}
	if p := q.pauses.lanes[l.id]; p != nil {
		return p
	}
	return q.pauses.routes[l.route().Name]
}

// Freeze empties lanes from memory and takes nothing from them until Unfreeze, or
// for a few seconds: somebody changes their deliveries in the database. What is
// in a transaction comes to its end.
func (q *Queue) Freeze(lanes []ident.ID) {
	q.fetching.Lock() // what is being leased must be in memory first
	defer q.fetching.Unlock()
	until := time.Now().Add(freezeAtMost)
	var ids []mail.DeliveryID
	q.mu.Lock()
	for _, id := range lanes {
		q.frozen[id] = until
		if l := q.lanes[id]; l != nil {
			ids = append(ids, q.unload(l)...)
		}
	}
	q.mu.Unlock()
	q.GiveBack(ids)
}

// GiveBack lets go of deliveries that are leased to this node and not in its
// memory.
func (q *Queue) GiveBack(ids []mail.DeliveryID) {
	if len(ids) > 0 {
		q.giveBack(handBack{ids, time.Now()})
	}
}

// freezeAtMost bounds a freeze whose end was not heard of.
const freezeAtMost = 5 * time.Second

// Unfreeze lets lanes go on.
func (q *Queue) Unfreeze(lanes []ident.ID) {
	q.mu.Lock()
	for _, id := range lanes {
		delete(q.frozen, id)
	}
	q.mu.Unlock()
	q.Wake()
}

// isFrozen reports whether nothing may be taken into a lane. Queue.mu is held.
func (q *Queue) isFrozen(id ident.ID, now time.Time) bool {
	until, ok := q.frozen[id]
	if ok && now.After(until) {
		delete(q.frozen, id)
		return false
	}
	return ok
}

// closed reports whether a lane may hold nothing in memory, and when what it holds is due
// again. Queue.mu is held.
func (q *Queue) closed(l *lane, now time.Time) (until time.Time, closed bool) {
	if now.Before(l.restUntil) {
		return l.restUntil, true
	}
	return now, q.paused(l) != nil || q.isFrozen(l.id, now)
}

// closedRoutes are those of other nodes and those that a person stopped.
func (q *Queue) closedRoutes(c *config.Compiled) []string {
	var out []string
	q.mu.Lock()
	defer q.mu.Unlock()
	for i := range c.Routes {
		if r := &c.Routes[i]; !config.On(r.Nodes, q.Name) {
			out = append(out, r.Name)
		}
	}
	for name := range q.pauses.routes {
		out = append(out, name)
	}
	return out
}

// recordRest lets the other nodes know that a lane rests or moves again. It does
// not wait for the database.
func (q *Queue) recordRest(r store.Rest) {
	select {
	case q.restRecords <- r:
	default: // so many at once: the database has other troubles
	}
}

// writeRests records rests in order until the channel is closed.
func (q *Queue) writeRests() {
	for r := range q.restRecords {
		ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
		if err := q.Store.SetRest(ctx, r); err != nil {
			q.Log.Warn("a lane's rest is not on record", "lane", r.Lane, "error", err)
		}
		cancel()
	}
}

// graceOfOthers is how long a lane whose rest is over is left to the node that
// found its host in trouble: one attempt an interval is enough.
const graceOfOthers = 10 * time.Second

// FollowRests takes over what other nodes know of lanes that rest. Lanes that
// were asked for and are not among the rests move again.
func (q *Queue) FollowRests(rests []store.Rest, asked []ident.ID) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if asked == nil {
		clear(q.rests)
	}
	for _, id := range asked {
		delete(q.rests, id)
	}
	for _, r := range rests {
		if r.Node != q.RunNumber() {
			q.rests[r.Lane] = r
		}
	}
	q.Wake()
}
