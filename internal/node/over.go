package node

import (
	"context"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/engine/receive"
)

// over makes a snag of who is over a limit, and stops the account where its rule says so. A
// person lets it go on.
func (n *Node) over(ctx context.Context, o receive.Over) {
	with, text := "limit of rule "+o.Rule, o.Why
	if o.Stop && !o.Account.IsNull() {
		with = "account " + o.Account.Display()
		text += "; the account is stopped: gull mailbox resume " + o.Account.String() +
			" lets it go on; what it has in the queue goes out meanwhile: gull queue hold --account " +
			o.Account.String()
		_, err := n.Control.Pauses.Pause(ctx, mail.Pause{Kind: mail.PauseAccount,
			Name: o.Account.String(), Who: "rule " + o.Rule, Why: o.Why})
		if err != nil {
			n.Log.Error("an account could not be stopped", "account", o.Account, "error", err)
		}
	}
	n.Troubles.Ours(with, text, time.Now())
}
