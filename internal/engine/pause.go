package engine

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/store"
)

// Pause stops a lane, a route, a listener, a node or all delivery.
func (e *Engine) Pause(ctx context.Context, p mail.Pause) (mail.Done, error) {
	if err := e.known(ctx, &p); err != nil {
		return mail.Done{}, err
	}
	if !p.Until.IsZero() && p.Until.Before(time.Now()) {
		return mail.Done{}, refuse("until", "the pause would be over already")
	}
	if err := e.Store.SetPause(ctx, p); err != nil {
		return mail.Done{}, err
	}
	return e.recordPause(ctx, mail.VerbPause, p, 0)
}

// Resume lets something go on.
func (e *Engine) Resume(ctx context.Context, p mail.Pause) (mail.Done, error) {
	if err := e.known(ctx, &p); err != nil {
		return mail.Done{}, err
	}
	ended, err := e.Store.EndPause(ctx, p.Kind, p.Name)
	if err != nil {
		return mail.Done{}, err
	}
	if !ended {
		return mail.Done{}, refuse("name", "%s is not paused", e.nameOf(ctx, p))
	}
	return e.recordPause(ctx, mail.VerbResume, p, 0)
}

func (e *Engine) recordPause(ctx context.Context, verb string, p mail.Pause, undoes int64) (mail.Done, error) {
	name := e.nameOf(ctx, p)
	id, err := e.Store.BeginAction(ctx, mail.Action{Who: p.Who, Verb: verb, On: name, Detail: map[string]any{"kind": p.Kind, "name": p.Name}, Why: p.Why, Undoes: undoes})
	if err == nil {
		err = e.Store.EndAction(ctx, id, 0, 0)
	}
	if err != nil {
		return mail.Done{}, err
	}
	if err := e.followPauses(ctx); err != nil {
		return mail.Done{}, err
	}
	e.Log.Info("action", "id", id, "who", p.Who, "verb", verb, "on", name, "why", p.Why)
	e.tell("queue")
	text := name + " is paused"
	switch {
	case verb == mail.VerbResume:
		text = name + " goes on"
	case p.Kind == mail.PauseNode:
		text = name + " takes no new mail and delivers none; what it has under way comes to its end"
	}
	return mail.Done{Action: id, Text: text}, nil
}

func (e *Engine) undoPause(ctx context.Context, who string, old mail.Action, why string) (mail.Done, error) {
	kind, _ := old.Detail["kind"].(string)
	name, _ := old.Detail["name"].(string)
	p := mail.Pause{Kind: kind, Name: name, Who: who, Why: why}
	if old.Verb == mail.VerbResume {
		if err := e.Store.SetPause(ctx, p); err != nil {
			return mail.Done{}, err
		}
		return e.recordPause(ctx, mail.VerbPause, p, old.ID)
	}
	if ended, err := e.Store.EndPause(ctx, kind, name); err != nil || !ended {
		if err == nil {
			err = refuse("id", "%s is not paused any more", e.nameOf(ctx, p))
		}
		return mail.Done{}, err
	}
	return e.recordPause(ctx, mail.VerbResume, p, old.ID)
}

// known checks that there is what is to be stopped.
func (e *Engine) known(ctx context.Context, p *mail.Pause) error {
	cfg := e.Config()
	switch p.Kind {
	case mail.PauseLane:
		id, err := ident.Parse(p.Name)
		if err != nil {
			return refuse("name", "%v", err)
		}
		p.Name = id.String()
		_, _, err = e.Store.LaneName(ctx, id)
		return err
	case mail.PauseRoute:
		if cfg.Route(p.Name) == nil {
			return refuse("name", "there is no route %s that is on", p.Name)
		}
	case mail.PauseListener:
		if cfg.Listener(p.Name) == nil {
			return refuse("name", "there is no listener %s", p.Name)
		}
	case mail.PauseNode:
		nodes, err := e.Store.Nodes(ctx)
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
		return refuse("name", "there is no node %s; there are %s", p.Name, strings.Join(names, ", "))
	case mail.PauseDelivery:
		p.Name = ""
	default:
		return refuse("kind", "%q cannot be paused; lane, route, listener, node or delivery can", p.Kind)
	}
	return nil
}

