package main

import (
	"fmt"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// Sizes of a large queue.
const (
	standing    = 1_000_000 // messages that wait
	someLanes   = 5000
	fewMessages = 10_000
	tiny        = 1000
	moving      = 20_000 // messages that are due, in so many lanes
	inLanes     = 100
	acted       = 100_000
	deadMail    = 100_000
)

// one is a figure that was measured once.
func one(name, against string, v, base float64, unit, reach string, ok bool) result {
	return result{name, against, v, base, unit, v / base, []float64{v / base}, reach, ok}
}

// many measures a queue of a million messages against a small one.
func (b *bench) many() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	time.Sleep(3 * time.Second)
	empty := h.resident()
	// A queue of a thousand.
	if err := h.fill(
		tiny,
		tiny,
		"lane%d.example",
		"spread@skerryline.example",
		24*time.Hour,
	); err != nil {
		return nil, err
	}
	if _, err := h.deliver(moving, inLanes); err != nil { // warms up
		return nil, err
	}
	var smallRates, largeRates []float64
	for range b.rounds {
		rate, err := h.deliver(moving, inLanes)
		if err != nil {
			return nil, err
		}
		smallRates = append(smallRates, rate)
	}
	smallRestart, err := h.restart()
	if err != nil {
		return nil, err
	}
	// Ten thousand in five thousand lanes.
	if err := h.fill(
		fewMessages,
		someLanes,
		"lane%d.example",
		"spread@skerryline.example",
		24*time.Hour,
	); err != nil {
		return nil, err
	}
	if err := h.fill(600, 3, "busy%d.example", "spread@skerryline.example",
		24*time.Hour); err != nil { // a full page in both
		return nil, err
	}
	time.Sleep(3 * time.Second)
	lanes1, letters1, filter1, err := h.pages()
	if err != nil {
		return nil, err
	}
	// A million: a tenth of them one sender's.
	if err := h.fill(
		standing-acted-fewMessages,
		someLanes,
		"lane%d.example",
		"spread@skerryline.example",
		24*time.Hour,
	); err != nil {
		return nil, err
	}
	if err := h.fill(
		acted,
		someLanes,
		"lane%d.example",
		"tickets@skerryline.example",
		24*time.Hour,
	); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	lanes2, letters2, filter2, err := h.pages()
	if err != nil {
		return nil, err
	}
	for range b.rounds {
		rate, err := h.deliver(moving, inLanes)
		if err != nil {
			return nil, err
		}
		largeRates = append(largeRates, rate)
	}
	memory := h.resident()
	largeRestart, err := h.restart()
	if err != nil {
		return nil, err
	}
	rate2, rate1, ratios := median(largeRates, smallRates)
	results := []result{
		one("memory with a million messages in 5,000 lanes", "with none", memory, empty, "MB",
			"adds <= 100 MB", memory-empty <= 100),
		one("lane list, 5,000 lanes, a million messages", "10,000 messages", lanes2, lanes1, "ms",
			"<= 3", lanes2/lanes1 <= 3),
		one("first page of messages, a million", "10,000 messages", letters2, letters1, "ms",
			"<= 3", letters2/letters1 <= 3),
		one("messages of a domain, a million", "10,000 messages", filter2, filter1, "ms", "<= 3",
			filter2/filter1 <= 3),
		{
			"deliveries, a million waiting",
			"1,000 waiting",
			rate2,
			rate1,
			"messages/s",
			rate2 / rate1,
			ratios,
			">= 0.8",
			rate2/rate1 >= 0.8,
		},
		one("restart until the first delivery, a million", "1,000", largeRestart*1000,
			smallRestart*1000, "ms", "<= 2", largeRestart/smallRestart <= 2),
	}
	return results, nil
}

// acts measures actions on a hundred thousand messages of a queue of twice as many.
func (b *bench) acts() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	for _, sender := range []string{"spread@skerryline.example", "tickets@skerryline.example"} {
		if err := h.fill(acted, someLanes, "lane%d.example", sender, 24*time.Hour); err != nil {
			return nil, err
		}
	}
	var results []result
	time.Sleep(3 * time.Second)
	quiet := 0.0
	for range 20 {
		began := time.Now()
		l := load{
			address:     h.inside,
			connections: 1,
			messages:    1,
			content:     messageOf(1000),
			from:        "ines.harrow@skerryline.example",
			to:          "quick%d@lane3.example",
		}
		if _, err := l.run(); err != nil {
			return nil, err
		}
		quiet = max(quiet, float64(time.Since(began).Microseconds())/1000)
	}
	for _, verb := range []string{mail.VerbHold, mail.VerbRelease, mail.VerbFlush} {
		r := api.ActionRequest{
			Verb:      verb,
			Selection: mail.Selection{Sender: "tickets@skerryline.example"},
			Why:       "bench",
		}
		if verb == mail.VerbRelease { // what is released goes out immediately: here it must wait
			if _, err := h.client.Pause(b.ctx, api.StopRequest{Kind: mail.PauseDelivery}); err != nil {
				return nil, err
			}
		}
		rate, longest, err := h.act(r)
		if err != nil {
			return nil, err
		}
		results = append(
			results,
			one(fmt.Sprintf("%s of 100,000 by filter", verb), "20,000 a second", rate, 20_000,
				"messages/s", ">= 1", rate >= 20_000),
			one("the longest that a message waited for its 250 meanwhile", "without it", longest,
				quiet, "ms", "<= 100 ms more", longest-quiet <= 100),
		)
	}
	return results, nil
}

