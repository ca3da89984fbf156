package config

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/list"
)

// check finds what is wrong between the parts of a configuration; of a stored one not
// what earlier versions took.
func check(c *Config, stored bool) Problems {
	k := checker{
		c:          c,
		routeAt:    map[string]int{},
		listenerAt: map[string]int{},
		kinds:      map[string]string{},
	}
	k.listeners()
	k.routes()
	k.domains()
	k.rules()
	k.peers()
	k.lists()
	k.scanners()
	k.dnsServers()
	k.certificates()
	k.reputation(stored)
	k.gates()
	k.service()
	if !stored {
		k.patterns()
	}
	if len(c.Mailboxes)+len(c.Aliases) > 0 {
		k.problems = append(
			k.problems,
			directory.CheckAll(c.Mailboxes, c.Aliases,
				func(d string) string { return k.kinds[d] })...)
	}
	slices.SortStableFunc(k.problems, func(a, b Problem) int { return a.Line - b.Line })
	return k.problems
}

type checker struct {
	c                   *Config
	problems            Problems
	routeAt, listenerAt map[string]int    // lines by name
	kinds               map[string]string // of domains
}

func (k *checker) wrong(line int, field, format string, args ...any) {
	k.problems = append(k.problems,
		Problem{Line: line, Field: field, Text: fmt.Sprintf(format, args...)})
}

// unique reports names that stand twice.
func (k *checker) unique(seen map[string]int, line int, field, name string) {
	if first, ok := seen[name]; ok {
		k.wrong(line, field, "%q stands already at line %d", name, first)
		return
	}
	seen[name] = line
}

func (k *checker) service() {
	s := k.c.Service
	k.checkRetry(s.Line, "service.retry", s.Retry.schedule())
	if _, _, _, err := s.DailyReport.Time(); err != nil {
		k.wrong(s.Line, "service.daily_report", "%v", err)
	}
	checkRecords(&s, func(field, text string) { k.wrong(s.Line, "service."+field, "%s", text) })
	if d := s.Held.Digest; len(d.To) > 0 {
		if _, err := d.Slot(time.Now()); err != nil {
			k.wrong(s.Line, "service.held.digest", "%v", err)
		}
		if fault := d.linkFault(); fault != "" {
			k.wrong(s.Line, "service.held.digest.link", "%s", fault)
		}
	}
	if field, fault := s.TLSPolicies.check(s.Resolvers); fault != "" {
		k.wrong(s.Line, "service.tls_policies."+field, "%s", fault)
	}
	if a := s.Feedback.Address; a != nil && k.kinds[a.Domain] != Local &&
		k.kinds[a.Domain] != Shared {
		k.wrong(
			s.Line,
			"service.feedback.address",
			"%s is no address of a local or shared domain of ours",
			a.Display(),
		)
	}
	if field, fault := s.CertificateAuthority.check(); fault != "" {
		k.wrong(s.Line, "service.certificate_authority."+field, "%s", fault)
	}
	if field, fault := s.Operators.check(); fault != "" {
		k.wrong(s.Line, "service.operators."+field, "%s", fault)
	}
	if field, fault := s.Alerts.check(); fault != "" {
		k.wrong(s.Line, "service.alerts."+field, "%s", fault)
	}
	if s.TranscriptsKept > s.Retention {
		k.wrong(s.Line, "service.transcripts_kept",
			"%s is longer than messages are kept (retention, %s)", s.TranscriptsKept, s.Retention)
	}
	if s.DefaultSenderDomain != "" && k.kinds[string(s.DefaultSenderDomain)] == "" {
		k.wrong(s.Line, "service.default_sender_domain", "%s is not among our domains",
			address.DisplayDomain(string(s.DefaultSenderDomain)))
	}
}

// patterns finds those that match nothing: a rule that refuses by one refuses nobody.
func (k *checker) patterns() {
	look := func(line int, field string, ps address.Patterns) {
		for _, p := range ps {
			if err := p.Never(); err != nil {
				k.wrong(line, field, "%v", err)
			}
			k.listOf(line, field, list.Addresses, p.List())
		}
	}
	for i := range k.c.RelayRules {
		r := &k.c.RelayRules[i]
		look(r.Line, fmt.Sprintf("relay_rules[%d].accounts", i), r.Accounts)
		look(r.Line, fmt.Sprintf("relay_rules[%d].senders", i), r.Senders)
		look(r.Line, fmt.Sprintf("relay_rules[%d].recipients", i), r.Recipients)
	}
	for i := range k.c.Routes {
		r := &k.c.Routes[i]
		look(r.Line, fmt.Sprintf("routes[%d].recipients", i), r.Recipients)
		look(r.Line, fmt.Sprintf("routes[%d].senders", i), r.Senders)
		look(r.Line, fmt.Sprintf("routes[%d].accounts", i), r.Accounts)
	}
	for i := range k.c.Peers {
		look(k.c.Peers[i].Line, fmt.Sprintf("peers[%d].domains", i), k.c.Peers[i].Domains)
	}
	for i := range k.c.Domains {
		look(k.c.Domains[i].Line, fmt.Sprintf("domains[%d].rewrite_senders", i),
			k.c.Domains[i].RewriteSenders)
	}
	look(k.c.Service.Line, "service.held.digest.to", k.c.Service.Held.Digest.To)
	for _, m := range k.c.Mailboxes {
		look(m.Line, "mailboxes.send_as", m.SendAs)
	}
}

