package main

import (
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"runtime"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/counters"
	"gullroute/internal/insight/snags"
)

// Sizes of trouble.
const (
	fewPlaces  = 20
	manyPlaces = 2000
	failing    = 100_000
)

// troubled are causes that deliveries fail for, at the next hop.
func troubled() (out []diagnose.Cause) {
	for _, c := range diagnose.Causes() {
		switch diagnose.Explain(c).Family {
		case diagnose.Connection,
			diagnose.Rate,
			diagnose.Reputation,
			diagnose.TLS,
			diagnose.Content,
			diagnose.Size:
			out = append(out, c)
		}
	}
	return out
}

// fail lets deliveries fail at so many places, and brings the troubles up to date.
// It says how long one outcome took to be taken, and how much memory was kept.
func (b *bench) fail(st *all, places int) (each time.Duration, kept float64, err error) {
	keeper := snags.New(st, ident.NewMaker(9, time.Now), counters.New(),
		slog.New(slog.NewTextHandler(os.Stderr, nil)))
	causes := troubled()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for i := 0; i < failing; {
		for range failing / 10 {
			n := i % places
			d := mail.Delivery{
				MessageID: ident.ID(i + 1),
				N:         1,
				LaneID:    ident.ID(n + 1),
				Recipient: fmt.Sprintf("r%d@d%d.example", i%977, n),
				NextHop:   fmt.Sprintf("d%d.example", n),
				Route:     "out",
				State:     mail.Deferred,
				Cause:     causes[n%len(causes)],
				Last: &mail.LastReply{Stage: diagnose.StageConnect, Code: 451,
					Text: "not now"},
			}
			began := time.Now()
			keeper.Delivery(&d, fmt.Sprintf("s%d@skerryline.example", i%499), began)
			each += time.Since(began)
			i++
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		kept = max(kept, float64(after.HeapAlloc)-float64(before.HeapAlloc))
		if err := keeper.UpToDate(b.ctx, time.Now()); err != nil {
			return 0, 0, err
		}
	}
	return each / failing, kept / 1e6, nil
}

// snags measures lists of troubles, and what keeping them costs the mail.
func (b *bench) snags() ([]result, error) {
	out, err := b.snagLists()
	if err != nil {
		return nil, err
	}
	kept, err := b.snagUpkeep()
	return append(out, kept), err
}

func (b *bench) snagLists() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	st, err := openAll(b.ctx, b.database)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	page := func(places int) (ms, mb float64, err error) {
		if _, err := h.db.Exec(b.ctx, `TRUNCATE snag CASCADE`); err != nil {
			return 0, 0, err
		}
		if _, mb, err = b.fail(st, places); err != nil {
			return 0, 0, err
		}
		ms, err = timed(func() error {
			_, err := h.client.Snags(b.ctx, url.Values{"limit": {"20"}})
			return err
		})
		return ms, mb, err
	}
	few, _, err := page(fewPlaces)
	if err != nil {
		return nil, err
	}
	many, mb, err := page(manyPlaces)
	if err != nil {
		return nil, err
	}
	return []result{
		{
			Bench:   "first page of 2,000 snags",
			Against: "of 20 (100,000 failing deliveries each)",
			Value:   many,
			Base:    few,
			Unit:    "ms",
			Ratio:   many / few,
			Reach:   "<= 3",
			Reached: many <= 3*few,
		},
		{
			Bench:   "memory of what is not yet written",
			Against: "50 MB",
			Value:   mb,
			Base:    50,
			Unit:    "MB",
			Ratio:   mb / 50,
			Reach:   "<= 1",
			Reached: mb <= 50,
		},
	}, nil
}

func (b *bench) snagUpkeep() (result, error) {
	var with, without []float64
	for range b.rounds {
		for _, m := range []struct {
			snags bool
			into  *[]float64
		}{{false, &without}, {true, &with}} {
			b.withSnags = m.snags
			rate, err := b.relayOnce(messages)
			if err != nil {
				return result{}, err
			}
			*m.into = append(*m.into, rate)
		}
	}
	b.withSnags = false
	v, base, ratios := median(with, without)
	return result{
		Bench:   "relay with 2,000 snags open and kept",
		Against: "without",
		Value:   v,
		Base:    base,
		Unit:    "messages/s",
		Ratio:   v / base,
		Ratios:  ratios,
		Reach:   ">= 0.95",
		Reached: v/base >= 0.95,
	}, nil
}
