package readiness

import (
	"fmt"
	"net/netip"
	"strings"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/tlsterms"
)

// maxLookups is how many terms of SPF may ask DNS (RFC 7208 section 4.6.4).
const maxLookups = 10

func (f *Facts) spf() Aspect {
	p := Aspect{
		Key:      "spf",
		Title:    "Who may send for it (SPF)",
		Weight:   1.5,
		Expected: "one record in which our addresses pass: " + join(f.Ours),
		Found:    f.SPF.Records,
	}
	suggest := func(text string) {
		p.Records = []publish.DNSRecord{publish.New(f.Domain, f.Domain,
			"TXT", text)}
	}
	var outside []netip.Addr
	for _, a := range f.Ours {
		if f.SPF.Results[a].Result != senderauth.Pass {
			outside = append(outside, a)
		}
	}
	tree := f.SPF.Tree
	if len(tree.Passes) > 0 {
		p.Found = append(
			append([]string{}, p.Found...),
			fmt.Sprintf("%d of %d lookups; these pass: %s", tree.Lookups, maxLookups,
				strings.Join(tree.Passes, ", ")),
		)
	}
	switch {
	case f.SPF.Error != "":
		p.Result, p.Says = NotChecked, "DNS gives no answer: "+f.SPF.Error
	case len(f.SPF.Records) == 0:
		p.Result, p.Says = Fail, "It publishes no SPF record: hosts cannot tell our messages from "+
			"forged ones."
		suggest("v=spf1" + terms(f.Ours) + " -all")
	case len(f.SPF.Records) > 1:
		p.Result, p.Says = Fail, "It publishes several SPF records: then none counts (RFC 7208 "+
			"section 4.5). Join them into one."
		suggest(publish.MergeSPF(f.SPF.Records, "v=spf1"+terms(f.Ours)+" -all"))
	case len(tree.Faults) > 0:
		p.Result, p.Says = Fail, "The record has a fault: "+tree.Faults[0]+"."
		suggest(publish.MergeSPF(f.SPF.Records, "v=spf1"+terms(f.Ours)+" -all"))
	case tree.Lookups > maxLookups:
		p.Result = Fail
		p.Says = fmt.Sprintf(
			"The record asks DNS %d times; after ten it counts as broken everywhere (RFC 7208 "+
				"section 4.6.4). Put networks in place of includes.",
			tree.Lookups,
		)
	case tree.All == "+all":
		p.Result, p.Says = Fail, "The record ends in +all: the whole world may send in its name. "+
			"End it in -all."
		suggest(strings.TrimSuffix(strings.TrimSuffix(f.SPF.Records[0], "all"), "+") + "-all")
	case len(outside) > 0 && len(f.SmartHosts) > 0:
		p.Result = Warning
		p.Says = fmt.Sprintf(
			"%s does not pass. That matters for messages that leave directly; those by %s need "+
				"that host's addresses in the record: ask its provider for the include.",
			join(outside),
			strings.Join(f.SmartHosts, ", "),
		)
		suggest(withTerms(f.SPF.Records[0], outside))
	case len(outside) > 0:
		p.Result, p.Says = Fail, fmt.Sprintf(
			"Our address %s does not pass (%s): our messages look forged.",
			join(outside),
			f.SPF.Results[outside[0]].Result,
		)
		record := f.SPF.Records[0]
		if tree.All == "" || tree.All == "?all" {
			record = publish.MergeSPF([]string{record}, "v=spf1 -all")
		}
		suggest(withTerms(record, outside))
	case len(f.Ours) == 0:
		p.Result, p.Says = NotChecked, "Our addresses are not known."
	case tree.All == "" || tree.All == "?all":
		p.Result, p.Says = Warning, "The record says nothing of all others: forged messages are "+
			"neutral. End it in -all, or ~all while you try."
		suggest(strings.TrimSpace(strings.TrimSuffix(f.SPF.Records[0], "?all")) + " -all")
	default:
		p.Result, p.Says = Pass, "Our addresses pass, others do not."
	}
	return p
}

