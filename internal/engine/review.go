package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/readiness"
	"gullroute/internal/core/review"
	"gullroute/internal/store"
)

// maxWithoutPassword bounds how many mailboxes without a password are looked for.
const maxWithoutPassword = 1000

// Review are the weaknesses of a configuration and of what is around it, worst
// first, with what was accepted.
func (e *Engine) Review(ctx context.Context, c *config.Compiled) ([]review.Weakness, error) {
	f, err := e.reviewFacts(ctx)
	if err != nil {
		return nil, err
	}
	accepted, err := e.Store.Accepted(ctx)
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

// ReviewDraft is the same of the draft, of what is in force if there is none.
func (e *Engine) ReviewDraft(ctx context.Context) ([]review.Weakness, error) {
	_, draft, err := e.compiledDraft(ctx)
	if errors.Is(err, ErrNoDraft) {
		draft, err = e.Config(), nil
	}
	if err != nil {
		return nil, err
	}
	return e.Review(ctx, draft)
}

func (e *Engine) reviewFacts(ctx context.Context) (review.Facts, error) {
	f := review.Facts{Now: time.Now(), Certificates: e.Receive.Shown(), ConsoleOpen: e.ConsoleInClear}
	var err error
	if f.Keys, err = e.Store.Keys.List(ctx, ""); err != nil {
		return f, err
	}
	if f.NoPassword, err = e.Store.WithoutPassword(ctx, maxWithoutPassword); err != nil {
		return f, err
	}
	if f.KeyFile, err = e.Store.KeepsSecrets(ctx); err != nil {
		return f, err
	}
	copied, err := e.Store.Replication(ctx)
	if err != nil {
		return f, err
	}
	f.Standbys, f.Synchronous = max(copied.Standbys, len(e.Store.Hosts())-1), copied.Synchronous
	now, err := e.Store.Now(ctx)
	if err != nil {
		return f, err
	}
	f.ClockOff = time.Since(now)
	var disk syscall.Statfs_t
	if syscall.Statfs(e.SpoolDir, &disk) == nil && disk.Blocks > 0 {
		f.Disks = append(f.Disks, review.Disk{What: "the disk of " + e.SpoolDir, Used: 1 - float64(disk.Bavail)/float64(disk.Blocks), Free: int64(disk.Bavail) * disk.Bsize})
	}
	looks, err := e.Store.AllReadiness(ctx)
	if err != nil {
		return f, err
	}
	f.NotReady = map[string]string{}
	for _, r := range looks {
		if e.Config().Domain(r.Domain) == nil {
			continue
		}
		for _, p := range r.Points {
			if p.Key == "ptr" && p.Result == readiness.Fail {
				f.NoReverse = e.Config().Service.Addresses
			}
			if p.Result == readiness.Fail && p.Weight >= 0.5 && p.Key != "dkim" && f.NotReady[r.Domain] == "" {
				f.NotReady[r.Domain] = fmt.Sprintf("%.1f of 10 at the last look: %s", r.Score, strings.TrimSuffix(p.Says, "."))
			}
		}
	}
	return f, nil
}

// Weakness is the one of a key, in the draft.
func (e *Engine) Weakness(ctx context.Context, key string) (review.Weakness, error) {
	list, err := e.ReviewDraft(ctx)
	if err != nil {
		return review.Weakness{}, err
	}
	i := slices.IndexFunc(list, func(w review.Weakness) bool { return w.Key == key })
	if i < 0 {
		return review.Weakness{}, store.ErrNotFound
	}
	return list[i], nil
}

// MendWeakness does what mends a weakness. What concerns the configuration goes into
// the draft; an alias counts at once.
func (e *Engine) MendWeakness(ctx context.Context, who, key string) (mail.Done, error) {
	w, err := e.Weakness(ctx, key)
	if err != nil {
		return mail.Done{}, err
	}
	m := w.Mend
	if m == nil {
		return mail.Done{}, refuse("key", "this is mended by hand: %s", w.ByHand)
	}
	if m.Section == "aliases" {
		return e.mendByAlias(ctx, who, m)
	}
	what, err := e.Edit(ctx, who, false, func(d *config.Document) (string, error) {
		words := strings.ToLower(m.Says[:1]) + m.Says[1:]
		if w.Where != "the server" {
			words = w.Where + ": " + words
		}
		if m.Remove {
			return words, d.Remove(section(m.Section), m.Name)
		}
		return words, d.Set(section(m.Section), m.Name, m.Fields, false)
	})
	if err != nil {
		return mail.Done{}, err
	}
	return mail.Done{Text: "In the draft now: " + what + "; rehearse and apply it (gull draft rehearse, gull draft apply)"}, nil
}

func (e *Engine) mendByAlias(ctx context.Context, who string, m *review.Remedy) (mail.Done, error) {
	a := &directory.Alias{About: "from the review of the settings"}
	var err error
	if a.Address, err = address.Parse(m.Name); err != nil {
		return mail.Done{}, err
	}
	for _, text := range words(m.Fields["to"]) {
		to, err := address.Parse(fmt.Sprint(text))
		if err != nil {
			return mail.Done{}, err
		}
		a.To = append(a.To, to)
	}
	if err := e.PutAlias(ctx, who, a, true, false); err != nil {
		return mail.Done{}, err
	}
	return mail.Done{Text: fmt.Sprintf("%s goes on to %s now", a.Address.Display(), a.To[0].Display())}, nil
}
