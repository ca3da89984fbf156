// Package sessions keeps what is not mail itself: sessions with their transcript, and
// what was refused before it became a message. It is written behind the mail, in
// groups; nothing waits for it, and what it must let fall it says.
package sessions

import (
	"context"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/batch"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
)

// Store is where records go; *store.Store is one.
type Store interface {
	Record(ctx context.Context, sessions []mail.SessionRecord, refusals []mail.Refusal) error
}

// Bounds: what waits to be written, and how often it is.
const (
	depth        = 20_000
	together     = 500
	writeEvery   = 100 * time.Millisecond
	writeTimeout = 20 * time.Second
)

// Options are what a recorder is made of.
type Options struct {
	Store Store
	Node  string
	IDs   *ident.Maker
	Hub   *feed.Hub
	Snags interface{ Refusal(*mail.Refusal) } // nil keeps none
	Tally *counters.Counters
	Log   *slog.Logger
}

// Recorder keeps records for a node.
type Recorder struct {
	Options
	items   chan item
	said    time.Time // that the database takes nothing; of the goroutine that writes
	lost    atomic.Int64
	watches atomic.Pointer[watches]

	mu   sync.Mutex
	open map[ident.ID]*Recording
	// ended are the sessions that have ended and are not yet on record.
	ended map[ident.ID]*mail.SessionRecord
}

type item struct {
	session *mail.SessionRecord
	refusal *mail.Refusal
}

// New makes a recorder; Run writes what it gets.
func New(o Options) *Recorder {
	r := &Recorder{
		Options: o,
		items:   make(chan item, depth),
		open:    map[ident.ID]*Recording{},
		ended:   map[ident.ID]*mail.SessionRecord{},
	}
	r.watches.Store(&watches{})
	return r
}

// Refuse records a refusal and tells it.
func (r *Recorder) Refuse(x mail.Refusal) {
	x.ID, x.Node = r.IDs.Next(), r.Node
	size := x.Size
	if x.Stage != diagnose.StageContent { // declared only
		size = 0
	}
	if !x.Probe {
		r.Tally.Add(counters.Rejected, size)
	}
	if r.Hub.Watched() {
		r.Hub.Publish(
			feed.Event{Event: mail.Event{
				At:   x.At,
				Kind: feed.EventRejected,
				Node: r.Node,
				Text: x.ClientAddress + " at " + x.Listener + ": " + x.Reply(),
				Detail: map[string]any{
					"refusal":    x.ID,
					"session_id": x.SessionID,
					"cause":      x.Cause,
					"stage":      x.Stage,
				},
			},
				Sender: x.Sender, Recipient: x.Recipient, Client: x.ClientAddress},
		)
	}
	if r.Snags != nil && !x.Probe {
		r.Snags.Refusal(&x)
	}
	r.put(item{refusal: &x})
}

func (r *Recorder) put(i item) {
	select {
	case r.items <- i:
	default:
		r.lost.Add(1)
		r.forget([]item{i})
	}
}

// forget ends that sessions are shown from memory.
func (r *Recorder) forget(group []item) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, i := range group {
		if i.session != nil {
			delete(r.ended, i.session.ID)
		}
	}
}

// Run writes until ctx ends, and then what is left.
func (r *Recorder) Run(ctx context.Context) {
	for {
		select {
		case first := <-r.items:
			r.write(ctx, r.gather(first))
		case <-ctx.Done():
			for len(r.items) > 0 {
				r.write(ctx, r.gather(<-r.items))
			}
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(writeEvery):
		}
	}
}

func (r *Recorder) gather(first item) []item {
	group := []item{first}
	for len(group) < together {
		select {
		case i := <-r.items:
			group = append(group, i)
		default:
			return group
		}
	}
	return group
}

