package main

import (
	"context"

	"gullroute/internal/store"
)

// openAll opens a database with every aggregate.
func openAll(ctx context.Context, url string) (*store.Store, error) {
	db, err := store.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	return store.All(db), nil
}
