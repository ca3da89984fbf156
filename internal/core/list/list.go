// Package list holds named sets that rules refer to: addresses, networks, words, kinds of
// files, hours. A set answers in a time that hardly grows with its entries.
package list

import (
	"fmt"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"gullroute/internal/core/address"
)

// The kinds of list.
const (
	Addresses = "addresses"
	Networks  = "networks"
	Words     = "words"
	FileTypes = "file-types"
	Hours     = "hours"
)

// Bounds of a list.
const (
	MaxEntries = 500_000
	maxEntry   = 1000 // octets
	// MaxSource bounds what is read from a file or URL, in octets.
	MaxSource = 32 << 20
)

// List is one as it is written.
type List struct {
	Line    int
	Name    string        `yaml:"name" required:"true" doc:"Rules refer to it as list:NAME"`
	Kind    string        `yaml:"kind" required:"true" enum:"addresses,networks,words,file-types,hours" doc:"addresses: addresses, domains, *.domain. networks: CIDR. words: phrases. file-types: groups, media types, name patterns. hours: days and times"`
	About   string        `yaml:"about" doc:"What it is for"`
	Entries []string      `yaml:"entries" whole:"yes" doc:"addresses: harbour@ferry.example, ferry.example, *.ferry.example. networks: 127.40.0.0/16. words: a phrase (whole words), *part*, /regular expression/ (RE2). file-types: programs, office-macros, archives, pictures, image/*, *.iso. hours: mon-fri 08:00-17:00, 2026-12-24 08:00-12:00, not 2026-12-25"`
	Zone    string        `yaml:"zone" default:"UTC" doc:"Of hours: the time zone, like Europe/Oslo"`
	Source  string        `yaml:"source" doc:"More entries, one a line: a file on each node, or an https URL. It is read again and again; the last good copy stays in force"`
	Every   time.Duration `yaml:"every" min:"1m" default:"1h" doc:"How often the source is read"`
}

// EntryError is one entry that cannot be read.
type EntryError struct {
	N    int // from 0
	Text string
}

// Error is the text.
func (e EntryError) Error() string { return e.Text }

// Set is a list in force. What comes from its source can be replaced at any time.
type Set struct {
	List
	inline sets
	source atomic.Pointer[sets]
}

// sets are entries by kind; nil where a list is of another kind.
type sets struct {
	addresses *addresses
	networks  *networks
	words     *words
	files     *files
	hours     *hours
	n         int
}

// New makes the set of a list that is checked. Entries that cannot be read are left out.
func New(l List) *Set {
	s := &Set{List: l}
	s.inline, _ = parse(l, l.Entries)
	return s
}

// Check says what is wrong with a list's own entries.
func Check(l List) []EntryError {
	_, wrong := parse(l, l.Entries)
	return wrong
}

// ReadSource reads a source's text: one entry a line; what begins with # is a comment.
// When more than a tenth of the lines cannot be read it is no list at all.
func ReadSource(l List, text string) (entries []string, wrong []EntryError, err error) {
	if len(text) > MaxSource {
		return nil, nil, fmt.Errorf("it is larger than %d octets", MaxSource)
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.HasPrefix(line, "#") {
			entries = append(entries, line)
		}
	}
	if len(entries) > MaxEntries {
		return nil, nil, fmt.Errorf("it has %d entries; a list holds at most %d", len(entries),
			MaxEntries)
	}
	_, wrong = parse(l, entries)
	if len(entries) > 0 && len(wrong)*10 > len(entries) {
		return nil, wrong, fmt.Errorf("%d of its %d lines are no entries of kind %s; the first: %s",
			len(wrong), len(entries), l.Kind, wrong[0].Text)
	}
	return entries, wrong, nil
}

// Replace puts the entries of the source in force in place of those before.
func (s *Set) Replace(entries []string) {
	fresh, _ := parse(s.List, entries)
	s.source.Store(&fresh)
}

// Carry takes over what another set has read from its source.
func (s *Set) Carry(from *Set) { s.source.Store(from.source.Load()) }

// Len is how many entries are in force, and how many of them came from the source.
func (s *Set) Len() (all, fromSource int) {
	if src := s.source.Load(); src != nil {
		fromSource = src.n
	}
	return s.inline.n + fromSource, fromSource
}

// parse reads entries; of several that cannot be read each is told.
func parse(l List, entries []string) (sets, []EntryError) {
	out := sets{}
	var wrong []EntryError
	var add func(int, string) error
	switch l.Kind {
	case Addresses:
		out.addresses = newAddresses(entries)
		add = out.addresses.add
	case Networks:
		out.networks = newNetworks(len(entries))
		add = out.networks.add
	case Words:
		out.words = newWords(entries)
		add = out.words.add
	case FileTypes:
		out.files = &files{}
		add = out.files.add
	case Hours:
		out.hours = newHours(l.Zone)
		add = out.hours.add
	default:
		return out, nil
	}
	for i, e := range entries {
		if len(e) > maxEntry {
			wrong = append(wrong, EntryError{i, fmt.Sprintf("an entry has at most %d octets",
				maxEntry)})
			continue
		}
		if err := add(i, strings.TrimSpace(e)); err != nil {
			wrong = append(wrong, EntryError{i, err.Error()})
			continue
		}
		out.n++
	}
	return out, wrong
}

// each asks the entries in the text, then those of the source.
func (s *Set) each(ask func(*sets) bool) {
	if ask(&s.inline) {
		return
	}
	if src := s.source.Load(); src != nil {
		ask(src)
	}
}

// Match says which entry selects an address.
func (s *Set) Match(a address.Address) (found address.Pattern, ok bool) {
	s.each(func(x *sets) bool {
		if x.addresses != nil {
			found, ok = x.addresses.match(a)
		}
		return ok
	})
	return found, ok
}

// Holds says which network of the list holds an address.
func (s *Set) Holds(ip netip.Addr) (found netip.Prefix, ok bool) {
	s.each(func(x *sets) bool {
		if x.networks != nil {
			found, ok = x.networks.match(ip)
		}
		return ok
	})
	return found, ok
}

// Find says which entry occurs in a text that Fold made.
func (s *Set) Find(folded string) (found string, ok bool) {
	s.each(func(x *sets) bool {
		if x.words != nil {
			found, ok = x.words.find(folded)
		}
		return ok
	})
	return found, ok
}

// OfFile says which entry a file is of.
func (s *Set) OfFile(f File) (found string, ok bool) {
	s.each(func(x *sets) bool {
		if x.files != nil {
			found, ok = x.files.match(f)
		}
		return ok
	})
	return found, ok
}

// Open reports whether a time is within the hours of the list.
func (s *Set) Open(t time.Time) (open bool) {
	if s.inline.hours == nil {
		return false
	}
	return s.hours().open(t)
}

// Next is the first moment from t on that is within the hours; false if there is none
// within a year.
func (s *Set) Next(t time.Time) (time.Time, bool) {
	if s.inline.hours == nil {
		return time.Time{}, false
	}
	return s.hours().next(t)
}

// hours are those in the text and of the source together: a holiday counts wherever it is.
func (s *Set) hours() *hours {
	src := s.source.Load()
	if src == nil || src.hours == nil {
		return s.inline.hours
	}
	return s.inline.hours.with(src.hours)
}
