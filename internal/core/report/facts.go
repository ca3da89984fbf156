package report

import (
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
	byGate
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
		fact.add(byGate, r.Gate)
		return []Fact{fact}
	}
	from := OriginOf(&f.Message)
	out := []Fact{from.Received(func(yield func(string) bool) {
		for i := range f.Deliveries {
			if !yield(f.Deliveries[i].Original) {
				return
			}
		}
	})}
	for i := range f.Deliveries {
		if d := &f.Deliveries[i]; d.State.Final() {
			out = append(out, from.Ended(d))
		}
	}
	for i := range events {
		e := &events[i]
		if e.Kind != mail.EventDeferred {
			continue
		}
		to := ""
		for k := range f.Deliveries {
			if f.Deliveries[k].N == e.N {
				to = f.Deliveries[k].Recipient
			}
		}
		out = append(out, from.Deferred(to, e))
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

func (f *Fact) addOrigin(o *Origin) {
	f.add(byDirection, o.Direction)
	f.addSender(o.Sender)
	f.add(byClient, o.Client)
	f.add(byListener, o.Listener)
	f.add(byAccount, strings.ToLower(o.Account))
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
