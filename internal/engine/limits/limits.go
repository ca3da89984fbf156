// Package limits counts what accounts and clients send under relay rules with
// limits: on this node immediately, and with the other nodes through the database.
package limits

import (
	"context"
	"fmt"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/relay"
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
	// flushing keeps what is read apart from what is being written: a sum read before
	// and put down after would leave out what was written.
	flushing sync.RWMutex

	mu    sync.Mutex
	known map[key]*counts
}

type key struct{ rule, holder string }

type counts struct {
	hours   map[time.Time]amount // as the database had them
	pending map[time.Time]amount // not there yet
	read    time.Time
	used    time.Time
	reading sync.Mutex
}

type amount struct{ messages, recipients, fresh, ended, bounced int64 }

// plus adds another, sign times.
func (a amount) plus(b amount, sign int64) amount {
	return amount{
		a.messages + sign*b.messages, a.recipients + sign*b.recipients, a.fresh + sign*b.fresh,
		a.ended + sign*b.ended, a.bounced + sign*b.bounced,
	}
}

func amountOf(s *store.Sent) amount {
	return amount{s.Messages, s.Recipients, s.Fresh, s.Ended, s.Bounced}
}

// endedFrom is from how many ended deliveries on a share of bounces is looked at.
const endedFrom = 20

// New makes a counter.
func New(s Store) *Counter { return &Counter{store: s, known: map[key]*counts{}} }

// of finds what is known of a holder, and reads it again if that is old. Who asks
// first waits until it is read; later one reads and the others go by what they have.
func (c *Counter) of(ctx context.Context, k key, now time.Time) *counts {
	c.mu.Lock()
	n := c.known[k]
	if n == nil {
		n = newCounts()
		c.known[k] = n
	}
	n.used = now
	first, old := n.read.IsZero(), now.Sub(n.read) > readEvery
	c.mu.Unlock()
	switch {
	case first:
		n.reading.Lock()
	case !old || !n.reading.TryLock():
		return n
	}
	defer n.reading.Unlock()
	c.mu.Lock()
	fresh := now.Sub(n.read) <= readEvery
	c.mu.Unlock()
	if fresh {
		return n
	}
	c.flushing.RLock()
	defer c.flushing.RUnlock()
	list, err := c.store.SentSince(ctx, k.rule, k.holder, now.UTC().Truncate(24*time.Hour))
	c.mu.Lock()
	defer c.mu.Unlock()
	if n.read = now; err != nil {
		return n // what is known counts on
	}
	n.hours = map[time.Time]amount{}
	for i := range list {
		n.hours[list[i].Hour] = amountOf(&list[i])
	}
	return n
}

func newCounts() *counts {
	return &counts{hours: map[time.Time]amount{}, pending: map[time.Time]amount{}}
}

// sums are what a holder has sent in the running hour and day. mu is held.
func (n *counts) sums(now time.Time) (hour, day amount) {
	this := now.UTC().Truncate(time.Hour)
	today := now.UTC().Truncate(24 * time.Hour)
	for _, m := range []map[time.Time]amount{n.hours, n.pending} {
		for at, a := range m {
			if at.Equal(this) {
				hour = hour.plus(a, 1)
			}
			if !at.Before(today) {
				day = day.plus(a, 1)
			}
		}
	}
	return hour, day
}

