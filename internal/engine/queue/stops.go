package queue

import (
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// pauses are what people have stopped, as far as it concerns this node. It never changes.
type pauses struct {
	lanes  map[ident.ID]*mail.Pause
	routes map[string]*mail.Pause
	all    *mail.Pause // delivery of everything, or this node
}

// stops are why lanes may hold nothing in memory: a person has stopped them, or somebody
// changes their deliveries in the database.
type stops struct {
	pauses atomic.Pointer[pauses]

	mu     sync.Mutex
	frozen map[ident.ID]time.Time
}

// freezeAtMost bounds a freeze whose end was not heard of.
const freezeAtMost = 5 * time.Second

func newStops() *stops {
	s := &stops{frozen: map[ident.ID]time.Time{}}
	s.pauses.Store(&pauses{})
	return s
}

// pausesOf are the pauses that concern a node.
func pausesOf(list []mail.Pause, node string) *pauses {
	p := &pauses{lanes: map[ident.ID]*mail.Pause{}, routes: map[string]*mail.Pause{}}
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
			if one.Name == node && p.all == nil {
				p.all = one
			}
		}
	}
	return p
}

// paused is what stops a lane, or nil.
func (s *stops) paused(l *lane) *mail.Pause {
	p := s.pauses.Load()
	if p.all != nil {
		return p.all
	}
	if one := p.lanes[l.id]; one != nil {
		return one
	}
	return p.routes[l.route().Name]
}

// freeze stops lanes for a moment.
func (s *stops) freeze(lanes []ident.ID, until time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range lanes {
		s.frozen[id] = until
	}
}

// unfreeze lets them go on.
func (s *stops) unfreeze(lanes []ident.ID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range lanes {
		delete(s.frozen, id)
	}
}

// isFrozen reports whether nothing may be taken into a lane.
func (s *stops) isFrozen(id ident.ID, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	until, ok := s.frozen[id]
	if ok && now.After(until) {
		delete(s.frozen, id)
		return false
	}
	return ok
}

// skip are lanes from which nothing is to be taken now.
func (s *stops) skip(now time.Time) (ids []ident.ID) {
	for id := range s.pauses.Load().lanes {
		ids = append(ids, id)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, until := range s.frozen {
		if !now.After(until) {
			ids = append(ids, id)
		}
	}
	return ids
}

// closed reports whether a lane may hold nothing in memory, and when what it holds is due
// again. l.mu is held.
func (s *stops) closed(l *lane, now time.Time) (until time.Time, closed bool) {
	if now.Before(l.host.backOffUntil) {
		return l.host.backOffUntil, true
	}
	return now, s.paused(l) != nil || s.isFrozen(l.id, now)
}
