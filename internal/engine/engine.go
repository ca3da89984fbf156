// Package engine is a running node: listeners, queue and configuration in
// force, over one database.
package engine

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/allowance"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/identity"
	"gullroute/internal/engine/live"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/record"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/seal"
	"gullroute/internal/engine/signin"
	"gullroute/internal/engine/snags"
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
	Box      *seal.Box // of secrets; nil has no key
	// ConsoleInClear says that the console listens on the network without TLS.
	ConsoleInClear bool
	Log            *slog.Logger
}

// Engine is a node.
type Engine struct {
	Options
	Hub     *live.Hub
	Tally   *tally.Tally
	Queue   *queue.Queue
	Receive *receive.Server
	SignIn  *signin.Checker
	Sent    *allowance.Counter
	Record  *record.Recorder
	Snags   *snags.Keeper
	Started time.Time

	node          int
	cfg           atomic.Pointer[config.Compiled]
	resolver      atomic.Pointer[resolve.Resolver] // with its cache, of the configuration in force
	applyMu       sync.Mutex                       // of what is in force
	confirmBy     atomic.Pointer[time.Time]
	asked         chan struct{}          // by another node for what happens here
	trouble       atomic.Pointer[string] // of the listeners
	secrets       secrets
	verified      verified
	rerouting     context.CancelFunc
	pauses        atomic.Pointer[[]mail.Pause]
	pauseEnds     atomic.Pointer[time.Time]
	others        atomic.Pointer[others]
	running       context.Context
	stop          context.CancelFunc
	done          chan struct{}
	recorded      chan struct{}
	stopRecording context.CancelFunc
}

// New registers the node; nothing moves before Start.
func New(ctx context.Context, o Options) (*Engine, error) {
	node, err := o.Store.RegisterNode(ctx, o.Name)
	if err != nil {
		return nil, fmt.Errorf("node: %w", err)
	}
	fresh := make([]byte, 32)
	_, _ = rand.Read(fresh)
	salt, err := o.Store.SharedValue(ctx, "salt of made-up sign-ins", fresh)
	if err != nil {
		return nil, fmt.Errorf("node: %w", err)
	}
	e := &Engine{Options: o, Hub: live.NewHub(), Tally: tally.New(), SignIn: signin.NewChecker(o.Store, salt), Sent: allowance.New(o.Store), Started: time.Now(),
		node: node, asked: make(chan struct{}, 1), done: make(chan struct{}), recorded: make(chan struct{}), running: context.Background()}
	e.SignIn.Limiter.Proofs = o.Store
	ids := ident.NewMaker(node, time.Now)
	e.Snags = snags.New(o.Store, ids, e.Tally, o.Log)
	e.Record = record.New(record.Options{Store: o.Store, Node: o.Name, IDs: ids, Hub: e.Hub, Snags: e.Snags, Tally: e.Tally, Log: o.Log})
	e.Queue = queue.New(queue.Options{Store: o.Store, Node: node, Name: o.Name, IDs: ids, Hub: e.Hub, Snags: e.Snags, Tally: e.Tally, Log: o.Log, Signer: &identity.Signer{}, Outward: deliver.Options{Roots: o.Roots, Secrets: e.secret, Record: e.Record, IDs: ids}})
	e.Receive = receive.New(receive.Options{Intake: e.Queue, Contents: o.Store, IDs: ids, Hub: e.Hub, Record: e.Record, Log: o.Log, Node: o.Name, SpoolDir: o.SpoolDir, Bind: o.Bind,
		SignIn: e.SignIn, Allowance: e.Sent, Verify: e.verify, Identify: e.identify, Original: e.original, Expansion: e.Queue.Expansion, Use: func(ctx context.Context, mailbox string) (int64, error) {
			_, octets, err := o.Store.MailboxUse(ctx, mailbox)
			return octets, err
		}})
	return e, nil
}

// Start puts the latest configuration in force and lets mail move. Without any
// it begins with an empty one, to be set up by a person.
func (e *Engine) Start(ctx context.Context) error {
	rev, err := e.Store.LatestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		if _, err = e.Store.AddRevision(ctx, store.NewRevision{Who: "gull serve", Why: "the first start", Text: emptyConfig()}); err != nil {
			return err
		}
		rev, err = e.Store.LatestRevision(ctx)
	}
	if err != nil {
		return err
	}
	dir, err := e.Store.LoadDirectory(ctx)
	if err != nil {
		return fmt.Errorf("directory: %w", err)
	}
	e.running, e.stop = context.WithCancel(context.Background())
	if err := e.followLanes(ctx, store.Notice{Kind: "rest"}); err != nil {
		return err
	}
	if err := e.take(rev, dir); err != nil {
		e.stop()
		return err
	}
	if err := e.followPauses(ctx); err != nil {
		e.stop()
		return err
	}
	if err := e.followKeys(ctx); err != nil {
		e.Log.Error("not all letters can be signed", "error", err)
	}
	go func() { e.Queue.Run(e.running); close(e.done) }()
	if err := e.followWatches(ctx); err != nil {
		e.stop()
		return err
	}
	recording, stopRecording := context.WithCancel(context.Background())
	e.stopRecording = stopRecording
	go func() { e.Record.Run(recording); close(e.recorded) }()
	go e.keepCounts(e.running)
	go e.keepQueue(e.running)
	go e.upkeep(e.running)
	go e.Store.Listen(e.running, e.catchUp, e.noticed)
	go e.share(e.running)
	go e.Snags.Run(e.running)
	go e.keepTelling(e.running)
	return nil
}

