package node

import (
	"context"
	"fmt"
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

// leastBehind is how far a standby must be allowed to be behind: nodes write into the
// database every three seconds that they live, and only that shows it.
const leastBehind = 5 * time.Second

// Reader is of a standby of db that history is read from while it is at most so far behind;
// nil if no address is given.
func Reader(
	ctx context.Context,
	db *store.DB,
	url string,
	behind time.Duration,
) (*store.Reader, error) {
	if url == "" {
		return nil, nil
	}
	if behind < leastBehind {
		return nil, fmt.Errorf("%s behind is too little: that it lives is seen every few seconds, "+
			"so at least %s", behind, leastBehind)
	}
	return store.OpenReader(ctx, db, url, behind)
}
