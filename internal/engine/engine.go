// Package engine is a running node: listeners, queue and configuration in
// force, over one database.
package engine

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/limits"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
	"gullroute/internal/engine/snags"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
	"gullroute/internal/supervise"
)

// Options are what a node is made of.
type Options struct {
	Store    *store.Store
	Name     string // of the node
	SpoolDir string
	Bind     map[string]netip.AddrPort // listeners' addresses, in place of the configured ones
	Roots    *x509.CertPool
	Box      *keyfile.Box // of secrets; nil has no key
	// ConsoleInClear says that the console listens on the network without TLS.
	ConsoleInClear bool
	Log            *slog.Logger
}

// Engine is a node.
type Engine struct {
	Options
	Hub     *feed.Hub
	Tally   *counters.Counters
	Queue   *queue.Queue
	Receive *receive.Server
	SignIn  *signin.Checker
	Sent    *limits.Counter
	Record  *sessions.Recorder
	Snags   *snags.Keeper
	Started time.Time

	background    *supervise.Supervisor
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
	former        atomic.Pointer[string]   // primaries of the database that still take writes
	locked        atomic.Pointer[[]string] // keys that should sign and are not opened here
	missed        chan struct{}            // what happened while the database was not well
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
	e := &Engine{Options: o, Hub: feed.NewHub(), Tally: counters.New(), SignIn: signin.NewChecker(o.Store, salt), Sent: limits.New(o.Store), Started: time.Now(),
		background: supervise.New(o.Log), asked: make(chan struct{}, 1), missed: make(chan struct{}, 1), done: make(chan struct{}), recorded: make(chan struct{}), running: context.Background()}
	e.SignIn.Limiter.Proofs = o.Store
	ids := ident.NewMaker(node, time.Now)
	e.Snags = snags.New(o.Store, ids, e.Tally, o.Log)
	e.Record = sessions.New(sessions.Options{Store: o.Store, Node: o.Name, IDs: ids, Hub: e.Hub, Snags: e.Snags, Tally: e.Tally, Log: o.Log})
	e.Queue = queue.New(queue.Options{Store: o.Store, Node: node, Name: o.Name, IDs: ids, Hub: e.Hub, Snags: e.Snags, Tally: e.Tally, Log: o.Log, Signer: &senderauth.Signer{}, Recovered: e.recovered, Journal: journalPath(o),
		Outward: deliver.Options{Roots: o.Roots, Secrets: e.secret, Record: e.Record, IDs: ids}})
	e.Receive = receive.New(receive.Options{Intake: e.Queue, Contents: o.Store, IDs: ids, Hub: e.Hub, Record: e.Record, Log: o.Log, Node: o.Name, SpoolDir: o.SpoolDir, Bind: o.Bind,
		SignIn: e.SignIn, Allowance: e.Sent, Verify: e.verify, Identify: e.identify, Original: e.original, Expansion: e.Queue.Expansion, Use: func(ctx context.Context, mailbox string) (int64, error) {
			_, octets, err := o.Store.MailboxUse(ctx, mailbox)
			return octets, err
		}})
	return e, nil
}

// journalPath is the file of what the queue is to withdraw: this node's, on this database.
func journalPath(o Options) string {
	of := sha256.Sum256([]byte(o.Store.Name()))
	return filepath.Join(o.SpoolDir, fmt.Sprintf("gull-withdrawn-%s-%x", url.PathEscape(o.Name), of[:6]))
}

