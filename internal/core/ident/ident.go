// Package ident makes the numbers of messages and sessions: 64 bits, ordered by
// time, written in Crockford base32.
package ident

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// ID is a number: 42 bits of milliseconds since Epoch, 8 bits of node, 13 bits
// of sequence; the sign bit is 0.
type ID int64

// Epoch is the time of ID 0.
var Epoch = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

const (
	nodeBits = 8
	seqBits  = 13
	alphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
	length   = 13 // digits of a written ID
)

// Floor is the smallest ID made at or after t.
func Floor(t time.Time) ID {
	return ID(t.Sub(Epoch).Milliseconds() << (nodeBits + seqBits))
}

// Time is when the ID was made, to the millisecond.
func (id ID) Time() time.Time {
	return Epoch.Add(time.Duration(id>>(nodeBits+seqBits)) * time.Millisecond)
}

// String is the written form, of 13 digits.
func (id ID) String() string {
	var b [length]byte
	v := uint64(id)
	for i := length - 1; i >= 0; i-- {
		b[i] = alphabet[v&31]
		v >>= 5
	}
	return string(b[:])
}

// MarshalText is String.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText is Parse.
func (id *ID) UnmarshalText(text []byte) error {
	v, err := Parse(string(text))
	*id = v
	return err
}

// digits are the values of the digits by octet, -1 for what is none.
var digits = func() (table [256]int8) {
	for i := range table {
		table[i] = -1
	}
	for i, r := range alphabet {
		table[r] = int8(i)
		table[strings.ToLower(string(r))[0]] = int8(i)
	}
	for alike, d := range map[string]int8{"IiLl": 1, "Oo": 0} {
		for _, r := range alike {
			table[r] = d
		}
	}
	return table
}()

// Parse reads a written ID; small letters, and the look-alikes i, l and o, are
// taken for the digits they are meant to be.
func Parse(s string) (ID, error) {
	if len(s) != length {
		return 0, fmt.Errorf("%q is not an id: an id has %d letters and digits", s, length)
	}
	var v uint64
	for i := range length {
		d := digits[s[i]]
		if d < 0 {
			return 0, fmt.Errorf("%q is not an id: %q is no digit of one", s, s[i])
		}
		v = v<<5 | uint64(d)
	}
	if v>>63 != 0 {
		return 0, fmt.Errorf("%q is not an id: it is too large", s)
	}
	return ID(v), nil
}

// Maker makes IDs that grow. It is safe for several goroutines.
type Maker struct {
	node int64
	now  func() time.Time

	mu   sync.Mutex
	last int64 // milliseconds
	seq  int64
}

// NewMaker makes IDs for a node by a clock.
func NewMaker(node int, now func() time.Time) *Maker {
	return &Maker{node: int64(node) & (1<<nodeBits - 1), now: now}
}

// Next is a new ID. If the clock steps back, time stands still until it has
// caught up.
func (m *Maker) Next() ID {
	m.mu.Lock()
	defer m.mu.Unlock()
	ms := m.now().Sub(Epoch).Milliseconds()
	switch {
	case ms > m.last:
		m.last, m.seq = ms, 0
	case m.seq < 1<<seqBits-1:
		m.seq++
	default:
		m.last, m.seq = m.last+1, 0
	}
	return ID(m.last<<(nodeBits+seqBits) | m.node<<seqBits | m.seq)
}
