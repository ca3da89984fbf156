package report

import (
	"iter"
	"math"
	"time"

	"gullroute/internal/core/mail"
)

// Origin is what all facts of a message have in common.
type Origin struct {
	Direction, Sender, Client, Listener, Account string

	At   time.Time // when it was received
	Size int64

	Gates []string // that the message met
}

// OriginOf is a message's.
func OriginOf(m *mail.Message) Origin {
	return Origin{m.Direction, m.Sender, m.ClientAddress, m.Listener, m.Account, m.ReceivedAt, m.Size,
		m.Gates}
}

// Received is the fact that a message was received, for the recipients that its
// client named.
func (o *Origin) Received(originals iter.Seq[string]) Fact {
	f := Fact{Kind: "received", At: o.At, Bytes: o.Size, Delay: -1}
	f.addOrigin(o)
	for a := range originals {
		f.addRecipient(a)
	}
	for _, g := range o.Gates {
		f.add(byGate, g)
	}
	return f
}

// Ended is the fact that a delivery of it came to its end. Times are counted in
// microseconds, as they are kept.
func (o *Origin) Ended(d *mail.Delivery) Fact {
	f := Fact{Kind: string(d.State), At: d.FinishedAt.Time, Bytes: o.Size, Delay: -1, N: d.N}
	if d.State == mail.Delivered {
		took := d.FinishedAt.Truncate(time.Microsecond).Sub(o.At.Truncate(time.Microsecond))
		f.Delay = max(0, int64(math.RoundToEven(float64(took.Microseconds())/1000)))
		f.addDelay()
		if len(d.Via) > 0 && domainOf(d.Recipient) != domainOf(d.Original) {
			f.Kind = "forwarded"
		}
	}
	f.addOrigin(o)
	f.addRecipient(d.Recipient)
	f.addHost(d.Last)
	f.add(byRoute, d.Route)
	f.add(byCause, string(d.Cause))
	return f
}

// Deferred is the fact that an attempt was deferred, as its event tells; to is the
// recipient, where the event names none.
func (o *Origin) Deferred(to string, e *mail.Event) Fact {
	f := Fact{Kind: "deferred", At: e.At, Bytes: o.Size, Delay: -1, N: e.N}
	f.addOrigin(o)
	if named, _ := e.Detail["recipient"].(string); named != "" {
		to = named
	}
	f.addRecipient(to)
	if r, ok := e.Reply(); ok {
		f.addHost(&r)
	}
	f.add(byRoute, word(e.Detail["route"]))
	f.add(byCause, word(e.Detail["cause"]))
	return f
}
