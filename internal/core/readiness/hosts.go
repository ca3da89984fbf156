package readiness

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/core/publish"
	"gullroute/internal/core/senderauth"
)

// certificateSoon is how long before its end a certificate is something to look at.
const certificateSoon = 14 * 24 * time.Hour

func (f *Facts) mx() Aspect {
	p := Aspect{
		Key:      "mx",
		Title:    "Where mail comes in (MX)",
		Weight:   2,
		Expected: "MX records that name our host " + f.HostName,
	}
	record := publish.New(f.Domain, f.Domain, "MX", "10 "+f.HostName)
	ours, fault := false, ""
	for _, h := range f.Hosts {
		if fault == "" {
			fault = h.fault()
		}
		if h.fault() != "" {
			record.Instead = append(record.Instead, fmt.Sprintf("%d %s", h.Preference, h.Name))
		}
		line := fmt.Sprintf("%d %s", h.Preference, h.Name)
		if len(h.Addrs) > 0 {
			line += " (" + join(h.Addrs) + ")"
		}
		p.Found = append(p.Found, line)
		ours = ours || h.Ours
	}
	switch {
	case f.MXError != "":
		p.Result, p.Says = NotChecked, "DNS gives no answer: "+f.MXError
	case f.NullMX:
		p.Result, p.Records = Fail, []publish.DNSRecord{record}
		p.Found = []string{"0 . (null MX)"}
		p.Says = "The domain says that it takes no mail at all (RFC 7505). Take the null MX out " +
			"and publish ours."
	case f.NoMX && len(f.Hosts) == 0:
		p.Result, p.Says, p.Records = Fail, "The domain has neither an MX nor an address: nobody "+
			"can send to it.", []publish.DNSRecord{
			record,
		}
	case fault != "":
		p.Result, p.Says, p.Records = Fail, fault, []publish.DNSRecord{record}
	case !ours:
		p.Result, p.Says, p.Records = Fail, "None of its hosts is this server: the world's mail "+
			"goes elsewhere.", []publish.DNSRecord{
			record,
		}
	case f.NoMX:
		p.Result, p.Says, p.Records = Warning, "It has no MX; mail comes only because its address "+
			"is ours. Publish an MX.", []publish.DNSRecord{
			record,
		}
	default:
		p.Result, p.Says = Pass, "The world finds us."
	}
	return p
}

// fault is what is wrong with a host's name in DNS.
func (h *Host) fault() string {
	switch {
	case h.Literal:
		return fmt.Sprintf("The MX %s is an address; it must be a name (RFC 1035 section 3.3.9).",
			h.Name)
	case h.CNAME != "":
		return fmt.Sprintf(
			"The MX %s is an alias (CNAME) of %s; name that host itself (RFC 5321 section 5.1).",
			h.Name,
			h.CNAME,
		)
	case h.Error != "":
		return fmt.Sprintf("The host %s cannot be found: %s.", h.Name, h.Error)
	}
	return ""
}

func (f *Facts) reach() Aspect {
	p := Aspect{
		Key:      "reach",
		Title:    "Its hosts answer",
		Weight:   1.5,
		Result:   NotChecked,
		Expected: "a greeting from every host",
	}
	for _, h := range f.Hosts {
		switch {
		case !h.Tried:
		case h.Reached:
			p.Found = append(p.Found, h.Name+" answers")
			if p.Result == NotChecked {
				p.Result, p.Says = Pass, "Every host was connected to from here; the path from "+
					"outside may differ."
			}
		default:
			p.Found = append(p.Found, h.Name+": "+h.Trouble)
			p.Result, p.Says = Fail, fmt.Sprintf(
				"%s cannot be reached: %s. Open its port, or take it out of MX.",
				h.Name,
				h.Trouble,
			)
		}
	}
	if p.Result == NotChecked {
		p.Says = "There is no host to connect to."
	}
	return p
}

func (f *Facts) tls(now time.Time) Aspect {
	p := Aspect{
		Key:      "tls",
		Title:    "TLS inwards",
		Weight:   1,
		Result:   NotChecked,
		Expected: "STARTTLS, with a certificate for the host's name",
	}
	worse := func(r Result, says string) {
		if p.Result != Fail {
			p.Result, p.Says = r, says
		}
	}
	for _, h := range f.Hosts {
		switch {
		case !h.Reached:
		case !h.TLS:
			p.Found = append(p.Found, h.Name+" offers no TLS")
			worse(
				Fail,
				h.Name+" offers no TLS: messages come in the clear. Set tls: starttls at the "+
					"listener.",
			)
		case !h.Verified:
			p.Found = append(p.Found, h.Name+": "+h.TLSTrouble)
			worse(
				Warning,
				h.Name+" shows a certificate that does not verify ("+h.TLSTrouble+"). Most senders take it all "+
					"the same, strict ones do not. Give the listener one from an authority.",
			)
		case h.Until.Sub(now) < certificateSoon:
			p.Found = append(p.Found, h.Name+" until "+h.Until.UTC().Format("2006-01-02"))
			worse(Warning,
				"The certificate of "+h.Name+" ends on "+h.Until.UTC().Format("2006-01-02")+".")
		default:
			p.Found = append(p.Found, h.Name+" verifies, until "+h.Until.UTC().Format("2006-01-02"))
			if p.Result == NotChecked {
				p.Result, p.Says = Pass, "Messages come in under TLS."
			}
		}
	}
	if p.Result == NotChecked {
		p.Says = "No host could be connected to."
	}
	return p
}

