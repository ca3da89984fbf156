package node

import (
	"context"
	"net/netip"
	"time"

	"gullroute/internal/cluster"
	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/repute"
	"gullroute/internal/engine/access"
	"gullroute/internal/engine/certify"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/door"
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
	"gullroute/internal/store"
)

// build makes everything from the bottom up: what moves mail, what is in force, and then
// what people change and see.
func (n *Node) build(run int, salt []byte) {
	n.buildBase(run)
	n.buildEngine(run, salt)
	n.buildInForce()
	n.buildInsight()
	n.buildMachine()
	n.buildControl()
	n.follow = &follower{
		db:           n.DB,
		engine:       &n.Engine,
		inForce:      n.InForce,
		secrets:      n.Secrets,
		signing:      n.Signing,
		certificates: n.Certificates,
		cluster:      n.Cluster,
		running:      n.life.running,
		log:          n.Log,
	}
	n.sources = &sources.Reader{
		Store:   store.ListCopies{DB: n.DB},
		Config:  n.InForce.Config,
		Log:     n.Log,
		Roots:   n.Roots,
		Trouble: n.Troubles.Ours,
	}
	n.upkeep = &upkeep{
		db:       n.DB,
		queue:    n.Engine.Queue,
		counters: n.Engine.Counters,
		inForce:  n.InForce,
		reader:   n.Reader,
		changed:  n.Engine.Access.Changes.Changed,
		log:      n.Log,
	}
}

// buildBase makes what all others stand on.
func (n *Node) buildBase(run int) {
	e := &n.Engine
	e.IDs, e.Hub, e.Counters = ident.NewMaker(run, time.Now), feed.NewHub(), counters.New()
	e.Resolver, e.Signer = &resolve.Current{}, &senderauth.Signer{}
	n.Troubles = snags.New(store.Snags{DB: n.DB}, e.IDs, e.Counters, n.Log)
	n.Secrets = &inforce.Secrets{Store: store.Secrets{DB: n.DB}, Box: n.Box}
	n.Certificates = &inforce.Certificates{
		Store: store.Certificates{DB: n.DB},
		Box:   n.Box,
		Log:   n.Log,
	}
	n.Cluster = cluster.New(
		cluster.Options{Runs: store.Runs{DB: n.DB}, Notices: store.Notices{DB: n.DB}, Hub: e.Hub,
			Node: n.Name, Run: func() int { return e.Queue.RunNumber() }, Log: n.Log},
	)
}

