package main

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/store"
)

const (
	lifeJobs  = 40_000
	lifeGroup = 250
	lifeLanes = 100
)

// payload is what a job carries in both queues.
var payload = string(messageOf(600))

// queueLife measures the full life of a delivery without SMTP: entered with its
// message and content, leased, its outcome recorded.
func (b *bench) queueLife() ([]result, error) {
	var ours, theirs []float64
	for range b.rounds {
		o, err := b.ourLife()
		if err != nil {
			return nil, err
		}
		r, err := b.riverLife()
		if err != nil {
			return nil, err
		}
		ours, theirs = append(ours, o), append(theirs, r)
	}
	v, base, ratios := median(ours, theirs)
	return []result{
		{
			"queue life: enter, lease, outcome",
			"a general job queue on the same PostgreSQL",
			v,
			base,
			"jobs/s",
			v / base,
			ratios,
			">= 1.5",
			v/base >= 1.5,
		},
	}, nil
}

func (b *bench) ourLife() (float64, error) {
	st, node, err := b.fresh()
	if err != nil {
		return 0, err
	}
	defer st.Close()
	ids := ident.NewMaker(node, time.Now)
	began := time.Now()
	enter := func(n int) error {
		entries := make([]*store.Entry, n)
		for i := range entries {
			entries[i] = lifeEntry(ids.Next(), i)
		}
		return st.Enter(b.ctx, node, entries)
	}
	var done atomic.Int64
	finish := func() (int, error) {
		due, err := st.LeaseDue(
			b.ctx,
			store.Lease{Node: node, Now: time.Now(), PerLane: 1000, Total: 1000},
		) // as the service does
		if err != nil || len(due) == 0 {
			return 0, err
		}
		outcomes := make([]*store.Outcome, len(due))
		for i := range due {
			d := &due[i].Delivery
			d.State, d.Attempts = mail.Delivered, 1
			d.Last = &mail.LastReply{
				Stage:    "content",
				Host:     "mx.saltmarsh.example",
				Address:  "127.30.0.10",
				Code:     250,
				Enhanced: "2.0.0",
				Text:     "taken",
			}
			outcomes[i] = &store.Outcome{Delivery: d, At: time.Now()}
		}
		_, err = st.Finish(b.ctx, node, outcomes)
		return len(due), err
	}
	kept := make(chan struct{})
	go b.keep(st, kept)
	err = twoSides(enter, finish, &done)
	close(kept)
	return float64(lifeJobs) / time.Since(began).Seconds(), err
}

// keep does the service's upkeep of the queue's counts.
func (b *bench) keep(st *all, end chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-end:
			return
		case <-tick.C:
			_ = st.GatherLanes(b.ctx)
		}
	}
}

func lifeEntry(id ident.ID, n int) *store.Entry {
	host := fmt.Sprintf("lane%d.example", n%lifeLanes)
	now := time.Now()
	m := &mail.Message{
		ID:            id,
		ReceivedAt:    now,
		Sender:        "tickets@skerryline.example",
		HeaderFrom:    "tickets@skerryline.example",
		Subject:       "Your ticket",
		Size:          int64(len(payload)),
		Listener:      "inside",
		ClientAddress: "127.20.1.5",
		Helo:          "machine",
		Revision:      1,
		Protocol:      "ESMTP",
	}
	d := &mail.Delivery{
		MessageID:     id,
		N:             1,
		Recipient:     "x@" + host,
		Original:      "x@" + host,
		State:         mail.Waiting,
		LaneID:        ident.ID(route.Lane("out", host)),
		Route:         "out",
		NextHop:       host,
		Rule:          "ticket machines",
		RouteWhy:      "route out takes *",
		Revision:      1,
		NextAttemptAt: mail.At(now),
		ExpiresAt:     mail.At(now.Add(48 * time.Hour)),
	}
	return &store.Entry{
		Message:    m,
		Content:    []byte(payload),
		Deliveries: []*mail.Delivery{d},
		Leased:     []bool{false},
	}
}

// twoSides lets two goroutines enter groups while two others finish them, if
// finishing is not done elsewhere.
func twoSides(enter func(int) error, finish func() (int, error), done *atomic.Int64) error {
	var wg sync.WaitGroup
	var failed atomic.Value
	for range 2 {
		wg.Add(2)
		go func() {
			defer wg.Done()
			for n := 0; n < lifeJobs/2; n += lifeGroup {
				if err := enter(lifeGroup); err != nil {
					failed.Store(err)
					return
				}
			}
		}()
		go func() {
			defer wg.Done()
			for finish != nil && done.Load() < lifeJobs && failed.Load() == nil {
				n, err := finish()
				if err != nil {
					failed.Store(err)
					return
				}
				if done.Add(int64(n)); n == 0 {
					time.Sleep(time.Millisecond)
				}
			}
		}()
	}
	wg.Wait()
	err, _ := failed.Load().(error)
	return err
}

type jobArgs struct {
	Payload string `json:"payload"`
}

// Kind names the job.
func (jobArgs) Kind() string { return "message" }

type jobWorker struct {
	river.WorkerDefaults[jobArgs]
	done *atomic.Int64
}

// Work does nothing: only the queue is measured.
func (w *jobWorker) Work(context.Context, *river.Job[jobArgs]) error {
	w.done.Add(1)
	return nil
}

func (b *bench) riverLife() (float64, error) {
	st, _, err := b.fresh() // the same empty database
	if err != nil {
		return 0, err
	}
	st.Close()
	pool, err := pgxpool.New(b.ctx, b.database)
	if err != nil {
		return 0, err
	}
	defer pool.Close()
	migrator, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return 0, err
	}
	if _, err := migrator.Migrate(b.ctx, rivermigrate.DirectionUp, nil); err != nil {
		return 0, err
	}
	var done atomic.Int64
	workers := river.NewWorkers()
	river.AddWorker(workers, &jobWorker{done: &done})
	c, err := river.NewClient(riverpgxv5.New(pool), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 1000}},
		Workers:           workers,
		FetchCooldown:     time.Millisecond,
		FetchPollInterval: 5 * time.Millisecond,
	})
	if err != nil {
		return 0, err
	}
	began := time.Now()
	if err := c.Start(b.ctx); err != nil {
		return 0, err
	}
	enter := func(n int) error {
		params := make([]river.InsertManyParams, n)
		for i := range params {
			params[i].Args = jobArgs{payload}
		}
		_, err := c.InsertManyFast(b.ctx, params)
		return err
	}
	if err := twoSides(enter, nil, &done); err != nil {
		return 0, err
	}
	for completed := 0; completed < lifeJobs; time.Sleep(5 * time.Millisecond) {
		if err := pool.QueryRow(
			b.ctx,
			`SELECT count(*) FROM river_job WHERE state = 'completed'`,
		).Scan(&completed); err != nil {
			return 0, err
		}
	}
	took := time.Since(began)
	return float64(lifeJobs) / took.Seconds(), c.Stop(b.ctx)
}
