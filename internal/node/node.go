// Package node is the composition root: it builds what moves mail, what people change and
// what people see over one database, starts and stops it, and runs its background loops.
// Nothing but cli imports it.
package node

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"path/filepath"
	"time"

	"gullroute/internal/cluster"
	"gullroute/internal/control"
	"gullroute/internal/core/ident"
	"gullroute/internal/engine/access"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/daylog"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/feedback"
	"gullroute/internal/engine/limits"
	"gullroute/internal/engine/policies"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/scan"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/engine/signin"
	"gullroute/internal/engine/sources"
	"gullroute/internal/engine/weigh"
	"gullroute/internal/inforce"
	"gullroute/internal/insight"
	"gullroute/internal/insight/snags"
	"gullroute/internal/keyfile"
	"gullroute/internal/store"
	"gullroute/internal/supervise"
)

// Options are what a node is made of.
type Options struct {
	DB       *store.DB
	Name     string // of the node
	SpoolDir string
	Bind     map[string]netip.AddrPort // listeners' addresses, in place of the configured ones
	Roots    *x509.CertPool            // by which remote hosts are verified; nil are the system's
	Box      *keyfile.Box              // of secrets; nil has no key
	DayLog   *daylog.Log               // text log by day; nil keeps none
	KeyFile  string                    // where it is; "" without one
	Reader   *store.Reader             // of a standby that history is read from; nil if there is none
	// ConsoleInClear says that the console listens on the network without TLS.
	ConsoleInClear bool
	Version        string // of the program
	// BeginAnew ends the service in order and begins it again; it may be called several times.
	BeginAnew func()
	Log       *slog.Logger
}

// Engine is what moves mail.
type Engine struct {
	Queue    *queue.Queue
	Receive  *receive.Server
	Access   *access.Server
	SignIn   *signin.Checker
	Limits   *limits.Counter
	Sessions *sessions.Recorder
	Signer   *senderauth.Signer
	Scanners *scan.Scanners
	Weigher  *weigh.Weigher
	Notebook *feedback.Notebook
	Hub      *feed.Hub
	Counters *counters.Counters
	Resolver *resolve.Current
	Policies *policies.Keeper
	IDs      *ident.Maker
	Outward  deliver.Options
}

// Node is a running service but for its HTTP side.
type Node struct {
	Options
	Engine       Engine
	InForce      *inforce.State
	Secrets      *inforce.Secrets
	Signing      *inforce.SigningKeys
	Certificates *inforce.Certificates
	Cluster      *cluster.Cluster
	Control      *control.Control
	Insight      *insight.Insight
	Troubles     *snags.Keeper

	background *supervise.Supervisor
	follow     *follower
	upkeep     *upkeep
	sources    *sources.Reader
	life       life
}

// life is what ends a node.
type life struct {
	running       context.Context // until Stop
	stop          context.CancelFunc
	queueDone     chan struct{}
	stopRecording context.CancelFunc
	recorded      chan struct{}
}

// New registers the node; nothing moves before Start.
func New(ctx context.Context, o Options) (*Node, error) {
	run, err := store.Runs{DB: o.DB}.RegisterNode(ctx, o.Name)
	if err != nil {
		return nil, fmt.Errorf("node: %w", err)
	}
	fresh := make([]byte, 32)
	_, _ = rand.Read(fresh)
	salt, err := store.SignIns{DB: o.DB}.SharedValue(ctx, "salt of made-up sign-ins", fresh)
	if err != nil {
		return nil, fmt.Errorf("node: %w", err)
	}
	n := &Node{Options: o, background: supervise.New(o.Log)}
	n.life.running, n.life.stop = context.WithCancel(context.Background())
	n.life.queueDone, n.life.recorded = make(chan struct{}), make(chan struct{})
	n.build(run, salt)
	return n, nil
}

// journalPath is the file of what the queue is to withdraw: this node's, on this database.
func journalPath(o Options) string {
	of := sha256.Sum256([]byte(o.DB.Name()))
	return filepath.Join(o.SpoolDir,
		fmt.Sprintf("gull-withdrawn-%s-%x", url.PathEscape(o.Name), of[:6]))
}

// Start puts the latest configuration in force and lets mail move.
func (n *Node) Start(ctx context.Context) error {
	if err := n.start(ctx); err != nil {
		n.life.stop()
		return err
	}
	return nil
}

