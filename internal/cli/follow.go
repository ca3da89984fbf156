package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/client"
)

// follower prints what happens to one message until it ends.
type follower struct {
	app   *app
	id    string
	shown map[string]bool
}

func (f *follower) run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	changed := make(chan struct{}, 1)
	poke := func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	broken := make(chan error, 1)
	go func() {
		broken <- f.app.client().Live(ctx, f.id, poke,
			func(client.LiveEvent) bool { poke(); return true })
	}()
	// The stream says that something happened; the trace says what. Looking again
	// now and then covers what is recorded a moment after it is told.
	look := time.NewTicker(500 * time.Millisecond)
	defer look.Stop()
	for {
		ended, err := f.look(ctx)
		if err != nil || ended {
			return err
		}
		select {
		case <-changed:
		case <-look.C:
		case err := <-broken:
			return err
		}
	}
}

// look prints what is new and reports whether all deliveries have ended.
func (f *follower) look(ctx context.Context) (bool, error) {
	t, err := f.app.client().Trace(ctx, f.id, nil)
	if err != nil {
		return false, err
	}
	for _, e := range t.Events {
		key := fmt.Sprint(e.At, e.Kind, e.Delivery)
		if f.shown[key] {
			continue
		}
		f.shown[key] = true
		if f.app.format == "table" {
			printEvent(f.app.out, e)
		} else if err := f.app.printValue(e); err != nil {
			return false, err
		}
	}
	for _, d := range t.Message.Deliveries {
		if !d.State.Final() {
			return false, nil
		}
	}
	if f.app.format == "table" {
		fmt.Fprintf(f.app.out, "It has ended: %s.\n", states(t.Message))
	}
	return true, nil
}

// followFilter chooses events.
type followFilter struct {
	kinds []string
	with  string
}

func (f followFilter) wants(e client.LiveEvent) bool {
	if e.Kind == "lost" {
		return true
	}
	if len(f.kinds) > 0 && !slices.Contains(f.kinds, string(e.Kind)) {
		return false
	}
	all := strings.ToLower(
		strings.Join(
			[]string{e.MessageID.String(), e.Sender, e.Recipient, e.Lane, e.Client, e.Text, e.Node},
			"\n",
		),
	)
	return strings.Contains(all, strings.ToLower(f.with))
}

func (a traceCommands) followAll(ctx context.Context, f followFilter) error {
	return a.client().Live(ctx, "", nil, func(e client.LiveEvent) bool {
		if !f.wants(e) {
			return true
		}
		if a.format != "table" {
			return a.printValue(e) == nil
		}
		who := ""
		if e.Recipient != "" {
			who = shown(e.Sender) + " → " + shown(e.Recipient) + "  "
		}
		id := "-"
		if e.MessageID != 0 {
			id = e.MessageID.String()
		}
		fmt.Fprintf(a.out, "%s  %-13s  %-10s %s%s\n", fine(e.At), id, e.Kind,
			who, e.Text)
		return true
	})
}