// Start puts the latest configuration in force and lets mail move. Without any
// it begins with an empty one, to be set up by a person.
func (e *Engine) Start(ctx context.Context) error {
	rev, err := e.Store.LatestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		if _, _, err = e.Store.AddRevision(ctx, store.NewRevision{Who: "gull serve", Why: "the first start", Text: emptyConfig()}); err != nil {
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
	for _, l := range e.loops() {
		e.background.Go(e.running, l)
	}
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
	c, err := config.ParseStored([]byte(rev.Text))
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

// loops are what the node does in the background. Each is one thing: a name server that
// does not answer delays the look at our domains, and nothing else.
func (e *Engine) loops() []supervise.Loop {
	const second = time.Second
	return []supervise.Loop{
		{Name: "going back from what nobody confirmed", Every: second, Limit: 20 * second, Steady: true, Do: e.goBackInTime},
		{Name: "ends of pauses", Every: second, Limit: 20 * second, Steady: true, Do: e.endPauses},
		{Name: "counts of limits", Every: 5 * second, Limit: 20 * second, Do: e.Sent.Flush},
		{Name: "daily report", Every: 20 * second, Limit: 5 * time.Minute, Do: func(ctx context.Context) error { return e.dailyReport(ctx, time.Now()) }},
		{Name: "records of keys", Every: keysEvery, Limit: 5 * time.Minute, Do: e.checkKeys},
		{Name: "readiness of our domains", Every: keysEvery, Limit: 15 * time.Minute, Do: e.watchReadiness},
		{Name: "forgetting", Every: time.Hour, Limit: 30 * time.Minute, Do: func(ctx context.Context) error { return e.forget(ctx, time.Now()) }},
		{Name: "counts", Every: countEvery, Limit: time.Minute, Do: e.count},
		{Name: "counts by lane", Every: gatherEvery, Limit: time.Minute, Do: e.Store.GatherLanes},
		{Name: "sweeping", Every: gatherEvery, Limit: 10 * time.Minute, Do: e.sweep()},
		{Name: "flow by lane", Every: 5 * second, Limit: time.Minute, Do: e.storeFlow},
		{Name: "what lanes moved before", Every: 5 * time.Minute, Limit: time.Minute, Do: func(ctx context.Context) error { return e.Store.ForgetFlow(ctx, time.Now().Add(-flowKept)) }},
		{Name: "lanes in trouble", Every: time.Minute, Limit: time.Minute, Do: e.leaveLanes},
		{Name: "alerts", Every: tellEvery, Limit: 5 * time.Minute, Do: func(ctx context.Context) error { return e.alerts(ctx, time.Now().UTC()) }},
		{Name: "snags", Do: func(ctx context.Context) error { e.Snags.Run(ctx); return nil }},
		{Name: "hosts of the database", Every: hostsEvery, Limit: 20 * second, Steady: true, Do: e.watchHosts},
		{Name: "notices of other nodes", Do: func(ctx context.Context) error { e.Store.Listen(ctx, e.catchUp, e.noticed); return nil }},
		{Name: "what was missed", Do: e.followMissed},
		{Name: "events of other nodes", Do: func(ctx context.Context) error { e.share(ctx); return nil }},
		{Name: "what an earlier run left", Limit: time.Minute, Do: e.takeUp},
	}
}

// Loops are how the background loops do.
func (e *Engine) Loops() []supervise.State {
	return append(e.background.States(), e.Queue.Loops.States()...)
}

// goBackInTime goes back from a revision that nobody confirmed. Nothing that it waits
// for depends on the revision: it is what saves from a wrong one.
func (e *Engine) goBackInTime(ctx context.Context) error {
	if by := e.ConfirmBy(); !by.IsZero() && time.Now().After(by) {
		e.goBack(ctx)
	}
	return nil
}

// endPauses ends pauses whose time is over.
func (e *Engine) endPauses(ctx context.Context) error {
	if end := e.pauseEnds.Load(); end != nil && !end.IsZero() && time.Now().After(*end) {
		return e.followPauses(ctx)
	}
	return nil
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
	e.background.Wait()
	e.stopRecording()
	<-e.recorded
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.Sent.Flush(ctx); err != nil {
		e.Log.Warn("the last counts are lost", "error", err)
	}
	if err := e.Store.ReleaseNode(ctx, e.Queue.RunNumber()); err != nil {
		e.Log.Warn("leases were not given back; they are free at the next start", "error", err)
	}
}
