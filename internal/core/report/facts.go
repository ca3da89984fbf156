package report

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// Fact is one thing that is counted, and what it is counted by.
type Fact struct {
	Kind  string
	At    time.Time
	Bytes int64
	Delay int64 // milliseconds; -1 if it has none
	N     int16 // of the delivery; 0 for the whole message
	by    []pair
}

type pair struct{ dim, value string }

// Is reports whether the fact counts for a value of a dimension.
func (f Fact) Is(dim, value string) bool {
	return dim == "total" || slices.Contains(f.by, pair{dim, value})
}

// Of are the facts of something found and what happened to it. The database
// counts the same from its rows.
func Of(f *mail.Found, events []mail.Event) []Fact {
	if r := f.Refused; r != nil {
		fact := Fact{Kind: "rejected", At: r.At, Bytes: r.Size, Delay: -1}
		fact.add("direction", "in")
		if r.Sender != "" || r.Stage == diagnose.StageSender || r.Stage == diagnose.StageRecipient || r.Stage == diagnose.StageContent {
			fact.addSender(r.Sender)
		}
		fact.add("client", r.ClientAddress)
		fact.add("listener", r.Listener)
		fact.add("account", strings.ToLower(r.Account))
		fact.addRecipient(r.Recipient)
		fact.add("cause", string(r.Cause))
		return []Fact{fact}
	}
	got := Fact{Kind: "received", At: f.ReceivedAt, Bytes: f.Size, Delay: -1}
	got.addMessage(f)
	for i := range f.Deliveries {
		got.addRecipient(f.Deliveries[i].Original)
	}
	out := []Fact{got}
	for i := range f.Deliveries {
		d := &f.Deliveries[i]
		if !d.State.Final() {
			continue
		}
		end := Fact{Kind: string(d.State), At: d.FinishedAt.Time, Bytes: f.Size, Delay: -1, N: d.N}
		if d.State == mail.Delivered {
			end.Delay = max(0, int64(math.RoundToEven(float64(d.FinishedAt.Sub(f.ReceivedAt).Microseconds())/1000)))
			end.addDelay()
			if len(d.Via) > 0 && domainOf(d.Recipient) != domainOf(d.Original) {
				end.Kind = "forwarded"
			}
		}
		end.addMessage(f)
		end.addRecipient(d.Recipient)
		end.addHost(d.Last)
		end.add("route", d.Route)
		end.add("cause", string(d.Cause))
		out = append(out, end)
	}
	for i := range events {
		e := &events[i]
		if e.Kind != mail.EventDeferred {
			continue
		}
		off := Fact{Kind: "deferred", At: e.At, Bytes: f.Size, Delay: -1, N: e.N}
		off.addMessage(f)
		to, _ := e.Detail["recipient"].(string)
		for k := range f.Deliveries {
			if to == "" && f.Deliveries[k].N == e.N {
				to = f.Deliveries[k].Recipient
			}
		}
		off.addRecipient(to)
		if r, ok := e.Reply(); ok {
			off.addHost(&r)
		}
		off.add("route", word(e.Detail["route"]))
		off.add("cause", word(e.Detail["cause"]))
		out = append(out, off)
	}
	return out
}

func word(v any) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}

func domainOf(a string) string {
	a = strings.ToLower(a)
	return a[strings.LastIndexByte(a, '@')+1:]
}

func (f *Fact) add(dim, value string) {
	if p := (pair{dim, value}); value != "" && !slices.Contains(f.by, p) {
		f.by = append(f.by, p)
	}
}

func (f *Fact) addMessage(m *mail.Found) {
	f.add("direction", m.Direction)
	f.addSender(m.Sender)
	f.add("client", m.ClientAddress)
	f.add("listener", m.Listener)
	f.add("account", strings.ToLower(m.Account))
}

func (f *Fact) addSender(sender string) {
	if sender == "" {
		f.add("sender", "<>")
		f.add("sender_domain", "<>")
		return
	}
	f.add("sender", strings.ToLower(sender))
	f.add("sender_domain", domainOf(sender))
}

// addDelay counts the delay by eighths of an octave.
func (f *Fact) addDelay() {
	f.add("delay", fmt.Sprintf("%03d", int(math.Floor(8*math.Log(float64(f.Delay+1))/math.Ln2+1e-9))))
}

