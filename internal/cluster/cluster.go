// Package cluster is how a node and the others on its database hear of each other: it
// tells the others what was changed here, hears what they changed, and passes on what
// happens while somebody watches. What is lost does no harm: after any gap everything is
// followed anew. It stands below control and insight and imports neither.
package cluster

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// Runs knows which nodes run.
type Runs interface {
	Nodes(ctx context.Context) ([]mail.Node, error)
}

// Options are what a cluster is seen through.
type Options struct {
	Runs    Runs
	Notices store.Notices
	Hub     *feed.Hub
	Node    string     // our name
	Run     func() int // that our leases carry
	Log     *slog.Logger
}

// Cluster is the other nodes, as this one sees them. It is safe for several goroutines.
type Cluster struct {
	Options
	others atomic.Pointer[others]
	asked  chan struct{} // by another node for what happens here
	missed chan struct{} // what happened while the database was not well
}

// New makes a cluster; Listen and Share run it.
func New(o Options) *Cluster {
	return &Cluster{Options: o, asked: make(chan struct{}, 1), missed: make(chan struct{}, 1)}
}

// othersFor is how long it counts what was known of other nodes.
const othersFor = 5 * time.Second

type others struct {
	at  time.Time
	any bool
}

// Alone reports that no other node runs; what was known a moment ago counts.
func (c *Cluster) Alone(ctx context.Context) bool {
	if k := c.others.Load(); k != nil && time.Since(k.at) < othersFor {
		return !k.any
	}
	nodes, err := c.Runs.Nodes(ctx)
	if err != nil {
		return false
	}
	k, here := &others{at: time.Now()}, c.Run()
	for _, n := range nodes {
		k.any = k.any || n.Number != here && n.State != "silent"
	}
	c.others.Store(k)
	return !k.any
}

// maxKeys is how many lanes one notice names.
const maxKeys = 300

// Tell sends word to the other nodes.
func (c *Cluster) Tell(ctx context.Context, kind string, lanes []ident.ID) {
	if c.Alone(ctx) {
		return
	}
	for len(lanes) > maxKeys {
		c.Tell(ctx, kind, lanes[:maxKeys])
		lanes = lanes[maxKeys:]
	}
	keys := make([]string, len(lanes))
	for i, id := range lanes {
		keys[i] = id.String()
	}
	if err := c.Notices.Tell(ctx, kind, keys); err != nil {
		c.Log.Warn("other nodes could not be told", "what", kind, "error", err)
	}
}

// EventSetup tells that something was changed; its text says what.
const EventSetup mail.Kind = "setup"

// Changed lets consoles know that something was changed.
func (c *Cluster) Changed(what string) {
	if c.Hub.Watched() {
		c.Hub.Publish(feed.Event{
			Event: mail.Event{At: time.Now().UTC(), Kind: EventSetup, Node: c.Node, Text: what},
		})
	}
}

// Listen hears what other nodes, and this one, have changed, until ctx ends. follow takes
// a notice; catchUp is called when some may have been missed.
func (c *Cluster) Listen(ctx context.Context, catchUp func(), follow func(store.Notice)) {
	c.Notices.Listen(ctx, catchUp, func(n store.Notice) {
		if n.Node != "" {
			c.heard(n)
			return
		}
		follow(n)
	})
}

// Missed says that notices may have been missed: the database was away.
func (c *Cluster) Missed() {
	select {
	case c.missed <- struct{}{}:
	default:
	}
}

// FollowMissed calls catchUp after each Missed, until ctx ends.
func (c *Cluster) FollowMissed(ctx context.Context, catchUp func()) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.missed:
			catchUp()
		}
	}
}