// buildEngine makes what moves mail.
func (n *Node) buildEngine(run int, salt []byte) {
	e := &n.Engine
	proofs := store.SignIns{DB: n.DB}
	e.SignIn = signin.NewChecker(store.Directory{DB: n.DB}, salt)
	e.SignIn.Limiter.Proofs = proofs
	e.SignIn.Programs = store.AppPasswords{DB: n.DB}
	e.Limits = limits.New(store.Limits{DB: n.DB})
	e.Sessions = sessions.New(
		sessions.Options{Store: store.Sessions{DB: n.DB}, Node: n.Name, IDs: e.IDs, Hub: e.Hub,
			Snags: n.Troubles, Tally: e.Counters, Log: n.Log},
	)
	e.Outward = deliver.Options{Roots: n.Roots, Secrets: n.Secrets, Record: e.Sessions, IDs: e.IDs,
		Resolver: e.Resolver}
	e.Policies = &policies.Keeper{Store: store.TLSPolicies{DB: n.DB}, Resolver: e.Resolver,
		Config: func() *config.Compiled { return n.InForce.Config() }, Roots: n.Roots, Log: n.Log}
	e.Outward.Policies = e.Policies
	certs := &door.Certificates{Kept: n.Certificates.Of}
	e.Outward.Certificate = certs.Ours
	e.Notebook = &feedback.Notebook{Store: store.Feedback{DB: n.DB}, Sends: func() bool {
		set := n.InForce.Config().Service.Feedback
		return set.Address != nil && set.Send == "on"
	}}
	e.Outward.TLSSeen = e.Notebook.Connected
	e.Queue = queue.New(queue.Options{
		Store:     queueStore(n.DB),
		Node:      run,
		Name:      n.Name,
		IDs:       e.IDs,
		Hub:       e.Hub,
		Snags:     n.Troubles,
		Tally:     e.Counters,
		Log:       n.Log,
		Signer:    e.Signer,
		ReturnKey: n.returnPaths().Key,
		Recovered: n.Cluster.Missed,
		Journal:   journalPath(n.Options),
		SpoolDir:  n.SpoolDir,
		Ended:     e.Limits.Ended,
		Arrived:   func(mailboxes ...string) { e.Access.Changes.Arrived(mailboxes...) },
		Outward:   e.Outward,
		Facts:     func() mail.NodeFacts { return n.Insight.Nodes.Facts() },
		BeginAnew: n.BeginAnew,
	})
	e.Scanners = &scan.Scanners{
		Config:  func() *config.Compiled { return n.InForce.Config() },
		Log:     n.Log,
		Name:    n.Name,
		Trouble: n.Troubles.Ours,
	}
	e.Weigher = &weigh.Weigher{
		Resolver: e.Resolver,
		Config:   func() *config.Compiled { return n.InForce.Config() },
		Log:      n.Log,
		Trouble:  n.Troubles.Ours,
	}
	e.Access = access.New(access.Options{
		DB:           n.DB,
		IDs:          e.IDs,
		SignIn:       e.SignIn,
		Record:       e.Sessions,
		Certificates: certs,
		Bind:         n.Bind,
		Node:         n.Name,
		Log:          n.Log,
		Tell:         n.Cluster.TellMail,
	})
	e.Receive = receive.New(receive.Options{
		Intake:        e.Queue,
		Contents:      store.Intake{DB: n.DB},
		IDs:           e.IDs,
		Hub:           e.Hub,
		Tally:         e.Counters,
		Log:           n.Log,
		Node:          n.Name,
		SpoolDir:      n.SpoolDir,
		Record:        e.Sessions,
		Bind:          n.Bind,
		Certificates:  certs,
		SignIn:        e.SignIn,
		Allowance:     e.Limits,
		Verifier:      &deliver.Recipients{Client: e.Queue.Client()},
		Mailboxes:     store.Mailboxes{DB: n.DB},
		Returns:       n.returnPaths(),
		Originals:     receive.Reported{Messages: store.Messages{DB: n.DB}, Node: n.Name},
		Contacts:      store.Messages{DB: n.DB},
		Scanner:       e.Scanners,
		Weigher:       e.Weigher,
		Greylist:      store.Reputation{DB: n.DB},
		Door:          func() *repute.Door { return n.InForce.Door() },
		Over:          n.over,
		Asked:         n.asked,
		Judged:        e.Notebook.Judged,
		HeldFull:      func() bool { return n.Control.Held.Full() },
		SenderChecker: senderauth.Checker{Resolver: e.Resolver},
	})
}

// returnPaths are those of forwards: every node with the same key file makes and knows the same.
func (n *Node) returnPaths() receive.ReturnPaths {
	return receive.ReturnPaths{
		Key:      n.Box.Derived("return paths of forwards"),
		Messages: store.Messages{DB: n.DB},
	}
}

// queueStore is what the queue asks of the database.
func queueStore(db *store.DB) queue.Store {
	return struct {
		*store.DB
		store.Intake
		store.Lanes
		store.Mailboxes
		store.Messages
		store.Outcomes
		store.Queue
		store.Runs
	}{db, store.Intake{DB: db}, store.Lanes{DB: db}, store.Mailboxes{DB: db},
		store.Messages{DB: db},
		store.Outcomes{DB: db}, store.Queue{DB: db}, store.Runs{DB: db}}
}

