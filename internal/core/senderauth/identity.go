// Package senderauth judges who a message is really from: what SPF (RFC 7208), DKIM
// (RFC 6376) and DMARC (RFC 7489) say together, what is done about it, and how it
// is written down for those behind us (RFC 8601). It asks nobody: what DNS and the
// signatures say is brought to it.
package senderauth

import (
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/net/publicsuffix"
)

// Result is the outcome of one method, in the words of RFC 8601 section 2.7.
type Result string

// The results.
const (
	None      Result = "none"
	Pass      Result = "pass"
	Fail      Result = "fail"
	SoftFail  Result = "softfail"
	Neutral   Result = "neutral"
	Policy    Result = "policy"
	TempError Result = "temperror"
	PermError Result = "permerror"
)

// SPF is what the domain of the envelope says of the client.
type SPF struct {
	Result Result `json:"result"`
	Domain string `json:"domain" doc:"The domain that was asked"`
	// Scope is mailfrom, or helo for messages from the null sender.
	Scope string `json:"scope" enum:"mailfrom,helo"`
	Why   string `json:"why,omitempty"`
}

// Signature is one DKIM signature.
type Signature struct {
	Result    Result `json:"result"`
	Domain    string `json:"domain"`
	Selector  string `json:"selector"`
	Algorithm string `json:"algorithm"`
	Why       string `json:"why,omitempty"`
}

// DMARC is what the domain in From asks for messages like this.
type DMARC struct {
	Result Result `json:"result"`
	Domain string `json:"domain" doc:"Of the address in From"`
	// Policy is what the domain asks for when the check fails: none, quarantine or
	// reject; empty if it publishes nothing.
	Policy string `json:"policy,omitempty" doc:"none, quarantine or reject; empty if the domain publishes nothing"`
	At     string `json:"at,omitempty" doc:"Where the policy is published"`
	Why    string `json:"why,omitempty"`
	// Which of the two proved it, for reports: SPF may, and a signature besides.
	BySPF       bool `json:"by_spf,omitempty"`
	BySignature bool `json:"by_signature,omitempty"`
}

// Assessment is everything that was found of one message.
type Assessment struct {
	SPF    SPF         `json:"spf"`
	DKIM   []Signature `json:"dkim"`
	DMARC  DMARC       `json:"dmarc"`
	Chain  *Chain      `json:"arc,omitempty" doc:"Of sealed results, where the message was passed on (ARC)"`
	Action Action      `json:"action" enum:"note,hold,refuse" doc:"What was done about it"`
	Reason string      `json:"reason,omitempty" doc:"Why"`
}

// Proof is what an assessment says of the sender in one word: Pass, Fail, or "" if it says
// nothing. A DMARC pass outweighs an SPF that fails: a message that was forwarded.
func (c *Assessment) Proof() Result {
	switch {
	case c == nil:
		return ""
	case c.DMARC.Result == Pass, c.vouched():
		return Pass
	case c.DMARC.Result == Fail, c.SPF.Result == Fail:
		return Fail
	case c.SPF.Result == Pass:
		return Pass
	}
	return ""
}

// Organization is the domain under which an organisation registered its names:
// one label more than the public suffix.
func Organization(domain string) string {
	org, err := publicsuffix.EffectiveTLDPlusOne(strings.ToLower(domain))
	if err != nil {
		return strings.ToLower(domain)
	}
	return org
}

// Aligned reports whether a domain that was proved speaks for the domain in From
// (RFC 7489 section 3.1): the same one, or, unless strict, one of the same
// organisation.
func Aligned(proved, from string, strict bool) bool {
	if strings.EqualFold(proved, from) {
		return proved != ""
	}
	return !strict && proved != "" && Organization(proved) == Organization(from)
}

// DMARCRecord is a DMARC record.
type DMARCRecord struct {
	At         string // the name at which it is published
	Policy     string // none, quarantine or reject
	Strict     struct{ SPF, DKIM bool }
	Percent    int
	Reports    []string // where aggregate reports go
	Subdomains string   // the policy for domains below
}

