package weigh

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/repute"
)

// How lists are looked after.
const (
	checkEvery = 10 * time.Minute // whether a list still is one
	deadEvery  = time.Minute      // the same of one that was taken out
	maxSilent  = 3                // questions without an answer until it is taken out
)

// health is how a list does.
type health struct {
	checking sync.Mutex // held while its test entries are asked for

	mu      sync.Mutex
	checked time.Time
	why     string // it is not asked
	since   time.Time
	silent  int
	asked   time.Time
}

func healthKey(l *repute.DNSList) string {
	return l.Name + " " + string(l.Zone) + " " + strings.Join(l.Asks, ",")
}

func (w *Weigher) healthOf(l *repute.DNSList) *health {
	key := healthKey(l)
	w.mu.RLock()
	h := w.lists[key]
	w.mu.RUnlock()
	if h != nil {
		return h
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.lists[key] == nil {
		w.lists[key] = &health{}
	}
	return w.lists[key]
}

// fit reports a list that was found to be one.
func (h *health) fit() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return !h.checked.IsZero() && h.why == ""
}

func (h *health) due(now time.Time) bool {
	every := checkEvery
	if h.why != "" {
		every = deadEvery
	}
	return h.checked.IsZero() || now.Sub(h.checked) > every
}

// check says why a list is not asked, "" if it is. Whoever asks first of all waits until its
// test entries are known; again is for the round that looks after it.
func (h *health) check(ctx context.Context, w *Weigher, l *repute.DNSList, again bool) string {
	h.mu.Lock()
	known, due := !h.checked.IsZero(), h.due(time.Now())
	why := h.why
	h.asked = time.Now()
	h.mu.Unlock()
	if known && !(again && due) {
		return why
	}
	h.checking.Lock()
	defer h.checking.Unlock()
	h.mu.Lock()
	known, due, why = !h.checked.IsZero(), h.due(time.Now()), h.why
	h.mu.Unlock()
	if known && !(again && due) {
		return why
	}
	why, err := w.test(ctx, l)
	if err != nil {
		if ctx.Err() != nil && !known {
			return "it was not asked: " + err.Error() // nobody knows yet
		}
		why = "it does not answer: " + err.Error()
	}
	h.set(w, l, why)
	return why
}

// set notes why a list is not asked, and tells of it once.
func (h *health) set(w *Weigher, l *repute.DNSList, why string) {
	h.mu.Lock()
	now := time.Now()
	fresh := why != "" && h.why == ""
	if fresh {
		h.since = now
	}
	h.checked, h.why = now, why
	if why == "" {
		h.silent = 0
	}
	h.mu.Unlock()
	if why != "" && w.Trouble != nil { // each time, so that it counts as lasting
		w.Trouble("DNS list "+l.Name, "it is not asked for now: "+why, now)
	}
	if fresh && w.Log != nil {
		w.Log.Warn(
			"a DNS list is not asked for now",
			"list",
			l.Name,
			"zone",
			string(l.Zone),
			"why",
			why,
		)
	}
}

// note counts questions that a list did not answer.
func (h *health) note(w *Weigher, l *repute.DNSList, err error) {
	h.mu.Lock()
	if err == nil {
		h.silent = 0
		h.mu.Unlock()
		return
	}
	h.silent++
	out := h.silent >= maxSilent && h.why == ""
	h.mu.Unlock()
	if out {
		h.set(w, l, "it does not answer: "+err.Error())
	}
}

// test asks for the entries by which a list shows that it is one (RFC 5782 section 5): one
// that must be there and one that must not. One that has the latter says "listed" of all.
func (w *Weigher) test(ctx context.Context, l *repute.DNSList) (why string, err error) {
	there, not := "test", "invalid"
	if l.About(repute.AsksClients) {
		there, not = "2.0.0.127", "1.0.0.127"
	}
	for _, x := range []struct {
		label string
		want  bool
	}{{there, true}, {not, false}} {
		name := x.label + "." + string(l.Zone)
		k, err := w.look(ctx, name, false)
		switch {
		case err != nil:
			return "", err
		case x.want && len(k.answers) == 0:
			return fmt.Sprintf(
				"its test entry %s is missing: it is no list, or no longer one",
				name,
			), nil
		case !x.want && len(k.answers) > 0:
			return fmt.Sprintf(
				"it lists %s, which no list may: it says \"listed\" of everything",
				name,
			), nil
		}
	}
	return "", nil
}

// Round looks after the lists: whether they still are, and whether one that was taken out is
// again. It forgets those that are set up no more.
func (w *Weigher) Round(ctx context.Context) error {
	w.begin()
	var keys []string
	lists := w.Config().DNSLists
	for i := range lists {
		l := &lists[i]
		if l.Off {
			continue
		}
		keys = append(keys, healthKey(l))
		ask, cancel := context.WithTimeout(ctx, 2*askTime)
		w.healthOf(l).check(ask, w, l, true)
		cancel()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for key := range w.lists {
		if !slices.Contains(keys, key) {
			delete(w.lists, key)
		}
	}
	now := time.Now()
	for q, k := range w.cache {
		if now.After(k.until) {
			delete(w.cache, q)
		}
	}
	return nil
}

// States are those of all lists that are set up, as this node knows them.
func (w *Weigher) States() []repute.Health {
	w.begin()
	out := []repute.Health{}
	lists := w.Config().DNSLists
	for i := range lists {
		l := &lists[i]
		s := repute.Health{Name: l.Name, Zone: string(l.Zone), Off: l.Off}
		h := w.healthOf(l)
		h.mu.Lock()
		if !h.checked.IsZero() {
			at := h.checked
			s.Checked = &at
		}
		if h.why != "" {
			since := h.since
			s.Trouble, s.Since = h.why, &since
		}
		h.mu.Unlock()
		out = append(out, s)
	}
	return out
}
