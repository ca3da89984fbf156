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
	maxHops      = 5_000 // places at which something got through, between two writes
)

// Store is where troubles are on record.
type Store interface {
	SeeSnags(ctx context.Context, seen []store.SnagSeen) error
	EndSnags(ctx context.Context, through map[snag.Place]time.Time) error
	OpenPlaces(ctx context.Context, limit int) ([]snag.Place, error)
	RefreshSnags(ctx context.Context, now time.Time, next func() ident.ID) error
	EndReached(ctx context.Context, at map[string]time.Time) error
	AddSuccesses(ctx context.Context, n map[store.SuccessKey]int64) error
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
	// reached are next hops that answered a message, if one could not be reached.
	reached map[string]time.Time
	// successes are what got through since they were last written.
	successes map[store.SuccessKey]int64
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

		reached:   map[string]time.Time{},
		successes: map[store.SuccessKey]int64{},
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
		k.answered(d, at)
	}
}

// answered notes that a host answered a message, if it is in trouble: it was reached.
func (k *Keeper) answered(d *mail.Delivery, at time.Time) {
	if d.Last == nil || d.Last.Code == 0 || d.Last.Stage.OfHost() {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, ok := k.open[snag.Place{Kind: snag.NextHop, Name: d.NextHop}]; ok {
		k.reached[d.NextHop] = at
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

// Domain takes a trouble of a domain of ours that no message has: it is over soon after nobody
// tells of it any more.
func (k *Keeper) Domain(c diagnose.Cause, domain, text string, at time.Time) {
	k.see(snag.Sighting{
		Cause:     c,
		Place:     snag.Place{Kind: snag.Domain, Name: domain},
		At:        at,
		Recipient: domain,
		Last:      mail.LastReply{Stage: diagnose.StageRoute, Text: text},
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
	if d.NextHop != "local" {
		k.count(d, at)
	}
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

// count adds a message to what got through, at as many places as are kept.
func (k *Keeper) count(d *mail.Delivery, at time.Time) {
	id := store.SuccessKey{
		At: at.UTC().Truncate(store.SuccessStep), NextHop: d.NextHop, Route: d.Route,
		IPv6: d.Last != nil && strings.Count(d.Last.Address, ":") > 1,
	}
	if _, ok := k.successes[id]; ok || len(k.successes) < maxHops {
		k.successes[id]++
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
	reached := k.reached
	k.reached = map[string]time.Time{}
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
	if err == nil && len(reached) > 0 {
		err = k.store.EndReached(ctx, reached)
	}
	if err != nil {
		k.putBack(seen, through)
		k.mu.Lock()
		for hop, at := range reached {
			if k.reached[hop].Before(at) {
				k.reached[hop] = at
			}
		}
		k.mu.Unlock()
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
	for id := range k.seen {
		if snag.EndsOnceThrough(id.cause) {
			open[id.place] = struct{}{}
		}
	}
	k.open = open
	successes := k.successes
	k.successes = map[store.SuccessKey]int64{}
	k.mu.Unlock()
	if err = k.store.AddSuccesses(ctx, successes); err != nil {
		k.keepSuccesses(successes)
	}
	return err
}

// keepSuccesses puts back for the next time what could not be written.
func (k *Keeper) keepSuccesses(successes map[store.SuccessKey]int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for id, n := range successes {
		if len(k.successes) < maxHops {
			k.successes[id] += n
		}
	}
}
