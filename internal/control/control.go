// Package control is what people change: the configuration by drafts and revisions, the
// directory, deliveries that wait, pauses, keys. Every change is put on record with who made
// it, counts here when the call returns, and is told to the other nodes. It asks what is in
// force and the store, and imports neither insight nor service.
package control

import "gullroute/internal/store"

// Control is all that people change.
type Control struct {
	Drafts       *Drafts
	Directory    *Directory
	Actions      *Actions
	Pauses       *Pauses
	Reputation   *Reputation
	Held         *Held
	Keys         *Keys
	Explainer    *Explainer
	Prober       *Prober
	Submitter    *Submitter
	Fixer        *Fixer
	Gates        *Gates
	Operators    *Operators
	Passkeys     *Passkeys
	SingleSignOn *SingleSignOn
	Own          *Own
	Publisher    *Publisher
	Certificates *Certificates
	Kept         store.Kept
}