// emptyConfig is a server that nobody has set up yet.
func emptyConfig() string {
	name, err := os.Hostname()
	if _, bad := address.ParseDomain(name); err != nil || bad != nil {
		name = "localhost"
	}
	return fmt.Sprintf("service:\n  host_name: %s\n  postmaster: postmaster@%s\n", name, name)
}

// Config is the configuration in force.
func (e *Engine) Config() *config.Compiled { return e.cfg.Load() }

// ConfirmBy is when the revision in force goes back by itself; zero if it stays.
func (e *Engine) ConfirmBy() time.Time {
	if t := e.confirmBy.Load(); t != nil {
		return *t
	}
	return time.Time{}
}

// Trouble is what keeps listeners from being open as they are configured, "" if
// nothing does.
func (e *Engine) Trouble() string {
	if t := e.trouble.Load(); t != nil {
		return *t
	}
	return ""
}

// take puts a revision in force on this node. A listener that cannot be opened
// does not keep the rest from it.
func (e *Engine) take(rev mail.Revision, dir *directory.Directory) error {
	c, err := config.Parse([]byte(rev.Text))
	if err != nil {
		return fmt.Errorf("configuration revision %d: %w", rev.Number, err)
	}
	e.applyMu.Lock()
	defer e.applyMu.Unlock()
	now := e.Config()
	if dir == nil {
		dir = now.Directory
	}
	if now != nil && now.Revision > rev.Number {
		return nil // a later one is in force already
	}
	e.force(config.Compile(c, rev.Number, dir))
	var by *time.Time
	if !rev.ConfirmBy.IsZero() {
		by = &rev.ConfirmBy.Time
	}
	e.confirmBy.Store(by)
	return nil
}

// force lets everything go by a configuration. applyMu is held.
func (e *Engine) force(c *config.Compiled) {
	e.cfg.Store(c)
	e.verified.forget()
	e.resolver.Store(resolve.New(c.Service.Resolvers, c.Service.AddressFamily))
	e.Queue.Apply(c)
	trouble := ""
	if err := e.Receive.Apply(c); err != nil {
		trouble = err.Error()
		e.Log.Error("not all listeners are open", "error", err)
	}
	e.trouble.Store(&trouble)
}

// upkeep takes what accounts sent to the database, keeps partitions, and goes
// back from a revision that nobody confirmed.
func (e *Engine) upkeep(ctx context.Context) {
	counts := time.NewTicker(5 * time.Second)
	defer counts.Stop()
	partitions := time.NewTicker(time.Hour)
	defer partitions.Stop()
	minute := time.NewTicker(20 * time.Second)
	defer minute.Stop()
	keys := time.NewTicker(keysEvery)
	defer keys.Stop()
	second := time.NewTicker(time.Second)
	defer second.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-second.C:
			if by := e.ConfirmBy(); !by.IsZero() && now.After(by) {
				e.goBack(ctx)
			}
			if end := e.pauseEnds.Load(); end != nil && !end.IsZero() && now.After(*end) {
				if err := e.followPauses(ctx); err != nil && ctx.Err() == nil {
					e.Log.Warn("a pause that is over could not be ended", "error", err)
				}
			}
		case <-counts.C:
			if err := e.Sent.Flush(ctx); err != nil && ctx.Err() == nil {
				e.Log.Warn("counts could not be stored yet", "error", err)
			}
		case now := <-minute.C:
			if err := e.dailyReport(ctx, now); err != nil {
				e.complain(ctx, "the daily report could not be sent yet", err)
			}
		case <-keys.C:
			if err := e.checkKeys(ctx); err != nil {
				e.complain(ctx, "DNS could not be asked for the records of keys", err)
			}
			if err := e.watchReadiness(ctx); err != nil {
				e.complain(ctx, "the domains could not be looked at", err)
			}
		case now := <-partitions.C:
			if err := e.forget(ctx, now); err != nil {
				e.Log.Error("partitions could not be kept", "error", err)
			}
		}
	}
}

// proofsKept is how long it is known where an account signed in.
const proofsKept = 90 * 24 * time.Hour

// forget drops what is past its time.
func (e *Engine) forget(ctx context.Context, now time.Time) error {
	keep := e.Config().Service
	return errors.Join(e.Store.KeepPartitions(ctx, now, store.Retention{Messages: keep.Retention, Transcripts: keep.TranscriptsKept}),
		e.Store.ForgetSnags(ctx, now.Add(-keep.Retention)), e.Store.ForgetCounts(ctx, now.Add(-keep.Retention), now.Add(-keep.CountsKept)), e.Store.ForgetSent(ctx, now), e.Store.ForgetLanes(ctx, now.Add(-keep.Retention)), e.Store.ForgetProofs(ctx, now.Add(-proofsKept)))
}

// Stop takes no more mail, finishes what is under way and gives the rest back.
func (e *Engine) Stop() {
	e.Receive.Stop(5 * time.Second)
	e.stop()
	<-e.done
	e.stopRecording()
	<-e.recorded
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.Sent.Flush(ctx); err != nil {
		e.Log.Warn("the last counts are lost", "error", err)
	}
	if err := e.Store.ReleaseNode(ctx, e.node); err != nil {
		e.Log.Warn("leases were not given back; they are free at the next start", "error", err)
	}
}
