// Package readiness judges whether what the world sees of a domain is right: its
// DNS, its hosts, its identity and its reputation. It asks nobody: the facts are
// brought to it.
package readiness

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/tlsterms"
)

// Result is how one point stands.
type Result string

// The results.
const (
	Pass       Result = "pass"
	Warning    Result = "warning"
	Fail       Result = "fail"
	NotChecked Result = "not checked"
)

// Aspect is one thing that was looked at.
type Aspect struct {
	Key      string              `json:"key" doc:"mx, reach, tls, host-name, ptr, ehlo-name, spf, dkim, dmarc, block-lists, tls-reports, mta-sts, dane, mail-programs"`
	Title    string              `json:"title"`
	Result   Result              `json:"result" enum:"pass,warning,fail,not checked"`
	Weight   float64             `json:"weight" doc:"How much it counts among those that were checked"`
	Costs    float64             `json:"costs" doc:"Points of ten that it takes away"`
	Expected string              `json:"expected"`
	Found    []string            `json:"found"`
	Says     string              `json:"says" doc:"What it means and what to do"`
	Records  []publish.DNSRecord `json:"records,omitempty" doc:"What to publish, to make it pass"`
}

// Readiness is a domain as the world sees it.
type Readiness struct {
	Domain    string    `json:"domain"`
	Name      string    `json:"name" doc:"The domain as people read it"`
	Kind      string    `json:"kind" enum:"local,shared,relay"`
	CheckedAt time.Time `json:"checked_at"`
	Score     float64   `json:"score" doc:"Out of ten"`
	Verdict   string    `json:"verdict"`
	Points    []Aspect  `json:"points" doc:"Worst first"`
	// Everything that concerns mail, as it should be in DNS.
	Zone []ZoneRecord `json:"zone,omitempty" doc:"All records that concern mail, as they should be"`
}

// Host is a mail host of the domain.
type Host struct {
	Name       string
	Preference int
	Addrs      []netip.Addr
	// where the name leads by a CNAME, which an MX must not (RFC 5321 section 5.1)
	CNAME   string
	Literal bool // the MX is an address, not a name
	Error   string
	Ours    bool
	// What a connection to it showed.
	Tried, Reached, TLS, Verified bool
	Trouble                       string // why it cannot be used
	TLSTrouble                    string
	Until                         time.Time // of its certificate
	DANE                          *DANE
}

// DANE is what TLSA records say of a host's certificate (RFC 7672).
type DANE struct {
	Records   int
	Validated bool // by DNSSEC, as the resolver says
	Matches   bool
}

// Names are those of one of our addresses.
type Names struct {
	Addr              netip.Addr
	Confirmed, Others []string
	Error             string
}

// SPF is what the domain publishes and what follows for our addresses.
type SPF struct {
	Records []string
	Error   string
	Results map[netip.Addr]senderauth.SPF
	Tree    Tree
}

// Tree is a record with all that it includes.
type Tree struct {
	Lookups int      // terms that ask DNS, of ten allowed (RFC 7208 section 4.6.4)
	Passes  []string // networks and names that pass
	All     string   // the last word: -all, ~all, ?all, +all or ""
	Faults  []string
}

// Listing is what a block list says of an address.
type Listing struct {
	List   string
	Addr   netip.Addr
	Listed bool
	Reason string
	Error  string
}

// STS is what the domain says of TLS to its hosts (RFC 8461).
type STS struct {
	Record string
	Mode   string
	MX     []string
	Error  string
	Own    tlsterms.Policy // what the configuration says; its mode is "" if it says nothing
}

