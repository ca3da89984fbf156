package control

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/cluster"
	"gullroute/internal/core/address"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Pauses stops lanes, routes, listeners, nodes and all delivery, and lets them go on.
type Pauses struct {
	Store   store.Pauses
	Actions store.Actions
	Lanes   store.Lanes
	Runs    store.Runs
	Limits  store.Limits
	InForce *inforce.State
	Cluster *cluster.Cluster
	Log     *slog.Logger
}

// Pause stops a lane, a route, a listener, a node or all delivery.
func (s *Pauses) Pause(ctx context.Context, p mail.Pause) (api.Done, error) {
	if err := s.known(ctx, &p); err != nil {
		return api.Done{}, err
	}
	if !p.Until.IsZero() && p.Until.Before(time.Now()) {
		return api.Done{}, fault.Refuse("until", "the pause would be over already")
	}
	if err := s.Store.SetPause(ctx, p); err != nil {
		return api.Done{}, err
	}
	return s.record(ctx, mail.VerbPause, p, 0)
}

// Resume lets something go on.
func (s *Pauses) Resume(ctx context.Context, p mail.Pause) (api.Done, error) {
	if err := s.known(ctx, &p); err != nil {
		return api.Done{}, err
	}
	ended, err := s.Store.EndPause(ctx, p.Kind, p.Name)
	if err != nil {
		return api.Done{}, err
	}
	if !ended {
		return api.Done{}, fault.Refuse("name", "%s is not paused", s.nameOf(ctx, p))
	}
	if p.Kind == mail.PauseAccount { // or it would be stopped again by its next message
		a, err := address.Parse(p.Name)
		if err == nil {
			err = s.Limits.ForgetHolder(ctx, a.Display())
		}
		if err != nil {
			return api.Done{}, err
		}
	}
	return s.record(ctx, mail.VerbResume, p, 0)
}

func (s *Pauses) record(
	ctx context.Context,
	verb string,
	p mail.Pause,
	undoes int64,
) (api.Done, error) {
	name := s.nameOf(ctx, p)
	id, err := s.Actions.BeginAction(ctx, mail.Action{
		Who:    p.Who,
		Verb:   verb,
		On:     name,
		Detail: map[string]any{"kind": p.Kind, "name": p.Name},
		Why:    p.Why,
		Undoes: undoes,
	})
	if err == nil {
		err = s.Actions.EndAction(ctx, id, 0, 0)
	}
	if err != nil {
		return api.Done{}, err
	}
	if err := s.InForce.FollowPauses(ctx); err != nil {
		return api.Done{}, err
	}
	s.Log.Info("action", "id", id, "who", p.Who, "verb", verb, "on", name, "why", p.Why)
	s.Cluster.Changed("queue")
	text := name + " is paused"
	switch {
	case verb == mail.VerbResume:
		text = name + " goes on"
	case p.Kind == mail.PauseAccount:
		text = name + " sends nothing until somebody lets it go on; its sessions are ended"
	case p.Kind == mail.PauseNode:
		text = name + " takes no new mail and delivers none; what it has under way comes to its end"
	}
	return api.Done{Action: id, Text: text}, nil
}

func (s *Pauses) undo(
	ctx context.Context,
	who string,
	old mail.Action,
	why string,
) (api.Done, error) {
	kind, _ := old.Detail["kind"].(string)
	name, _ := old.Detail["name"].(string)
	p := mail.Pause{Kind: kind, Name: name, Who: who, Why: why}
	if old.Verb == mail.VerbResume {
		if err := s.Store.SetPause(ctx, p); err != nil {
			return api.Done{}, err
		}
		return s.record(ctx, mail.VerbPause, p, old.ID)
	}
	if ended, err := s.Store.EndPause(ctx, kind, name); err != nil || !ended {
		if err == nil {
			err = fault.Refuse("id", "%s is not paused any more", s.nameOf(ctx, p))
		}
		return api.Done{}, err
	}
	return s.record(ctx, mail.VerbResume, p, old.ID)
}

// known checks that there is what is to be stopped.
func (s *Pauses) known(ctx context.Context, p *mail.Pause) error {
	cfg := s.InForce.Config()
	switch p.Kind {
	case mail.PauseLane:
		id, err := ident.Parse(p.Name)
		if err != nil {
			return fault.Refuse("name", "%v", err)
		}
		p.Name = id.String()
		_, _, err = s.Lanes.LaneName(ctx, id)
		return err
	case mail.PauseRoute:
		if cfg.Route(p.Name) == nil {
			return fault.Refuse("name", "there is no route %s that is on", p.Name)
		}
	case mail.PauseListener:
		if cfg.Listener(p.Name) == nil {
			return fault.Refuse("name", "there is no listener %s", p.Name)
		}
	case mail.PauseNode:
		nodes, err := s.Runs.Nodes(ctx)
		if err != nil {
			return err
		}
		var names []string
		for _, n := range nodes {
			if n.Name == p.Name {
				return nil
			}
			names = append(names, n.Name)
		}
		return fault.Refuse("name", "there is no node %s; there are %s", p.Name,
			strings.Join(names, ", "))
	case mail.PauseAccount:
		a, err := address.Parse(p.Name)
		if err != nil {
			return fault.Refuse("name", "%v", err)
		}
		if cfg.Directory.Mailbox(a) == nil {
			return fault.Refuse("name", "there is no mailbox %s", a.Display())
		}
		p.Name = a.String()
	case mail.PauseDelivery:
		p.Name = ""
	default:
		return fault.Refuse("kind",
			"%q cannot be paused; lane, route, listener, node, delivery or account can", p.Kind)
	}
	return nil
}

// nameOf is what is stopped, in words.
func (s *Pauses) nameOf(ctx context.Context, p mail.Pause) string {
	switch p.Kind {
	case mail.PauseDelivery:
		return "all delivery"
	case mail.PauseLane:
		if id, err := ident.Parse(p.Name); err == nil {
			if name, hop, err := s.Lanes.LaneName(ctx, id); err == nil {
				return fmt.Sprintf("the lane to %s by route %s", address.DisplayDomain(hop), name)
			}
		}
	}
	return p.Kind + " " + p.Name
}

func isIP(s string) bool {
	_, err := netip.ParseAddr(s)
	return err == nil
}
