package deliver

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// How long a next hop's word on a recipient counts.
const (
	keepTaken   = time.Hour
	keepRefused = 10 * time.Minute
	maxVerified = 50_000
)

// Current opens connections by the configuration in force.
type Current struct{ atomic.Pointer[Client] }

// Recipients asks next hops whether they know recipients, and keeps what they said for as
// long as the revision lasts under which it was asked. It is safe for several goroutines.
type Recipients struct {
	// Client opens connections by the configuration in force.
	Client *Current

	mu       sync.Mutex
	revision int
	known    map[string]verdict
}

type verdict struct {
	reply *smtp.Reply
	until time.Time
}

// Verify asks the next hop of a relay domain about a recipient, and returns the reply that
// refuses it. Trouble on the way lets it pass: the message will wait in the queue, as it
// would anyway.
func (r *Recipients) Verify(
	ctx context.Context,
	c *config.Compiled,
	to address.Address,
) *smtp.Reply {
	if v, ok := r.of(c.Revision, to); ok {
		return v.reply
	}
	by := c.Route(c.Domain(to.Domain).Route)
	if by == nil {
		return nil
	}
	result := r.Client.Load().Verify(ctx, by, route.NextHop(by, to), to)
	v := verdict{until: time.Now().Add(keepTaken)}
	switch f := result.Failure; {
	case f == nil:
	case f.Permanent && f.Reply.Code != 0 && !f.Reply.Stage.OfHost():
		reply := smtp.NewReply(550, "5.1.1", "%s is not known where its mail goes: %d %s",
			to.Display(), f.Reply.Code, f.Reply.Text)
		v = verdict{&reply, time.Now().Add(keepRefused)}
	default:
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.revision == c.Revision && len(r.known) < maxVerified {
		r.known[to.Key()] = v
	}
	return v.reply
}

// of is what is known of a recipient under a revision. With a later revision, or when too
// many are known, all is forgotten.
func (r *Recipients) of(revision int, to address.Address) (verdict, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil || revision > r.revision || len(r.known) >= maxVerified {
		r.known, r.revision = map[string]verdict{}, revision
	}
	v, ok := r.known[to.Key()]
	return v, ok && revision == r.revision && time.Now().Before(v.until)
}
