// Package snags keeps troubles up to date as deliveries and refusals come in.
package snags

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
	"gullroute/internal/engine/batch"
	"gullroute/internal/engine/counters"
	"gullroute/internal/store"
)

// Bounds of what is kept in memory, and how often it is written.
const (
	writeEvery   = time.Second
	refreshEvery = 5 * time.Second
	maxSeen      = 5_000
	maxOpen      = 20_000
	maxTouched   = 20
)

// Store is where troubles are on record.
type Store interface {
	SeeSnags(ctx context.Context, seen []store.SnagSeen) error
	EndSnags(ctx context.Context, through map[snag.Place]time.Time) error
	OpenPlaces(ctx context.Context, limit int) ([]snag.Place, error)
	RefreshSnags(ctx context.Context, now time.Time, next func() ident.ID) error
}

// Keeper gathers what is seen on a node. It never holds up the mail: what cannot
// be kept is counted as missed.
type Keeper struct {
	store Store
	ids   *ident.Maker
	log   *slog.Logger
	tally *counters.Counters

	mu      sync.Mutex
	seen    map[key]*store.SnagSeen
	open    map[snag.Place]struct{} // places at which a message that gets through ends something
	through map[snag.Place]time.Time
	missed  int
}

type key struct {
	cause diagnose.Cause
	place snag.Place
}

// New makes a keeper; Run writes what it gathers.
func New(s Store, ids *ident.Maker, t *counters.Counters, log *slog.Logger) *Keeper {
	return &Keeper{
		store:   s,
		ids:     ids,
		tally:   t,
		log:     log,
		seen:    map[key]*store.SnagSeen{},
		open:    map[snag.Place]struct{}{},
		through: map[snag.Place]time.Time{},
	}
}

// Delivery takes the outcome of a delivery.
func (k *Keeper) Delivery(d *mail.Delivery, sender string, at time.Time) {
	if d.State == mail.Delivered {
		k.got(d, at)
		return
	}
	if x, ok := snag.OfDelivery(d, sender, at); ok {
		k.see(x)
	}
}

// Refusal takes a refusal.
func (k *Keeper) Refusal(r *mail.Refusal) {
	if x, ok := snag.OfRefusal(r); ok {
		k.see(x)
	}
}

// Ready takes what the readiness of a domain of ours lacks that it had.
func (k *Keeper) Ready(domain string, last mail.LastReply, at time.Time) {
	k.see(snag.Sighting{
		Cause:     diagnose.NotReady,
		Place:     snag.Place{Kind: snag.Domain, Name: domain},
		At:        at,
		Recipient: domain,
		Last:      last,
	})
}

// Ours takes a trouble on our own side: what it is with, and a sentence.
func (k *Keeper) Ours(with, text string, at time.Time) {
	k.see(snag.Sighting{
		Cause: diagnose.OurTrouble,
		Place: snag.Place{Kind: snag.Ourselves, Name: with},
		At:    at,
		Last:  mail.LastReply{Stage: diagnose.StageRoute, Text: text},
	})
}

// got notes that a message got through, if anything is open where it did.
func (k *Keeper) got(d *mail.Delivery, at time.Time) {
	recipient := strings.ToLower(d.Recipient)
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.open) == 0 {
		return
	}
	for _, p := range [...]snag.Place{{Kind: snag.NextHop, Name: d.NextHop}, {Kind: snag.Route,
		Name: d.Route}, {Kind: snag.Address, Name: recipient},
		{Kind: snag.Domain, Name: recipient[strings.LastIndexByte(recipient, '@')+1:]}} {
		if _, ok := k.open[p]; ok && k.through[p].Before(at) {
			k.through[p] = at
		}
	}
}