func (f *Facts) hostName() Aspect {
	p := Aspect{
		Key:      "host-name",
		Title:    "Our host name",
		Weight:   0.5,
		Expected: f.HostName + " has our addresses: " + join(f.Ours),
	}
	if len(f.HostAddrs) > 0 {
		p.Found = []string{join(f.HostAddrs)}
	}
	missing := lacking(f.HostAddrs, f.Ours)
	switch {
	case len(f.Ours) == 0:
		p.Result, p.Says = Fail, "The host name "+f.HostName+" has no address in DNS, and "+
			"service.addresses names none ("+f.OursError+"). Say by which addresses the world "+
			"sees us."
	case len(missing) > 0:
		p.Result, p.Says = Fail, "The host name lacks "+join(missing)+"."
		p.Records = addressRecords(f.HostName, missing...)
	default:
		p.Result, p.Says = Pass, "Our name leads to our addresses."
	}
	return p
}

func lacking(have, want []netip.Addr) []netip.Addr {
	var out []netip.Addr
	for _, a := range want {
		if !contains(have, a) {
			out = append(out, a)
		}
	}
	return out
}

func addressRecords(name string, addrs ...netip.Addr) []publish.DNSRecord {
	var out []publish.DNSRecord
	for _, a := range addrs {
		kind := "A"
		if a.Unmap().Is6() {
			kind = "AAAA"
		}
		out = append(out,
			publish.New(senderauth.Organization(name), name, kind, a.Unmap().String()))
	}
	return out
}

func (f *Facts) ptr() Aspect {
	p := Aspect{
		Key:      "ptr",
		Title:    "The names of our addresses (PTR)",
		Weight:   1,
		Result:   NotChecked,
		Expected: "each address has a name that leads back to it",
	}
	for _, n := range f.Names {
		switch {
		case n.Error != "":
			p.Found = append(p.Found, n.Addr.String()+": "+n.Error)
		case len(n.Confirmed) > 0:
			p.Found = append(p.Found, n.Addr.String()+" is "+strings.Join(n.Confirmed, ", "))
			if p.Result == NotChecked {
				p.Result, p.Says = Pass, "Our addresses have names that lead back."
			}
			continue
		case len(n.Others) > 0:
			p.Found = append(
				p.Found,
				fmt.Sprintf("%s is %s, which does not lead back", n.Addr,
					strings.Join(n.Others, ", ")),
			)
			p.Result, p.Says = Fail, fmt.Sprintf(
				"The name %s of %s does not lead back to it: many hosts take that for a "+
					"residential address. Whoever gave us the address sets its PTR.",
				n.Others[0],
				n.Addr,
			)
		default:
			p.Found = append(p.Found, n.Addr.String()+" has no name")
			p.Result, p.Says = Fail, fmt.Sprintf(
				"%s has no name: many hosts refuse mail from such addresses. Ask whoever gave us "+
					"the address (our provider) to set its PTR.",
				n.Addr,
			)
		}
		if n.Error == "" {
			p.Records = append(p.Records,
				publish.New(publish.Reverse(n.Addr), publish.Reverse(n.Addr), "PTR", f.HostName))
		}
	}
	if p.Result == NotChecked {
		p.Says = "Our addresses are not known, or DNS gave no answer."
	}
	return p
}

func (f *Facts) ehlo() Aspect {
	p := Aspect{
		Key:      "ehlo-name",
		Title:    "What we call ourselves (EHLO)",
		Weight:   0.5,
		Result:   Pass,
		Expected: "names that lead to our addresses",
		Says:     "Hosts that check find us under our name.",
	}
	for _, name := range f.EHLONames {
		addrs := f.EHLO[name]
		p.Found = append(p.Found, name+" is "+join(addrs))
		if len(addrs) == 0 {
			p.Found[len(p.Found)-1] = name + " has no address"
		}
		if len(f.Ours) > 0 && len(lacking(addrs, f.Ours)) == len(f.Ours) {
			p.Result, p.Says = Fail, fmt.Sprintf(
				"We call ourselves %s, which leads to none of our addresses.",
				name,
			)
			p.Records = addressRecords(name, f.Ours...)
		}
	}
	if len(f.Ours) == 0 {
		p.Result, p.Says = NotChecked, "Our addresses are not known."
	}
	return p
}

func (f *Facts) dane() Aspect {
	p := Aspect{
		Key:      "dane",
		Title:    "DANE (TLSA records)",
		Weight:   0.5,
		Result:   NotChecked,
		Expected: "where they are published, they fit the certificate",
		Says:     "No TLSA record is published; that is allowed.",
	}
	for _, h := range f.Hosts {
		switch d := h.DANE; {
		case d == nil || d.Records == 0:
		case !d.Matches:
			p.Found = append(p.Found, h.Name+": no record fits the certificate")
			p.Result, p.Says = Fail, "The TLSA records of "+h.Name+" do not fit its certificate: "+
				"hosts that heed them will not send. Publish the new one before a certificate "+
				"changes."
		case !d.Validated:
			p.Found = append(p.Found, h.Name+": fits; not validated")
			if p.Result == NotChecked {
				p.Says = "TLSA records fit, but our resolver does not validate DNSSEC, without " +
					"which they mean nothing."
			}
		default:
			p.Found = append(p.Found, h.Name+": fits")
			if p.Result == NotChecked {
				p.Result, p.Says = Pass, "TLSA records fit the certificate."
			}
		}
	}
	return p
}
