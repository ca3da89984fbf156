package list

import "hash/maphash"

// index finds the numbers of entries by a key. It holds no pointers: the collector passes
// over a list of a hundred thousand entries in no time. Keys that share a hash share a
// chain, so that whoever asks compares.
type index struct {
	head  map[uint64]int32
	links []link
}

type link struct{ entry, next int32 }

var seed = maphash.MakeSeed()

func newIndex() index { return index{head: map[uint64]int32{}} }

func (x *index) add(key string, entry int) {
	h := maphash.String(seed, key)
	next, ok := x.head[h]
	if !ok {
		next = -1
	}
	x.head[h] = int32(len(x.links))
	x.links = append(x.links, link{int32(entry), next})
}

// find is the first entry under a key that fits, or -1.
func (x *index) find(key string, fits func(entry int) bool) int {
	if len(x.head) == 0 {
		return -1
	}
	at, ok := x.head[maphash.String(seed, key)]
	for ok && at >= 0 {
		l := x.links[at]
		if fits(int(l.entry)) {
			return int(l.entry)
		}
		at = l.next
	}
	return -1
}
