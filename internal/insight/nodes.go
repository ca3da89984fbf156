package insight

import (
	"context"
	"maps"
	"strings"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/engine/access"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
	"gullroute/internal/supervise"
)

// Nodes tells how this node and the others do.
type Nodes struct {
	Runs     store.Runs
	InForce  *inforce.State
	Signing  *inforce.SigningKeys
	Queue    *queue.Queue
	Receive  *receive.Server
	Access   *access.Server
	Counters *counters.Counters
	Loops    func() []supervise.State // in the background
	Started  time.Time
	Reader   *store.Reader // nil if history is read from the database itself
	Version  string        // of the program
	used     processors
}

// Addresses are the addresses that are open, by listener.
func (s *Nodes) Addresses() map[string]string {
	out := s.Receive.Addresses()
	maps.Copy(out, s.Access.Addresses())
	return out
}

// Sessions is how many are open, by listener.
func (s *Nodes) Sessions() map[string]int {
	out := s.Receive.Sessions()
	maps.Copy(out, s.Access.Sessions())
	return out
}

// Ready is "" if this node can take mail and deliver it; else why not.
func (s *Nodes) Ready() string {
	if d := s.Queue.Database(); d.State != store.Well {
		return d.Text
	}
	return ""
}

// Stopped says why no mail leaves at all, and what lets it go on; "" if it leaves: the
// database is not well, all delivery is paused, or there is no node that is not drained.
func (s *Nodes) Stopped(ctx context.Context) string {
	if why := s.Ready(); why != "" {
		return "No mail is taken: " + why
	}
	drained := map[string]bool{}
	for _, p := range s.InForce.Paused() {
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
	if !drained[s.InForce.Node] {
		return ""
	}
	names, err := s.Runs.RunningNodes(ctx)
	if err != nil {
		return ""
	}
	for _, name := range names {
		if !drained[name] {
			return ""
		}
	}
	return "Every running node is drained (" + strings.Join(
		names,
		", ",
	) + "): no mail is taken and none leaves. Let one go on: gull node resume " + s.InForce.Node
}

// List are the services on this database.
func (s *Nodes) List(ctx context.Context) ([]mail.Node, error) {
	nodes, err := s.Runs.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	pauses := s.InForce.Paused()
	for i := range nodes {
		n := &nodes[i]
		n.Here = n.Number == s.Queue.RunNumber()
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

// FormerPrimaries are hosts of the database that take writes and must not.
func (s *Nodes) FormerPrimaries() []string { return s.Runs.Former() }

// DatabaseState is how the database does, in one word.
func (s *Nodes) DatabaseState() string { return string(s.Queue.Database().State) }

// DatabaseStates are all such words.
func (s *Nodes) DatabaseStates() []string {
	var out []string
	for _, state := range store.States() {
		out = append(out, string(state))
	}
	return out
}