// terms names addresses in a record.
func terms(addrs []netip.Addr) string {
	var b strings.Builder
	for _, a := range addrs {
		if a = a.Unmap(); a.Is4() {
			b.WriteString(" ip4:" + a.String())
		} else {
			b.WriteString(" ip6:" + a.String())
		}
	}
	if b.Len() == 0 {
		return " mx"
	}
	return b.String()
}

// withTerms puts addresses into a record, before its last word on all others.
func withTerms(record string, addrs []netip.Addr) string {
	words := strings.Fields(record)
	for i, w := range words {
		if strings.EqualFold(strings.TrimLeft(w, "+-~?"), "all") ||
			strings.HasPrefix(strings.ToLower(w), "redirect=") {
			return strings.Join(words[:i], " ") + terms(addrs) + " " + strings.Join(words[i:], " ")
		}
	}
	return record + terms(addrs)
}

func (f *Facts) dkim() Aspect {
	p := Aspect{
		Key:      "dkim",
		Title:    "Signatures (DKIM)",
		Weight:   1,
		Expected: "messages are signed with a key of 2048 bits or more, and DNS has that key",
	}
	signing, rsa := 0, false
	for i := range f.Keys {
		k := &f.Keys[i]
		p.Found = append(p.Found,
			fmt.Sprintf("%s (%s): %s%s", k.Selector, k.Algorithm, k.State, behind(k.Fault)))
		switch {
		case k.State == mail.KeyRetired:
			continue
		case k.State != mail.KeySigning:
			if k.Fault != "" || k.SeenAt.IsZero() {
				p.Records = append(p.Records, k.Record)
			}
			continue
		}
		signing++
		rsa = rsa || strings.HasPrefix(k.Algorithm, "rsa")
		switch {
		case k.Locked:
			p.Result, p.Says = Fail, "Nothing is signed with "+k.Selector+" on this node: its key "+
				"file does not open the key. Put the former key file back, or rotate the key "+
				"(gull dkim rotate "+f.Domain+")."
		case k.Fault != "":
			p.Result, p.Says, p.Records = Fail,
				"Messages are signed with "+k.Selector+", and nobody can verify them: "+k.Fault+".",
				append(p.Records, k.Record)
		case p.Result == "" && strings.HasPrefix(k.Algorithm, "rsa-1"):
			p.Result, p.Says = Warning,
				"The key "+k.Selector+" is short ("+k.Algorithm+"): rotate to one of 2048 bits "+
					"(gull dkim rotate "+f.Domain+")."
		}
	}
	switch {
	case p.Result != "":
	case signing == 0 && len(f.Keys) == 0:
		p.Result, p.Says = Fail,
			"Messages are not signed. Make a key (gull dkim make "+f.Domain+"), publish its record, and let it sign."
	case signing == 0:
		p.Result, p.Says = Fail, "There are keys, and none signs: publish the record, then let "+
			"one sign (gull dkim use)."
	case !rsa:
		p.Result, p.Says = Warning, "Messages are signed by Ed25519 only, which many hosts cannot "+
			"verify: let an RSA key sign beside it."
	default:
		p.Result, p.Says = Pass, "Messages are signed, and DNS has the keys."
	}
	return p
}

func behind(fault string) string {
	if fault == "" {
		return ""
	}
	return ", but " + fault
}

