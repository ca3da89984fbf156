package inforce

import (
	"context"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/mail"
)

// FollowPauses puts in force what people have stopped.
func (s *State) FollowPauses(ctx context.Context) error {
	list, err := s.Options.Pauses.List(ctx)
	if err != nil {
		return err
	}
	listeners, node := map[string]bool{}, false
	accounts := map[string]address.Address{}
	var end time.Time
	for _, p := range list {
		switch p.Kind {
		case mail.PauseListener:
			listeners[p.Name] = true
		case mail.PauseAccount:
			if a, err := address.Parse(p.Name); err == nil {
				accounts[a.Key()] = a
			}
		case mail.PauseNode:
			node = node || p.Name == s.Node
		}
		if !p.Until.IsZero() && (end.IsZero() || p.Until.Before(end)) {
			end = p.Until.Time
		}
	}
	s.Queue.SetPauses(list)
	s.Listeners.SetPauses(listeners, node)
	s.Listeners.SetStopped(accounts)
	s.pauseEnds.Store(&end)
	s.pauses.Store(&list)
	return nil
}

// EndPauses ends pauses whose time is over.
func (s *State) EndPauses(ctx context.Context) error {
	if end := s.pauseEnds.Load(); end != nil && !end.IsZero() && time.Now().After(*end) {
		return s.FollowPauses(ctx)
	}
	return nil
}

// Paused are what people have stopped.
func (s *State) Paused() []mail.Pause {
	if l := s.pauses.Load(); l != nil {
		return *l
	}
	return nil
}

// Drained reports that a person has drained this node.
func (s *State) Drained() bool {
	for _, p := range s.Paused() {
		if p.Kind == mail.PauseNode && p.Name == s.Node {
			return true
		}
	}
	return false
}

// DeliveryPaused reports that a person has stopped all delivery.
func (s *State) DeliveryPaused() bool {
	for _, p := range s.Paused() {
		if p.Kind == mail.PauseDelivery {
			return true
		}
	}
	return false
}
