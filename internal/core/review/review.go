// Package review finds what one should know of the settings: what is allowed, works, and will
// one day be regretted. Each says why it matters, and how to fix it.
package review

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// Severity is how bad a finding is.
type Severity string

// The severities.
const (
	Critical Severity = "critical"
	Serious  Severity = "serious"
	Minor    Severity = "minor"
)

var order = map[Severity]int{Critical: 0, Serious: 1, Minor: 2}

// Finding is one thing to fix, or to accept with a reason.
type Finding struct {
	Key      string      `json:"key" doc:"What it is, and where: it stays the same until it is fixed"`
	Rule     string      `json:"rule"`
	Severity Severity    `json:"severity" enum:"critical,serious,minor"`
	Title    string      `json:"title"`
	Where    string      `json:"where" doc:"Like listener edge"`
	Text     string      `json:"text" doc:"What was found"`
	Why      string      `json:"why" doc:"Why it matters"`
	Fix      *Remedy     `json:"fix,omitempty" doc:"What a button does; not there if a person must do it elsewhere"`
	ByHand   string      `json:"by_hand,omitempty" doc:"What a person does"`
	Accepted *Acceptance `json:"accepted,omitempty" doc:"Somebody decided to live with it"`
}

// Remedy is a change that fixes a finding.
type Remedy struct {
	Says    string         `json:"says"`
	Effect  string         `json:"effect" doc:"What changes for people and machines"`
	Section string         `json:"section" doc:"Of the configuration; aliases take effect immediately, the rest goes into the draft"`
	Name    string         `json:"name,omitempty"`
	Fields  map[string]any `json:"fields,omitempty"`
	Remove  bool           `json:"remove,omitempty"`
	Add     bool           `json:"add,omitempty" doc:"A new item"`
}

// Acceptance is a decision to live with a finding.
type Acceptance struct {
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
	Because string    `json:"because"`
}

// Certificate is what a listener shows.
type Certificate struct {
	Listener string
	Own      bool // made by the server itself
	Until    time.Time
	Names    []string
	Fits     bool // its names have the listener's
}

// UnusedAfter is for how long nobody signed in to a mailbox that is called unused.
const UnusedAfter = 180 * 24 * time.Hour

// Facts are what a review goes by beside the configuration. What is not known is
// zero, and then nothing is said of it.
type Facts struct {
	Now          time.Time
	Certificates []Certificate
	Keys         []mail.DKIMKey
	Disks        []Disk
	Machine      []machine.Examined // that somebody should look at
	ClockOff     time.Duration      // our clock against the database's
	ConsoleOpen  bool               // the console is reached from the network without TLS
	KeyFile      bool               // secrets or keys are kept under a key file
	NoReverse    []netip.Addr       // addresses of ours without a name
	// of the database; so many are connected, or named beside the primary
	Standbys    int
	Synchronous string   // its setting synchronous_standby_names
	NoPassword  []string // mailboxes that may send and cannot sign in
	Unused      []string // mailboxes to which nobody signed in since UnusedAfter
	// NotReady are domains at whose last look something failed.
	NotReady map[string]string
	// DeadLists are lists whose source brings nothing, with why and since when.
	DeadLists map[string]string
	// WatchedBefore are gates that watched already 30 days ago.
	WatchedBefore []string
	// Busiest are the accounts that sent most, on their busiest day of so many.
	Busiest []report.Busy
	Days    int
}

// Disk is one that the service writes to.
type Disk struct {
	What string
	Dir  string
	Used float64 // a part of one
	Free int64   // octets
	Size int64   // octets, of all of it
}

// reviewer collects.
type reviewer struct {
	c   *config.Compiled
	f   Facts
	out []Finding
}

// found adds a finding of a rule at a place.
func (v *reviewer) found(rule, where, text string, fix *Remedy) {
	r := rules[rule]
	key := rule
	if where != "" {
		key += ":" + where
	}
	_, name, _ := strings.Cut(where, " ") // of the domain, listener or mailbox
	byHand := strings.NewReplacer("DOMAIN", name, "NAME", strconv.Quote(name)).Replace(r.byHand)
	if fix != nil || name == "" {
		byHand = r.byHand
	}
	v.out = append(v.out, Finding{
		Key:      key,
		Rule:     rule,
		Severity: r.severity,
		Title:    r.title,
		Where:    cmp.Or(where, "the server"),
		Text:     text,
		Why:      r.why,
		ByHand:   byHand,
		Fix:      fix,
	})
}

// Settings are the findings that a configuration has by itself, worst first.
func Settings(c *config.Compiled) []Finding { return Of(c, Facts{}) }

// Of are the findings of a configuration and of what is around it, worst first.
func Of(c *config.Compiled, f Facts) []Finding {
	v := &reviewer{c: c, f: f, out: []Finding{}}
	v.relay()
	v.listeners()
	v.domains()
	v.routes()
	v.gates()
	v.service()
	v.people()
	v.machine()
	slices.SortStableFunc(v.out,
		func(a, b Finding) int { return order[a.Severity] - order[b.Severity] })
	return v.out
}

// New are the findings of b that a has not.
func New(a, b []Finding) []Finding {
	var out []Finding
	for _, w := range b {
		if !slices.ContainsFunc(a, func(x Finding) bool { return x.Key == w.Key }) {
			out = append(out, w)
		}
	}
	return out
}

// set changes fields of an item.
func set(section, name, says, effect string, fields map[string]any) *Remedy {
	return &Remedy{Says: says, Effect: effect, Section: section, Name: name, Fields: fields}
}

// remove takes an item out.
func remove(section, name, says, effect string) *Remedy {
	return &Remedy{Says: says, Effect: effect, Section: section, Name: name, Remove: true}
}
