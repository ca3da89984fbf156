// Package aggregate reads and writes the reports by which servers tell each other once a day how
// mail in a domain's name fared: DMARC aggregate reports (RFC 7489 appendix C) and TLS reports
// (RFC 8460).
package aggregate

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// DMARC is how mail in the name of a domain fared at one receiver.
type DMARC struct {
	Reporter string     `json:"reporter"`
	Contact  string     `json:"contact"`
	ID       string     `json:"id"`
	From     time.Time  `json:"from"`
	Until    time.Time  `json:"until"`
	Domain   string     `json:"domain"`
	Policy   string     `json:"policy"`
	Percent  int        `json:"percent"`
	Rows     []DMARCRow `json:"rows"`
}

// DMARCRow are messages from one address that fared alike.
type DMARCRow struct {
	Source      netip.Addr `json:"source"`
	Messages    int64      `json:"messages"`
	Disposition string     `json:"disposition" enum:"none,quarantine,reject"`
	DKIM        bool       `json:"dkim" doc:"A signature of the domain proved it"`
	SPF         bool       `json:"spf" doc:"SPF of the domain proved it"`
	HeaderFrom  string     `json:"header_from"`
	Signed      []Proof    `json:"signed" doc:"What each signature said"`
	Sent        []Proof    `json:"sent" doc:"What SPF said"`
}

// Proof is what one method said of one domain.
type Proof struct {
	Domain   string `json:"domain" xml:"domain"`
	Selector string `json:"selector,omitempty" xml:"selector,omitempty"`
	Scope    string `json:"scope,omitempty" xml:"scope,omitempty"`
	Result   string `json:"result" xml:"result"`
}

// Bounds of what is read.
const (
	maxRows = 50_000
	maxText = 255 // of a name or a word, in octets
)

type xmlDMARC struct {
	XMLName  xml.Name `xml:"feedback"`
	Metadata struct {
		Org   string `xml:"org_name"`
		Email string `xml:"email"`
		ID    string `xml:"report_id"`
		Range struct {
			Begin int64 `xml:"begin"`
			End   int64 `xml:"end"`
		} `xml:"date_range"`
	} `xml:"report_metadata"`
	Policy struct {
		Domain string `xml:"domain"`
		P      string `xml:"p"`
		Pct    *int   `xml:"pct,omitempty"`
	} `xml:"policy_published"`
	Records []xmlRecord `xml:"record"`
}

type xmlRecord struct {
	Row struct {
		Source string `xml:"source_ip"`
		Count  int64  `xml:"count"`
		Policy struct {
			Disposition string `xml:"disposition"`
			DKIM        string `xml:"dkim"`
			SPF         string `xml:"spf"`
		} `xml:"policy_evaluated"`
	} `xml:"row"`
	Identifiers struct {
		From string `xml:"header_from"`
	} `xml:"identifiers"`
	Results struct {
		DKIM []Proof `xml:"dkim"`
		SPF  []Proof `xml:"spf"`
	} `xml:"auth_results"`
}

// ParseDMARC reads a report.
func ParseDMARC(text []byte) (*DMARC, error) {
	var x xmlDMARC
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = nil
	if err := d.Decode(&x); err != nil {
		return nil, fmt.Errorf("it is no DMARC report: %w", err)
	}
	if len(x.Records) > maxRows {
		return nil, fmt.Errorf("it has %d records; %d are read", len(x.Records), maxRows)
	}
	r := &DMARC{
		Reporter: clip(x.Metadata.Org),
		Contact:  clip(x.Metadata.Email),
		ID:       clip(x.Metadata.ID),
		From:     time.Unix(x.Metadata.Range.Begin, 0).UTC(),
		Until:    time.Unix(x.Metadata.Range.End, 0).UTC(),
		Domain:   domain(x.Policy.Domain),
		Policy:   clip(x.Policy.P),
		Percent:  100,
	}
	if x.Policy.Pct != nil {
		r.Percent = *x.Policy.Pct
	}
	if err := plausible(r.Reporter, r.ID, r.Domain, r.From, r.Until); err != nil {
		return nil, err
	}
	for i, rec := range x.Records {
		source, err := netip.ParseAddr(strings.TrimSpace(rec.Row.Source))
		if err != nil || rec.Row.Count < 0 {
			return nil, fmt.Errorf("record %d: %q and %d are no address and count", i+1,
				clip(rec.Row.Source), rec.Row.Count)
		}
		r.Rows = append(r.Rows, DMARCRow{
			Source:      source.Unmap(),
			Messages:    rec.Row.Count,
			Disposition: clip(rec.Row.Policy.Disposition),
			DKIM:        rec.Row.Policy.DKIM == "pass",
			SPF:         rec.Row.Policy.SPF == "pass",
			HeaderFrom:  domain(rec.Identifiers.From),
			Signed:      clipped(rec.Results.DKIM),
			Sent:        clipped(rec.Results.SPF),
		})
	}
	return r, nil
}

// plausible refuses reports about nothing and about times that cannot be.
func plausible(reporter, id, domain string, from, until time.Time) error {
	switch {
	case reporter == "" || id == "" || domain == "":
		return errors.New("it lacks its reporter, its id or the domain that it is about")
	case !until.After(from) || until.Sub(from) > 8*24*time.Hour || from.Year() < 2012:
		return fmt.Errorf("its time from %s until %s cannot be", from.Format(time.DateOnly),
			until.Format(time.DateOnly))
	}
	return nil
}

func clip(s string) string {
	s = strings.TrimSpace(strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), ""))
	return s[:min(len(s), maxText)]
}

func domain(s string) string { return strings.ToLower(strings.TrimSuffix(clip(s), ".")) }

func clipped(list []Proof) []Proof {
	out := []Proof{}
	for _, p := range list[:min(len(list), 20)] {
		out = append(out, Proof{domain(p.Domain), clip(p.Selector), clip(p.Scope), clip(p.Result)})
	}
	return out
}

// Text writes a report.
func (r *DMARC) Text() ([]byte, error) {
	var x xmlDMARC
	x.Metadata.Org, x.Metadata.Email, x.Metadata.ID = r.Reporter, r.Contact, r.ID
	x.Metadata.Range.Begin, x.Metadata.Range.End = r.From.Unix(), r.Until.Unix()
	x.Policy.Domain, x.Policy.P, x.Policy.Pct = r.Domain, r.Policy, &r.Percent
	word := func(pass bool) string {
		if pass {
			return "pass"
		}
		return "fail"
	}
	for _, row := range r.Rows {
		var rec xmlRecord
		rec.Row.Source, rec.Row.Count = row.Source.String(), row.Messages
		rec.Row.Policy.Disposition = row.Disposition
		rec.Row.Policy.DKIM, rec.Row.Policy.SPF = word(row.DKIM), word(row.SPF)
		rec.Identifiers.From = row.HeaderFrom
		rec.Results.DKIM, rec.Results.SPF = row.Signed, row.Sent
		x.Records = append(x.Records, rec)
	}
	text, err := xml.MarshalIndent(x, "", " ")
	return append([]byte(xml.Header), text...), err
}
