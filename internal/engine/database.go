package engine

import (
	"context"
	"strings"
	"time"

	"gullroute/internal/store"
)

// hostsEvery is how often the database's hosts are asked who takes writes.
const hostsEvery = 5 * time.Second

// watchHosts follows a promotion, and says which former primary still takes writes.
func (e *Engine) watchHosts(ctx context.Context) error {
	moved, err := e.Store.WatchHosts(ctx)
	if moved {
		e.Log.Warn("another host of the database was promoted; all connections go there")
	}
	former := strings.Join(e.Store.Former(), ", ")
	if was := e.former.Swap(&former); former != "" && (was == nil || *was != former) {
		e.Log.Error("a former primary still takes writes; nothing of ours goes there, and what others write there is lost: "+
			"stop it", "hosts", former)
	}
	return err
}

// recovered follows what may have changed while the database was not well.
func (e *Engine) recovered() {
	select {
	case e.missed <- struct{}{}:
	default:
	}
}

// followMissed catches up after the database was away.
func (e *Engine) followMissed(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-e.missed:
			e.catchUp()
		}
	}
}

// Ready is "" if this node can take mail and deliver it; else why not.
func (e *Engine) Ready() string {
	if d := e.Queue.Database(); d.State != store.Well {
		return d.Text
	}
	return ""
}

// FormerPrimaries are hosts of the database that take writes and must not.
func (e *Engine) FormerPrimaries() []string { return e.Store.Former() }
