// Package engine is a running node: listeners, queue and configuration in
// force, over one database.
package engine

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/tally"
	"gullroute/internal/store"
)

// Options are what a node is made of.
type Options struct {
	Store    *store.Store
	Name     string // of the node
	SpoolDir string
	Bind     map[string]netip.AddrPort // listeners' addresses, in place of the configured ones
	Roots    *x509.CertPool
	Log      *slog.Logger
}

// Engine is a node.
type Engine struct {
	Options
	Hub     *live.Hub
	Tally   *tally.Tally
	Queue   *queue.Queue
	Receive *receive.Server
	Started time.Time

	node    int
	cfg     atomic.Pointer[config.Compiled]
	applyMu sync.Mutex
	stop    context.CancelFunc
	done    chan struct{}
}

// New registers the node; nothing moves before Start.
func New(ctx context.Context, o Options) (*Engine, error) {
	node, err := o.Store.RegisterNode(ctx, o.Name)
	if err != nil {
		return nil, fmt.Errorf("node: %w", err)
	}
	e := &Engine{Options: o, Hub: live.NewHub(), Tally: tally.New(), Started: time.Now(), node: node, done: make(chan struct{})}
	ids := ident.NewMaker(node, time.Now)
	e.Queue = queue.New(queue.Options{Store: o.Store, Node: node, Name: o.Name, IDs: ids, Hub: e.Hub, Tally: e.Tally, Log: o.Log, Roots: o.Roots})
	e.Receive = receive.New(receive.Options{Intake: e.Queue, Contents: o.Store, IDs: ids, Hub: e.Hub, Tally: e.Tally, Log: o.Log, Node: o.Name, SpoolDir: o.SpoolDir, Bind: o.Bind})
	return e, nil
}

// ErrNoConfig reports that no configuration was ever applied.
var ErrNoConfig = errors.New("there is no configuration yet; give one with --config")

// Start puts the latest configuration in force and lets mail move.
func (e *Engine) Start(ctx context.Context) error {
	rev, err := e.Store.LatestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return ErrNoConfig
	}
	if err != nil {
		return err
	}
	c, err := config.Parse([]byte(rev.Text))
	if err != nil {
		return fmt.Errorf("configuration revision %d: %w", rev.Number, err)
	}
	ctx, e.stop = context.WithCancel(context.Background())
	if err := e.force(config.Compile(c, rev.Number)); err != nil {
		e.stop()
		return err
	}
	go func() { e.Queue.Run(ctx); close(e.done) }()
	go e.upkeep(ctx)
	return nil
}

// Config is the configuration in force.
func (e *Engine) Config() *config.Compiled { return e.cfg.Load() }

func (e *Engine) force(c *config.Compiled) error {
	e.cfg.Store(c)
	e.Queue.Apply(c)
	return e.Receive.Apply(c)
}

// Apply checks a configuration, puts it on record and in force at once, and
// returns its revision. The error is config.Problems if the text is at fault.
func (e *Engine) Apply(ctx context.Context, who, text string) (int, error) {
	c, err := config.Parse([]byte(text))
	if err != nil {
		return 0, err
	}
	e.applyMu.Lock()
	defer e.applyMu.Unlock()
	number, err := e.Store.AddRevision(ctx, who, text)
	if err != nil {
		return 0, err
	}
	if now := e.Config(); now != nil && now.Revision == number {
		return number, nil
	}
	e.Log.Info("configuration applied", "revision", number, "who", who)
	if err := e.force(config.Compile(c, number)); err != nil {
		return number, err
	}
	_, err = e.Store.Flush(ctx, store.QueueFilter{Route: config.RouteNone})
	e.Queue.Wake()
	return number, err
}

// upkeep takes counts to the database and keeps partitions.
func (e *Engine) upkeep(ctx context.Context) {
	counts := time.NewTicker(5 * time.Second)
	defer counts.Stop()
	partitions := time.NewTicker(time.Hour)
	defer partitions.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-counts.C:
			if err := e.Tally.Flush(ctx, e.Store); err != nil && ctx.Err() == nil {
				e.Log.Warn("counts could not be stored yet", "error", err)
			}
		case now := <-partitions.C:
			if err := e.Store.KeepPartitions(ctx, now, e.Config().Service.Retention); err != nil {
				e.Log.Error("partitions could not be kept", "error", err)
			}
		}
	}
}

// Stop takes no more mail, finishes what is under way and gives the rest back.
func (e *Engine) Stop() {
	e.Receive.Stop(5 * time.Second)
	e.stop()
	<-e.done
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.Tally.Flush(ctx, e.Store); err != nil {
		e.Log.Warn("the last counts are lost", "error", err)
	}
	if err := e.Store.ReleaseNode(ctx, e.node); err != nil {
		e.Log.Warn("leases were not given back; they are free at the next start", "error", err)
	}
}

// Check checks a configuration; nothing changes. The error is config.Problems.
func (e *Engine) Check(text string) error {
	_, err := config.Parse([]byte(text))
	return err
}