func (f *Facts) dmarc() Aspect {
	p := Aspect{
		Key:      "dmarc",
		Title:    "What hosts shall do with forged messages (DMARC)",
		Weight:   0.5,
		Expected: "a policy of quarantine or reject, and somebody who gets the reports",
	}
	record := publish.New(f.Domain, "_dmarc."+f.Domain, "TXT",
		"v=DMARC1; p=quarantine; rua=mailto:"+f.ReportsTo)
	if f.DMARCText != "" {
		p.Found = []string{f.DMARCText}
	}
	aligned := "A message from " + f.Domain + " passes by its SPF and by its signature."
	switch w := f.DMARC.Record; {
	case f.DMARC.Error != nil && f.DMARC.Temp:
		p.Result, p.Says = NotChecked, "DNS gives no answer: "+f.DMARC.Error.Error()
	case f.DMARC.Error != nil:
		p.Result, p.Says, p.Records = Fail, "The record cannot be read: "+f.DMARC.Error.Error()+".",
			[]publish.DNSRecord{
				record,
			}
	case w == nil:
		p.Result, p.Records = Fail, []publish.DNSRecord{record}
		p.Says = "It publishes no policy: large receivers trust such domains less, and forged " +
			"messages are taken. If other servers send for it too, begin with p=none and read the " +
			"reports first."
	case w.Policy == "none":
		p.Result = Warning
		says, safe := f.Evidence.step("quarantine")
		if p.Says = "The policy is none: it watches and protects nobody. " + says; safe {
			p.Records = []publish.DNSRecord{f.withPolicy("quarantine")}
		}
	case len(w.Reports) == 0:
		p.Result, p.Records = Warning, []publish.DNSRecord{
			publish.New(f.Domain, "_dmarc."+f.Domain, "TXT",
				strings.TrimRight(f.DMARCText, "; ")+"; rua=mailto:"+f.ReportsTo),
		}
		p.Says = "Nobody gets the reports: add rua, so that you see who sends in your name."
	default:
		p.Result, p.Says = Pass, "Forged messages are to be kept away. "+aligned
		if says, safe := f.Evidence.step("reject"); safe && w.Policy == "quarantine" {
			p.Says += " " + says
		}
	}
	return p
}

// Of the evidence for a stricter policy.
const (
	enoughDays     = 7
	enoughMessages = 20
	enoughPassed   = 0.995
)

// step says whether the next policy is safe by what others report: days enough, and no messages of
// known senders that it would hit.
func (e *Evidence) step(policy string) (says string, safe bool) {
	legitimate := e.Messages - e.Strange
	share := 0.0
	if legitimate > 0 {
		share = float64(e.Passed) / float64(legitimate)
	}
	seen := fmt.Sprintf(
		"%d days of reports, %d messages, %.1f %% of those of known senders proved",
		e.Days,
		e.Messages,
		100*share,
	)
	switch {
	case e.Messages == 0:
		return "No reports were read yet: have them sent to an address of ours (gull service set " +
			"--feedback-address), and wait for a week of them.", false
	case len(e.Unproved) > 0 && share < enoughPassed:
		return seen + ": first let these sign, or put them into SPF: " + strings.Join(
			e.Unproved,
			", ",
		) + ".", false
	case e.Days < enoughDays || legitimate < enoughMessages:
		return seen + ": wait until there are " + fmt.Sprint(enoughDays) + " days and " +
			fmt.Sprint(enoughMessages) + " messages.", false
	case share < enoughPassed:
		return seen + ": not enough for " + policy + ".", false
	}
	return seen + ": " + policy + " is safe.", true
}

// withPolicy is the domain's record with another policy.
func (f *Facts) withPolicy(policy string) publish.DNSRecord {
	words := strings.Split(f.DMARCText, ";")
	reports := false
	for i, w := range words {
		name, _, _ := strings.Cut(strings.TrimSpace(w), "=")
		switch strings.TrimSpace(name) {
		case "p":
			words[i] = " p=" + policy
		case "rua":
			reports = true
		}
	}
	text := strings.TrimRight(strings.Join(words, ";"), "; ")
	if !reports {
		text += "; rua=mailto:" + f.ReportsTo
	}
	return publish.New(f.Domain, "_dmarc."+f.Domain, "TXT", text)
}

func (f *Facts) blockLists() Aspect {
	p := Aspect{
		Key:      "block-lists",
		Title:    "Block lists",
		Weight:   1,
		Result:   NotChecked,
		Expected: "our addresses are on none",
		Says:     "No list to check is set: name some in service.block_lists.",
	}
	for _, l := range f.Lists {
		switch {
		case l.Error != "":
			p.Found = append(p.Found, fmt.Sprintf("%s gives no answer: %s", l.List, l.Error))
			if p.Result == NotChecked {
				p.Says = "The lists give no answer now."
			}
		case l.Listed:
			p.Found = append(p.Found, fmt.Sprintf("%s lists %s: %s", l.List, l.Addr, l.Reason))
			p.Result, p.Says = Fail, fmt.Sprintf(
				"%s is on the block list %s (%s). Stop what caused it first, then ask the list to "+
					"take it out; until then send by a smart host.",
				l.Addr,
				l.List,
				l.Reason,
			)
		default:
			p.Found = append(p.Found, fmt.Sprintf("%s does not list %s", l.List, l.Addr))
			if p.Result == NotChecked {
				p.Result, p.Says = Pass, "Our addresses are on none of the lists that were asked."
			}
		}
	}
	return p
}

