package leasing

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
)

// search lets a world of three nodes go on for so many steps, and settles it now and then.
func search(seed uint64, steps int, f Faults) error {
	w := NewWorld(3, seed, f)
	for i := range steps {
		w.Step()
		var err error
		switch {
		case i%2000 == 1999:
			err = w.Settle()
		case i%20 == 0:
			err = w.Check()
		}
		if err != nil {
			var b *Broken
			if !errors.As(err, &b) {
				b = &Broken{}
			}
			trace := w.Trace(b.Message)
			return fmt.Errorf("seed %d, step %d: %w\n%s", seed, i, err,
				strings.Join(trace[max(0, len(trace)-60):], "\n"))
		}
	}
	return nil
}

func TestEveryPromiseHoldsUnderAnyFaults(t *testing.T) {
	const worlds, steps = 20, 50_000 // a million steps
	seed := uint64(time.Now().UnixNano())
	if given, err := strconv.ParseUint(os.Getenv("GULL_SEED"), 10, 64); err == nil {
		seed = given
	}
	t.Logf("the first seed is %d (GULL_SEED repeats it)", seed)
	for i := range uint64(worlds) {
		if err := search(seed+i, steps, Faults{}); err != nil {
			t.Fatal(err)
		}
	}
}

// A search that finds nothing is worth what it can find.
func TestTheSearchFindsEachKnownMistake(t *testing.T) {
	for name, f := range map[string]Faults{
		"a run that is over goes on":               {OldRunReturns: true},
		"a watcher counts what it did not see":     {BlindWatcher: true},
		"an unclear commit is refused and left":    {KeepDoubt: true},
		"leases are never compared with the hands": {NoLook: true},
	} {
		var found error
		for seed := uint64(1); seed < 40 && found == nil; seed++ {
			found = search(seed, 20_000, f)
		}
		if found == nil {
			t.Errorf("%s: nothing was found", name)
		} else {
			t.Logf("%s: %s", name, strings.SplitN(found.Error(), "\n", 2)[0])
		}
	}
}
