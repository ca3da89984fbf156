package node

import (
	"context"
	"log/slog"
	"time"

	"gullroute/internal/store"
)

// Database opens the database, and waits for one that is not there yet: at boot it
// may start after us.
func Database(ctx context.Context, url string, log *slog.Logger) (*store.DB, error) {
	for {
		db, err := store.Open(ctx, url)
		if err == nil {
			return db, nil
		}
		if ctx.Err() != nil {
			return nil, err
		}
		log.Error("waiting for the database", "error", err)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(2 * time.Second):
		}
	}
}
