package insight

import (
	"context"
	"errors"
	"fmt"
	"gullroute/internal/core/machine"
	"strings"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/readiness"
	"gullroute/internal/core/review"
	"gullroute/internal/engine/receive"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// The usual volume is learned from so many days, and from so many accounts.
const (
	volumeDays = 30
	maxBusiest = 1000
)

// maxWithoutPassword bounds how many mailboxes without a password are looked for.
const maxWithoutPassword = 1000

// Reviewer finds what is weak in the settings and around them.
type Reviewer struct {
	DB        *store.DB
	Directory store.Directory
	Findings  store.Findings
	Counts    store.Counts
	Keys      store.Keys
	Lists     store.ListCopies
	Revisions store.Revisions
	Readiness store.Readiness
	Secrets   store.Secrets
	InForce   *inforce.State
	Receive   *receive.Server
	SpoolDir  string
	// ConsoleOpen says that the console listens on the network without TLS.
	ConsoleOpen bool
	// ToLookAt are checks of the machine that somebody should look at.
	ToLookAt func() []machine.Examined
}

// Review are the findings of a configuration and of what is around it, worst
// first, with what was accepted.
func (s *Reviewer) Review(ctx context.Context, c *config.Compiled) ([]review.Finding, error) {
	f, err := s.facts(ctx)
	if err != nil {
		return nil, err
	}
	accepted, err := s.Findings.Accepted(ctx)
	if err != nil {
		return nil, err
	}
	list := review.Of(c, f)
	for i := range list {
		if a, ok := accepted[list[i].Key]; ok {
			list[i].Accepted = &a
		}
	}
	return list, nil
}

func (s *Reviewer) facts(ctx context.Context) (review.Facts, error) {
	f := review.Facts{Now: time.Now(), Certificates: s.Receive.Shown(), ConsoleOpen: s.ConsoleOpen}
	var err error
	if f.Keys, err = s.Keys.List(ctx, ""); err != nil {
		return f, err
	}
	if f.NoPassword, err = s.Directory.WithoutPassword(ctx, maxWithoutPassword); err != nil {
		return f, err
	}
	if f.Unused, err = s.Directory.UnusedSince(ctx, f.Now.Add(-review.UnusedAfter),
		maxWithoutPassword); err != nil {
		return f, err
	}
	if f.KeyFile, err = s.Secrets.KeepsSecrets(ctx); err != nil {
		return f, err
	}
	copied, err := s.DB.Replication(ctx)
	if err != nil {
		return f, err
	}
	f.Standbys, f.Synchronous = max(copied.Standbys, len(s.DB.Hosts())-1), copied.Synchronous
	now, err := s.DB.Now(ctx)
	if err != nil {
		return f, err
	}
	f.ClockOff = time.Since(now)
	if d, ok := diskOf(s.SpoolDir); ok {
		f.Disks = append(f.Disks, d)
	}
	if s.ToLookAt != nil {
		f.Machine = s.ToLookAt()
	}
	looks, err := s.Readiness.AllReadiness(ctx)
	if err != nil {
		return f, err
	}
	f.NotReady = map[string]string{}
	for _, r := range looks {
		if s.InForce.Config().Domain(r.Domain) == nil {
			continue
		}
		for _, p := range r.Points {
			if p.Key == "ptr" && p.Result == readiness.Fail {
				f.NoReverse = s.InForce.Config().Service.Addresses
			}
			if p.Result == readiness.Fail && p.Weight >= 0.5 && p.Key != "dkim" &&
				f.NotReady[r.Domain] == "" {
				f.NotReady[r.Domain] = fmt.Sprintf("%.1f of 10 at the last look: %s", r.Score,
					strings.TrimSuffix(p.Says, "."))
			}
		}
	}
	since := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, -volumeDays)
	if f.Busiest, f.Days, err = s.Counts.Busiest(ctx, since, maxBusiest); err != nil {
		return f, err
	}
	return f, s.gateFacts(ctx, &f)
}

// gateFacts are which lists' sources bring nothing, and which gates have only watched for
// long.
func (s *Reviewer) gateFacts(ctx context.Context, f *review.Facts) error {
	copies, err := s.Lists.Copies(ctx, false)
	if err != nil {
		return err
	}
	f.DeadLists = map[string]string{}
	for _, c := range copies {
		if c.TroubleAt != nil && f.Now.Sub(*c.TroubleAt) > listDeadAfter {
			f.DeadLists[c.List] = fmt.Sprintf("%s, since %s", c.Trouble,
				c.TroubleAt.UTC().Format("2006-01-02 15:04"))
		}
	}
	before, err := s.Revisions.InForceAt(ctx, f.Now.Add(-watchForgotten))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	old, err := config.ParseStored([]byte(before.Text))
	if err != nil {
		return nil // it was in force all the same; of its gates nothing is known
	}
	for _, g := range old.Gates {
		if g.Watch {
			f.WatchedBefore = append(f.WatchedBefore, g.Name)
		}
	}
	return nil
}

// A source is dead after so long without a good look, and a gate forgotten that watches.
const (
	listDeadAfter  = 24 * time.Hour
	watchForgotten = 30 * 24 * time.Hour
)

// Accept leaves a finding as it is, for a reason.
func (s *Reviewer) Accept(ctx context.Context, who, key, because string) error {
	return s.Findings.Accept(ctx, who, key, because)
}

// Reopen takes an acceptance back.
func (s *Reviewer) Reopen(ctx context.Context, who, key string) error {
	return s.Findings.Reopen(ctx, who, key)
}
