package queue

import (
	"sync"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// flows counts what comes into lanes and leaves them, by minute, until it is
// taken to the database.
type flows struct {
	mu    sync.Mutex
	count map[flowKey]*store.Flow
}

type flowKey struct {
	lane   ident.ID
	minute int64
}

func (f *flows) add(lane ident.ID, at time.Time, came, gone, failed int32) {
	k := flowKey{lane, at.Unix() / 60}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.count == nil {
		f.count = map[flowKey]*store.Flow{}
	}
	one := f.count[k]
	if one == nil {
		one = &store.Flow{Lane: lane, Minute: time.Unix(k.minute*60, 0).UTC()}
		f.count[k] = one
	}
	one.Received += came
	one.Finished += gone
	one.Failed += failed
}

// TakeFlow gives what was counted since the last call.
func (f *flows) TakeFlow() []store.Flow {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := make([]store.Flow, 0, len(f.count))
	for _, one := range f.count {
		out = append(out, *one)
	}
	clear(f.count)
	return out
}

// GiveFlow takes back what could not be stored.
func (f *flows) GiveFlow(list []store.Flow) {
	for _, one := range list {
		f.add(one.Lane, one.Minute, one.Received, one.Finished, one.Failed)
	}
}