func (k *checker) listeners() {
	addresses := map[string]int{}
	for i := range k.c.Listeners {
		l := &k.c.Listeners[i]
		field := fmt.Sprintf("listeners[%d]", i)
		k.unique(k.listenerAt, l.Line, field+".name", l.Name)
		if l.Address.Port() != 0 {
			k.unique(addresses, l.Line, field+".address",
				l.Address.String()+" "+strings.Join(l.Nodes, ","))
		}
		if fault := k.kept(l.Certificate, l.Key); fault != "" {
			k.wrong(l.Line, field+".certificate", "%s", fault)
		}
		if l.TLS == TLSOff {
			switch {
			case l.Certificate != "":
				k.wrong(l.Line, field+".certificate",
					"tls is off; write tls: starttls, required or implicit")
			case l.ClientCertificates != "":
				k.wrong(l.Line, field+".client_certificates",
					"tls is off; clients show certificates only under TLS")
			case len(l.Mechanisms()) > 0 && !l.SignInWithoutTLS:
				k.wrong(
					l.Line,
					field+".tls",
					"sign-in needs TLS: write tls: starttls, required or implicit (or "+
						"sign_in_without_tls: true on loopback)",
				)
			}
		}
		if l.Kind == Edge && len(l.SignIn) > 0 {
			k.wrong(l.Line, field+".sign_in",
				"people sign in at a listener of kind submission; the edge is for the world")
		}
		if l.Complete && l.Kind != Inside {
			k.wrong(
				l.Line,
				field+".complete",
				"only a listener of kind inside has it; submission does it anyway",
			)
		}
		if l.Kind == LMTP && (len(l.SignIn) > 0 || l.TLS == TLSImplicit) {
			k.wrong(l.Line, field+".kind", "an lmtp listener has neither sign-in nor implicit TLS")
		}
	}
}

func (k *checker) routes() {
	for i := range k.c.Routes {
		r := &k.c.Routes[i]
		field := fmt.Sprintf("routes[%d]", i)
		k.unique(k.routeAt, r.Line, field+".name", r.Name)
		if slices.Contains(builtinRoutes, r.Name) {
			k.wrong(r.Line, field+".name", "%q is the name of a built-in route; choose another",
				r.Name)
		}
		if r.Retry.given() {
			k.checkRetry(r.Line, field+".retry", r.Retry.Over(k.c.Service.Retry.schedule()))
		}
		smart := r.NextHop == HopSmartHost || r.NextHop == HopDirect
		switch {
		case (smart || r.NextHop == HopLMTP) && len(r.Hosts) == 0:
			k.wrong(r.Line, field+".hosts", "next hop %s needs at least one host", r.NextHop)
		case !smart && r.NextHop != HopLMTP && len(r.Hosts) > 0:
			k.wrong(r.Line, field+".hosts",
				"next hop %s takes no hosts; only smarthost, direct and lmtp do", r.NextHop)
		}
		if r.MXLookup && !smart {
			k.wrong(r.Line, field+".mx_lookup", "only next hops smarthost and direct have it")
		}
		if r.SignIn != nil && (!smart || r.TLS != "required" && r.TLS != "verified") {
			k.wrong(r.Line, field+".sign_in",
				"a password is sent only to a smarthost with tls: required or verified")
		}
		if fault := k.kept(r.Certificate, r.Key); fault != "" {
			k.wrong(r.Line, field+".certificate", "%s", fault)
		}
		if r.Asks != nil && len(r.Asks.Accounts)+len(r.Asks.Networks) == 0 {
			k.wrong(r.Line, field+".asks", "say who may ask: accounts, networks or both")
		}
		if r.POPBefore != nil && !smart {
			k.wrong(r.Line, field+".pop_before", "only next hops smarthost and direct have it")
		}
		if r.TLSFromStart && (!smart || r.TLS != "required" && r.TLS != "verified") {
			k.wrong(r.Line, field+".tls_from_start",
				"it goes with next hop smarthost and tls: required or verified")
		}
		if len(r.Weights) > 0 && len(r.Weights) != len(r.Hosts) {
			k.wrong(r.Line, field+".weights",
				"there are %d hosts and %d weights; write one for each", len(r.Hosts),
				len(r.Weights))
		}
		if r.SizeOver > 0 && r.SizeUpTo > 0 && r.SizeUpTo <= r.SizeOver {
			k.wrong(r.Line, field+".size_up_to",
				"no message is larger than %s and not larger than %s", r.SizeOver, r.SizeUpTo)
		}
		for j, h := range r.Hosts {
			if err := checkHost(h); err != nil {
				k.wrong(r.Line, fmt.Sprintf("%s.hosts[%d]", field, j), "%v", err)
			}
		}
		k.sentence(r.Line, field, r.Say)
	}
}