func (k *Keeper) see(x snag.Sighting) {
	id := key{x.Cause, x.Place}
	k.mu.Lock()
	defer k.mu.Unlock()
	s := k.seen[id]
	if s == nil {
		if len(k.seen) >= maxSeen {
			k.missed++
			return
		}
		s = &store.SnagSeen{
			ID:      k.ids.Next(),
			Cause:   x.Cause,
			Place:   x.Place,
			First:   x.At,
			Hours:   map[time.Time]int64{},
			Senders: []string{},
			Domains: []string{},
		}
		k.seen[id] = s
		if snag.EndsOnceThrough(x.Cause) && len(k.open) < maxOpen {
			k.open[x.Place] = struct{}{}
		}
	}
	s.N++
	s.Hours[x.At.UTC().Truncate(time.Hour)]++
	if x.Failed {
		s.Failed++
	}
	s.Last = x.At
	s.Senders = with(s.Senders, x.Sender)
	s.Domains = with(s.Domains, x.Recipient[strings.LastIndexByte(x.Recipient, '@')+1:])
	if x.Lane != 0 {
		s.Lanes = with(s.Lanes, x.Lane)
	}
	s.Evidence = snag.Evidence{
		MessageID: x.Message,
		SessionID: x.Session,
		Sender:    x.Sender,
		Recipient: x.Recipient,
		At:        x.At.UTC(),
		Last:      x.Last,
	}
	s.Evidence.Last.Tried = nil
	if x.Message != 0 {
		s.Evidence.DeliveryID = &mail.DeliveryID{Message: x.Message, N: x.N}
	}
}

// with adds one that is not there yet, up to a bound.
func with[T comparable](list []T, one T) []T {
	if len(list) >= maxTouched {
		return list
	}
	var none T
	for _, x := range list {
		if x == one {
			return list
		}
	}
	if one == none {
		return list
	}
	return append(list, one)
}

// Run writes until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	write := time.NewTicker(writeEvery)
	defer write.Stop()
	refresh := time.NewTicker(refreshEvery)
	defer refresh.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			_ = k.write(last)
			cancel()
			return
		case <-write.C:
			err = k.write(ctx)
		case now := <-refresh.C:
			err = k.refresh(ctx, now)
		}
		if err != nil && ctx.Err() == nil {
			k.log.Warn("snags could not be brought up to date yet", "error", err)
		}
	}
}

// UpToDate writes, counts and rates in one go what Run does in time.
func (k *Keeper) UpToDate(ctx context.Context, now time.Time) error {
	if err := k.write(ctx); err != nil {
		return err
	}
	return k.refresh(ctx, now)
}

// write puts what was gathered on record.
func (k *Keeper) write(ctx context.Context) error {
	k.mu.Lock()
	seen, through, missed := k.seen, k.through, k.missed
	k.seen, k.through, k.missed = map[key]*store.SnagSeen{}, map[snag.Place]time.Time{}, 0
	k.mu.Unlock()
	if missed > 0 {
		k.log.Warn("more troubles at the same time than are kept; some are not shown",
			"missed", missed)
	}
	list := make([]store.SnagSeen, 0, len(seen))
	for _, s := range seen {
		list = append(list, *s)
	}
	slices.SortFunc(
		list,
		func(a, b store.SnagSeen) int { return a.Last.Compare(b.Last) },
	) // what came last is what is so
	left, err := batch.Write(
		list,
		func(part []store.SnagSeen) error { return k.store.SeeSnags(ctx, part) },
		func(s store.SnagSeen, why error) {
			k.tally.Refuse("snags")
			k.log.Error("a trouble is refused by the database and not shown", "cause", s.Cause,
				"place", s.Place.Name, "error", why)
		},
	)
	seen = map[key]*store.SnagSeen{}
	for i := range left {
		seen[key{left[i].Cause, left[i].Place}] = &left[i]
	}
	if err == nil && len(through) > 0 {
		err = k.store.EndSnags(ctx, through)
	}
	if err != nil {
		k.putBack(seen, through)
	}
	return err
}

// putBack keeps for the next time what could not be written.
func (k *Keeper) putBack(seen map[key]*store.SnagSeen, through map[snag.Place]time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for id, s := range seen {
		if k.seen[id] == nil && len(k.seen) < maxSeen {
			k.seen[id] = s
		}
	}
	for p, at := range through {
		if k.through[p].Before(at) {
			k.through[p] = at
		}
	}
}

// refresh counts and rates, and learns what is open.
func (k *Keeper) refresh(ctx context.Context, now time.Time) error {
	if err := k.store.RefreshSnags(ctx, now.UTC(), k.ids.Next); err != nil {
		return err
	}
	places, err := k.store.OpenPlaces(ctx, maxOpen)
	if err != nil {
		return err
	}
	open := make(map[snag.Place]struct{}, len(places))
	for _, p := range places {
		open[p] = struct{}{}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for id := range k.seen {
		if snag.EndsOnceThrough(id.cause) {
			open[id.place] = struct{}{}
		}
	}
	k.open = open
	return nil
}
