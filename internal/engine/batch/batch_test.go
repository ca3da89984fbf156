package batch

import (
	"errors"
	"slices"
	"testing"

	"gullroute/internal/store"
)

func TestOneBadItemFailsAlone(t *testing.T) {
	var written, bad []int
	write := func(list []int) error {
		if slices.ContainsFunc(list, func(i int) bool { return i%10 == 7 }) {
			return store.ErrData
		}
		written = append(written, list...)
		return nil
	}
	items := make([]int, 30)
	for i := range items {
		items[i] = i
	}
	left, err := Write(items, write, func(i int, _ error) { bad = append(bad, i) })
	if err != nil || len(left) > 0 || !slices.Equal(bad, []int{7, 17, 27}) || len(written) != 27 ||
		!slices.IsSorted(written) {
		t.Errorf("written %v, bad %v, left %v: %v", written, bad, left, err)
	}
}

func TestAnotherErrorEndsItAndLeavesTheRest(t *testing.T) {
	away := errors.New("away")
	var written []int
	write := func(list []int) error {
		switch {
		case len(list) > 2:
			return store.ErrData
		case list[0] >= 4:
			return away
		}
		written = append(written, list...)
		return nil
	}
	left, err := Write([]int{0, 1, 2, 3, 4, 5, 6, 7}, write, func(int, error) { t.Error("nobody is to blame") })
	if err != away || !slices.Equal(written, []int{0, 1, 2, 3}) || !slices.Equal(left, []int{4, 5, 6, 7}) {
		t.Errorf("written %v, left %v: %v", written, left, err)
	}
}
