package store

// Store is all of the database, for tests.
type Store struct {
	*DB
	Accounts
	Actions
	Archives
	Counts
	Directory
	Findings
	Histories
	Intake
	Keys
	Lanes
	Limits
	Mailboxes
	Messages
	Notices
	Outcomes
	Pauses
	Queue
	Readiness
	Revisions
	Runs
	Secrets
	Sessions
	SignIns
	Snags
}

// All gives every aggregate its database.
func All(db *DB) *Store {
	return &Store{
		db,
		Accounts{db},
		Actions{db},
		Archives{db},
		Counts{db},
		Directory{db},
		Findings{db},
		Histories{db},
		Intake{db},
		Keys{db},
		Lanes{db},
		Limits{db},
		Mailboxes{db},
		Messages{db},
		Notices{db},
		Outcomes{db},
		Pauses{db},
		Queue{db},
		Readiness{db},
		Revisions{db},
		Runs{db},
		Secrets{db},
		Sessions{db},
		SignIns{db},
		Snags{db},
	}
}
