// Package feed passes on what happens, as it happens, to those who watch.
package feed

import (
	"context"
	"sync"

	"gullroute/internal/core/mail"
)

// Event is one thing to show: what happened to a message, or that a lane
// changed.
type Event struct {
	mail.Event
	Sender    string     `json:"sender,omitempty"`
	Recipient string     `json:"recipient,omitempty"`
	State     mail.State `json:"state,omitempty"`
	Lane      string     `json:"lane,omitempty"`
	Client    string     `json:"client,omitempty"`
}

// EventLane tells that a lane changed its state.
const EventLane mail.Kind = "lane"

// EventRejected tells that something was refused before it became a message.
const EventRejected mail.Kind = "rejected"

// EventLost tells that a watcher was too slow and how many events it missed.
const EventLost mail.Kind = "lost"

// depth is how many events wait for one watcher.
const depth = 1024

// Hub passes events on. A slow watcher misses events and is told so; it never
// holds up the mail.
type Hub struct {
	mu       sync.RWMutex
	watchers map[*Watcher]struct{}
	// First hears of it when somebody begins to watch all nodes.
	First chan struct{}
}

// Watcher gets events from C until it is closed.
type Watcher struct {
	C    chan Event
	hub  *Hub
	all  bool // of other nodes too
	mu   sync.Mutex
	lost int
}

// NewHub makes a hub without watchers.
func NewHub() *Hub { return &Hub{watchers: map[*Watcher]struct{}{}, First: make(chan struct{}, 1)} }

// Watch adds a watcher of what happens on this node.
func (h *Hub) Watch() *Watcher { return h.watch(false) }

// WatchAll adds a watcher of what happens on any node.
func (h *Hub) WatchAll() *Watcher {
	defer func() {
		select {
		case h.First <- struct{}{}:
		default:
		}
	}()
	return h.watch(true)
}

func (h *Hub) watch(all bool) *Watcher {
	w := &Watcher{C: make(chan Event, depth), hub: h, all: all}
	h.mu.Lock()
	h.watchers[w] = struct{}{}
	h.mu.Unlock()
	return w
}

// Follow gives what happens on this node to somebody until ctx ends, with how many events were
// missed before it.
func (h *Hub) Follow(ctx context.Context, do func(e Event, lost int)) {
	w := h.Watch()
	defer w.Close()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-w.C:
			do(e, w.Lost())
		}
	}
}

// Named are an event's particulars by name, those that there are.
func (e *Event) Named() (list [][2]string) {
	message := ""
	if e.MessageID != 0 {
		message = e.MessageID.String()
	}
	for _, p := range [...][2]string{{"message", message}, {"delivery", e.Delivery},
		{"sender", e.Sender}, {"recipient", e.Recipient}, {"state", string(e.State)},
		{"client", e.Client}, {"lane", e.Lane}} {
		if p[1] != "" && p[1] != "0000000000000" {
			list = append(list, p)
		}
	}
	return list
}

// Close ends the watching.
func (w *Watcher) Close() {
	w.hub.mu.Lock()
	delete(w.hub.watchers, w)
	w.hub.mu.Unlock()
}

// Lost is how many events were missed since it was last asked.
func (w *Watcher) Lost() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	n := w.lost
	w.lost = 0
	return n
}

// Watched reports whether anybody watches.
func (h *Hub) Watched() bool {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return len(h.watchers) > 0
}

// AllWatched reports whether anybody watches all nodes.
func (h *Hub) AllWatched() bool {
	h.mu.RLock()
	defer h.mu.RUnlock()
	for w := range h.watchers {
		if w.all {
			return true
		}
	}
	return false
}

// Publish passes an event of this node on and never waits.
func (h *Hub) Publish(e Event) { h.pass(e, false) }

// PassOn passes on an event of another node.
func (h *Hub) PassOn(e Event) { h.pass(e, true) }

func (h *Hub) pass(e Event, foreign bool) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	for w := range h.watchers {
		if foreign && !w.all {
			continue
		}
		select {
		case w.C <- e:
		default:
			w.mu.Lock()
			w.lost++
			w.mu.Unlock()
		}
	}
}