// Take counts one more recipient, the first of a message together with it, or says
// what forbids it. What is not sent after all is given back with GiveBack.
func (c *Counter) Take(
	ctx context.Context,
	rule, holder string,
	l config.RuleLimits,
	m relay.More,
) string {
	now := time.Now()
	n, ends := c.of(ctx, key{rule, holder}, now), c.ends(ctx, holder, l, now)
	more := amount{recipients: 1}
	if m.First {
		more.messages = 1
	}
	if m.Fresh {
		more.fresh = 1
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	why := n.forbids(rule, holder, l, more, now)
	if why == "" {
		why = ends.bounces(rule, holder, l, now)
	}
	if why == "" || m.Over {
		n.add(now, more)
	}
	return why
}

// Left says what would forbid a message to one recipient now, "" if nothing does.
func (c *Counter) Left(ctx context.Context, rule, holder string, l config.RuleLimits) string {
	now := time.Now()
	n, ends := c.of(ctx, key{rule, holder}, now), c.ends(ctx, holder, l, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if why := n.forbids(rule, holder, l, amount{messages: 1, recipients: 1}, now); why != "" {
		return why
	}
	return ends.bounces(rule, holder, l, now)
}

// ends is what is known of how a holder's deliveries ended; nil if its rule does not ask.
func (c *Counter) ends(
	ctx context.Context,
	holder string,
	l config.RuleLimits,
	now time.Time,
) *counts {
	if l.BouncesPercent == 0 {
		return nil
	}
	return c.of(ctx, key{"", holder}, now)
}

// bounces says that too much of what a holder sent came back. mu is held.
func (n *counts) bounces(rule, holder string, l config.RuleLimits, now time.Time) string {
	if n == nil {
		return ""
	}
	_, day := n.sums(now)
	if day.ended < endedFrom || day.bounced*100 < int64(l.BouncesPercent)*day.ended {
		return ""
	}
	return fmt.Sprintf("of %d recipients to whom %s sent today %d bounced, and rule %s allows less "+
		"than %d%%; try again after midnight UTC", day.ended, holder, day.bounced, rule, l.BouncesPercent)
}

// Ended counts that a delivery of what a holder sent came to its end.
func (c *Counter) Ended(holder string, bounced bool) {
	a := amount{ended: 1}
	if bounced {
		a.bounced = 1
	}
	c.put(key{"", holder}, a)
}

// put counts without asking what is known.
func (c *Counter) put(k key, a amount) {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.known[k]
	if n == nil {
		n = newCounts()
		c.known[k] = n
	}
	n.add(time.Now(), a)
}

// forbids says which limit more would pass, "" if none. mu is held.
func (n *counts) forbids(
	rule, holder string,
	l config.RuleLimits,
	more amount,
	now time.Time,
) string {
	hour, day := n.sums(now)
	nextHour := now.UTC().Truncate(time.Hour).Add(time.Hour).Format("15:04 UTC")
	for _, x := range []struct {
		limit       int
		used        int64
		what, until string
	}{
		{l.MessagesPerHour, hour.messages + more.messages, "messages of this hour", nextHour},
		{l.RecipientsPerHour, hour.recipients + more.recipients, "recipients of this hour",
			nextHour},
		{l.MessagesPerDay, day.messages + more.messages, "messages of today", "midnight UTC"},
		{l.RecipientsPerDay, day.recipients + more.recipients, "recipients of today",
			"midnight UTC"},
		{l.NewRecipientsPerDay, day.fresh + more.fresh, "new recipients of today", "midnight UTC"},
	} {
		if x.limit > 0 && x.used > int64(x.limit) {
			return fmt.Sprintf("%s has sent its %d %s under rule %s; try again after %s", holder,
				x.limit, x.what, rule, x.until)
		}
	}
	return ""
}

// add counts what is not in the database yet. mu is held.
func (n *counts) add(now time.Time, more amount) {
	hour := now.UTC().Truncate(time.Hour)
	n.pending[hour] = n.pending[hour].plus(more, 1)
	n.used = now
}

// Words tell what is left of limits, for people; "" without any.
func (c *Counter) Words(ctx context.Context, rule, holder string, l config.RuleLimits) string {
	if !l.Given() {
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
	}{{l.MessagesPerHour, hour.messages, "messages this hour"}, {l.RecipientsPerHour,
		hour.recipients, "recipients this hour"},
		{l.MessagesPerDay, day.messages, "messages today"}, {l.RecipientsPerDay, day.recipients,
			"recipients today"},
		{l.NewRecipientsPerDay, day.fresh, "new recipients today"}} {
		if p.limit > 0 {
			if text != "" {
				text += ", "
			}
			text += fmt.Sprintf("%d of %d %s left", max(int64(p.limit)-p.used, 0), p.limit, p.what)
		}
	}
	if ends := c.ends(ctx, holder, l, now); ends != nil {
		c.mu.Lock()
		_, day := ends.sums(now)
		c.mu.Unlock()
		if text != "" {
			text += ", "
		}
		text += fmt.Sprintf("%d of %d recipients bounced today (under %d%% allowed, from %d on)",
			day.bounced, day.ended, l.BouncesPercent, endedFrom)
	}
	return text
}

// GiveBack takes off what Take counted and was not sent.
func (c *Counter) GiveBack(rule, holder string, messages, recipients, fresh int) {
	c.put(key{rule, holder}, amount{messages: -int64(messages), recipients: -int64(recipients),
		fresh: -int64(fresh)})
}

// Forget begins anew with a holder: a person lets it go on.
func (c *Counter) Forget(holder string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for k := range c.known {
		if k.holder == holder {
			delete(c.known, k)
		}
	}
}

// Flush takes what was counted to the database, and forgets who has been silent
// for an hour.
func (c *Counter) Flush(ctx context.Context) error {
	now := time.Now()
	c.flushing.Lock()
	defer c.flushing.Unlock()
	var list []store.Sent
	c.mu.Lock()
	for k, n := range c.known {
		for hour, a := range n.pending {
			if a == (amount{}) {
				delete(n.pending, hour)
				continue
			}
			list = append(list, store.Sent{
				Rule:       k.rule,
				Holder:     k.holder,
				Hour:       hour,
				Messages:   a.messages,
				Recipients: a.recipients,
				Fresh:      a.fresh,
				Ended:      a.ended,
				Bounced:    a.bounced,
			})
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
	for i := range list {
		s := &list[i]
		n := c.known[key{s.Rule, s.Holder}]
		if n == nil { // it was let go on meanwhile
			continue
		}
		move(n.pending, n.hours, s.Hour, amountOf(s))
	}
	return nil
}

// move takes what was stored from the pending to the known.
func move(pending, known map[time.Time]amount, hour time.Time, a amount) {
	known[hour] = known[hour].plus(a, 1)
	p := pending[hour].plus(a, -1)
	if p == (amount{}) {
		delete(pending, hour)
		return
	}
	pending[hour] = p
}