func (n *Node) start(ctx context.Context) error {
	if err := n.follow.lanes(ctx, store.Notice{Kind: "back-off"}); err != nil {
		return err
	}
	if err := n.Certificates.Follow(ctx); err != nil {
		return err
	}
	if err := n.InForce.Start(ctx); err != nil {
		return err
	}
	if err := n.Signing.Follow(ctx); err != nil {
		n.Log.Error("not all messages can be signed", "error", err)
	}
	go func() { n.Engine.Queue.Run(n.life.running); close(n.life.queueDone) }()
	if err := n.follow.watches(ctx); err != nil {
		return err
	}
	recording, stopRecording := context.WithCancel(context.Background())
	n.life.stopRecording = stopRecording
	go func() { n.Engine.Sessions.Run(recording); close(n.life.recorded) }()
	for _, l := range n.loops() {
		n.background.Go(n.life.running, l)
	}
	return nil
}

// Stop takes no more mail, finishes what is under way and gives the rest back.
func (n *Node) Stop() {
	n.Engine.Receive.Stop(5 * time.Second)
	n.Engine.Access.Stop(5 * time.Second)
	n.life.stop()
	<-n.life.queueDone
	n.background.Wait()
	n.life.stopRecording()
	<-n.life.recorded
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := n.Engine.Limits.Flush(ctx); err != nil {
		n.Log.Warn("the last counts are lost", "error", err)
	}
	if err := (store.Runs{DB: n.DB}).ReleaseNode(ctx, n.Engine.Queue.RunNumber()); err != nil {
		n.Log.Warn("leases were not given back; they are free at the next start", "error", err)
	}
}

// keepRecords lets the text log follow the configuration, and tells what is not kept.
func (n *Node) keepRecords(context.Context) error {
	c := n.InForce.Config().Service
	if n.DayLog != nil {
		n.DayLog.Keep(daylog.Terms{Directory: c.Log.Directory, Keep: c.Log.Keep})
		if why := n.DayLog.Wrong(); why != "" {
			n.Troubles.Ours(n.Name+": text log", "nothing is kept of the log: "+why+
				": make room or repair the directory; it goes on by itself", time.Now())
		}
	}
	if why := n.Insight.Shelf.Wrong(); why != "" {
		n.Troubles.Ours(n.Name+": archives of days", "a day is not archived: "+why+
			": it is tried again until it is forgotten (retention)", time.Now())
	}
	return nil
}

