package queue

import (
	"fmt"
	"strings"
	"testing"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

func TestSendersTakeTurnsAndBulkWaitsButNotForEver(t *testing.T) {
	var q turns
	add := func(sender string, n int, bulk bool) {
		for i := range n {
			q.add(&job{
				origin:     origin{sender: fmt.Sprintf("%s%d", sender, 0)},
				deliveries: []*mail.Delivery{{N: int16(i), Bulk: bulk}},
			})
		}
	}
	add("many", 30, true)
	add("ines", 9, false)
	add("wren", 2, false)
	add("", 1, false) // a notice
	var order []string
	for j := q.next(); j != nil; j = q.next() {
		order = append(order, map[string]string{"many0": "m", "ines0": "i", "wren0": "w", "0": "n"}[j.sender])
	}
	if got := strings.Join(order, ""); !strings.HasPrefix(got,
		"iwniwiimiiiiim") || len(got) != 42 || q.len() != 0 {
		t.Errorf("%s", got)
	}
	q.add(&job{origin: origin{sender: "a"}, deliveries: []*mail.Delivery{{}}})
	q.putBack(&job{origin: origin{sender: "first"}, deliveries: []*mail.Delivery{{}}})
	if j := q.next(); j.sender != "first" || len(q.takeAll()) != 1 || q.len() != 0 {
		t.Error("what is put back has the next turn")
	}
}

func TestASenderOfVeryManyIsBulk(t *testing.T) {
	var v volume
	bulk := 0
	for range 80 {
		if v.add(1, "tickets@skerryline.example", 1000) {
			bulk++
		}
		if v.add(1, "", 1000) {
			t.Fatal("a notice is bulk")
		}
	}
	if bulk != 80-bulkAfter || v.add(2, "tickets@skerryline.example", 1000) ||
		v.add(1, "ines@skerryline.example", 1000) ||
		v.add(1, "tickets@skerryline.example", 1000+bulkPeriod) {
		t.Errorf("%d of 80 are bulk", bulk)
	}
}

func TestALookGoesOnBehindTheLastLane(t *testing.T) {
	look := func(from int64, lanes ...int64) int64 {
		var due []store.Due
		for _, l := range lanes {
			due = append(due, store.Due{Delivery: mail.Delivery{LaneID: ident.ID(l)}})
		}
		return int64(lastLane(due, ident.ID(from)))
	}
	for _, c := range []struct {
		from  int64
		lanes []int64
		want  int64
	}{{0, []int64{3, 9, 5}, 9}, {5, []int64{9, 7, 2}, 2}, {5, []int64{2, 5}, 5}, {5, []int64{7}, 7}, {9,
		[]int64{4, 2}, 4}} {
		if got := look(c.from, c.lanes...); got != c.want {
			t.Errorf("from %d through %v: goes on behind %d, want %d", c.from, c.lanes, got, c.want)
		}
	}
}

// High priority goes first, the highest before all, and keeps nobody away for ever.
func TestHighPriorityGoesFirstAndStarvesNobody(t *testing.T) {
	var x turns
	put := func(sender string, priority int, bulk bool) {
		x.add(&job{origin: origin{sender: sender, asked: mail.Demands{Priority: priority}},
			deliveries: []*mail.Delivery{{Bulk: bulk}}})
	}
	for range 3 {
		put("plain", 0, false)
	}
	put("bulk", 0, true)
	for i := range 60 {
		put("high", 1+i%9, false)
	}
	seen, last := map[string]int{}, 10
	for n := range x.len() {
		j := x.next()
		if j == nil {
			t.Fatalf("%d jobs are lost", 64-n)
		}
		if _, known := seen[j.sender]; !known {
			seen[j.sender] = n
		}
		if p := j.asked.Priority; p > 0 {
			if p > last {
				t.Errorf("priority %d after %d", p, last)
			}
			last = p
		}
	}
	if seen["high"] != 0 || seen["plain"] > frontInRow || seen["bulk"] > 40 || x.next() != nil || x.len() != 0 {
		t.Errorf("first turns: %v, %d left", seen, x.len())
	}
}
