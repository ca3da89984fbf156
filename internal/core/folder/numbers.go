package folder

import (
	"slices"
	"sort"
)

// Range is numbers from Low to High, both with it.
type Range struct{ Low, High uint32 }

// Ranges are numbers in order, none twice.
type Ranges []Range

// RangesOf are the ranges of numbers in ascending order.
func RangesOf(numbers []uint32) Ranges {
	var out Ranges
	for _, n := range numbers {
		if last := len(out) - 1; last >= 0 && out[last].High+1 == n {
			out[last].High = n
			continue
		}
		out = append(out, Range{n, n})
	}
	return out
}

// Tidy puts ranges in order and joins those that touch.
func (r Ranges) Tidy() Ranges {
	r = slices.Clone(r)
	for i := range r {
		if r[i].Low > r[i].High {
			r[i].Low, r[i].High = r[i].High, r[i].Low
		}
	}
	slices.SortFunc(r, func(a, b Range) int { return int(int64(a.Low) - int64(b.Low)) })
	var out Ranges
	for _, x := range r {
		if last := len(out) - 1; last >= 0 && uint64(x.Low) <= uint64(out[last].High)+1 {
			out[last].High = max(out[last].High, x.High)
			continue
		}
		out = append(out, x)
	}
	return out
}

// Count is how many numbers there are.
func (r Ranges) Count() int {
	n := 0
	for _, x := range r {
		n += int(x.High-x.Low) + 1
	}
	return n
}

// Take splits off the first n numbers.
func (r Ranges) Take(n int) (first, rest Ranges) {
	for i, x := range r {
		if size := int(x.High-x.Low) + 1; size <= n {
			n -= size
			continue
		}
		first = r[:i:i]
		if n > 0 {
			first = append(first, Range{x.Low, x.Low + uint32(n) - 1})
			x.Low += uint32(n)
		}
		return first, append(Ranges{x}, r[i+1:]...)
	}
	return r, nil
}

// View is a folder as a session sees it: the messages that it was told of, in order. The
// slice is never changed in place, so views that agree share it.
type View struct{ uids []uint32 }

// ViewOf makes a view of numbers in ascending order, which are not to be changed.
func ViewOf(uids []uint32) View { return View{uids} }

// Len is how many messages there are.
func (v View) Len() int { return len(v.uids) }

// UIDs are all numbers.
func (v View) UIDs() []uint32 { return v.uids }

// Seq is the place of a message, from 1 on; 0 if the view has none of that number.
func (v View) Seq(uid uint32) uint32 {
	i, ok := slices.BinarySearch(v.uids, uid)
	if !ok {
		return 0
	}
	return uint32(i + 1)
}

// Star is what "*" means: the last message.
const Star = 0

// BySeq are the messages at places.
func (v View) BySeq(places Ranges) Ranges {
	n := uint32(len(v.uids))
	if n == 0 {
		return nil
	}
	var out []uint32
	for _, r := range starred(places, n) {
		if r.Low > n {
			continue
		}
		out = append(out, v.uids[max(r.Low, 1)-1:min(r.High, n)]...)
	}
	return RangesOf(out)
}

// Known reports whether all places are there.
func (v View) Known(places Ranges) bool {
	n := uint32(len(v.uids))
	for _, r := range places {
		if r.Low == Star || r.High == Star { // as many as there are, be it none
			r.Low, r.High = min(r.Low, n), min(r.High, n)
		}
		if r.Low > n || r.High > n {
			return false
		}
	}
	return true
}

// ByUID are the messages of the view with these numbers.
func (v View) ByUID(numbers Ranges) Ranges {
	if len(v.uids) == 0 {
		return nil
	}
	var out []uint32
	for _, r := range starred(numbers, v.uids[len(v.uids)-1]) {
		low := sort.Search(len(v.uids), func(i int) bool { return v.uids[i] >= r.Low })
		high := sort.Search(len(v.uids), func(i int) bool { return v.uids[i] > r.High })
		if low < high {
			out = append(out, v.uids[low:high]...)
		}
	}
	return RangesOf(out)
}

// starred puts the last number in place of stars.
func starred(r Ranges, last uint32) Ranges {
	r = slices.Clone(r)
	for i := range r {
		if r[i].Low == Star {
			r[i].Low = last
		}
		if r[i].High == Star {
			r[i].High = last
		}
	}
	return r.Tidy()
}

// Without is the view without messages that are gone, and at which places they stood: each
// counted after those before it were taken out, as EXPUNGE tells them (RFC 9051 section 7.5.1).
func (v View) Without(gone []uint32) (View, []uint32) {
	gone = slices.Clone(gone)
	slices.Sort(gone)
	gone = slices.Compact(gone)
	left := make([]uint32, 0, len(v.uids))
	var places []uint32
	for _, uid := range v.uids {
		for len(gone) > 0 && gone[0] < uid {
			gone = gone[1:]
		}
		if len(gone) > 0 && gone[0] == uid {
			places = append(places, uint32(len(left)+1))
			continue
		}
		left = append(left, uid)
	}
	if len(places) == 0 {
		return v, nil
	}
	return View{left}, places
}

// With is the view with messages that came: those above its last number.
func (v View) With(came []uint32) View {
	last := uint32(0)
	if n := len(v.uids); n > 0 {
		last = v.uids[n-1]
	}
	fresh := slices.DeleteFunc(slices.Clone(came), func(uid uint32) bool { return uid <= last })
	if len(fresh) == 0 {
		return v
	}
	return View{append(v.uids[:len(v.uids):len(v.uids)], fresh...)}
}
