package mail

import (
	"net/netip"
	"time"
)

// FeedbackSender is an address from which mail in the name of a domain came, as others report.
type FeedbackSender struct {
	Source   netip.Addr `json:"source"`
	Name     string     `json:"name,omitempty" doc:"What it is called here: ours, or as somebody named it"`
	Known    bool       `json:"known" doc:"It is ours, or somebody named it"`
	Messages int64      `json:"messages"`
	Passed   int64      `json:"passed" doc:"Proved by SPF or by a signature of the domain"`
	BySPF    int64      `json:"by_spf"`
	BySigned int64      `json:"by_signature"`
	Refused  int64      `json:"refused" doc:"Quarantined or rejected by who got them"`
	First    time.Time  `json:"first"`
	Last     time.Time  `json:"last"`
	Of       []string   `json:"of" doc:"Domains that SPF or signatures named"`
}

// FeedbackDay is a day of what others report.
type FeedbackDay struct {
	Day      time.Time `json:"day"`
	Messages int64     `json:"messages"`
	Passed   int64     `json:"passed"`
}

// FeedbackTLS are connections to our hosts that fared alike, as others report.
type FeedbackTLS struct {
	Policy   string    `json:"policy" doc:"sts, tlsa or no-policy-found"`
	Result   string    `json:"result" doc:"What failed, in the words of RFC 8460; empty for those that did well"`
	Host     string    `json:"host"`
	More     string    `json:"more,omitempty"`
	Sessions int64     `json:"sessions"`
	Last     time.Time `json:"last"`
	Tellers  []string  `json:"reporters"`
}

// FeedbackSource is a sender in our name that somebody named.
type FeedbackSource struct {
	Network netip.Prefix `json:"network"`
	Name    string       `json:"name"`
	Who     string       `json:"who"`
	At      time.Time    `json:"at"`
}

// FeedbackReport is a report that was received.
type FeedbackReport struct {
	ID         int64     `json:"id"`
	Kind       string    `json:"kind" enum:"dmarc,tls"`
	Reporter   string    `json:"reporter"`
	Report     string    `json:"report" doc:"Its id there"`
	Domain     string    `json:"domain"`
	From       time.Time `json:"from"`
	Until      time.Time `json:"until"`
	ReceivedAt time.Time `json:"received_at"`
}

// FeedbackUnread is a message at the reports' address that was no report.
type FeedbackUnread struct {
	At     time.Time `json:"at"`
	Sender string    `json:"sender"`
	Fault  string    `json:"fault"`
}

// FeedbackSeen is what we saw of a domain on a day, to be reported to it.
type FeedbackSeen struct {
	Kind   string
	Day    time.Time
	Domain string
	What   []byte // JSON
	N      int64
}

// FeedbackSent is a report of ours.
type FeedbackSent struct {
	Kind   string    `json:"kind" enum:"dmarc,tls"`
	Day    time.Time `json:"day"`
	Domain string    `json:"domain"`
	At     time.Time `json:"at"`
	Result string    `json:"result" doc:"To whom it was sent, or why not"`
}