// Facts are what was found out.
type Facts struct {
	Domain, Kind string
	HostName     string
	EHLONames    []string // of routes that use another name
	EHLO         map[string][]netip.Addr
	Ours         []netip.Addr // by which the world sees us
	OursError    string
	HostAddrs    []netip.Addr // of our host name, in DNS
	NullMX       bool
	NoMX         bool
	MXError      string
	Hosts        []Host
	Names        []Names
	SPF          SPF
	Keys         []mail.DKIMKey
	DMARC        senderauth.Lookup
	DMARCText    string
	TLSReports   string
	STS          STS
	Lists        []Listing
	SmartHosts   []string // that mail of the domain leaves by
	Postmaster   string
	ReportsTo    string   // where reports are read
	Evidence     Evidence // what others report
	Services     []Service
}

// Evidence is what others reported lately of mail in a domain's name.
type Evidence struct {
	Days             int
	Messages, Passed int64
	Unproved         []string // senders that are known, and whose messages do not all pass
	Strange          int64    // messages of those that nobody knows
}

// Judge judges a domain.
func Judge(f Facts, now time.Time) Readiness {
	r := Readiness{
		Domain:    f.Domain,
		Name:      address.DisplayDomain(f.Domain),
		Kind:      f.Kind,
		CheckedAt: now.UTC(),
		Points:    []Aspect{},
	}
	points := []Aspect{
		f.mx(),
		f.reach(),
		f.tls(now),
		f.hostName(),
		f.ptr(),
		f.ehlo(),
		f.blockLists(),
		f.tlsReports(),
		f.sts(),
		f.dane(),
		f.programs(),
	}
	if f.Kind == "relay" {
		points = append(points, Aspect{
			Key:      "spf",
			Title:    "SPF, DKIM and DMARC",
			Result:   NotChecked,
			Expected: "those of who sends for it",
			Says:     "We pass this domain's mail on and send nothing in its name.",
		})
	} else {
		points = append(points, f.spf(), f.dkim(), f.dmarc())
	}
	total := 0.0
	for _, p := range points {
		if p.Result != NotChecked {
			total += p.Weight
		}
	}
	lost, failed, warned := 0.0, 0, 0
	for i := range points {
		p := &points[i]
		found := make([]string, len(p.Found))
		for k, text := range p.Found {
			found[k] = inert.Text(text)
		}
		p.Found, p.Says = found, inert.Text(p.Says)
		share := map[Result]float64{Fail: 1, Warning: 0.5}[p.Result]
		if total > 0 {
			p.Costs = round(10 * p.Weight * share / total)
		}
		lost += p.Weight * share
		switch p.Result {
		case Fail:
			failed++
		case Warning:
			warned++
		}
	}
	slices.SortStableFunc(points, func(a, b Aspect) int { return cmp.Compare(b.Costs, a.Costs) })
	for _, want := range []Result{Fail, Warning, Pass, NotChecked} {
		for _, p := range points {
			if p.Result == want {
				r.Points = append(r.Points, p)
			}
		}
	}
	if total > 0 {
		r.Score = round(10 * (1 - lost/total))
	}
	r.Verdict = verdict(failed, warned, r.Points)
	r.Zone = f.zone(r.Points)
	return r
}

func round(x float64) float64 { return float64(int(x*10+0.5)) / 10 }

func verdict(failed, warned int, points []Aspect) string {
	switch {
	case failed+warned == 0:
		return "Everything that was looked at is right."
	case failed == 0:
		return fmt.Sprintf("It works; %s could be better. First: %s", count(warned, "point"),
			points[0].Says)
	case warned == 0:
		return fmt.Sprintf("%s wrong. First: %s", isAre(failed, "point"), points[0].Says)
	}
	return fmt.Sprintf("%s wrong, %s could be better. First: %s", isAre(failed, "point"),
		count(warned, "point"), points[0].Says)
}

func count(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func isAre(n int, what string) string {
	if n == 1 {
		return "One " + what + " is"
	}
	return fmt.Sprintf("%d %ss are", n, what)
}

func join(addrs []netip.Addr) string {
	words := make([]string, len(addrs))
	for i, a := range addrs {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

func contains(addrs []netip.Addr, a netip.Addr) bool {
	for _, x := range addrs {
		if x.Unmap() == a.Unmap() {
			return true
		}
	}
	return false
}
