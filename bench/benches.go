package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/engine/counters"
	"gullroute/internal/insight/snags"
)

type bench struct {
	ctx       context.Context
	database  string
	dir       string
	rounds    int
	through   int // messages of the bench of bloat
	minutes   int // of the soak
	withSnags bool
}

type named struct {
	name string
	run  func() ([]result, error)
}

func (b *bench) all() []named {
	return []named{
		{"accept", b.accept},
		{"relay", b.relay},
		{"policies", b.policed},
		{"queue", b.queueLife},
		{"life", b.whole},
		{"memory", b.memory},
		{"gates", b.gates},
		{"setup", b.setup},
		{"many", b.many},
		{"acts", b.acts},
		{"dead", b.dead},
		{"nodes", b.nodes},
		{"bloat", b.bloat},
		{"trace", b.trace},
		{"transcripts", b.transcripts},
		{"archive", b.archive},
		{"snags", b.snags},
		{"soak", b.soak},
	}
}

const (
	connections = 50
	messages    = 40_000
)

// fresh empties the database and opens it.
func (b *bench) fresh() (*all, int, error) {
	conn, err := pgx.Connect(b.ctx, b.database)
	if err != nil {
		return nil, 0, err
	}
	_, err = conn.Exec(b.ctx, `DROP SCHEMA public CASCADE; CREATE SCHEMA public`)
	if err == nil {
		_, err = conn.Exec(b.ctx, `CHECKPOINT`)
	}
	conn.Close(b.ctx)
	if err != nil {
		return nil, 0, err
	}
	return b.open()
}

func (b *bench) open() (*all, int, error) {
	st, err := openAll(b.ctx, b.database)
	if err != nil {
		return nil, 0, err
	}
	id, err := st.RegisterNode(b.ctx, "bench")
	return st, id, err
}

func (b *bench) acceptDurable(n int) (float64, error) {
	st, id, err := b.fresh()
	if err != nil {
		return 0, err
	}
	defer st.Close()
	nd, err := startNode(st, id, "127.0.0.1:9", false, nil)
	if err != nil {
		return 0, err
	}
	defer nd.stop()
	return b.load(nd.address, n)
}

func (b *bench) acceptThrowaway(n int) (float64, error) {
	nd, err := startNode(throwaway{}, 1, "127.0.0.1:9", false, nil)
	if err != nil {
		return 0, err
	}
	defer nd.stop()
	return b.load(nd.address, n)
}

func (b *bench) load(address string, n int) (float64, error) {
	return load{
		address:     address,
		connections: connections,
		messages:    n,
		content:     messageOf(4096),
		from:        "tickets@skerryline.example",
		to:          "x%d@saltmarsh.example",
	}.run()
}

// files is the floor of any spool that keeps a file a message.
func (b *bench) files(n int) (float64, error) {
	dir, err := os.MkdirTemp(b.dir, "floor-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	content := messageOf(4096)
	var next atomic.Int64
	var wg sync.WaitGroup
	var failed atomic.Value
	began := time.Now()
	for range connections {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for {
				i := next.Add(1)
				if i > int64(n) {
					return
				}
				if err := writeFile(filepath.Join(dir, fmt.Sprint(i)), content); err != nil {
					failed.Store(err)
					return
				}
			}
		}()
	}
	wg.Wait()
	if err, ok := failed.Load().(error); ok {
		return 0, err
	}
	return float64(n) / time.Since(began).Seconds(), nil
}

func writeFile(name string, content []byte) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Write(content); err != nil {
		return err
	}
	return syscall.Fdatasync(int(f.Fd()))
}

func (b *bench) accept() ([]result, error) {
	var durable, thrown, files []float64
	for range b.rounds {
		for _, m := range []struct {
			into *[]float64
			run  func(int) (float64, error)
		}{{&thrown, b.acceptThrowaway}, {&durable, b.acceptDurable}, {&files, b.files}} {
			v, err := m.run(messages)
			if err != nil {
				return nil, err
			}
			*m.into = append(*m.into, v)
		}
	}
	v1, b1, r1 := median(durable, thrown)
	v2, b2, r2 := median(durable, files)
	return []result{
		{
			"accept, 4 KB, 50 connections, durable",
			"the same engine with a store that throws away",
			v1,
			b1,
			"messages/s",
			v1 / b1,
			r1,
			">= 0.45",
			v1/b1 >= 0.45,
		},
		{
			"accept, 4 KB, 50 connections, durable",
			"50 workers, each a file and fdatasync a message",
			v2,
			b2,
			"messages/s",
			v2 / b2,
			r2,
			">= 0.7",
			v2/b2 >= 0.7,
		},
	}, nil
}

// relay measures messages from accepted to recorded as delivered, while they come
// in: the sink takes them over the wire.
func (b *bench) relay() ([]result, error) {
	var relayed, accepted []float64
	for range b.rounds {
		a, err := b.acceptDurable(messages)
		if err != nil {
			return nil, err
		}
		r, err := b.relayOnce(messages)
		if err != nil {
			return nil, err
		}
		accepted, relayed = append(accepted, a), append(relayed, r)
	}
	v, base, ratios := median(relayed, accepted)
	return []result{
		{
			"relay: accepted, delivered to a sink, recorded",
			"accept",
			v,
			base,
			"messages/s",
			v / base,
			ratios,
			">= 0.4",
			v/base >= 0.4,
		},
	}, nil
}

func (b *bench) relayOnce(n int) (float64, error) {
	sink, stopSink, err := startSink()
	if err != nil {
		return 0, err
	}
	defer stopSink()
	st, id, err := b.fresh()
	if err != nil {
		return 0, err
	}
	defer st.Close()
	var keep *snags.Keeper
	if b.withSnags {
		if _, _, err := b.fail(st, manyPlaces); err != nil {
			return 0, err
		}
		keep = snags.New(st, ident.NewMaker(8, time.Now), counters.New(),
			slog.New(slog.DiscardHandler))
		ctx, stop := context.WithCancel(b.ctx)
		defer stop()
		go keep.Run(ctx)
	}
	nd, err := startNode(st, id, sink, true, keep)
	if err != nil {
		return 0, err
	}
	defer nd.stop()
	return b.relayed(nd, n)
}

// relayed is the rate from the first connection to the last delivery on record.
func (b *bench) relayed(nd *node, n int) (float64, error) {
	began := time.Now()
	if _, err := b.load(nd.address, n); err != nil {
		return 0, err
	}
	if err := b.waitRecorded(n); err != nil {
		return 0, err
	}
	return float64(n) / time.Since(began).Seconds(), nil
}

func (b *bench) waitRecorded(n int) error {
	conn, err := pgx.Connect(b.ctx, b.database)
	if err != nil {
		return err
	}
	defer conn.Close(b.ctx)
	for range 2400 {
		var left int
		if err := conn.QueryRow(
			b.ctx,
			`SELECT count(*) FROM (SELECT FROM delivery LIMIT 1) q`,
		).Scan(&left); err != nil {
			return err
		}
		if left == 0 {
			var done int
			if err := conn.QueryRow(
				b.ctx,
				`SELECT count(*) FROM delivery_done WHERE state = 'delivered'`,
			).Scan(&done); err != nil {
				return err
			}
			if done != n {
				return fmt.Errorf("%d of %d were delivered", done, n)
			}
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the queue was not empty after two minutes")
}