// write records a group. While the database takes nothing it waits: what comes meanwhile
// stands behind it, up to depth, and what does not fit there is said to be missing.
func (r *Recorder) write(ctx context.Context, group []item) {
	defer r.forget(group)
	left, began := group, time.Now()
	for try := 0; ; try++ {
		var err error
		if left, err = batch.Write(left, r.writeAll, r.writeBare); err == nil {
			break
		}
		if try == 0 || time.Since(r.said) > time.Minute {
			r.said = time.Now()
			r.Log.Error("sessions and refusals could not be recorded; trying again",
				"items", len(left), "error", err)
		}
		if try >= 3 && ctx.Err() != nil { // the service stops
			r.lost.Add(int64(len(left)))
			break
		}
		time.Sleep(time.Second)
	}
	why := "they came faster than the database takes them"
	if took := time.Since(began); took > 2*time.Second {
		why = "the database took none for " + took.Round(time.Second).String()
	}
	if n := r.lost.Swap(0); n > 0 {
		r.Log.Error("sessions and refusals are missing from the record", "missing", n, "why", why)
		if r.Hub.Watched() {
			r.Hub.Publish(feed.Event{
				Event: mail.Event{
					At:     time.Now().UTC(),
					Kind:   feed.EventLost,
					Node:   r.Node,
					Text:   "sessions and refusals are missing from the record: " + why,
					Detail: map[string]any{"missing": n},
				},
			})
		}
	}
}

// writeAll records a group, all or none.
func (r *Recorder) writeAll(group []item) error {
	var sessions []mail.SessionRecord
	var refusals []mail.Refusal
	for _, i := range group {
		if i.session != nil {
			sessions = append(sessions, *i.session)
		} else {
			refusals = append(refusals, *i.refusal)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), writeTimeout)
	defer cancel()
	return r.Store.Record(ctx, sessions, refusals)
}

// writeBare records an item that the database refused without the words of
// strangers.
func (r *Recorder) writeBare(i item, why error) {
	r.Tally.Refuse("records")
	var id ident.ID
	if s := i.session; s != nil {
		id = s.ID
		bare := *s
		bare.Name, bare.Account, bare.TLS, bare.Ended = "", "", "", "the words of this session "+
			"could not be kept"
		i.session = &bare
	} else {
		id = i.refusal.ID
		bare := *i.refusal
		bare.Helo, bare.Account, bare.Sender, bare.Recipient, bare.Subject, bare.HeaderFrom,
			bare.MessageID = "", "", "", "", "", "", ""
		bare.Text = "the words of this refusal could not be kept"
		i.refusal = &bare
	}
	r.Log.Error("a session or refusal is refused by the database; it is recorded without its words",
		"id", id, "error", why)
	if err := r.writeAll([]item{i}); err != nil {
		r.lost.Add(1)
	}
}

// watches are whose sessions are recorded in full.
type watches struct {
	until    time.Time // of the last
	networks []netip.Prefix
	domains  []string
}

// SetWatches puts in force whose sessions are recorded in full.
func (r *Recorder) SetWatches(list []mail.Watch) {
	w := &watches{}
	for _, one := range list {
		if one.Until.After(w.until) {
			w.until = one.Until
		}
		if one.Kind == "domain" {
			w.domains = append(w.domains, strings.ToLower(one.What))
		} else if p, err := netip.ParsePrefix(one.What); err == nil {
			w.networks = append(w.networks, p.Masked())
		} else if a, err := netip.ParseAddr(one.What); err == nil {
			w.networks = append(w.networks, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	r.watches.Store(w)
}

func (w *watches) none(now time.Time) bool {
	return len(w.networks)+len(w.domains) == 0 || now.After(w.until)
}

func (w *watches) client(address string) bool {
	a, err := netip.ParseAddr(address)
	for _, n := range w.networks {
		if err == nil && n.Contains(a) {
			return true
		}
	}
	return false
}

// Open are the sessions that are open now.
func (r *Recorder) Open() []mail.Session {
	r.mu.Lock()
	books := make([]*Recording, 0, len(r.open))
	for _, b := range r.open {
		books = append(books, b)
	}
	r.mu.Unlock()
	out := make([]mail.Session, 0, len(books))
	for _, b := range books {
		out = append(out, b.Now().Session)
	}
	return out
}

// OpenOne is a session that is open now, with its transcript so far, or that has
// ended and is not yet on record; nil if there is none of that id here.
func (r *Recorder) OpenOne(id ident.ID) *mail.SessionRecord {
	r.mu.Lock()
	b, ended := r.open[id], r.ended[id]
	r.mu.Unlock()
	if b == nil {
		return ended
	}
	s := b.Now()
	return &s
}
