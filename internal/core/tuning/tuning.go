// Package tuning judges how the database server is set up for mail: what would lose
// messages, what would stop the service one day, and what makes it slower than the machine
// is. It knows facts and says what to change; it asks nobody.
package tuning

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Severity says what comes of leaving a finding as it is.
type Severity string

// The severities, the worst first.
const (
	Loses Severity = "loses mail" // messages that got their 250 can be lost
	Stops Severity = "stops"      // the service stops one day
	Slow  Severity = "slow"
)

var severities = []Severity{Loses, Stops, Slow}

// Sizes in octets.
const (
	KB int64 = 1 << 10
	MB       = KB << 10
	GB       = MB << 10
)

// Facts are what is known of the server.
type Facts struct {
	// Settings hold each setting as the session of the service sees it; sizes in octets,
	// times in milliseconds, switches as on and off.
	Settings map[string]string
	// Memory of the server in octets; 0 if not known.
	Memory int64

	Nodes     int // services on this database
	PerNode   int // connections that each may open
	Relations int // tables and indexes of history: what a search over all of it locks

	TimedCheckpoints, ForcedCheckpoints int64
	// WrittenByBackends are pages that those who wait for them had to write, of all written.
	WrittenByBackends, Written int64
	XidAge                     int64 // transactions since the oldest that is not frozen
	IdleSlots                  []Slot
	// ArchiveFailing is the log file that can't be archived; empty if there is none.
	ArchiveFailing string
}

// Slot is a replication slot that nobody reads.
type Slot struct {
	Name string
	Held int64 // octets of the log that it holds
}

// Advice is something to change.
type Advice struct {
	Severity Severity `json:"severity" enum:"loses mail,stops,slow"`
	What     string   `json:"what" doc:"The setting, or the part of the database"`
	Now      string   `json:"now"`
	Better   string   `json:"better,omitempty" doc:"The value to set; empty if it is no setting"`
	Why      string   `json:"why"`
	Do       string   `json:"do" doc:"The statement or step that changes it"`
	Restart  bool     `json:"restart,omitempty" doc:"Takes effect when PostgreSQL is restarted"`
}

// Look finds what is to be changed, the worst first.
func Look(f Facts) []Advice {
	l := look{Facts: f}
	l.safety()
	l.room()
	l.speed()
	slices.SortStableFunc(l.found, func(a, b Advice) int {
		return cmp.Compare(
			slices.Index(severities, a.Severity),
			slices.Index(severities, b.Severity),
		)
	})
	return l.found
}

type look struct {
	Facts
	found []Advice
}

// setting adds a finding about a setting.
func (l *look) setting(s Severity, name, better, why string, restart bool) {
	l.found = append(
		l.found,
		Advice{Severity: s, What: name, Now: l.shown(name), Better: better, Why: why,
			Do: fmt.Sprintf("ALTER SYSTEM SET %s = %s", name, quoted(better)), Restart: restart},
	)
}

func quoted(value string) string { return "'" + strings.ReplaceAll(value, "'", "''") + "'" }

// sizes are the settings that are sizes, and times those that are times.
var (
	sizes = []string{"shared_buffers", "effective_cache_size", "max_wal_size", "wal_buffers",
		"maintenance_work_mem", "autovacuum_work_mem", "work_mem"}
	times = []string{
		"checkpoint_timeout",
		"autovacuum_naptime",
		"statement_timeout",
		"lock_timeout",
		"bgwriter_delay",
	}
)

// shown is a setting's value as people write it.
func (l *look) shown(name string) string {
	switch n := l.number(name); {
	case slices.Contains(sizes, name):
		return Size(n)
	case slices.Contains(times, name):
		return Time(n)
	}
	return l.Settings[name]
}

// number is a setting that is one; 0 if it is none or not known.
func (l *look) number(name string) (n int64) {
	_, _ = fmt.Sscanf(l.Settings[name], "%d", &n)
	return n
}

// is tells whether a setting is known and has that value.
func (l *look) is(name, value string) bool {
	v, known := l.Settings[name]
	return known && v == value
}

// below tells whether a setting is known and smaller.
func (l *look) below(name string, n int64) bool {
	_, known := l.Settings[name]
	return known && l.number(name) < n
}

// Size writes octets as PostgreSQL reads them.
func Size(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"GB", GB}, {"MB", MB}, {"kB", KB}} {
		if n >= u.size && n%u.size == 0 {
			return fmt.Sprintf("%d%s", n/u.size, u.name)
		}
	}
	if n >= MB {
		return fmt.Sprintf("%dMB", n/MB)
	}
	return fmt.Sprintf("%dB", n)
}

// Time writes milliseconds as PostgreSQL reads them.
func Time(ms int64) string {
	switch {
	case ms >= 60_000 && ms%60_000 == 0:
		return fmt.Sprintf("%dmin", ms/60_000)
	case ms >= 1000 && ms%1000 == 0:
		return fmt.Sprintf("%ds", ms/1000)
	}
	return fmt.Sprintf("%dms", ms)
}
