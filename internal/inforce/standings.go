package inforce

import (
	"context"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
)

// standings are the exceptions that people made for a time, and who is spared and refused by
// them and by the configuration.
type standings struct {
	list []repute.Standing
	end  time.Time // when the first of them is over; zero if none is
	door *repute.Door
}

// FollowStandings puts in force whom people spare or refuse.
func (s *State) FollowStandings(ctx context.Context) error {
	list, err := s.Reputation.Standings(ctx)
	if err != nil {
		return err
	}
	s.open(s.Config(), list)
	return nil
}

// open makes the door anew. applying is not held: the last one made counts, and what made it
// is noticed after it was written.
func (s *State) open(c *config.Compiled, all []repute.Standing) {
	x := &standings{list: all}
	for _, one := range all {
		if one.Until != nil && (x.end.IsZero() || one.Until.Before(x.end)) {
			x.end = *one.Until
		}
	}
	x.door = repute.NewDoor(&c.Service.Reputation,
		func(name string) *list.Set { return c.Lists[name] }, all)
	s.standings.Store(x)
}

// EndStandings lets go of exceptions whose time is over.
func (s *State) EndStandings(ctx context.Context) error {
	if x := s.standings.Load(); x != nil && !x.end.IsZero() && time.Now().After(x.end) {
		return s.FollowStandings(ctx)
	}
	return nil
}

// Exceptions are those that people made.
func (s *State) Exceptions() []repute.Standing {
	if x := s.standings.Load(); x != nil {
		return x.list
	}
	return nil
}

// Door says who is spared and who is refused.
func (s *State) Door() *repute.Door {
	if x := s.standings.Load(); x != nil {
		return x.door
	}
	return &repute.Door{}
}
