// Package allowance counts what accounts and clients send under relay rules with
// limits: on this node at once, and with the other nodes through the database.
package allowance

import (
	"context"
	"fmt"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/store"
)

// Store keeps the counts; *store.Store is one.
type Store interface {
	AddSent(ctx context.Context, list []store.Sent) error
	SentSince(ctx context.Context, rule, holder string, since time.Time) ([]store.Sent, error)
}

// readEvery is how old what is known of other nodes may be.
const readEvery = 10 * time.Second

// Counter counts. It is safe for several goroutines.
type Counter struct {
	store Store

	mu    sync.Mutex
	known map[key]*counts
}

type key struct{ rule, holder string }

type counts struct {
	hours   map[time.Time]amount // as the database had them
	pending map[time.Time]amount // not there yet
	read    time.Time
	used    time.Time
}

type amount struct{ messages, recipients int64 }

// New makes a counter.
func New(s Store) *Counter { return &Counter{store: s, known: map[key]*counts{}} }

// of finds what is known of a holder, and reads it again if that is old.
func (c *Counter) of(ctx context.Context, k key, now time.Time) *counts {
	c.mu.Lock()
	n := c.known[k]
	if n == nil {
		n = &counts{hours: map[time.Time]amount{}, pending: map[time.Time]amount{}}
		c.known[k] = n
	}
	n.used = now
	old := now.Sub(n.read) > readEvery
	if old {
		n.read = now // one reads, the others need not wait
	}
	c.mu.Unlock()
	if !old {
		return n
	}
	list, err := c.store.SentSince(ctx, k.rule, k.holder, now.UTC().Truncate(24*time.Hour))
	if err != nil {
		return n // what is known counts on
	}
	c.mu.Lock()
	n.hours = map[time.Time]amount{}
	for _, s := range list {
		n.hours[s.Hour] = amount{s.Messages, s.Recipients}
	}
	c.mu.Unlock()
	return n
}

// sums are what a holder has sent in the running hour and day. mu is held.
func (n *counts) sums(now time.Time) (hour, day amount) {
	this := now.UTC().Truncate(time.Hour)
	today := now.UTC().Truncate(24 * time.Hour)
	for _, m := range []map[time.Time]amount{n.hours, n.pending} {
		for at, a := range m {
			if at.Equal(this) {
				hour.messages += a.messages
				hour.recipients += a.recipients
			}
			if !at.Before(today) {
				day.messages += a.messages
				day.recipients += a.recipients
			}
		}
	}
	return hour, day
}

// Left says what forbids one more recipient, "" if nothing does. recipients are
// those the message has already.
func (c *Counter) Left(ctx context.Context, rule, holder string, l config.RuleLimits, recipients int) string {
	now := time.Now()
	n := c.of(ctx, key{rule, holder}, now)
	c.mu.Lock()
	hour, day := n.sums(now)
	c.mu.Unlock()
	nextHour := now.UTC().Truncate(time.Hour).Add(time.Hour).Format("15:04 UTC")
	over := func(limit int, used int64, what, until string) string {
		if limit == 0 || used <= int64(limit) {
			return ""
		}
		return fmt.Sprintf("%s has sent its %d %s under rule %s; try again after %s", holder, limit, what, rule, until)
	}
	more := int64(recipients) + 1
	for _, why := range []string{
		over(l.MessagesPerHour, hour.messages+1, "messages of this hour", nextHour),
		over(l.RecipientsPerHour, hour.recipients+more, "recipients of this hour", nextHour),
		over(l.MessagesPerDay, day.messages+1, "messages of today", "midnight UTC"),
		over(l.RecipientsPerDay, day.recipients+more, "recipients of today", "midnight UTC"),
	} {
		if why != "" {
			return why
		}
	}
	return ""
}

// Words tell what is left of limits, for people; "" without any.
func (c *Counter) Words(ctx context.Context, rule, holder string, l config.RuleLimits) string {
	if l == (config.RuleLimits{}) {
		return ""
	}
	now := time.Now()
	n := c.of(ctx, key{rule, holder}, now)
	c.mu.Lock()
	hour, day := n.sums(now)
	c.mu.Unlock()
	text := ""
	for _, p := range []struct {
		limit int
		used  int64
		what  string
	}{{l.MessagesPerHour, hour.messages, "messages this hour"}, {l.RecipientsPerHour, hour.recipients, "recipients this hour"},
		{l.MessagesPerDay, day.messages, "messages today"}, {l.RecipientsPerDay, day.recipients, "recipients today"}} {
		if p.limit > 0 {
			if text != "" {
				text += ", "
			}
			text += fmt.Sprintf("%d of %d %s left", max(int64(p.limit)-p.used, 0), p.limit, p.what)
		}
	}
	return text
}

// Count adds a message that was taken.
func (c *Counter) Count(rule, holder string, recipients int) {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.known[key{rule, holder}]
	if n == nil {
		n = &counts{hours: map[time.Time]amount{}, pending: map[time.Time]amount{}}
		c.known[key{rule, holder}] = n
	}
	hour := now.UTC().Truncate(time.Hour)
	a := n.pending[hour]
	n.pending[hour] = amount{a.messages + 1, a.recipients + int64(recipients)}
	n.used = now
}

// Flush takes what was counted to the database, and forgets who has been silent
// for an hour.
func (c *Counter) Flush(ctx context.Context) error {
	now := time.Now()
	var list []store.Sent
	c.mu.Lock()
	for k, n := range c.known {
		for hour, a := range n.pending {
			list = append(list, store.Sent{Rule: k.rule, Holder: k.holder, Hour: hour, Messages: a.messages, Recipients: a.recipients})
		}
		if len(n.pending) == 0 && now.Sub(n.used) > time.Hour {
			delete(c.known, k)
		}
	}
	c.mu.Unlock()
	if err := c.store.AddSent(ctx, list); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range list {
		n := c.known[key{s.Rule, s.Holder}]
		move(n.pending, n.hours, s.Hour, amount{s.Messages, s.Recipients})
	}
	return nil
}

// move takes what was stored from the pending to the known.
func move(pending, known map[time.Time]amount, hour time.Time, a amount) {
	p, k := pending[hour], known[hour]
	known[hour] = amount{k.messages + a.messages, k.recipients + a.recipients}
	if p = (amount{p.messages - a.messages, p.recipients - a.recipients}); p == (amount{}) {
		delete(pending, hour)
		return
	}
	pending[hour] = p
}