func (f *Facts) tlsReports() Aspect {
	p := Aspect{
		Key:      "tls-reports",
		Title:    "Reports about TLS",
		Weight:   0.25,
		Expected: "a TLSRPT record with an address for reports",
	}
	if f.TLSReports != "" {
		p.Found = []string{f.TLSReports}
	}
	tags, err := senderauth.Tags(f.TLSReports)
	if err == nil && tags.Get("v") == "TLSRPTv1" && tags.Get("rua") != "" {
		p.Result, p.Says = Pass, "Hosts that cannot send to us by TLS tell us so."
		return p
	}
	p.Result, p.Says = Warning, "Nobody tells us when hosts fail to reach us by TLS (RFC 8460)."
	p.Records = []publish.DNSRecord{
		publish.New(f.Domain, "_smtp._tls."+f.Domain, "TXT",
			"v=TLSRPTv1; rua=mailto:"+f.ReportsTo),
	}
	return p
}

func (f *Facts) sts() Aspect {
	p := Aspect{
		Key:      "mta-sts",
		Title:    "TLS demanded of senders (MTA-STS)",
		Weight:   0.25,
		Result:   NotChecked,
		Expected: "where it is published, a policy that names our hosts",
		Says: "It is not published; that is allowed (RFC 8461). Ours is said with gull domain " +
			"set " + f.Domain + " --tls-policy-mode testing.",
	}
	own := f.STS.Own
	if own.Mode != "" {
		p.Expected = "the record of our policy, " + own.Mode + " for " + strings.Join(
			own.MX,
			", ",
		) +
			", and its server"
	}
	if f.STS.Record == "" {
		if own.Mode != "" {
			p.Result = Fail
			p.Says = "Our policy is said here, and nobody knows of it: publish its record."
			p.Records = f.stsRecords()
		}
		return p
	}
	p.Found = []string{f.STS.Record}
	if f.STS.Mode != "" {
		p.Found = append(p.Found, "mode "+f.STS.Mode+", for "+strings.Join(f.STS.MX, ", "))
	}
	id, err := tlsterms.ParseRecord([]string{f.STS.Record})
	switch {
	case err != nil:
		p.Result, p.Says = Fail, "The record counts for nothing: "+err.Error()+"."
		p.Records = f.stsRecords()
		return p
	case own.Mode != "" && id != own.ID:
		p.Result = Fail
		p.Says = "Our policy has changed since the record was published: senders that know the " +
			"old one do not ask for the new one."
		p.Records = f.stsRecords()
		return p
	case f.STS.Error != "":
		p.Result, p.Says = Fail,
			"The record is published, and its policy cannot be used: "+f.STS.Error+"."
		if own.Mode != "" {
			p.Says += " The service says it with gull serve --policies, or behind a web server."
			p.Records = f.stsRecords()[1:]
		}
		return p
	}
	theirs := tlsterms.Policy{MX: f.STS.MX}
	for _, h := range f.Hosts {
		if !theirs.Fits(h.Name) {
			p.Result, p.Says = Fail, fmt.Sprintf(
				"The policy does not name the host %s: strict senders will not send to it.",
				h.Name,
			)
			return p
		}
	}
	p.Result, p.Says = Pass, "The policy names our hosts."
	if f.STS.Mode != tlsterms.ModeEnforce {
		p.Result, p.Says = Warning, "The policy is in mode "+f.STS.Mode+": it demands nothing yet."
	}
	return p
}

// stsRecords are those by which our policy is found.
func (f *Facts) stsRecords() []publish.DNSRecord {
	if f.STS.Own.Mode == "" {
		return nil
	}
	return []publish.DNSRecord{
		publish.New(f.Domain, "_mta-sts."+f.Domain, "TXT", "v=STSv1; id="+f.STS.Own.ID),
		publish.New(f.Domain, "mta-sts."+f.Domain, "CNAME", f.HostName),
	}
}
