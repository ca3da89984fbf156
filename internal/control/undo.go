package control

import (
	"context"
	"fmt"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Undo takes an action back, where that makes sense.
func (s *Actions) Undo(
	ctx context.Context,
	who string,
	id int64,
	why string,
	tell func(done, total int64),
) (api.Done, error) {
	old, err := s.Store.Action(ctx, id)
	if err != nil {
		return api.Done{}, err
	}
	if _, how := undoOf(old, time.Now()); !how.can {
		return api.Done{}, fault.Refuse("id", "action %d cannot be taken back: %s", id, how.text)
	}
	if old.Verb == mail.VerbPause || old.Verb == mail.VerbResume {
		return s.Pauses.undo(ctx, who, old, why)
	}
	a := &act{
		on:      s,
		who:     who,
		now:     time.Now().UTC(),
		cfg:     s.InForce.Config(),
		tell:    tell,
		f:       mail.Filter{Action: id},
		matched: old.Touched,
	}
	a.r = api.ActionRequest{
		Verb: map[string]string{mail.VerbHold: mail.VerbRelease, mail.VerbRelease: mail.VerbHold,
			mail.VerbDrop:    mail.VerbRestore,
			mail.VerbReroute: mail.VerbUndo, mail.VerbChangeDomain: mail.VerbUndo,
			mail.VerbExpire: mail.VerbExpire}[old.Verb],
		Selection: mail.Selection{Action: id},
		Why:       why,
	}
	switch old.Verb {
	case mail.VerbExpire:
		a.r.ExpireAfter = "schedule"
	case mail.VerbChangeDomain:
		a.r.Domain = "before"
	}
	number, err := s.Store.BeginAction(ctx, mail.Action{
		Who:    who,
		Verb:   a.r.Verb,
		On:     fmt.Sprintf("what action %d (%s) touched", id, old.Verb),
		Told:   a.eventText(),
		Node:   s.InForce.Node,
		Filter: &a.r.Selection,
		Why:    why,
		Undoes: id,
	})
	if err != nil {
		return api.Done{}, err
	}
	if old.Verb == mail.VerbDrop {
		return a.restore(ctx, number, id)
	}
	return a.carryOut(ctx, number)
}

// restore puts back what was dropped.
func (a *act) restore(ctx context.Context, number, dropped int64) (api.Done, error) {
	a.c = store.Change{Verb: mail.VerbRestore, Action: number, At: a.now}
	for {
		n, err := a.on.Store.Restore(ctx, a.c, dropped, actAtOnce)
		if err != nil {
			return api.Done{}, err
		}
		a.add(n)
		if n < actAtOnce {
			break
		}
	}
	if err := a.on.Store.EndAction(ctx, number, a.touched, 0); err != nil {
		return api.Done{}, err
	}
	a.on.Queue.Wake()
	a.on.Cluster.Changed("queue")
	return api.Done{
		Action:  number,
		Matched: a.matched,
		Touched: a.touched,
		Text:    a.doneText(0),
	}, nil
}

type undoing struct {
	can  bool
	text string
}

// undoOf says whether an action can be taken back, and what that would do.
func undoOf(a mail.Action, now time.Time) (string, undoing) {
	no := func(text string) (string, undoing) { return "", undoing{false, text} }
	if a.UndoneBy != 0 {
		return no(fmt.Sprintf("action %d has done so", a.UndoneBy))
	}
	if a.DoneAt.IsZero() && a.Verb != mail.VerbPause && a.Verb != mail.VerbResume {
		return no("it has not come to its end")
	}
	text := map[string]string{
		mail.VerbHold:         "releases those that are still held",
		mail.VerbRelease:      "holds those that still wait",
		mail.VerbReroute:      "sends those that still wait as the routes say",
		mail.VerbExpire:       "expires those that still wait when the schedule says",
		mail.VerbChangeDomain: "gives those that still wait their old address",
		mail.VerbDrop:         "puts them back into the queue",
		mail.VerbPause:        "lets it go on",
		mail.VerbResume:       "stops it again",
	}[a.Verb]
	switch {
	case a.Verb == mail.VerbDrop && now.Sub(a.At) > restoreBound:
		return no("dropped messages are kept for a day")
	case a.Verb == mail.VerbFlush:
		return no("an attempt that was made is made")
	case a.Verb == mail.VerbReturn:
		return no("the senders have their messages back")
	case text == "" || a.Touched == 0 && a.Verb != mail.VerbPause && a.Verb != mail.VerbResume:
		return no("there is nothing to take back")
	}
	return text, undoing{true, text}
}