// buildInForce makes what puts configurations in force.
func (n *Node) buildInForce() {
	e := &n.Engine
	n.InForce = inforce.New(inforce.Options{
		Revisions: store.Revisions{DB: n.DB},
		Directory: store.Directory{DB: n.DB},
		Pauses: store.Pauses{
			DB: n.DB,
		},
		Lists:      store.ListCopies{DB: n.DB},
		Reputation: store.Reputation{DB: n.DB},
		Queue:      e.Queue,
		Listeners:  listeners{e},
		Resolver:   e.Resolver,
		Node:       n.Name,
		Log:        n.Log,
	})
	n.Signing = &inforce.SigningKeys{
		Store:    store.Keys{DB: n.DB},
		Box:      n.Box,
		Signer:   e.Signer,
		Troubles: n.Troubles,
		Node:     n.Name,
	}
}

// buildInsight makes what people see.
func (n *Node) buildInsight() {
	e, in := &n.Engine, n.InForce
	own := &insight.OwnMail{Queue: e.Queue}
	reviewer := &insight.Reviewer{
		Counts:    store.Counts{DB: n.DB},
		DB:        n.DB,
		Lists:     store.ListCopies{DB: n.DB},
		Revisions: store.Revisions{DB: n.DB},
		Directory: store.Directory{DB: n.DB},
		Findings:  store.Findings{DB: n.DB},
		Keys: store.Keys{
			DB: n.DB,
		},
		Readiness:   store.Readiness{DB: n.DB},
		Secrets:     store.Secrets{DB: n.DB},
		InForce:     in,
		Receive:     e.Receive,
		SpoolDir:    n.SpoolDir,
		ConsoleOpen: n.ConsoleInClear,
		ToLookAt:    func() []machine.Examined { return n.Insight.Machine.ToLookAt() },
	}
	n.Insight = &insight.Insight{
		Trace: &insight.Trace{
			Messages: store.Messages{DB: n.DB},
			Sessions: store.Sessions{DB: n.DB},
			Counts:   store.Counts{DB: n.DB},
			Archives: store.Archives{
				DB: n.DB,
			},
			Mailboxes: store.Mailboxes{DB: n.DB},
			InForce:   in,
			Queue:     e.Queue,
			Open:      e.Sessions,
			Reader:    n.Reader,
		},
		Lanes: &insight.Lanes{
			Store:   store.Lanes{DB: n.DB},
			Waiting: store.Queue{DB: n.DB},
			Runs:    store.Runs{DB: n.DB},
			InForce: in,
			Queue:   e.Queue,
		},
		Tuner: &insight.Tuner{Store: store.Tunings{DB: n.DB}},
		Snags: &insight.Snags{Store: store.Snags{DB: n.DB}, InForce: in},
		Judge: &insight.Judge{
			Snags:    store.Snags{DB: n.DB},
			Clock:    n.DB,
			InForce:  in,
			Resolver: e.Resolver,
		},
		Policies: &insight.Policies{
			Store:   store.TLSPolicies{DB: n.DB},
			Keeper:  e.Policies,
			InForce: in,
			Outward: e.Outward,
		},
		Nodes: &insight.Nodes{
			Runs:     store.Runs{DB: n.DB},
			InForce:  in,
			Signing:  n.Signing,
			Queue:    e.Queue,
			Receive:  e.Receive,
			Access:   e.Access,
			Counters: e.Counters,
			Loops:    n.Loops,
			Started:  time.Now(),
			Reader:   n.Reader,
			Version:  n.Version,
		},
		Reporter: &insight.Reporter{
			Counts:    store.Counts{DB: n.DB},
			Lanes:     store.Lanes{DB: n.DB},
			Mailboxes: store.Mailboxes{DB: n.DB},
			Snags:     store.Snags{DB: n.DB},
			Reviewer:  reviewer,
			InForce:   in,
			Own:       own,
		},
		Readiness: &insight.Readiness{
			Store:    store.Readiness{DB: n.DB},
			Snags:    store.Snags{DB: n.DB},
			Troubles: n.Troubles,
			InForce:  in,
			Receive:  e.Receive,
			Roots:    n.Roots,
		},
		Reviewer: reviewer,
		Digester: &insight.Digester{Store: store.Held{DB: n.DB}, InForce: in, Own: own, Box: n.Box},
		Feedback: &insight.Feedback{
			Store:     store.Feedback{DB: n.DB},
			Mailboxes: store.Mailboxes{DB: n.DB},
			InForce:   in,
			Own:       own,
			Resolver:  e.Resolver,
			Troubles:  n.Troubles,
			Log:       n.Log,
		},
		Archiver: &insight.Archiver{
			Archives: store.Archives{DB: n.DB},
			Messages: store.Messages{DB: n.DB},
			Sessions: store.Sessions{DB: n.DB},
			InForce:  in,
		},
		Alerter: &insight.Alerter{
			Store:   store.Snags{DB: n.DB},
			InForce: in,
			Secrets: n.Secrets,
			Own:     own,
			Log:     n.Log,
		},
	}
}

