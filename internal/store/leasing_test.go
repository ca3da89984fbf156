package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/leasing"
	"gullroute/internal/core/mail"
)

// TestTheStoreDoesWhatTheModelDoes does the same at random in the database and in the
// rows of the model, whose promises are searched in core/leasing, and compares.
func TestTheStoreDoesWhatTheModelDoes(t *testing.T) {
	s, run := open(t)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, seed))
	rows := leasing.NewRows()
	numbers := map[leasing.Run]int{rows.Begin(): run} // of the model's runs
	runs, dues := []leasing.Run{1}, map[leasing.Message]Due{}
	entered, byID := map[leasing.Message]*Entry{}, map[ident.ID]leasing.Message{}
	var next leasing.Message
	same := func(what string, err, want error) {
		t.Helper()
		if (want == nil) != (err == nil) || want != nil && !errors.Is(err, ErrOver) {
			t.Fatalf("%s: %v, and in the model %v", what, err, want)
		}
	}
	for range 600 {
		r := runs[rnd.IntN(len(runs))]
		switch what := rnd.IntN(12); {
		case what < 4:
			next++
			leased := rnd.IntN(2) == 0
			e := entry("a@x.example", leased, "a@saltmarsh.example")
			lease := leasing.Run(0)
			if leased {
				lease = r
			}
			same("enter", s.Enter(ctx, numbers[r], []*Entry{e}), rows.Enter(next, lease))
			entered[next], byID[e.Message.ID] = e, next
			dues[next] = Due{Delivery: *e.Deliveries[0], Run: numbers[r]}
		case what < 6:
			due, err := s.LeaseDue(ctx,
				Lease{Node: numbers[r], Now: time.Now().Add(48 * time.Hour), PerLane: 2, Total: 2})
			got, want := rows.Lease(r, 2)
			same("lease", err, want)
			if len(due) != len(got) {
				t.Fatalf("%d are leased, and %d in the model", len(due), len(got))
			}
			rows.Return(r, got...) // which of several is the database's choice
			for _, d := range due {
				m := byID[d.Delivery.MessageID]
				if row := rows.There[m]; row != (leasing.Row{}) || rows.Withdrawn[m] {
					t.Fatalf("%d is leased; in the model it is %+v", m, row)
				}
				rows.There[m], dues[m] = leasing.Row{Lease: r}, d
			}
		case what < 8 && len(entered) > 0:
			m := leasing.Message(rnd.IntN(int(next)) + 1)
			end := rnd.IntN(2) == 0
			state := mail.Deferred
			if end {
				state = mail.Delivered
			}
			due := dues[m]
			due.Run = numbers[r]
			if _, err := s.Finish(ctx, numbers[r], []*Outcome{outcome(due, state)}); err != nil {
				t.Fatal(err)
			}
			rows.Finish(r, m, end)
		case what == 8:
			if _, err := s.pool.Exec(ctx, `UPDATE node SET gone = true WHERE id = $1`, numbers[r]); err != nil {
				t.Fatal(err)
			}
			rows.End(r)
		case what == 9:
			if _, err := s.ReleaseDead(ctx); err != nil {
				t.Fatal(err)
			}
			rows.Release()
		case what == 10 && len(runs) < 12:
			n, err := s.RegisterNode(ctx, "node "+ids.Next().String())
			if err != nil {
				t.Fatal(err)
			}
			fresh := rows.Begin()
			runs, numbers[fresh] = append(runs, fresh), n
		case what == 11 && len(entered) > 0 && rnd.IntN(3) == 0:
			m := leasing.Message(rnd.IntN(int(next)) + 1)
			if rows.There[m].Done {
				continue // what has arrived is not withdrawn
			}
			if err := s.Withdraw(ctx, []ident.ID{entered[m].Message.ID}); err != nil {
				t.Fatal(err)
			}
			rows.Withdraw(m)
		}
		for _, r := range runs {
			held, err := s.Leases(ctx, numbers[r])
			if err != nil {
				t.Fatal(err)
			}
			if want := rows.Held(r); len(held) != len(want) {
				t.Fatalf("run %d holds %d, and %d in the model", r, len(held), len(want))
			}
			for _, l := range held {
				if row := rows.There[byID[l.ID.Message]]; row.Lease != r {
					t.Fatalf("run %d holds %s, and in the model run %d", r, l.ID, row.Lease)
				}
			}
		}
	}
	done := 0
	for _, row := range rows.There {
		if row.Done {
			done++
		}
	}
	if n, waiting := tally(
		t,
		s,
		`SELECT count(*) FROM delivery_done`,
	), tally(t, s, `SELECT count(*) FROM delivery`); n != done ||
		waiting != len(rows.There)-done {
		t.Errorf("%d are done and %d wait; in the model %d and %d", n, waiting, done, len(rows.There)-done)
	}
}

// Who shares the limits of a lane are the nodes that run: not one that is drained.
func TestAHeartbeatKnowsWhoDelivers(t *testing.T) {
	s, shore := open(t)
	if _, err := s.RegisterNode(ctx, "reef"); err != nil {
		t.Fatal(err)
	}
	running := func() string {
		t.Helper()
		p, err := s.Heartbeat(ctx, shore, mail.NodeFacts{})
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(p.Running)
	}
	both := running()
	if !strings.Contains(both, "reef") || len(strings.Fields(both)) != 2 {
		t.Errorf("two run: %s", both)
	}
	if err := s.SetPause(ctx, mail.Pause{Kind: mail.PauseNode, Name: "reef", Who: "tests"}); err != nil {
		t.Fatal(err)
	}
	if got := running(); strings.Contains(got, "reef") {
		t.Errorf("reef is drained: %s", got)
	}
	if _, err := s.EndPause(ctx, mail.PauseNode, "reef"); err != nil {
		t.Fatal(err)
	}
	if got := running(); got != both {
		t.Errorf("reef delivers again: %s", got)
	}
}
