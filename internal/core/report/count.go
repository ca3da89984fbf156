package report

import (
	"encoding/binary"
	"errors"
	"slices"
	"time"
)

// Count adds facts up by the hour.
type Count struct {
	places map[place]*[dims]map[string]int32 // where in sums the sum of a value is
	sums   []Sum
}

// place is what sums by all dimensions have in common.
type place struct {
	hour int64 // of Unix time
	kind string
}

// Add counts a fact.
func (c *Count) Add(f Fact) {
	if c.places == nil {
		c.places = map[place]*[dims]map[string]int32{}
	}
	at := place{f.At.Unix() / 3600, f.Kind}
	values := c.places[at]
	if values == nil {
		values = &[dims]map[string]int32{}
		c.places[at] = values
	}
	c.add(&f, values, pair{byTotal, ""})
	for _, p := range f.by {
		c.add(&f, values, p)
	}
}

func (c *Count) add(f *Fact, by *[dims]map[string]int32, p pair) {
	values := by[p.dim]
	if values == nil {
		values = map[string]int32{}
		by[p.dim] = values
	}
	i, ok := values[p.value]
	if !ok {
		i = int32(len(c.sums))
		values[p.value] = i
		c.sums = append(c.sums, Sum{Value: p.value, Kind: f.Kind})
	}
	s := &c.sums[i]
	s.N++
	s.Bytes += f.Bytes
	if f.Delay >= 0 {
		s.Delay += f.Delay
		s.DelayMax = max(s.DelayMax, f.Delay)
	}
}

// Len is how many sums there are.
func (c *Count) Len() int { return len(c.sums) }

// Reset forgets all sums and keeps the room for more.
func (c *Count) Reset() {
	clear(c.places)
	c.sums = c.sums[:0]
}

// Day is a day's sums by one dimension.
type Day struct {
	Dim string
	Day int64 // of Unix time
}

// Time is the beginning of the day.
func (d Day) Time() time.Time { return time.Unix(d.Day*86400, 0).UTC() }

// Pack writes all sums in a short form, for Unpack.
func (c *Count) Pack() map[Day][]byte {
	out := map[Day][]byte{}
	for at, by := range c.places {
		for dim, values := range by {
			if len(values) == 0 {
				continue
			}
			day := Day{Dims[dim], at.hour / 24}
			b := out[day]
			for value, i := range values {
				b = appendSum(b, at, value, &c.sums[i])
			}
			out[day] = b
		}
	}
	return out
}

// Log writes all sums in the form in which a commit puts them on record, for ReadLog.
func (c *Count) Log() (b []byte) {
	for at, by := range c.places {
		for dim, values := range by {
			for value, i := range values {
				b = append(b, byte(dim))
				b = appendSum(b, at, value, &c.sums[i])
			}
		}
	}
	return b
}

// ReadLog reads what Log wrote; hour is of Unix time.
func ReadLog(b []byte, visit func(dim string, hour int64, s Sum)) error {
	for len(b) > 0 {
		if int(b[0]) >= len(Dims) {
			return ErrDamaged
		}
		hour, s, rest, err := cutSum(b[1:])
		if err != nil {
			return err
		}
		visit(Dims[b[0]], hour, s)
		b = rest
	}
	return nil
}

func appendSum(b []byte, at place, value string, s *Sum) []byte {
	b = binary.AppendUvarint(b, uint64(at.hour))
	b = append(b, byte(slices.Index(Kinds, at.kind)))
	b = binary.AppendUvarint(b, uint64(len(value)))
	b = append(b, value...)
	for _, v := range [...]int64{s.N, s.Bytes, s.Delay, s.DelayMax} {
		b = binary.AppendVarint(b, v)
	}
	return b
}

// cutSum reads a sum from the beginning of b.
func cutSum(b []byte) (hour int64, s Sum, rest []byte, err error) {
	h, n := binary.Uvarint(b)
	if n <= 0 || len(b) < n+2 || int(b[n]) >= len(Kinds) {
		return 0, s, nil, ErrDamaged
	}
	s.Kind = Kinds[b[n]]
	b = b[n+1:]
	size, n := binary.Uvarint(b)
	if n <= 0 || uint64(len(b)-n) < size {
		return 0, s, nil, ErrDamaged
	}
	s.Value = string(b[n : n+int(size)])
	b = b[n+int(size):]
	for _, v := range []*int64{&s.N, &s.Bytes, &s.Delay, &s.DelayMax} {
		if *v, n = binary.Varint(b); n <= 0 {
			return 0, s, nil, ErrDamaged
		}
		b = b[n:]
	}
	return int64(h), s, b, nil
}

// ErrDamaged reports sums that cannot be read.
var ErrDamaged = errors.New("the counts on record are damaged")

// Unpack reads what Pack wrote.
func Unpack(b []byte, visit func(hour int64, s Sum)) error {
	for len(b) > 0 {
		hour, s, rest, err := cutSum(b)
		if err != nil {
			return err
		}
		visit(hour, s)
		b = rest
	}
	return nil
}