// dead measures healthy lanes beside one dead host with very many messages.
func (b *bench) dead() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	if _, err := h.deliver(moving, inLanes); err != nil {
		return nil, err
	}
	var alone, beside []float64
	for range b.rounds {
		rate, err := h.deliver(moving, inLanes)
		if err != nil {
			return nil, err
		}
		alone = append(alone, rate)
	}
	began := time.Now()
	if err := h.fill(deadMail, 1, "dead.example", "tickets@skerryline.example", 0); err != nil {
		return nil, err
	}
	for range b.rounds {
		rate, err := h.deliver(moving, inLanes)
		if err != nil {
			return nil, err
		}
		beside = append(beside, rate)
	}
	took := time.Since(began)
	intervals := 1.0 // that began: rests of 2, 4, 8, … seconds
	for rest, at := 2*time.Second, time.Duration(0); at+rest < took &&
		rest <= time.Minute; rest *= 2 {
		at += rest
		intervals++
	}
	v, base, ratios := median(beside, alone)
	n := float64(h.sea.attempts.Load())
	return []result{
		{
			"100 healthy lanes beside a dead host with 100,000 messages",
			"without it",
			v,
			base,
			"messages/s",
			v / base,
			ratios,
			">= 0.9",
			v/base >= 0.9,
		},
		{
			"connections tried to the dead host",
			"intervals that began, and two more at first",
			n,
			intervals + 2,
			"",
			n / (intervals + 2),
			[]float64{n / (intervals + 2)},
			"<= 1",
			n <= intervals+2,
		},
	}, nil
}

// nodes measures two nodes against one, on the same machine.
func (b *bench) nodes() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	if _, err := h.deliver(moving, inLanes); err != nil {
		return nil, err
	}
	var single, double []float64
	for range b.rounds {
		rate, err := h.deliver(2*moving, inLanes)
		if err != nil {
			return nil, err
		}
		single = append(single, rate)
	}
	other, err := h.node("second", freeAddress(), freeAddress())
	if err != nil {
		return nil, err
	}
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	time.Sleep(2 * time.Second)
	for range b.rounds {
		rate, err := h.deliver(2*moving, inLanes)
		if err != nil {
			return nil, err
		}
		double = append(double, rate)
	}
	v, base, ratios := median(double, single)
	return []result{
		{
			"deliveries by two nodes on this machine",
			"by one",
			v,
			base,
			"messages/s",
			v / base,
			ratios,
			"reported",
			true,
		},
	}, nil
}

// bloat measures the hot table's size after very many messages went through a
// queue in which ten thousand wait.
func (b *bench) bloat() ([]result, error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	if err := h.fill(
		fewMessages,
		someLanes,
		"lane%d.example",
		"spread@skerryline.example",
		24*time.Hour,
	); err != nil {
		return nil, err
	}
	if err := h.fill(
		moving,
		inLanes,
		"lane%d.example",
		"tickets@skerryline.example",
		time.Hour,
	); err != nil {
		return nil, err
	}
	if _, err := h.db.Exec(b.ctx, `VACUUM FULL delivery`); err != nil {
		return nil, err
	}
	const size = `SELECT pg_total_relation_size('delivery') / 1e6::float8`
	before, err := h.number(size)
	if err != nil {
		return nil, err
	}
	through := 0
	for began := time.Now(); through < b.through &&
		time.Since(began) < 8*time.Minute; through += moving {
		if _, err := h.deliver(moving, inLanes); err != nil {
			return nil, err
		}
	}
	after, err := h.number(size)
	return []result{
		{
			fmt.Sprintf("queue table and indexes after %d messages went through", through),
			"at the start, 30,000 waiting",
			after,
			before,
			"MB",
			after / before,
			[]float64{after / before},
			"<= 2",
			after/before <= 2,
		},
	}, err
}
