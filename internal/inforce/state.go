// Package inforce is what is in force on a node: the compiled configuration with its
// directory, what people have stopped, the keys that sign, the passwords for others. It is
// read by one pointer each, follows what was changed here or on another node, and applies
// it to what moves mail. It stands below control and insight and imports neither.
package inforce

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/repute"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/store"
)

// Queue is what moves accepted mail.
type Queue interface {
	Apply(c *config.Compiled)
	SetPauses(list []mail.Pause)
}

// Listeners take mail. Apply opens what can be opened and returns an error for the rest.
type Listeners interface {
	Apply(c *config.Compiled) error
	SetPauses(listeners map[string]bool, node bool)
	SetStopped(accounts map[string]address.Address)
}

// Options are what a state is made of.
type Options struct {
	Revisions store.Revisions
	Directory store.Directory
	Pauses    store.Pauses
	Lists     store.ListCopies
	// Reputation holds whom people spare or refuse.
	Reputation store.Reputation
	Queue      Queue
	Listeners  Listeners
	// Resolver is renewed with every configuration.
	Resolver *resolve.Current
	Node     string
	Log      *slog.Logger
}

// State is what is in force. Its getters may be called by several goroutines, and do not
// wait.
type State struct {
	Options
	cfg       atomic.Pointer[config.Compiled]
	confirmBy atomic.Pointer[time.Time]
	trouble   atomic.Pointer[string] // of the listeners
	pauses    atomic.Pointer[[]mail.Pause]
	pauseEnds atomic.Pointer[time.Time]
	standings atomic.Pointer[standings]
	applying  sync.Mutex // held while something is put in force
}

// New makes a state in which nothing is in force yet.
func New(o Options) *State { return &State{Options: o} }

// Start puts the latest revision in force. Without any it begins with an empty one, to be
// set up by a person.
func (s *State) Start(ctx context.Context) error {
	rev, err := s.Revisions.LatestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		first := store.NewRevision{Who: "gull serve", Why: "the first start", Text: emptyConfig()}
		if _, _, err = s.Revisions.AddRevision(ctx, first); err != nil {
			return err
		}
		rev, err = s.Revisions.LatestRevision(ctx)
	}
	if err != nil {
		return err
	}
	dir, err := s.Directory.LoadDirectory(ctx)
	if err != nil {
		return fmt.Errorf("directory: %w", err)
	}
	if err := s.take(ctx, rev, dir); err != nil {
		return err
	}
	if err := s.FollowStandings(ctx); err != nil {
		return err
	}
	return s.FollowPauses(ctx)
}

// emptyConfig is a server that nobody has set up yet.
func emptyConfig() string {
	name, err := os.Hostname()
	if _, bad := address.ParseDomain(name); err != nil || bad != nil {
		name = "localhost"
	}
	return fmt.Sprintf("service:\n  host_name: %s\n  postmaster: postmaster@%s\n", name, name)
}

// Config is the configuration in force, nil before Start.
func (s *State) Config() *config.Compiled { return s.cfg.Load() }

// ConfirmBy is when the revision in force goes back by itself; zero if it stays.
func (s *State) ConfirmBy() time.Time {
	if t := s.confirmBy.Load(); t != nil {
		return *t
	}
	return time.Time{}
}

// Confirmed notes that the revision in force stays.
func (s *State) Confirmed() { s.confirmBy.Store(nil) }

// Trouble is what keeps listeners from being open as they are configured, "" if nothing
// does.
func (s *State) Trouble() string {
	if t := s.trouble.Load(); t != nil {
		return *t
	}
	return ""
}

// FreshResolver asks DNS anew, whatever is in the cache.
func (s *State) FreshResolver() *resolve.Resolver {
	c := s.Config().Service
	return resolve.New(c.Resolvers, c.AddressFamily)
}

// take puts a revision in force on this node; without a directory the one in force stays.
// A listener that cannot be opened does not keep the rest from it.
func (s *State) take(ctx context.Context, rev mail.Revision, dir *directory.Directory) error {
	c, err := config.ParseStored([]byte(rev.Text))
	if err != nil {
		return fmt.Errorf("configuration revision %d: %w", rev.Number, err)
	}
	s.applying.Lock()
	defer s.applying.Unlock()
	now := s.Config()
	if dir == nil {
		dir = now.Directory
	}
	if now != nil && now.Revision > rev.Number {
		return nil // a later one is in force already
	}
	compiled := config.Compile(c, rev.Number, dir)
	if err := s.fill(ctx, compiled, now); err != nil {
		return err
	}
	s.apply(compiled)
	s.setConfirmBy(rev)
	return nil
}

// fill gives lists what was read from their sources: as it is in force, at the start as it
// is on record. A list must not be empty for a moment because a revision was applied.
func (s *State) fill(ctx context.Context, c, now *config.Compiled) error {
	if now != nil {
		c.CarryLists(now)
		return nil
	}
	for name, l := range c.Lists {
		if l.Source == "" {
			continue
		}
		copied, err := s.Lists.Copy(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return fmt.Errorf("list %s: %w", name, err)
		}
		if copied.Source == l.Source {
			l.Replace(copied.Entries)
		}
	}
	return nil
}

// apply lets everything go by a configuration. applying is held.
func (s *State) apply(c *config.Compiled) {
	s.cfg.Store(c)
	var standing []repute.Standing
	if x := s.standings.Load(); x != nil {
		standing = x.list
	}
	s.open(c, standing)
	s.Resolver.Store(resolve.New(c.Service.Resolvers, c.Service.AddressFamily))
	s.Queue.Apply(c)
	trouble := ""
	if err := s.Listeners.Apply(c); err != nil {
		trouble = err.Error()
		s.Log.Error("not all listeners are open", "error", err)
	}
	s.trouble.Store(&trouble)
}

func (s *State) setConfirmBy(rev mail.Revision) {
	var by *time.Time
	if !rev.ConfirmBy.IsZero() {
		by = &rev.ConfirmBy.Time
	}
	s.confirmBy.Store(by)
}

// FollowConfig puts the latest revision in force, if it is not already.
func (s *State) FollowConfig(ctx context.Context) error {
	rev, err := s.Revisions.LatestRevision(ctx)
	if err != nil {
		return err
	}
	if rev.Number == s.Config().Revision {
		s.setConfirmBy(rev)
		return nil
	}
	s.Log.Info("configuration applied", "revision", rev.Number, "who", rev.Who)
	return s.take(ctx, rev, nil)
}

// FollowDirectory reads changed mailboxes and aliases, or all of them without keys.
func (s *State) FollowDirectory(ctx context.Context, keys []string) error {
	if keys == nil {
		dir, err := s.Directory.LoadDirectory(ctx)
		if err != nil {
			return err
		}
		s.applying.Lock()
		defer s.applying.Unlock()
		s.Config().Directory.Become(dir)
		return nil
	}
	boxes, aliases, err := s.Directory.DirectoryEntries(ctx, keys)
	if err != nil {
		return err
	}
	dir := s.Config().Directory
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