// nameOf is what is stopped, in words.
func (e *Engine) nameOf(ctx context.Context, p mail.Pause) string {
	switch p.Kind {
	case mail.PauseDelivery:
		return "all delivery"
	case mail.PauseLane:
		if id, err := ident.Parse(p.Name); err == nil {
			if name, hop, err := e.Store.LaneName(ctx, id); err == nil {
				return fmt.Sprintf("the lane to %s by route %s", address.DisplayDomain(hop), name)
			}
		}
	}
	return p.Kind + " " + p.Name
}

// followPauses puts in force what people have stopped.
func (e *Engine) followPauses(ctx context.Context) error {
	list, err := e.Store.Pauses.List(ctx)
	if err != nil {
		return err
	}
	listeners, node := map[string]bool{}, false
	var end time.Time
	for _, p := range list {
		switch p.Kind {
		case mail.PauseListener:
			listeners[p.Name] = true
		case mail.PauseNode:
			node = node || p.Name == e.Name
		}
		if !p.Until.IsZero() && (end.IsZero() || p.Until.Before(end)) {
			end = p.Until.Time
		}
	}
	e.Queue.SetPauses(list)
	e.Receive.SetPauses(listeners, node)
	e.pauseEnds.Store(&end)
	e.pauses.Store(&list)
	return nil
}

// Pauses are what people have stopped.
func (e *Engine) Pauses() []mail.Pause {
	if l := e.pauses.Load(); l != nil {
		return *l
	}
	return nil
}

// Stopped says why no mail leaves at all, and what lets it go on; "" if it leaves: the
// database is not well, all delivery is paused, or there is no node that is not drained.
func (e *Engine) Stopped(ctx context.Context) string {
	if why := e.Ready(); why != "" {
		return "No mail is taken: " + why
	}
	drained := map[string]bool{}
	for _, p := range e.Pauses() {
		switch p.Kind {
		case mail.PauseDelivery:
			text := "All delivery is paused by " + p.Who
			if p.Why != "" {
				text += " (" + p.Why + ")"
			}
			if !p.Until.IsZero() {
				text += " until " + p.Until.UTC().Format("2006-01-02 15:04 UTC")
			}
			return text + ": mail is taken and waits. Let it go on: gull queue resume"
		case mail.PauseNode:
			drained[p.Name] = true
		}
	}
	if !drained[e.Name] {
		return ""
	}
	names, err := e.Store.RunningNodes(ctx)
	if err != nil {
		return ""
	}
	for _, name := range names {
		if !drained[name] {
			return ""
		}
	}
	return "Every running node is drained (" + strings.Join(names, ", ") + "): no mail is taken and none leaves. Let one go on: gull node resume " + e.Name
}

// Drained reports that a person has drained this node.
func (e *Engine) Drained() bool {
	for _, p := range e.Pauses() {
		if p.Kind == mail.PauseNode && p.Name == e.Name {
			return true
		}
	}
	return false
}

// DeliveryPaused reports that a person has stopped all delivery.
func (e *Engine) DeliveryPaused() bool {
	for _, p := range e.Pauses() {
		if p.Kind == mail.PauseDelivery {
			return true
		}
	}
	return false
}

// Nodes are the services on this database.
func (e *Engine) Nodes(ctx context.Context) ([]mail.Node, error) {
	nodes, err := e.Store.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	pauses := e.Pauses()
	for i := range nodes {
		n := &nodes[i]
		n.Here = n.Number == e.Queue.RunNumber()
		for k := range pauses {
			if pauses[k].Kind != mail.PauseNode || pauses[k].Name != n.Name {
				continue
			}
			n.Pause = &pauses[k]
			if n.State == "running" {
				n.State = "draining"
				if n.Leased == 0 {
					n.State = "drained"
				}
			}
		}
	}
	return nodes, nil
}

