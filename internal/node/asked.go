package node

import (
	"context"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// asked sets the mail of a route moving, because a site asked for it.
func (n *Node) asked(ctx context.Context, who, route, domain string) (int64, error) {
	r := api.ActionRequest{Verb: mail.VerbFlush, Why: "the site asked for its mail (ETRN)"}
	r.Selection.Route, r.Selection.Domain = route, domain
	// A site asks again and again; what sets nothing moving needs no place among the actions.
	look := r
	look.DryRun = true
	if would, err := n.Control.Actions.Act(ctx, who, look, nil); err != nil || would.Matched == 0 {
		return 0, err
	}
	done, err := n.Control.Actions.Act(ctx, who, r, nil)
	return done.Touched, err
}
