package aggregate

import (
	"encoding/json"
	"fmt"
	"time"
)

// TLS is how connections to a domain's hosts fared from one sender (RFC 8460 section 4).
type TLS struct {
	Reporter string      `json:"organization-name"`
	Range    TLSRange    `json:"date-range"`
	Contact  string      `json:"contact-info"`
	ID       string      `json:"report-id"`
	Policies []TLSPolicy `json:"policies"`
}

// TLSRange is the time of a report.
type TLSRange struct {
	From  time.Time `json:"start-datetime"`
	Until time.Time `json:"end-datetime"`
}

// TLSPolicy are the connections under one policy.
type TLSPolicy struct {
	Policy struct {
		Type   string   `json:"policy-type"` // tlsa, sts or no-policy-found
		Text   []string `json:"policy-string,omitempty"`
		Domain string   `json:"policy-domain"`
		Hosts  []string `json:"mx-host,omitempty"`
	} `json:"policy"`
	Summary struct {
		Good int64 `json:"total-successful-session-count"`
		Bad  int64 `json:"total-failure-session-count"`
	} `json:"summary"`
	Failures []TLSFailure `json:"failure-details,omitempty"`
}

// TLSFailure are connections that failed alike.
type TLSFailure struct {
	Result   string `json:"result-type"`
	Sender   string `json:"sending-mta-ip,omitempty"`
	Host     string `json:"receiving-mx-hostname,omitempty"`
	Address  string `json:"receiving-ip,omitempty"`
	Sessions int64  `json:"failed-session-count"`
	More     string `json:"additional-information,omitempty"`
	Reason   string `json:"failure-reason-code,omitempty"`
}

// maxPolicies bounds what is read of one report, of policies and of failures of each.
const maxPolicies = 1000

// ParseTLS reads a report.
func ParseTLS(text []byte) (*TLS, error) {
	var r TLS
	if err := json.Unmarshal(text, &r); err != nil {
		return nil, fmt.Errorf("it is no TLS report: %w", err)
	}
	if len(r.Policies) == 0 || len(r.Policies) > maxPolicies {
		return nil, fmt.Errorf("it has %d policies; 1 to %d are read", len(r.Policies), maxPolicies)
	}
	r.Reporter, r.ID, r.Contact = clip(r.Reporter), clip(r.ID), clip(r.Contact)
	r.Range.From, r.Range.Until = r.Range.From.UTC(), r.Range.Until.UTC()
	for i := range r.Policies {
		p := &r.Policies[i]
		p.Policy.Domain, p.Policy.Type = domain(p.Policy.Domain), clip(p.Policy.Type)
		if err := plausible(r.Reporter, r.ID, p.Policy.Domain, r.Range.From, r.Range.Until); err != nil {
			return nil, err
		}
		if p.Summary.Good < 0 || p.Summary.Bad < 0 || len(p.Failures) > maxPolicies {
			return nil, fmt.Errorf("policy %d: its counts cannot be", i+1)
		}
		for k := range p.Failures {
			f := &p.Failures[k]
			f.Result, f.Sender, f.Host = clip(f.Result), clip(f.Sender), domain(f.Host)
			f.Address, f.More, f.Reason = clip(f.Address), clip(f.More), clip(f.Reason)
			if f.Sessions < 0 {
				return nil, fmt.Errorf("policy %d: its counts cannot be", i+1)
			}
		}
	}
	return &r, nil
}
