package ident

import (
	"testing"
	"time"
)

func TestIDsGrowAndCarryTheirTime(t *testing.T) {
	now := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	clock := now
	m := NewMaker(7, func() time.Time { return clock })
	last := ID(0)
	for i := range 30_000 { // more than a millisecond has room for
		if i == 20_000 {
			clock = now.Add(-time.Hour) // the clock steps back
		}
		id := m.Next()
		if id <= last {
			t.Fatalf("id %d is not larger than the one before", i)
		}
		last = id
	}
	if d := last.Time().Sub(now); d < 0 || d > 10*time.Millisecond {
		t.Errorf("the last id is %s off", d)
	}
	if f := Floor(now); f > last || f.Time() != now {
		t.Errorf("floor %s", f.Time())
	}
	if a, b := NewMaker(1, time.Now).Next(), NewMaker(2, time.Now).Next(); a == b {
		t.Error("two nodes made the same id")
	}
}

func TestIDsSurviveBeingWritten(t *testing.T) {
	for _, id := range []ID{0, 1, 1<<63 - 1, NewMaker(3, time.Now).Next()} {
		got, err := Parse(id.String())
		if err != nil || got != id || len(id.String()) != 13 {
			t.Errorf("%s: %v", id, err)
		}
	}
	if got, err := Parse("o00000000000l"); err != nil || got != 1 {
		t.Errorf("look-alikes: %d %v", got, err)
	}
	for _, bad := range []string{"", "1", "00000000000001", "000000000000U", "000000000000 ", "ZZZZZZZZZZZZZ"} {
		if id, err := Parse(bad); err == nil {
			t.Errorf("%q was read as %d", bad, id)
		}
	}
}