func checkHost(h string) error {
	host, port := SplitHost(h, 25)
	if port < 1 || port > 65535 {
		return fmt.Errorf("%q has no port between 1 and 65535", h)
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	_, err := address.ParseDomain(host)
	return err
}

func (k *checker) domains() {
	names := map[string]int{}
	for i := range k.c.Domains {
		d := &k.c.Domains[i]
		field := fmt.Sprintf("domains[%d]", i)
		k.unique(names, d.Line, field+".name", string(d.Name))
		k.kinds[string(d.Name)] = d.Kind
		switch {
		case d.Kind == Local && d.Route != "":
			k.wrong(d.Line, field+".route",
				"a local domain has no route; its mail goes to its mailboxes")
		case d.Kind != Local && d.Route == "":
			k.wrong(d.Line, field+".route",
				"a %s domain needs the name of the route by which its mail goes on", d.Kind)
		}
		for name, route := range map[string]string{"route": d.Route, "outgoing": d.Outgoing} {
			if _, ok := k.routeAt[route]; route != "" && !ok {
				k.wrong(d.Line, field+"."+name, "there is no route %q; there are: %s", route,
					k.routeNames())
			}
		}
		if d.Verify != "none" && d.Kind == Local {
			k.wrong(
				d.Line,
				field+".verify",
				"a local domain's recipients are known; those of relay and shared domains are "+
					"verified",
			)
		}
		if d.Verify == "list" && len(d.Recipients) == 0 {
			k.wrong(d.Line, field+".recipients", "verify: list needs the recipients")
		}
		for j, a := range d.Recipients {
			if a.Domain != string(d.Name) {
				k.wrong(d.Line, fmt.Sprintf("%s.recipients[%d]", field, j),
					"%s is not an address of this domain", a.Display())
			}
		}
		if d.Kind == Relay && (len(d.Generated) > 0 || d.CatchAll != nil || d.PlusAddressing) {
			k.wrong(
				d.Line,
				field+".kind",
				"a relay domain has no addresses here: generated_addresses, catch_all and "+
					"plus_addressing are for local and shared ones",
			)
		}
		if d.Kind == Shared && d.CatchAll != nil {
			k.wrong(d.Line, field+".catch_all",
				"what a shared domain doesn't know goes on by its route; a catch-all would keep it")
		}
		for j, p := range d.Generated {
			if err := directory.CheckPattern(p); err != nil {
				k.wrong(d.Line, fmt.Sprintf("%s.generated_addresses[%d]", field, j), "%v", err)
			}
		}
	}
}

func (k *checker) routeNames() string {
	var names []string
	for _, r := range k.c.Routes {
		names = append(names, r.Name)
	}
	switch {
	case len(names) == 0:
		return "none"
	case len(names) > 20:
		return strings.Join(names[:20], ", ") + " …"
	}
	return strings.Join(names, ", ")
}

func (k *checker) rules() {
	names := map[string]int{}
	for i := range k.c.RelayRules {
		r := &k.c.RelayRules[i]
		field := fmt.Sprintf("relay_rules[%d]", i)
		k.unique(names, r.Line, field+".name", r.Name)
		if slices.Contains(builtinRules, r.Name) {
			k.wrong(r.Line, field+".name", "%q is the name of a built-in rule; choose another",
				r.Name)
		}
		for j, name := range r.Listeners {
			if _, ok := k.listenerAt[name]; !ok {
				k.wrong(r.Line, fmt.Sprintf("%s.listeners[%d]", field, j),
					"there is no listener %q", name)
			}
		}
		if r.OwnSender && len(r.Accounts) == 0 {
			k.wrong(r.Line, field+".own_sender",
				"it goes with accounts: without sign-in nobody knows whose sender it is")
		}
		if r.Limits.Over != "" && !r.Limits.Given() {
			k.wrong(r.Line, field+".limits.over", "it is of a limit, and none is given")
		}
		if r.Limits.Over == OverStop && len(r.Accounts) == 0 {
			k.wrong(r.Line, field+".limits.over",
				"only an account can be stopped, and the rule names none; write hold or defer")
		}
		k.sentence(r.Line, field, r.Say)
	}
}

func (k *checker) sentence(line int, field, say string) {
	if strings.ContainsAny(say, "\r\n") || len(say) > 400 {
		k.wrong(line, field+".say", "write one line of at most 400 octets")
	}
}

func (k *checker) peers() {
	names := map[string]int{}
	for i := range k.c.Peers {
		p := &k.c.Peers[i]
		field := fmt.Sprintf("peers[%d]", i)
		k.unique(names, p.Line, field+".name", p.Name)
		if p.Retry.given() {
			k.checkRetry(p.Line, field+".retry", p.Retry.Over(k.c.Service.Retry.schedule()))
		}
		if p.PinnedName != "" && p.TLS != "verified" {
			k.wrong(p.Line, field+".pinned_name", "it goes with tls: verified")
		}
		for j, pattern := range p.Domains {
			if pattern.Domain() == "" && pattern.List() == "" {
				k.wrong(p.Line, fmt.Sprintf("%s.domains[%d]", field, j),
					"write a domain or *.domain; %q is none", pattern)
			}
		}
	}
}
