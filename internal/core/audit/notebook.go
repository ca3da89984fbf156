package audit

import (
	"context"
	"maps"
	"sync"
)

// Record is one thing as it stood before and after.
type Record struct {
	What   string         `json:"what"`
	Name   string         `json:"name"`
	Before map[string]any `json:"before"`
	After  map[string]any `json:"after"`
}

// Notebook collects what a request changed, for its entry.
type Notebook struct {
	mu      sync.Mutex
	records []Record
}

// most bounds what stands in one entry.
const most = 20

type notebookKey struct{}

// With gives a request its notebook.
func With(ctx context.Context, n *Notebook) context.Context {
	return context.WithValue(ctx, notebookKey{}, n)
}

// Note writes down what was changed, where the request has a notebook.
func Note(ctx context.Context, r Record) {
	n, _ := ctx.Value(notebookKey{}).(*Notebook)
	if n == nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.records) < most {
		r.Before, r.After = maps.Clone(r.Before), maps.Clone(r.After)
		n.records = append(n.records, r)
	}
}

// Records are what was noted.
func (n *Notebook) Records() []Record {
	n.mu.Lock()
	defer n.mu.Unlock()
	return append([]Record(nil), n.records...)
}
