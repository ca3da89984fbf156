package queue

import (
	"fmt"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// LaneView is what memory knows of a lane.
type LaneView struct {
	State       mail.LaneState
	Since       time.Time
	Until       time.Time
	Why         string
	Sending     int64
	Connections int
	Limit       int
	Last        *mail.LastReply
	Cause       string
}

// View tells how lanes go; lanes that are not in memory are missing.
func (ls *lanes) View() map[ident.ID]LaneView {
	now, resting, here := time.Now(), ls.backOffs.all(), ls.all()
	out := make(map[ident.ID]LaneView, len(here)+len(resting))
	for _, r := range resting {
		out[r.Lane] = LaneView{
			State: mail.LaneResting,
			Since: r.Since,
			Until: r.Until,
			Why:   whyResting(r.Failures),
			Last:  r.Last,
			Cause: r.Cause,
		}
	}
	for _, l := range here {
		elsewhere, ok := out[l.id]
		v := l.view(now)
		if ok && v.State == mail.LaneMoving {
			elsewhere.Sending, elsewhere.Connections, elsewhere.Limit = v.Sending, v.Connections,
				v.Limit
			v = elsewhere
		}
		out[l.id] = v
	}
	return out
}

// view is how a lane goes.
func (l *lane) view(now time.Time) LaneView {
	l.mu.Lock()
	defer l.mu.Unlock()
	h := &l.host
	v := LaneView{State: mail.LaneMoving, Since: h.since, Last: h.last, Cause: h.cause,
		Sending: int64(l.load.sending), Connections: l.load.active, Limit: l.limits.now}
	if h.failures > 0 && !h.backOffUntil.IsZero() {
		v.State, v.Until, v.Why = mail.LaneResting, h.backOffUntil, whyResting(h.failures)
		if now.After(h.backOffUntil) {
			v.Why += "; one connection is trying it now"
		}
	}
	return v
}

func whyResting(failures int) string {
	if failures == 1 {
		return "its host could not be reached"
	}
	return fmt.Sprintf("%d failed attempts in a row to reach its host", failures)
}

// Present is what only memory knows of a waiting delivery.
type Present struct {
	Sending bool      // it is in a transaction
	Rest    time.Time // until when its lane rests, zero if it does not
	// Cause and Last are the trouble for which the lane rests.
	Cause string
	Last  *mail.LastReply
}

// Now tells how a delivery does at this moment.
func (ls *lanes) Now(d *mail.Delivery) (p Present) {
	if r, ok := ls.backOffs.of(d.LaneID); ok {
		p.Rest, p.Cause, p.Last = r.Until, r.Cause, r.Last
	}
	l := ls.find(d.LaneID)
	if l == nil {
		return p
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.host.backOffUntil.After(p.Rest) {
		p.Rest, p.Cause, p.Last = l.host.backOffUntil, l.host.cause, l.host.last
	}
	p.Sending = l.inHand[d.ID()]
	return p
}

// EndRest lets lanes that rest try their hosts now.
func (ls *lanes) EndRest(ids []ident.ID) {
	for _, id := range ids {
		ls.backOffs.end(id)
		if l := ls.find(id); l != nil {
			l.mu.Lock()
			if l.host.failures > 0 {
				l.host.backOffUntil = time.Unix(1, 0) // over, and the next is one attempt
			}
			l.mu.Unlock()
		}
	}
	ls.Wake()
}

// FollowBackOffs takes over what other nodes know of lanes that rest. Lanes that
// were asked for and are not among the rests move again.
func (ls *lanes) FollowBackOffs(list []store.BackOff, asked []ident.ID) {
	ls.backOffs.follow(list, asked, ls.heart.RunNumber())
	ls.Wake()
}

// quietInTrouble is how long a lane whose host was in trouble is known at least.
const quietInTrouble = 10 * time.Minute

// InTrouble are lanes of which nothing was seen for a while, and that are known only
// because their hosts were in trouble. Those with no mail anywhere are to be left.
func (ls *lanes) InTrouble() (ids []ident.ID) {
	now := time.Now()
	for _, l := range ls.all() {
		l.mu.Lock()
		if l.host.failures > 0 && l.quiet(now, quietInTrouble) {
			ids = append(ids, l.id)
		}
		l.mu.Unlock()
	}
	return ids
}

// Leave forgets lanes in which no mail is left, and that their hosts were in trouble.
func (ls *lanes) Leave(ids []ident.ID) {
	now := time.Now()
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for _, id := range ids {
		l := ls.by[id]
		if l == nil {
			continue
		}
		l.mu.Lock()
		if l.quiet(now, quietInTrouble) {
			delete(ls.by, id)
			ls.backOffs.record(store.BackOff{Lane: id})
		}
		l.mu.Unlock()
	}
}
