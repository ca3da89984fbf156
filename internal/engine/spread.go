package engine

import (
	"context"
	"sync"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// noticed follows what another node, or this one, has changed.
func (e *Engine) noticed(n store.Notice) {
	if n.Node != "" {
		e.heard(n)
		return
	}
	ctx, cancel := context.WithTimeout(e.running, 30*time.Second)
	defer cancel()
	var err error
	switch n.Kind {
	case "config":
		err = e.followConfig(ctx)
	case "directory":
		if err = e.followDirectory(ctx, n.Keys); err == nil {
			e.endSignIns()
		}
	case "password":
		e.passwordsChanged(n.Keys)
	case "secret":
		e.secrets.forget()
	case "dkim":
		err = e.followKeys(ctx)
	case "pause":
		err = e.followPauses(ctx)
	case "watch":
		err = e.followWatches(ctx)
	case "freeze", "unfreeze", "flush", "wake", "rest":
		if err = e.followLanes(ctx, n); err == nil {
			return // too many to tell the consoles of
		}
	}
	if err != nil && ctx.Err() == nil {
		e.Log.Error("a change could not be followed", "kind", n.Kind, "error", err)
	}
	e.tell(n.Kind)
}

// followWatches takes up whose sessions are recorded in full.
func (e *Engine) followWatches(ctx context.Context) error {
	list, err := e.Store.Watches(ctx)
	if err == nil {
		e.Record.SetWatches(list)
	}
	return err
}

// eventSetup tells that something was changed.
const eventSetup mail.Kind = "setup"

// tell lets consoles know that something was changed.
func (e *Engine) tell(kind string) {
	if e.Hub.Watched() {
		e.Hub.Publish(feed.Event{Event: mail.Event{At: time.Now().UTC(), Kind: eventSetup, Node: e.Name, Text: kind}})
	}
}

// catchUp follows everything: notices may have been missed.
func (e *Engine) catchUp() {
	e.noticed(store.Notice{Kind: "config"})
	e.noticed(store.Notice{Kind: "directory"})
	e.noticed(store.Notice{Kind: "secret"})
	e.noticed(store.Notice{Kind: "dkim"})
	e.noticed(store.Notice{Kind: "pause"})
	e.noticed(store.Notice{Kind: "watch"})
	e.noticed(store.Notice{Kind: "rest"})
}

func (e *Engine) followConfig(ctx context.Context) error {
	rev, err := e.Store.LatestRevision(ctx)
	if err != nil {
		return err
	}
	if rev.Number == e.Config().Revision {
		var by *time.Time
		if !rev.ConfirmBy.IsZero() {
			by = &rev.ConfirmBy.Time
		}
		e.confirmBy.Store(by)
		return nil
	}
	e.Log.Info("configuration applied", "revision", rev.Number, "who", rev.Who)
	return e.take(rev, nil)
}

// followDirectory reads changed entries, or everything without keys.
func (e *Engine) followDirectory(ctx context.Context, keys []string) error {
	if keys == nil {
		dir, err := e.Store.LoadDirectory(ctx)
		if err != nil {
			return err
		}
		e.applyMu.Lock()
		defer e.applyMu.Unlock()
		e.Config().Directory.Become(dir)
		return nil
	}
	boxes, aliases, err := e.Store.DirectoryEntries(ctx, keys)
	if err != nil {
		return err
	}
	dir := e.Config().Directory
	there := map[string]bool{}
	for _, m := range boxes {
		dir.Put(m)
		there["m"+m.Address.Key()] = true
	}
	for _, a := range aliases {
		dir.PutAlias(a)
		there["a"+a.Address.Key()] = true
	}
	for _, k := range keys {
		if !there["m"+k] {
			dir.RemoveKey(k)
		}
		if !there["a"+k] {
			dir.RemoveAliasKey(k)
		}
	}
	return nil
}

// endSignIns ends the sessions of accounts that may not submit any more.
func (e *Engine) endSignIns() {
	dir := e.Config().Directory
	for _, a := range e.Receive.Accounts() {
		if box := dir.Mailbox(a); box == nil || !box.MaySubmit {
			e.Receive.SignOut(a.Key())
		}
	}
}

// passwordsChanged ends what is signed in with a former password; nil stands for all.
func (e *Engine) passwordsChanged(keys []string) {
	if keys == nil {
		for _, a := range e.Receive.Accounts() {
			keys = append(keys, a.Key())
		}
	}
	for _, key := range keys {
		e.SignIn.Limiter.Forget(key)
	}
	e.Receive.SignOut(keys...)
}

// secrets keeps opened passwords for a while.
type secrets struct {
	mu    sync.Mutex
	known map[string]string
}

func (s *secrets) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = nil
}

// secret opens a password kept for a smart host.
func (e *Engine) secret(ctx context.Context, name string) (string, error) {
	e.secrets.mu.Lock()
	text, ok := e.secrets.known[name]
	e.secrets.mu.Unlock()
	if ok {
		return text, nil
	}
	sealed, err := e.Store.Secret(ctx, name)
	if err != nil {
		return "", err
	}
	if text, err = e.Box.Unseal(name, sealed); err != nil {
		return "", err
	}
	e.secrets.mu.Lock()
	defer e.secrets.mu.Unlock()
	if e.secrets.known == nil {
		e.secrets.known = map[string]string{}
	}
	e.secrets.known[name] = text
	return text, nil
}

// SetSecret keeps a password under a name.
func (e *Engine) SetSecret(ctx context.Context, who, name, text string) error {
	sealed, err := e.Box.Seal(name, text)
	if err != nil {
		return err
	}
	if err := e.Store.SetSecret(ctx, who, name, sealed); err != nil {
		return err
	}
	e.secrets.forget()
	return nil
}

// verified keeps what next hops said of recipients.
type verified struct {
	mu    sync.Mutex
	known map[string]verdict
}

type verdict struct {
	reply *smtp.Reply
	until time.Time
}

// How long a next hop's word on a recipient counts.
const (
	keepTaken   = time.Hour
	keepRefused = 10 * time.Minute
	maxVerified = 50_000
)

func (v *verified) forget() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.known = nil
}

// verify asks the next hop of a relay domain about a recipient. Trouble on the
// way lets it pass: the letter will wait in the queue, as it would anyway.
func (e *Engine) verify(ctx context.Context, c *config.Compiled, to address.Address) *smtp.Reply {
	e.verified.mu.Lock()
	known, ok := e.verified.known[to.Key()]
	e.verified.mu.Unlock()
	if ok && time.Now().Before(known.until) {
		return known.reply
	}
	dom := c.Domain(to.Domain)
	r := c.Route(dom.Route)
	if r == nil {
		return nil
	}
	result := e.Queue.Client().Verify(ctx, r, route.NextHop(r, to), to)
	v := verdict{until: time.Now().Add(keepTaken)}
	switch f := result.Failure; {
	case f == nil:
	case f.Permanent && f.Reply.Code != 0 && !f.Reply.Stage.OfHost():
		reply := smtp.NewReply(550, "5.1.1", "%s is not known where its mail goes: %d %s", to.Display(), f.Reply.Code, f.Reply.Text)
		v = verdict{&reply, time.Now().Add(keepRefused)}
	default:
		return nil
	}
	e.verified.mu.Lock()
	defer e.verified.mu.Unlock()
	if e.verified.known == nil || len(e.verified.known) > maxVerified {
		e.verified.known = map[string]verdict{}
	}
	e.verified.known[to.Key()] = v
	return v.reply
}