// loops are what the node does in the background. Each is one thing: a name server that
// does not answer delays the look at our domains, and nothing else.
func (n *Node) loops() []supervise.Loop {
	const second = time.Second
	e, in, up := &n.Engine, n.Insight, n.upkeep
	now := func(do func(context.Context, time.Time) error) func(context.Context) error {
		return func(ctx context.Context) error { return do(ctx, time.Now().UTC()) }
	}
	return []supervise.Loop{
		{
			Name:   "going back from what nobody confirmed",
			Every:  second,
			Limit:  20 * second,
			Steady: true,
			Do:     n.Control.Drafts.GoBackInTime,
		},
		{
			Name:   "ends of pauses",
			Every:  second,
			Limit:  20 * second,
			Steady: true,
			Do:     n.InForce.EndPauses,
		},
		{
			Name:   "ends of exceptions",
			Every:  second,
			Limit:  20 * second,
			Steady: true,
			Do:     n.InForce.EndStandings,
		},
		{
			Name:  "lists that are asked by DNS",
			Every: 15 * second,
			Limit: 10 * time.Minute,
			First: true,
			Do:    e.Weigher.Round,
		},
		{Name: "digests of what is held", Every: 20 * second, Limit: 5 * time.Minute,
			Do: now(in.Digester.Round)},
		{Name: "how much is held", Every: 15 * second, Limit: 20 * second, First: true,
			Do: n.Control.Held.Measure},
		{Name: "ends of what is held", Every: 10 * second, Limit: 5 * time.Minute,
			Do: n.Control.Held.Keep},
		{Name: "counts of limits", Every: 5 * second, Limit: 20 * second, Do: e.Limits.Flush},
		{
			Name:  "daily report",
			Every: 20 * second,
			Limit: 5 * time.Minute,
			Do:    now(in.Reporter.Daily),
		},
		{
			Name:  "records of keys",
			Every: keysEvery,
			Limit: 5 * time.Minute,
			Do:    n.Control.Keys.CheckAll,
		},
		{Name: "what is to be reported to others", Every: 10 * second, Limit: time.Minute,
			Do: e.Notebook.Flush},
		{
			Name:  "reports of others",
			Every: 5 * second,
			Limit: 5 * time.Minute,
			Do:    in.Feedback.Read,
		},
		{Name: "reports to others", Every: 10 * second, Limit: 10 * time.Minute,
			Do: in.Feedback.Send},
		{
			Name:  "renewing certificates",
			Every: certificatesEvery,
			Limit: 30 * time.Minute,
			First: true,
			Do:    n.Control.Certificates.Keep,
		},
		{Name: "certificates that are not had", Every: 5 * second, Limit: 20 * second,
			Do: n.Control.Certificates.Tell},
		{Name: "certificates whose time has come", Every: second, Limit: 20 * second, First: true,
			Do: n.Certificates.Due},
		{
			Name:  "readiness of our domains",
			Every: keysEvery,
			Limit: 15 * time.Minute,
			Do:    in.Readiness.Watch,
		},
		{
			Name:  "sources of lists",
			Every: 5 * second,
			Limit: 10 * time.Minute,
			First: true,
			Do:    n.sources.Round,
		},
		{Name: "forgetting", Every: time.Hour, Limit: 30 * time.Minute, Do: now(up.forget)},
		{
			Name:  "words of days that are over",
			Every: 10 * time.Minute,
			Limit: 6 * time.Hour,
			Do:    now(store.Words{DB: n.DB}.IndexClosed),
		},
		{Name: "counts", Every: countEvery, Limit: time.Minute, Do: up.count},
		{
			Name:  "counts by lane",
			Every: gatherEvery,
			Limit: time.Minute,
			Do:    store.Lanes{DB: n.DB}.GatherLanes,
		},
		{
			Name:  "how full mailboxes are",
			Every: gatherEvery,
			Limit: time.Minute,
			Do:    store.Mailboxes{DB: n.DB}.GatherMailboxes,
		},
		{Name: "words of messages that people read", Every: 5 * second, Limit: 10 * time.Minute,
			Do: e.Access.Words},
		{Name: "content that nobody refers to", Every: time.Minute, Limit: 10 * time.Minute,
			Do: now(up.dropLoose)},
		{
			Name:  "trash and mailboxes that are gone",
			Every: 10 * time.Minute,
			Limit: 30 * time.Minute,
			Do:    now(up.emptyTrash),
		},
		{Name: "word of changes in mailboxes", Do: endless(e.Access.Changes.Run)},
		{Name: "sweeping", Every: gatherEvery, Limit: 10 * time.Minute, Do: up.sweep},
		{Name: "flow by lane", Every: second, Limit: time.Minute, Do: up.storeFlow},
		{Name: "how much waits", Every: 5 * second, Limit: time.Minute, Do: up.length},
		{
			Name:  "what lanes moved before",
			Every: 5 * time.Minute,
			Limit: time.Minute,
			Do:    now(up.forgetFlow),
		},
		{Name: "archives of days", Every: 5 * second, Limit: 6 * time.Hour,
			Do: now(in.Shelf.Round)},
		{Name: "records kept as files", Every: 3 * second, Limit: 20 * second, First: true,
			Do: n.keepRecords},
		{Name: "the machine", Every: time.Minute, Limit: 20 * second, First: true,
			Do: in.Machine.Round},
		{Name: "what is wrong with the machine", Every: 4 * second, Limit: 20 * second,
			Do: in.Machine.Tell},
		{Name: "lanes in trouble", Every: time.Minute, Limit: time.Minute, Do: up.leaveLanes},
		{
			Name:  "alerts",
			Every: insight.TellEvery,
			Limit: 5 * time.Minute,
			Do:    now(in.Alerter.Tell),
		},
		{Name: "snags", Do: endless(n.Troubles.Run)},
		{
			Name:   "hosts of the database",
			Every:  hostsEvery,
			Limit:  20 * second,
			Steady: true,
			Do:     up.watchHosts,
		},
		{
			Name:   "the standby to read from",
			Every:  2 * second,
			Limit:  20 * second,
			Steady: true,
			Do:     up.lookAtStandby,
		},
		{Name: "notices of other nodes", Do: endless(n.follow.listen)},
		{Name: "what was missed", Do: endless(n.follow.missed)},
		{Name: "events of other nodes", Do: endless(n.Cluster.Share)},
		{Name: "what an earlier run left", Limit: time.Minute, Do: up.takeUp},
	}
}

// keysEvery is how often DNS is asked for the records of keys, and whether a domain of
// ours is to be looked at.
const keysEvery = 5 * time.Minute

// certificatesEvery is how often it is looked whether certificates are to be renewed.
const certificatesEvery = 10 * time.Second

// endless is a loop that runs until its context ends.
func endless(do func(context.Context)) func(context.Context) error {
	return func(ctx context.Context) error { do(ctx); return nil }
}

// Loops are how the background loops do.
func (n *Node) Loops() []supervise.State {
	return append(n.background.States(), n.Engine.Queue.Loops.States()...)
}
