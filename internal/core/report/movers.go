package report

import (
	"cmp"
	"slices"
)

// Mover is a value whose count changed between two periods.
type Mover struct {
	Value  string `json:"value"`
	Title  string `json:"title,omitempty" doc:"What it means, in words"`
	Now    int64  `json:"now"`
	Before int64  `json:"before"`
}

// Movers are the values whose counts changed most, those first.
func Movers(now, before []Sum, limit int) []Mover {
	by := map[string]*Mover{}
	at := func(value string) *Mover {
		m := by[value]
		if m == nil {
			m = &Mover{Value: value}
			by[value] = m
		}
		return m
	}
	for _, s := range now {
		at(s.Value).Now += s.N
	}
	for _, s := range before {
		at(s.Value).Before += s.N
	}
	var list []Mover
	for _, m := range by {
		if m.Now != m.Before {
			list = append(list, *m)
		}
	}
	slices.SortFunc(list, func(a, b Mover) int {
		return cmp.Or(cmp.Compare(abs(b.Now-b.Before), abs(a.Now-a.Before)),
			cmp.Compare(a.Value, b.Value))
	})
	return list[:min(len(list), limit)]
}

func abs(n int64) int64 { return max(n, -n) }
