package store

import (
	"context"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Calm is what a store answers that never fails: nothing is unclear, no run is over. The
// stores of tests, of benches and of virtual time are built on it.
type Calm struct{}

func (Calm) RegisterNode(context.Context, string) (int, error)             { return 1, nil }
func (Calm) ReleaseNode(context.Context, int) error                        { return nil }
func (Calm) Heartbeat(context.Context, int, mail.NodeFacts) (Pulse, error) { return Pulse{}, nil }

func (Calm) Ask(context.Context, error) Condition {
	return Condition{State: Away}
}
func (Calm) Renew()                                                   {}
func (Calm) Leases(context.Context, int) ([]LeaseHeld, error)         { return nil, nil }
func (Calm) ReleaseDead(context.Context) (int64, error)               { return 0, nil }
func (Calm) ReleaseLost(context.Context) (int64, error)               { return 0, nil }
func (Calm) Withdraw(context.Context, []ident.ID) error               { return nil }
func (Calm) DropWithdrawn(context.Context, time.Time) (int, error)    { return 0, nil }
func (Calm) FateOf(context.Context, *Unclear, ident.ID) (Fate, error) { return FateNot, nil }
func (Calm) MailboxUse(context.Context, string) (messages, octets int64, err error) {
	return 0, 0, nil
}
func (Calm) MailboxesUse(context.Context, []string) (map[string]int64, error) {
	return nil, nil
}
