package report

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
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

type pair struct {
	dim   dim
	value string
}

// dim is the place of a dimension in Dims.
type dim int

const (
	byTotal dim = iota
	byDirection
	bySenderDomain
	bySender
	byClient
	byListener
	byAccount
	byRecipientDomain
	byRecipient
	byHost
	byRoute
	byCause
	byDelay
	dims
)

// Is reports whether the fact counts for a value of a dimension.
func (f Fact) Is(dim, value string) bool {
	return dim == Dims[byTotal] || slices.Contains(f.by, pair{dimOf(dim), value})
}

func dimOf(name string) dim { return dim(slices.Index(Dims, name)) }

// Of are the facts of something found and what happened to it. The database
// counts the same from its rows.
func Of(f *mail.Found, events []mail.Event) []Fact {
	if r := f.Refused; r != nil {
		fact := Fact{Kind: "rejected", At: r.At, Delay: -1}
		if r.Stage == diagnose.StageContent { // before, the size is what the client declared
			fact.Bytes = r.Size
		}
		fact.add(byDirection, "in")
		if r.Sender != "" || r.Stage == diagnose.StageSender ||
			r.Stage == diagnose.StageRecipient ||
			r.Stage == diagnose.StageContent {
			fact.addSender(r.Sender)
		}
		fact.add(byClient, r.ClientAddress)
		fact.add(byListener, r.Listener)
		fact.add(byAccount, strings.ToLower(r.Account))
		fact.addRecipient(r.Recipient)
		fact.add(byCause, string(r.Cause))
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
			end.Delay = max(
				0,
				int64(
					math.RoundToEven(float64(d.FinishedAt.Sub(f.ReceivedAt).Microseconds())/1000),
				),
			)
			end.addDelay()
			if len(d.Via) > 0 && domainOf(d.Recipient) != domainOf(d.Original) {
				end.Kind = "forwarded"
			}
		}
		end.addMessage(f)
		end.addRecipient(d.Recipient)
		end.addHost(d.Last)
		end.add(byRoute, d.Route)
		end.add(byCause, string(d.Cause))
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
		off.add(byRoute, word(e.Detail["route"]))
		off.add(byCause, word(e.Detail["cause"]))
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

func (f *Fact) add(dim dim, value string) {
	if f.by == nil {
		f.by = make([]pair, 0, dims)
	}
	if p := (pair{dim, value}); value != "" && !slices.Contains(f.by, p) {
		f.by = append(f.by, p)
	}
}

func (f *Fact) addMessage(m *mail.Found) {
	f.add(byDirection, m.Direction)
	f.addSender(m.Sender)
	f.add(byClient, m.ClientAddress)
	f.add(byListener, m.Listener)
	f.add(byAccount, strings.ToLower(m.Account))
}

func (f *Fact) addSender(sender string) {
	if sender == "" {
		f.add(bySender, "<>")
		f.add(bySenderDomain, "<>")
		return
	}
	f.add(bySender, strings.ToLower(sender))
	f.add(bySenderDomain, domainOf(sender))
}

// addDelay counts the delay by eighths of an octave.
func (f *Fact) addDelay() {
	eighth := int(math.Floor(8*math.Log(float64(f.Delay+1))/math.Ln2 + 1e-9))
	f.add(byDelay, strconv.Itoa(1000 + eighth)[1:]) // with leading zeros, for sorting
}

func (f *Fact) addRecipient(a string) {
	f.add(byRecipient, strings.ToLower(a))
	if a != "" {
		f.add(byRecipientDomain, domainOf(a))
	}
}

func (f *Fact) addHost(r *mail.LastReply) {
	if r != nil && r.Stage != diagnose.StageMailbox && r.Stage != diagnose.StageRoute {
		f.add(byHost, r.Host)
	}
}

// Count adds facts up by the hour.
type Count struct {
	places map[place]*[dims]map[string]int32 // where in sums the sum of a value is
	sums   []Sum
}

// place is what sums by all dimensions have in common.
type place struct {
	hour int64 // of Unix time
	kind string
}

// Add counts a fact.
func (c *Count) Add(f Fact) {
	if c.places == nil {
		c.places = map[place]*[dims]map[string]int32{}
	}
	at := place{f.At.Unix() / 3600, f.Kind}
	values := c.places[at]
	if values == nil {
		values = &[dims]map[string]int32{}
		c.places[at] = values
	}
	c.add(&f, values, pair{byTotal, ""})
	for _, p := range f.by {
		c.add(&f, values, p)
	}
}

func (c *Count) add(f *Fact, by *[dims]map[string]int32, p pair) {
	values := by[p.dim]
	if values == nil {
		values = map[string]int32{}
		by[p.dim] = values
	}
	i, ok := values[p.value]
	if !ok {
		i = int32(len(c.sums))
		values[p.value] = i
		c.sums = append(c.sums, Sum{Value: p.value, Kind: f.Kind})
	}
	s := &c.sums[i]
	s.N++
	s.Bytes += f.Bytes
	if f.Delay >= 0 {
		s.Delay += f.Delay
		s.DelayMax = max(s.DelayMax, f.Delay)
	}
}

// Len is how many sums there are.
func (c *Count) Len() int { return len(c.sums) }

// Reset forgets all sums and keeps the room for more.
func (c *Count) Reset() {
	clear(c.places)
	c.sums = c.sums[:0]
}

// Day is a day's sums by one dimension.
type Day struct {
	Dim string
	Day int64 // of Unix time
}

// Time is the beginning of the day.
func (d Day) Time() time.Time { return time.Unix(d.Day*86400, 0).UTC() }

// Pack writes all sums in a short form, for Unpack.
func (c *Count) Pack() map[Day][]byte {
	out := map[Day][]byte{}
	for at, by := range c.places {
		kind := byte(slices.Index(Kinds, at.kind))
		for dim, values := range by {
			if len(values) == 0 {
				continue
			}
			day := Day{Dims[dim], at.hour / 24}
			b := out[day]
			for value, i := range values {
				s := &c.sums[i]
				b = binary.AppendUvarint(b, uint64(at.hour))
				b = append(b, kind)
				b = binary.AppendUvarint(b, uint64(len(value)))
				b = append(b, value...)
				for _, v := range [...]int64{s.N, s.Bytes, s.Delay, s.DelayMax} {
					b = binary.AppendVarint(b, v)
				}
			}
			out[day] = b
		}
	}
	return out
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
	Text      string         `json:"text" doc:"The reply that was sent"`
	Cause     diagnose.Cause `json:"cause"`
}

// Question is one figure: what of, of which value, when.
type Question struct {
	Kind, Dim, Value string
	From, To         time.Time
	After            string // cursor
	Limit            int
}
