package node

import (
	"context"
	"log/slog"
	"time"

	"gullroute/internal/cluster"
	"gullroute/internal/core/ident"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// followTime bounds how long following one notice takes.
const followTime = 30 * time.Second

// follower does here what was changed elsewhere.
type follower struct {
	db           *store.DB
	engine       *Engine
	inForce      *inforce.State
	secrets      *inforce.Secrets
	signing      *inforce.SigningKeys
	certificates *inforce.Certificates
	cluster      *cluster.Cluster
	running      context.Context
	log          *slog.Logger
}

// listen follows notices until ctx ends.
func (f *follower) listen(ctx context.Context) { f.cluster.Listen(ctx, f.catchUp, f.noticed) }

// missed catches up whenever the database was away, until ctx ends.
func (f *follower) missed(ctx context.Context) { f.cluster.FollowMissed(ctx, f.catchUp) }

// noticed follows what another node, or this one, has changed.
func (f *follower) noticed(n store.Notice) {
	ctx, cancel := context.WithTimeout(f.running, followTime)
	defer cancel()
	var err error
	switch n.Kind {
	case "config":
		err = f.inForce.FollowConfig(ctx)
	case "directory":
		if err = f.inForce.FollowDirectory(ctx, n.Keys); err == nil {
			f.endSignIns()
			f.engine.Access.Recheck()
		}
	case "password":
		f.passwordsChanged(n.Keys)
	case "mail":
		f.engine.Access.Changes.Heard(n.Keys...)
		return // too many to tell the consoles of
	case "app-password":
		f.engine.Receive.SignOut(n.Keys...)
		f.engine.Access.SignOut(n.Keys...)
	case "secret":
		f.secrets.Forget()
	case "certificate":
		err = f.certificates.Follow(ctx)
	case "dkim":
		err = f.signing.Follow(ctx)
	case "pause":
		err = f.inForce.FollowPauses(ctx)
	case "standing":
		err = f.inForce.FollowStandings(ctx)
	case "watch":
		err = f.watches(ctx)
	case "freeze", "unfreeze", "flush", "wake", "back-off":
		if err = f.lanes(ctx, n); err == nil {
			return // too many to tell the consoles of
		}
	}
	if err != nil && ctx.Err() == nil {
		f.log.Error("a change could not be followed", "kind", n.Kind, "error", err)
	}
	f.cluster.Changed(n.Kind)
}

// catchUp follows everything: notices may have been missed.
func (f *follower) catchUp() {
	for _, kind := range []string{"config", "directory", "secret", "dkim", "certificate", "pause",
		"standing", "watch", "mail",
		"back-off"} {
		f.noticed(store.Notice{Kind: kind})
	}
}

// watches takes up whose sessions are recorded in full.
func (f *follower) watches(ctx context.Context) error {
	list, err := store.Sessions{DB: f.db}.Watches(ctx)
	if err == nil {
		f.engine.Sessions.SetWatches(list)
	}
	return err
}

// endSignIns ends the sessions of accounts that may not submit any more.
func (f *follower) endSignIns() {
	dir := f.inForce.Config().Directory
	for _, a := range f.engine.Receive.Accounts() {
		if box := dir.Mailbox(a); box == nil || !box.MaySubmit {
			f.engine.Receive.SignOut(a.Key())
		}
	}
}

// passwordsChanged ends what is signed in with a former password; nil stands for all.
func (f *follower) passwordsChanged(keys []string) {
	if keys == nil {
		for _, a := range f.engine.Receive.Accounts() {
			keys = append(keys, a.Key())
		}
		keys = append(keys, f.engine.Access.Accounts()...)
	}
	for _, key := range keys {
		f.engine.SignIn.Limiter.Forget(key)
	}
	f.engine.Receive.SignOut(keys...)
	f.engine.Access.SignOut(keys...)
}

// lanes does what another node asks for lanes.
func (f *follower) lanes(ctx context.Context, n store.Notice) error {
	var lanes []ident.ID
	for _, k := range n.Keys {
		if id, err := ident.Parse(k); err == nil {
			lanes = append(lanes, id)
		}
	}
	q := f.engine.Queue
	switch n.Kind {
	case "freeze":
		q.Freeze(lanes)
	case "unfreeze":
		q.Unfreeze(lanes)
	case "flush":
		q.EndRest(lanes)
	case "wake":
		q.Wake()
	case "back-off":
		rests, err := store.Lanes{DB: f.db}.BackOffs(ctx, lanes)
		if err != nil {
			return err
		}
		q.FollowBackOffs(rests, lanes)
	}
	return nil
}
