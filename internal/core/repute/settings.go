// Package repute makes a score of what is known of a client and of its message, and decides
// by it: signals with points that people can read and change, thresholds, exceptions, and
// greylisting (RFC 6647). It is computation only; what DNS says is brought to it.
package repute

import (
	"net/netip"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// The states of the score.
const (
	Off   = "off"
	Watch = "watch"
	On    = "on"
)

// The uses of greylisting.
const (
	ByScore = "by_score"
	All     = "all"
)

// Settings are how strangers are weighed.
type Settings struct {
	Score        string         `yaml:"score" enum:"off,watch,on" default:"off" doc:"Whether strangers' messages are weighed. watch: the score is made and shown, and decides nothing"`
	Thresholds   Thresholds     `yaml:"thresholds" doc:"From which score on what is done"`
	Points       Points         `yaml:"points" doc:"What each signal counts; 0 does not look. DNS lists have points of their own"`
	Mark         string         `yaml:"mark" default:"[doubtful]" doc:"Stands before the subject of what is marked"`
	Greylisting  string         `yaml:"greylisting" enum:"off,by_score,all" default:"off" doc:"Who is asked to come again (RFC 6647). by_score: from the threshold on. all: everybody who is not known"`
	GreylistFor  time.Duration  `yaml:"greylist_for" min:"1s" default:"5m" doc:"How long a client that is not known must wait"`
	GreylistWait time.Duration  `yaml:"greylist_wait" min:"1m" default:"2d" doc:"Until when it must have come again"`
	GreylistKeep time.Duration  `yaml:"greylist_keep" min:"1h" default:"36d" doc:"How long who has passed stays known, from its last message on"`
	InFront      []netip.Prefix `yaml:"in_front" doc:"Networks of relays in front of us, such as a provider that filters: not they are weighed but the client that they saw"`
	Allow        Exceptions     `yaml:"allow" doc:"Never weighed nor greylisted"`
	Deny         Exceptions     `yaml:"deny" doc:"Always refused; postmaster is reached all the same"`
}

// Thresholds are scores from which on something is done; 0 is never.
type Thresholds struct {
	Mark     int `yaml:"mark" json:"mark" min:"0" max:"1000" default:"30"`
	Greylist int `yaml:"greylist" json:"greylist" min:"0" max:"1000" default:"20" doc:"With greylisting by_score; by what is known before the content"`
	Hold     int `yaml:"hold" json:"hold" min:"0" max:"1000" default:"60"`
	Refuse   int `yaml:"refuse" json:"refuse" min:"0" max:"1000" default:"100"`
}

// Points are what signals count.
type Points struct {
	NoReverseName     int `yaml:"no_reverse_name" min:"0" max:"1000" default:"10" doc:"The client's address has no name"`
	ForgedReverseName int `yaml:"forged_reverse_name" min:"0" max:"1000" default:"15" doc:"It has one, and the name does not lead back"`
	FalseGreeting     int `yaml:"false_greeting" min:"0" max:"1000" default:"20" doc:"The name in EHLO is ours, another's address, or no name that exists"`
	SPFFail           int `yaml:"spf_fail" min:"0" max:"1000" default:"30"`
	SPFSoftFail       int `yaml:"spf_softfail" min:"0" max:"1000" default:"10"`
	DKIMFail          int `yaml:"dkim_fail" min:"0" max:"1000" default:"10" doc:"It has signatures, and none is good"`
	DMARCFail         int `yaml:"dmarc_fail" min:"0" max:"1000" default:"40" doc:"And the sender's domain asks to quarantine or reject such messages"`
	DMARCNoted        int `yaml:"dmarc_noted" min:"0" max:"1000" default:"10" doc:"DMARC fails, and the domain asks for nothing (p=none)"`
	FirstContact      int `yaml:"first_contact" min:"0" max:"1000" default:"5" doc:"Sender and recipient have not exchanged mail before"`
	MalformedHeader   int `yaml:"malformed_header" min:"0" max:"1000" default:"20" doc:"No From or several, no Date, a Message-ID that is none"`
	DeceivingLink     int `yaml:"deceiving_link" min:"0" max:"1000" default:"25" doc:"A link that shows one domain and leads to another"`
	Infected          int `yaml:"infected" min:"0" max:"1000" doc:"A scanner says so; not asked if not given"`
	Unwanted          int `yaml:"unwanted" min:"0" max:"1000" doc:"A scanner says so; not asked if not given"`
}

// Exceptions are by what a client or a message is spared or refused.
type Exceptions struct {
	Networks   []string         `yaml:"networks" doc:"Of clients; list:NAME for a list"`
	Senders    address.Patterns `yaml:"senders" doc:"Of the envelope. An allowed one counts only where SPF or DMARC proves it: anybody can write any sender"`
	Recipients address.Patterns `yaml:"recipients"`
}

// Given reports that there is any.
func (e *Exceptions) Given() bool {
	return len(e.Networks)+len(e.Senders)+len(e.Recipients) > 0
}

// The kinds of DNS list.
const (
	Block   = "block"
	Welcome = "allow"
)

// What a DNS list is asked about.
const (
	AsksClients = "clients"
	AsksFrom    = "from"
	AsksLinks   = "links"
)

// DNSList is a list that is asked by DNS (RFC 5782).
type DNSList struct {
	Line      int
	Name      string          `yaml:"name" required:"true"`
	Zone      form.DomainName `yaml:"zone" required:"true" doc:"Under which it answers, like driftnet.example"`
	Off       bool            `yaml:"off" doc:"Not asked for now"`
	Kind      string          `yaml:"kind" enum:"block,allow" default:"block" doc:"block: its points are added. allow: they are taken off"`
	Asks      []string        `yaml:"asks" each:"clients,from,links" doc:"About what: addresses of clients, the domain in From and of the sender, domains that links lead to; clients if not given"`
	Answers   []netip.Prefix  `yaml:"answers" doc:"Which answers count, like 127.0.0.4; all of 127.0.0.0/24 if not given"`
	Points    int             `yaml:"points" min:"1" max:"1000" default:"40"`
	Listeners []string        `yaml:"listeners" doc:"Where it counts; at all if not given"`
	AskAt     string          `yaml:"ask_at" doc:"Where somebody who is listed can ask why; told to who is refused"`
}

// About reports whether a list is asked about clients, from or links.
func (l *DNSList) About(what string) bool {
	if len(l.Asks) == 0 {
		return what == AsksClients
	}
	for _, a := range l.Asks {
		if a == what {
			return true
		}
	}
	return false
}

// usual are the answers that say "listed"; others tell of errors, by custom.
var usual = netip.MustParsePrefix("127.0.0.0/24")

// Counts reports whether an answer of the list counts.
func (l *DNSList) Counts(answer netip.Addr) bool {
	if len(l.Answers) == 0 {
		return usual.Contains(answer)
	}
	for _, p := range l.Answers {
		if p.Contains(answer) {
			return true
		}
	}
	return false
}

// Health is how a DNS list does, as a node knows it.
type Health struct {
	Name    string     `json:"name"`
	Zone    string     `json:"zone"`
	Off     bool       `json:"off,omitempty"`
	Trouble string     `json:"trouble,omitempty" doc:"Why it is not asked"`
	Since   *time.Time `json:"since,omitempty"`
	Checked *time.Time `json:"checked,omitempty" doc:"When its test entries were asked for"`
}