// ParseDMARC reads a DMARC record (RFC 7489 section 6.3). ours is false for TXT
// records of another kind.
func ParseDMARC(at, text string) (w DMARCRecord, ours bool, err error) {
	tags, err := Tags(text)
	if len(tags) == 0 || !strings.EqualFold(tags[0].Name, "v") || tags[0].Value != "DMARC1" {
		return w, false, nil
	}
	if err != nil {
		return w, true, err
	}
	w = DMARCRecord{At: at, Percent: 100, Policy: tags.Get("p")}
	if !isPolicy(w.Policy) {
		if tags.Get("rua") == "" {
			return w, true, fmt.Errorf("p=%s is no policy; there are none, quarantine and reject",
				w.Policy)
		}
		w.Policy = "none" // section 6.6.3: who asks for reports watches
	}
	w.Subdomains = w.Policy
	if sp := tags.Get("sp"); sp != "" {
		if !isPolicy(sp) {
			return w, true, fmt.Errorf("sp=%s is no policy; there are none, quarantine and reject",
				sp)
		}
		w.Subdomains = sp
	}
	w.Strict.SPF, w.Strict.DKIM = tags.Get("aspf") == "s", tags.Get("adkim") == "s"
	if pct := tags.Get("pct"); pct != "" {
		if w.Percent, err = strconv.Atoi(pct); err != nil || w.Percent < 0 || w.Percent > 100 {
			return w, true, fmt.Errorf("pct=%s is no percentage", pct)
		}
	}
	for uri := range strings.SplitSeq(tags.Get("rua"), ",") {
		if uri = strings.TrimSpace(uri); uri != "" {
			w.Reports = append(w.Reports, uri)
		}
	}
	return w, true, nil
}

func isPolicy(p string) bool { return p == "none" || p == "quarantine" || p == "reject" }

// Lookup is what DNS said of a domain's DMARC record.
type Lookup struct {
	Record *DMARCRecord
	Error  error
	Temp   bool // the error may pass
}

// Judge says what DMARC makes of SPF and DKIM. from are the domains of all
// addresses in From: there must be exactly one.
func Judge(from []string, spf SPF, dkim []Signature, found Lookup) DMARC {
	if len(from) != 1 {
		d := DMARC{Result: PermError, Why: "From has no address"}
		if len(from) > 1 {
			d.Why, d.Domain = "From has addresses of several domains", from[0]
		}
		return d
	}
	d := DMARC{Result: None, Domain: from[0]}
	switch {
	case found.Error != nil && found.Temp:
		d.Result, d.Why = TempError, found.Error.Error()
		return d
	case found.Error != nil:
		d.Result, d.Why = PermError, found.Error.Error()
		return d
	case found.Record == nil:
		d.Why = d.Domain + " publishes no DMARC record"
		return d
	}
	w := found.Record
	d.At, d.Policy = w.At, w.Policy
	if !strings.EqualFold(w.At, "_dmarc."+d.Domain) {
		d.Policy = w.Subdomains
	}
	d.BySPF = spf.Result == Pass && Aligned(spf.Domain, d.Domain, w.Strict.SPF)
	for _, s := range dkim {
		d.BySignature = d.BySignature ||
			s.Result == Pass && Aligned(s.Domain, d.Domain, w.Strict.DKIM)
	}
	if d.BySPF {
		d.Result, d.Why = Pass, "SPF proves "+spf.Domain
		return d
	}
	temp := spf.Result == TempError && Aligned(spf.Domain, d.Domain, w.Strict.SPF)
	for _, s := range dkim {
		if !Aligned(s.Domain, d.Domain, w.Strict.DKIM) {
			continue
		}
		if s.Result == Pass {
			d.Result, d.Why = Pass, "a signature proves "+s.Domain
			return d
		}
		temp = temp || s.Result == TempError
	}
	if temp { // section 6.6.2: it may be proved once DNS answers
		d.Result, d.Why = TempError, "DNS gave no answer that could prove "+d.Domain
		return d
	}
	d.Result, d.Why = Fail, fmt.Sprintf("neither SPF nor a signature proves %s: %s", d.Domain,
		proofs(spf, dkim))
	return d
}

func proofs(spf SPF, dkim []Signature) string {
	words := fmt.Sprintf("SPF says %s for %s", spf.Result, spf.Domain)
	if len(dkim) == 0 {
		return words + ", and there is no signature"
	}
	for _, s := range dkim {
		words += fmt.Sprintf(", the signature of %s is %s", s.Domain, s.Result)
	}
	return words
}
