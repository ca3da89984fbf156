package main

import (
	"context"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/feed"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/insight/snags"
	"gullroute/internal/store"
)

// throwaway is a store that keeps nothing and is always done.
type throwaway struct{ store.Calm }

func (throwaway) Enter(context.Context, int, []*store.Entry) error { return nil }
func (throwaway) StoreContent(_ context.Context, _ ident.ID, r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	return err
}
func (throwaway) DropContent(context.Context, ident.ID) error { return nil }
func (throwaway) OpenContent(context.Context, ident.ID) (*store.Content, error) {
	return nil, store.ErrNotFound
}
func (throwaway) LeaseDue(context.Context, store.Lease) ([]store.Due, error) {
	return nil, nil
}

func (throwaway) LeaseOverdue(
	context.Context,
	int,
	time.Time,
	time.Time,
	int,
) ([]store.Due, error) {
	return nil, nil
}

func (throwaway) Unwarned(
	_ context.Context,
	after mail.DeliveryID,
	_ time.Time,
	_ int,
) ([]store.Due, mail.DeliveryID, error) {
	return nil, mail.DeliveryID{}, nil
}
func (throwaway) Warn(context.Context, int, time.Time, []store.Warning) ([]*store.Entry, error) {
	return nil, nil
}
func (throwaway) SetBackOff(context.Context, store.BackOff) error { return nil }
func (throwaway) NextDue(context.Context, time.Time, []ident.ID, []string) (time.Time, error) {
	return time.Time{}, nil
}
func (throwaway) ReturnLeases(context.Context, int, []mail.DeliveryID, time.Time) error {
	return nil
}
func (throwaway) Finish(context.Context, int, []*store.Outcome) ([]*store.Entry, error) {
	return nil, nil
}
func (throwaway) Replying(context.Context, string, string, time.Time, time.Time) (bool, error) {
	return false, nil
}

const benchConfig = `
service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  resolvers: ["127.0.0.1:9"]
  address_family: ipv4
listeners:
  - {name: inside, address: "127.0.0.1:0", kind: inside}
domains:
  - {name: skerryline.example, kind: local}
relay_rules:
  - {name: all here, networks: [127.0.0.0/8], action: allow}
routes:
  - {name: out, recipients: ["*"], next_hop: smarthost, hosts: ["SINK"], tls: "off",
	connections: 20, messages_per_connection: 100000}
mailboxes:
  - {address: keeper@skerryline.example}
`

// node is the engine as the service runs it, without HTTP.
type node struct {
	queue   *queue.Queue
	receive *receive.Server
	address string
	stop    func()
}

// benchStore is what queue and listeners ask of the database.
type benchStore interface {
	queue.Store
	receive.ContentStore
}

// startNode runs an engine on a store. Without sending, what comes in stays.
func startNode(
	st benchStore,
	id int,
	sink string,
	sending bool,
	keep *snags.Keeper,
) (*node, error) {
	return startNodeWith(replaceSink(sink), st, id, sending, keep)
}

// startNodeWith is startNode with a configuration.
func startNodeWith(
	text string,
	st benchStore,
	id int,
	sending bool,
	keep *snags.Keeper,
) (*node, error) {
	return startNodeAs(text, st, id, sending, keep, deliver.Options{})
}

// startNodeAs is startNodeWith that sends in a way of its own.
func startNodeAs(
	text string,
	st benchStore,
	id int,
	sending bool,
	keep *snags.Keeper,
	outward deliver.Options,
) (*node, error) {
	c, err := config.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	if !sending {
		c.Service.Connections = 0
	}
	compiled := config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))
	hub, count, ids := feed.NewHub(), counters.New(), ident.NewMaker(id, time.Now)
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	options := queue.Options{
		Store:   st,
		Node:    id,
		Name:    "bench",
		IDs:     ids,
		Hub:     hub,
		Tally:   count,
		Log:     log,
		Outward: outward,
	}
	if keep != nil {
		options.Snags = keep
	}
	q := queue.New(options)
	q.Apply(compiled)
	r := receive.New(receive.Options{
		Intake:   q,
		Contents: st,
		IDs:      ids,
		Hub:      hub,
		Tally:    count,
		Log:      log,
		Node:     "bench",
		SpoolDir: os.TempDir(),
		Bind:     map[string]netip.AddrPort{},
	})
	if err := r.Apply(compiled); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		if sending {
			q.Run(ctx)
		} else {
			q.RunIntake(ctx)
		}
	}()
	return &node{
		queue:   q,
		receive: r,
		address: r.Addresses()["inside"],
		stop:    func() { r.Stop(time.Second); cancel(); <-done },
	}, nil
}
