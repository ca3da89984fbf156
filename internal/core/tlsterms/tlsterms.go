// Package tlsterms decides by which terms of TLS a host gets mail: what route and peer ask for,
// what the domain says by its policy (MTA-STS, RFC 8461), and what the host says by DANE (RFC
// 7672). It asks nobody and keeps nothing.
package tlsterms

import (
	"fmt"
	"slices"
	"strings"
)

// How TLS is used towards a host, from weak to strong. Pinned is by DANE's records.
const (
	Off      = "off"
	Offered  = "offered"  // used if the host has it, whoever it may be
	Required = "required" // no mail without; the certificate may be anybody's
	Verified = "verified" // no mail without a certificate that an authority vouches for
	Pinned   = "pinned"   // no mail without a certificate that DNS vouches for
)

// Who decided.
const (
	ByRoute = "route"
	ByPeer  = "peer"
	BySTS   = "MTA-STS"
	ByDANE  = "DANE"
)

// Demand is what route and peer ask for.
type Demand struct {
	TLS  string
	Name string // the certificate's, if it is agreed; else the host's
	Peer string // whose agreement it is; "" is the route's alone
	// Ignore says that policies of others are not heeded there: theirs is known to be broken.
	Ignore bool
}

// Terms are those for one host.
type Terms struct {
	TLS     string
	Names   []string // that the certificate may be for; any one is enough
	Records []TLSA   // for Pinned
	By      string   // ByRoute, ByPeer, BySTS or ByDANE
	Who     string   // asks for it, in words: "route to the world", "the policy of …"
	// Unfit says why the host gets no mail at all; "" if it may.
	Unfit string
	// Later says that what makes it unfit may pass, as an answer of DNS that cannot be had.
	Later bool
	// Testing is what the domain's policy would ask for, while it is only being tried out.
	Testing *Terms
}

// Of joins the three. DANE comes first, for it says which certificate it is, and MTA-STS is not
// asked where it holds (RFC 8461 section 2); what route and peer ask for holds besides either.
func Of(d Demand, route, domain, host string, p *Policy, dane DANE) Terms {
	own := Terms{TLS: d.TLS, Names: []string{host}, By: ByRoute, Who: "route " + route}
	if d.Peer != "" {
		own.By, own.Who = ByPeer, "the agreement "+d.Peer
	}
	if d.Name != "" {
		own.Names = []string{d.Name}
	}
	if d.Ignore {
		return own
	}
	switch {
	case dane.Fault != "":
		own.By, own.Who = ByDANE, "DANE of "+host
		own.Unfit = "whether " + host + " pins its certificate in DNS cannot be told: " + dane.Fault
		own.Later = true
		return own
	case dane.Secure && len(dane.Records) > 0:
		return pinned(own, d, domain, host, dane)
	case p == nil || p.Mode == ModeNone:
		return own
	}
	theirs := Terms{TLS: Verified, Names: []string{host}, By: BySTS,
		Who: fmt.Sprintf("the policy of %s (MTA-STS, %s)", domain, p.Mode)}
	if !p.Fits(host) {
		theirs.Unfit = fmt.Sprintf(
			"%s names no host %s, only %s",
			theirs.Who,
			host,
			strings.Join(p.MX, ", "),
		)
	}
	if p.Mode == ModeTesting {
		own.Testing = &theirs
		return own
	}
	if d.TLS == Verified && d.Name != "" { // a name that was agreed is narrower than theirs
		theirs.Names = own.Names
	}
	return theirs
}

// pinned are the terms of a host with records in signed DNS (RFC 7672 section 2.2).
func pinned(own Terms, d Demand, domain, host string, dane DANE) Terms {
	records := Usable(dane.Records)
	t := Terms{TLS: Pinned, Names: []string{host, domain}, Records: records, By: ByDANE,
		Who: "DANE of " + host}
	switch {
	case len(records) == 0: // TLS is promised, by whom cannot be told
		t.TLS, t.Names = Required, own.Names
		if stronger(own.TLS, Required) {
			return own
		}
	case d.TLS == Verified && d.Name != "": // both were promised
		t.Names = []string{d.Name}
	}
	return t
}

var strength = []string{Off, Offered, Required, Verified}

func stronger(a, b string) bool { return slices.Index(strength, a) > slices.Index(strength, b) }

// Demanded reports that no mail goes without TLS.
func (t Terms) Demanded() bool { return t.TLS == Required || t.TLS == Verified || t.TLS == Pinned }

// Words say in a sentence what counts towards the host.
func (t Terms) Words() string {
	if t.Unfit != "" {
		return "gets no mail: " + t.Unfit
	}
	if t.Testing != nil {
		own := t
		own.Testing = nil
		return own.Words() + "; if " + t.Testing.Who + " were in force: " + t.Testing.Words()
	}
	switch t.TLS {
	case Off:
		return "no TLS, by " + t.Who
	case Offered:
		return "TLS if the host has it, by " + t.Who
	case Required:
		return "TLS required, by " + t.Who
	case Pinned:
		return "TLS with the certificate that signed DNS names, by " + t.Who
	}
	return "TLS with a verified certificate for " + strings.Join(t.Names, " or ") + ", by " + t.Who
}