// buildControl makes what people change, and gives insight the keys to check.
// dirs are the directories that the service writes to.
func (n *Node) dirs() []insight.Folder {
	list := []insight.Folder{{What: "spool", Dir: n.SpoolDir}}
	c := n.InForce.Config()
	if c == nil {
		return list
	}
	if dir := c.Service.Log.Directory; dir != "" {
		list = append(list, insight.Folder{What: "text logs", Dir: dir})
	}
	if a := c.Service.Archive; a.Directory != "" && (a.Node == "" || a.Node == n.Name) {
		list = append(list, insight.Folder{What: "archives of days", Dir: a.Directory})
	}
	return list
}

// buildMachine makes what looks at the machine.
func (n *Node) buildMachine() {
	n.Insight.Machine = &insight.Machine{
		Store:   store.Machines{DB: n.DB},
		Nodes:   n.Insight.Nodes,
		Tuner:   n.Insight.Tuner,
		InForce: n.InForce,
		KeyFile: n.KeyFile,
		Dirs:    n.dirs,
		Trouble: n.Troubles.Ours,
	}
	n.Insight.Shelf = &insight.Shelf{
		DB:       n.DB,
		Archiver: n.Insight.Archiver,
		Runs:     store.Runs{DB: n.DB},
		InForce:  n.InForce,
		Log:      n.Log,
	}
}