// tellNodes sends word to the other nodes; what is lost does no harm.
func (e *Engine) tellNodes(ctx context.Context, kind string, lanes []ident.ID) {
	if e.alone(ctx) {
		return
	}
	for len(lanes) > 300 { // a notice holds no more
		e.tellNodes(ctx, kind, lanes[:300])
		lanes = lanes[300:]
	}
	keys := make([]string, len(lanes))
	for i, id := range lanes {
		keys[i] = id.String()
	}
	if err := e.Store.Tell(ctx, kind, keys); err != nil {
		e.Log.Warn("other nodes could not be told", "what", kind, "error", err)
	}
}

// alone reports that no other node runs; what was known a moment ago counts.
func (e *Engine) alone(ctx context.Context) bool {
	if k := e.others.Load(); k != nil && time.Since(k.at) < 5*time.Second {
		return !k.any
	}
	nodes, err := e.Store.Nodes(ctx)
	if err != nil {
		return false
	}
	k := &others{at: time.Now()}
	for _, n := range nodes {
		k.any = k.any || n.Number != e.Queue.RunNumber() && n.State != "silent"
	}
	e.others.Store(k)
	return !k.any
}

type others struct {
	at  time.Time
	any bool
}

// followLanes does what another node asks for lanes.
func (e *Engine) followLanes(ctx context.Context, n store.Notice) error {
	var lanes []ident.ID
	for _, k := range n.Keys {
		if id, err := ident.Parse(k); err == nil {
			lanes = append(lanes, id)
		}
	}
	switch n.Kind {
	case "freeze":
		e.Queue.Freeze(lanes)
	case "unfreeze":
		e.Queue.Unfreeze(lanes)
	case "flush":
		e.Queue.EndRest(lanes)
	case "wake":
		e.Queue.Wake()
	case "rest":
		rests, err := e.Store.Rests(ctx, lanes)
		if err != nil {
			return err
		}
		e.Queue.FollowRests(rests, lanes)
	}
	return nil
}

func isIP(s string) bool {
	_, err := netip.ParseAddr(s)
	return err == nil
}

// laneAges are the bounds by which a lane's letters are counted.
var laneAges = []time.Duration{10 * time.Minute, time.Hour, 4 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour}

// LaneDetail adds to a lane its ages, its last hour and its schedule.
func (e *Engine) LaneDetail(ctx context.Context, l mail.Lane) (mail.LaneDetail, error) {
	now := time.Now()
	out := mail.LaneDetail{Lane: l}
	var err error
	if out.Ages, err = e.Store.LaneAges(ctx, l.ID, now, laneAges); err != nil {
		return out, err
	}
	if out.Minutes, err = e.Store.LaneFlow(ctx, l.ID, now.Add(-time.Hour).Truncate(time.Minute)); err != nil {
		return out, err
	}
	cfg := e.Config()
	domain := l.NextHop
	if r := cfg.Route(l.Route); r != nil && r.NextHop != config.HopMX && r.NextHop != config.HopDirect {
		domain = ""
	}
	if r := cfg.Route(l.Route); r != nil && l.Limit == 0 {
		out.Limit = route.TermsOf(cfg, r, l.NextHop).Connections
	}
	s := cfg.ScheduleOf(cfg.Route(l.Route), domain, false)
	out.Schedule = mail.ScheduleTerms{Intervals: []float64{}, WarnAfter: s.WarnAfter.Seconds(), GiveUp: s.GiveUp.Seconds()}
	for _, i := range s.Intervals {
		out.Schedule.Intervals = append(out.Schedule.Intervals, i.Seconds())
	}
	return out, nil
}
