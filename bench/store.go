package main

import (
	"context"

	"gullroute/internal/store"
)

// all is the whole database.
type all struct {
	*store.DB
	store.Accounts
	store.Actions
	store.Archives
	store.Counts
	store.Directory
	store.Findings
	store.Histories
	store.Intake
	store.Keys
	store.Lanes
	store.Limits
	store.Mailboxes
	store.Messages
	store.Notices
	store.Outcomes
	store.Pauses
	store.Queue
	store.Readiness
	store.Revisions
	store.Runs
	store.Secrets
	store.Sessions
	store.SignIns
	store.Snags
}

// openAll opens a database.
func openAll(ctx context.Context, url string) (*all, error) {
	db, err := store.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	return &all{
		db,
		store.Accounts{DB: db},
		store.Actions{DB: db},
		store.Archives{DB: db},
		store.Counts{DB: db},
		store.Directory{DB: db},
		store.Findings{DB: db},
		store.Histories{DB: db},
		store.Intake{DB: db},
		store.Keys{DB: db},
		store.Lanes{DB: db},
		store.Limits{DB: db},
		store.Mailboxes{DB: db},
		store.Messages{DB: db},
		store.Notices{DB: db},
		store.Outcomes{DB: db},
		store.Pauses{DB: db},
		store.Queue{DB: db},
		store.Readiness{DB: db},
		store.Revisions{DB: db},
		store.Runs{DB: db},
		store.Secrets{DB: db},
		store.Sessions{DB: db},
		store.SignIns{DB: db},
		store.Snags{DB: db},
	}, nil
}
