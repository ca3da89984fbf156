package form

import (
	"fmt"
	"net/netip"
	"time"
)

// DomainName is a domain in A-label form.
type DomainName string

// Size is a number of octets, written like "50 MB" (1 MB is 1,000,000).
type Size int64

// String is the shortest exact form.
func (s Size) String() string {
	for _, u := range []struct {
		size Size
		name string
	}{{1e9, "GB"}, {1e6, "MB"}, {1e3, "KB"}} {
		if s >= u.size && s%u.size == 0 {
			return fmt.Sprintf("%d %s", s/u.size, u.name)
		}
	}
	return fmt.Sprint(int64(s))
}

// Day is a date; the zero value is none.
type Day struct{ time.Time }

// dayFormat is how a day is written.
const dayFormat = "2006-01-02"

// String is like 2026-11-23.
func (d Day) String() string {
	if d.IsZero() {
		return ""
	}
	return d.Format(dayFormat)
}

// MarshalText is String.
func (d Day) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads the form of String.
func (d *Day) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*d = Day{}
		return nil
	}
	v, err := parseDay(string(text))
	*d = v
	return err
}

func parseDay(s string) (Day, error) {
	t, err := time.Parse(dayFormat, s)
	if err != nil {
		return Day{}, fmt.Errorf("%q is not a day; write 2026-11-23", s)
	}
	return Day{t}, nil
}

func parseAddr(s string) (netip.Addr, error) {
	ip, err := netip.ParseAddr(s)
	if err != nil {
		return ip, fmt.Errorf("%q is not an IP address", s)
	}
	return ip.Unmap(), nil
}