func (f *Fact) addRecipient(a string) {
	f.add("recipient", strings.ToLower(a))
	if a != "" {
		f.add("recipient_domain", domainOf(a))
	}
}

func (f *Fact) addHost(r *mail.LastReply) {
	if r != nil && r.Stage != diagnose.StageMailbox && r.Stage != diagnose.StageRoute {
		f.add("host", r.Host)
	}
}

// Count adds facts up by the hour.
type Count struct{ sums map[Key]*Sum }

// Key is what one sum is for.
type Key struct {
	Hour             int64 // of Unix time
	Dim, Value, Kind string
}

// Time is the beginning of the hour.
func (k Key) Time() time.Time { return time.Unix(k.Hour*3600, 0).UTC() }

// Add counts a fact.
func (c *Count) Add(f Fact) {
	if c.sums == nil {
		c.sums = map[Key]*Sum{}
	}
	c.add(f, pair{"total", ""})
	for _, p := range f.by {
		c.add(f, p)
	}
}

func (c *Count) add(f Fact, p pair) {
	key := Key{f.At.Unix() / 3600, p.dim, p.value, f.Kind}
	s := c.sums[key]
	if s == nil {
		s = &Sum{Value: p.value, Kind: f.Kind}
		c.sums[key] = s
	}
	s.N++
	s.Bytes += f.Bytes
	if f.Delay >= 0 {
		s.Delay += f.Delay
		s.DelayMax = max(s.DelayMax, f.Delay)
	}
}

// Each goes through all sums.
func (c *Count) Each(visit func(Key, Sum)) {
	for k, s := range c.sums {
		visit(k, *s)
	}
}

// Len is how many sums there are.
func (c *Count) Len() int { return len(c.sums) }

// Pack writes sums in a short form, for Unpack.
func Pack(keys []Key, sums []Sum) []byte {
	var b []byte
	for i, k := range keys {
		b = binary.AppendUvarint(b, uint64(k.Hour))
		b = append(b, byte(slices.Index(Kinds, k.Kind)))
		b = binary.AppendUvarint(b, uint64(len(k.Value)))
		b = append(b, k.Value...)
		for _, v := range []int64{sums[i].N, sums[i].Bytes, sums[i].Delay, sums[i].DelayMax} {
			b = binary.AppendVarint(b, v)
		}
	}
	return b
}

// ErrDamaged reports sums that cannot be read.
var ErrDamaged = errors.New("the counts on record are damaged")

// Unpack reads what Pack wrote.
func Unpack(b []byte, visit func(hour int64, s Sum)) error {
	for len(b) > 0 {
		hour, n := binary.Uvarint(b)
		if n <= 0 || len(b) < n+2 || int(b[n]) >= len(Kinds) {
			return ErrDamaged
		}
		s := Sum{Kind: Kinds[b[n]]}
		b = b[n+1:]
		size, n := binary.Uvarint(b)
		if n <= 0 || uint64(len(b)-n) < size {
			return ErrDamaged
		}
		s.Value = string(b[n : n+int(size)])
		b = b[n+int(size):]
		for _, v := range []*int64{&s.N, &s.Bytes, &s.Delay, &s.DelayMax} {
			if *v, n = binary.Varint(b); n <= 0 {
				return ErrDamaged
			}
			b = b[n:]
		}
		visit(int64(hour), s)
	}
	return nil
}

// Behind is one of the things behind a figure.
type Behind struct {
	At        time.Time      `json:"at"`
	Kind      string         `json:"kind"`
	MessageID string         `json:"message_id,omitempty"`
	Delivery  string         `json:"delivery_id,omitempty"`
	RefusalID string         `json:"refusal_id,omitempty"`
	SessionID string         `json:"session_id,omitempty"`
	Sender    string         `json:"sender"`
	Recipient string         `json:"recipient"`
	Subject   string         `json:"subject"`
	Size      int64          `json:"size"`
	Text      string         `json:"text" doc:"What was answered"`
	Cause     diagnose.Cause `json:"cause"`
}

// Question is one figure: what of, of which value, when.
type Question struct {
	Kind, Dim, Value string
	From, To         time.Time
	After            string // cursor
	Limit            int
}