func (n *Node) buildControl() {
	e, in := &n.Engine, n.InForce
	c := &control.Control{
		Operators: &control.Operators{
			Accounts:      store.Accounts{DB: n.DB},
			SecondFactors: store.SecondFactors{DB: n.DB},
			Audit:         store.Audit{DB: n.DB},
			Box:           n.Box,
		},
		Kept: store.Kept{DB: n.DB},
	}
	c.Passkeys = &control.Passkeys{People: c.Operators, Store: store.Passkeys{DB: n.DB}}
	c.SingleSignOn = &control.SingleSignOn{
		People:   c.Operators,
		Passkeys: store.Passkeys{DB: n.DB},
		Secrets:  n.Secrets,
		InForce:  in,
	}
	c.Directory = &control.Directory{
		Store:   store.Directory{DB: n.DB},
		Names:   store.Secrets{DB: n.DB},
		InForce: in,
		Secrets: n.Secrets,
		Cluster: n.Cluster,
	}
	c.Own = &control.Own{
		Directory: c.Directory,
		Sessions:  store.OwnSessions{DB: n.DB},
		Held:      store.Held{DB: n.DB},
		Mailboxes: store.Mailboxes{DB: n.DB},
		InForce:   in,
	}
	c.Drafts = &control.Drafts{
		Revisions: store.Revisions{DB: n.DB},
		Messages:  store.Messages{DB: n.DB},
		Waiting:   store.Queue{DB: n.DB},
		Directory: c.Directory,
		InForce:   in,
		Refused:   e.Receive.Refused,
		Log:       n.Log,
		Rerouter: &control.Rerouter{
			Waiting: store.Queue{DB: n.DB},
			InForce: in,
			Queue:   e.Queue,
			Running: n.life.running,
			Log:     n.Log,
		},
	}
	c.Pauses = &control.Pauses{
		Store:   store.Pauses{DB: n.DB},
		Actions: store.Actions{DB: n.DB},
		Lanes:   store.Lanes{DB: n.DB},
		Runs:    store.Runs{DB: n.DB},
		Limits:  store.Limits{DB: n.DB},
		InForce: in,
		Cluster: n.Cluster,
		Log:     n.Log,
	}
	c.Actions = &control.Actions{
		Store:   store.Actions{DB: n.DB},
		Waiting: store.Queue{DB: n.DB},
		InForce: in,
		Cluster: n.Cluster,
		Queue:   e.Queue,
		Pauses:  c.Pauses,
		Log:     n.Log,
	}
	c.Reputation = &control.Reputation{
		Store:   store.Reputation{DB: n.DB},
		Actions: store.Actions{DB: n.DB},
		InForce: in,
		Weigher: e.Weigher,
		Log:     n.Log,
	}
	c.Held = &control.Held{
		Store:      store.Held{DB: n.DB},
		Messages:   store.Messages{DB: n.DB},
		Contents:   store.Intake{DB: n.DB},
		Actions:    c.Actions,
		Reputation: c.Reputation,
		Queue:      e.Queue,
		InForce:    in,
		IDs:        e.IDs,
	}
	c.Keys = &control.Keys{
		Store:   store.Keys{DB: n.DB},
		Box:     n.Box,
		InForce: in,
		Signing: n.Signing,
		Log:     n.Log,
	}
	c.Gates = &control.Gates{InForce: in, Draft: c.Drafts, Copies: store.ListCopies{DB: n.DB}}
	c.Explainer = &control.Explainer{
		Messages:  store.Messages{DB: n.DB},
		InForce:   in,
		Draft:     c.Drafts,
		Runs:      store.Runs{DB: n.DB},
		Mailboxes: store.Mailboxes{DB: n.DB},
		Limits:    e.Limits,
		Queue:     e.Queue,
		Weigher:   e.Weigher,
		Returns:   n.returnPaths(),
	}
	asked := e.Outward
	asked.Resolver = nil // a probe asks DNS anew
	c.Prober = &control.Prober{
		InForce: in,
		Receive: e.Receive,
		Outward: asked,
		Signer:  e.Signer,
	}
	c.Submitter = &control.Submitter{InForce: in, Receive: e.Receive}
	n.Insight.Readiness.Keys = c.Keys
	n.Insight.Readiness.Feedback = n.Insight.Feedback
	c.Certificates = &control.Certificates{
		Store:   store.Certificates{DB: n.DB},
		Box:     n.Box,
		InForce: in,
		Shown:   n.Certificates,
		Secrets: n.Secrets,
		Cluster: n.Cluster,
		Client: certify.Client(func(ctx context.Context, host string) ([]netip.Addr, error) {
			return in.FreshResolver().Addrs(ctx, host)
		}, n.Roots),
		Roots:    n.Roots,
		Troubles: n.Troubles,
		Log:      n.Log,
	}
	c.Publisher = &control.Publisher{
		Store:   store.DNSChanges{DB: n.DB},
		InForce: in,
		Secrets: n.Secrets,
		Looker:  n.Insight.Readiness,
		Log:     n.Log,
	}
	c.Certificates.Publish = c.Publisher
	c.Fixer = &control.Fixer{
		Snags:     n.Insight.Snags,
		InForce:   in,
		Drafts:    c.Drafts,
		Directory: c.Directory,
		Actions:   c.Actions,
		Pauses:    c.Pauses,
		Readiness: n.Insight.Readiness,
		Review:    n.Insight.Reviewer,
	}
	n.Control = c
}
