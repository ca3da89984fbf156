package review

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/mail"
)

// OldKey is the age from which a signing key is to be replaced, NearlyFull the part of a
// disk from which it is told.
const (
	OldKey     = 365 * 24 * time.Hour
	NearlyFull = 0.9
)

// Bounds from which something counts as weak.
const (
	wideBits4, wideBits6 = 16, 32
	largeMessage         = 200 << 20
	manyErrors           = 50
	soon                 = 21 * 24 * time.Hour
	longEnough           = 24 * time.Hour
	eager                = time.Minute
	patience             = time.Minute
	memory               = 7 * 24 * time.Hour
	clockTolerance       = 5 * time.Second
	maxNamed             = 5
)

func (v *reviewer) relay() {
	for _, h := range v.c.Hazards() {
		name := strings.TrimPrefix(h.Where, "relay rule ")
		switch h.Kind {
		case "open_relay":
			v.found(
				"open-relay",
				h.Where,
				h.Text,
				remove("relay_rules", name, "Take the rule out",
					"Who sends by it is refused, until a narrow rule allows it."),
			)
		case "clear_sign_in":
			name = strings.TrimPrefix(h.Where, "listener ")
			v.found(
				"clear-sign-in",
				h.Where,
				h.Text,
				set("listeners", name, "Demand TLS there",
					"Programs without TLS can no longer sign in.",
					map[string]any{"tls": config.TLSRequired, "sign_in_without_tls": nil}),
			)
		case "no_postmaster":
			v.found("no-postmaster", "", h.Text, nil)
		case "no_way_out":
			v.found("no-way-out", "", h.Text, nil)
		}
	}
	for _, h := range v.c.NeverUsed() {
		if name, ok := strings.CutPrefix(h.Where, "relay rule "); ok {
			v.found("rule-never-reached", h.Where, h.Text,
				remove("relay_rules", name, "Take the rule out", "Nothing: it decides nothing."))
		} else if name, ok := strings.CutPrefix(h.Where, "route "); ok {
			v.found("route-never-used", h.Where, h.Text,
				remove("routes", name, "Take the route out", "Nothing: no message takes it."))
		}
	}
	for i := range v.c.RelayRules {
		if r := &v.c.RelayRules[i]; r.Action == "allow" && !config.Opens(r) {
			v.rule(r)
		}
	}
}

func (v *reviewer) rule(r *config.RelayRule) {
	where := "relay rule " + r.Name
	people := len(r.Accounts) > 0
	machines := !people && len(r.Networks) > 0
	for _, n := range r.Networks {
		private := n.Addr().IsPrivate() || n.Addr().IsLoopback()
		if n.Addr().Is4() && n.Bits() < wideBits4 && !private ||
			n.Addr().Is6() && n.Bits() < wideBits6 && !private {
			v.found("wide-network", where, fmt.Sprintf("%s allows %s", r.Name, n), nil)
		}
	}
	if len(r.Senders) > 0 && !people && len(r.Networks) == 0 && len(r.Certificates) == 0 {
		v.found("relay-by-sender", where, r.Name+" allows whoever writes one of its senders", nil)
	}
	if machines && len(r.Listeners) == 0 {
		if inside := v.listenersOf(config.Inside); len(inside) > 0 &&
			len(v.listenersOf(config.Edge)) > 0 {
			v.found(
				"relay-at-edge",
				where,
				r.Name+" names no listener",
				set("relay_rules", r.Name, "Let it count at "+strings.Join(inside, ", ")+" only",
					"Machines of these networks can no longer relay at the edge.",
					map[string]any{"listeners": anys(inside)}),
			)
		}
	}
	if people && !r.OwnSender {
		v.found(
			"any-sender",
			where,
			r.Name+" does not ask that the sender belongs to the account",
			set("relay_rules", r.Name, "Ask for one's own sender",
				"Who sends as somebody else without being allowed to (send_as) is refused.",
				map[string]any{"own_sender": true}),
		)
	}
	switch {
	case people:
		v.limits(r, where)
	case machines && !r.Limits.Given():
		v.found(
			"no-machine-limits",
			where,
			r.Name+" has no limits",
			set("relay_rules", r.Name, "Set 2000 messages an hour for each machine",
				"A machine that sends more is deferred with 450.",
				map[string]any{"limits": map[string]any{"messages_per_hour": 2000}}),
		)
	}
}

func (v *reviewer) listenersOf(kind string) []string {
	var out []string
	for _, l := range v.c.Listeners {
		if l.Kind == kind {
			out = append(out, l.Name)
		}
	}
	return out
}

func anys(words []string) []any {
	out := make([]any, len(words))
	for i, w := range words {
		out[i] = w
	}
	return out
}

func (v *reviewer) listeners() {
	for i := range v.c.Listeners {
		v.listener(&v.c.Listeners[i])
	}
	for _, c := range v.f.Certificates {
		where := "listener " + c.Listener
		l := v.c.Listener(c.Listener)
		switch {
		case l == nil:
		case c.Own && l.Kind == config.Submission:
			v.found("own-certificate", where,
				c.Listener+" shows a certificate that the server made itself", nil)
		case c.Own:
		case c.Until.Before(v.f.Now):
			v.found("certificate-ended", where, "it ended on "+c.Until.UTC().Format("2006-01-02"),
				nil)
		case c.Until.Sub(v.f.Now) < soon:
			v.found("certificate-ends", where, "it ends on "+c.Until.UTC().Format("2006-01-02"),
				nil)
		case !c.Fits:
			v.found(
				"certificate-name",
				where,
				fmt.Sprintf("it is for %s, the listener greets as %s", strings.Join(c.Names, ", "),
					l.GreetingName),
				nil,
			)
		}
	}
}

func (v *reviewer) listener(l *config.Listener) {
	where := "listener " + l.Name
	local := l.Address.Addr().IsLoopback()
	change := func(rule, text, says, effect string, fields map[string]any) {
		v.found(rule, where, text, set("listeners", l.Name, says, effect, fields))
	}
	if l.SignInWithoutTLS && local && l.TLS != config.TLSRequired && l.TLS != config.TLSImplicit {
		change("sign-in-without-tls", l.Name+" takes passwords without TLS, on loopback",
			"Ask for TLS", "Programs on this machine must use TLS to sign in.",
			map[string]any{"sign_in_without_tls": nil, "tls": config.TLSRequired})
	}
	if l.Kind == config.Submission && l.TLS == config.TLSStart {
		change("submission-optional", l.Name+" offers STARTTLS and does not ask for it",
			"Require TLS", "Programs without TLS are told to use it.",
			map[string]any{"tls": config.TLSRequired})
	}
	switch l.Kind {
	case config.Edge:
		if l.TLS == config.TLSOff {
			change("edge-without-tls", l.Name+" offers no TLS", "Offer STARTTLS",
				"None for hosts without TLS.", map[string]any{"tls": config.TLSStart})
		}
		if l.Limits.NewPerMinute == 0 {
			change("no-connection-limit", l.Name+" has no limit of new connections a minute",
				"Set 120 a minute from one address",
				"An address that connects more often is deferred with 421.",
				map[string]any{"limits": map[string]any{"new_per_minute": 120}})
		}
		if l.Limits.MessageSize > largeMessage {
			change("huge-messages",
				fmt.Sprintf("%s takes messages of up to %s", l.Name, l.Limits.MessageSize),
				"Take up to 50 MB", "Larger messages are refused with 552.",
				map[string]any{"limits": map[string]any{"message_size": "50 MB"}})
		}
		if l.Limits.Errors > manyErrors {
			change("many-errors",
				fmt.Sprintf("%s cuts off after %d errors", l.Name, l.Limits.Errors),
				"Cut off after 10",
				"Clients with more errors in one connection must connect again.",
				map[string]any{"limits": map[string]any{"errors": 10}})
		}
		if l.Identity == "off" {
			change("identity-off", l.Name+" checks neither SPF nor signatures", "Check and note it",
				"Messages get an Authentication-Results field; nothing is refused for it.",
				map[string]any{"identity": "note"})
		}
	case config.LMTP:
		if !local && len(l.Allow) == 0 {
			v.found("open-lmtp", where, l.Name+" is reached from every network", nil)
		}
	case config.Inside:
		if !local && len(l.Allow) == 0 {
			v.found("inside-open", where, l.Name+" is reached from every network", nil)
		}
	}
	if l.Transcript == config.TranscriptNone {
		change("no-transcript", l.Name+" keeps no transcript", "Keep those with trouble",
			"A little room in the database.",
			map[string]any{"transcript": config.TranscriptTrouble})
	}
}

func (v *reviewer) domains() {
	postmaster := v.c.Service.Postmaster
	for i := range v.c.Domains {
		d := &v.c.Domains[i]
		name := string(d.Name)
		where := "domain " + address.DisplayDomain(name)
		if d.Kind == config.Relay {
			if d.Verify == "none" || d.Verify == "" {
				v.found(
					"unverified-relay",
					where,
					address.DisplayDomain(name)+" does not check recipients",
					set(
						"domains",
						name,
						"Ask the next server about each recipient",
						"Unknown recipients are refused immediately; the next server is asked "+
							"once an hour for each.",
						map[string]any{"verify": "call"},
					),
				)
			}
			continue
		}
		if v.c.Directory != nil {
			abuse := address.Address{Local: "abuse", Domain: name}
			if d.CatchAll == nil && v.c.Mailbox(abuse) == nil && v.c.Alias(abuse) == nil {
				v.found(
					"no-abuse",
					where,
					"there is neither a mailbox nor an alias "+abuse.Display(),
					&Remedy{
						Says:    "Pass it on to " + postmaster.Display(),
						Effect:  "The postmaster gets complaints.",
						Section: "aliases",
						Name:    abuse.String(),
						Fields:  map[string]any{"to": []any{postmaster.String()}},
					},
				)
			}
		}
		if d.CatchAll != nil {
			take := set(
				"domains",
				name,
				"Take the catch-all out",
				"Messages to unknown addresses are refused, and their senders learn it "+
					"immediately.",
				map[string]any{"catch_all": nil},
			)
			if box := v.c.Mailbox(*d.CatchAll); box != nil && box.Reply != nil {
				v.found("catch-all-answer", where,
					d.CatchAll.Display()+" gets everything and answers by itself", take)
			} else {
				v.found("catch-all", where, "all unknown addresses go to "+d.CatchAll.Display(),
					take)
			}
		}
		v.keys(name, where)
	}
	for domain, what := range v.f.NotReady {
		v.found("not-ready", "domain "+address.DisplayDomain(domain), what, nil)
	}
}

// keys looks at those of a domain, where they are known.
func (v *reviewer) keys(domain, where string) {
	if v.f.Now.IsZero() {
		return
	}
	signing := 0
	for _, k := range v.f.Keys {
		if k.Domain != domain || k.State != mail.KeySigning {
			continue
		}
		signing++
		at := where + " key " + k.Selector
		switch {
		case k.Fault != "":
			v.found("key-not-in-dns", at, k.Fault, nil)
		case strings.HasPrefix(k.Algorithm, "rsa-1"):
			v.found("short-key", at, "it is "+k.Algorithm, nil)
		case v.f.Now.Sub(k.MadeAt) > OldKey:
			v.found("old-key", at, "it was made on "+k.MadeAt.UTC().Format("2006-01-02"), nil)
		}
	}
	if signing == 0 {
		v.found("not-signed", where, address.DisplayDomain(domain)+" has no key that signs", nil)
	}
}

func (v *reviewer) routes() {
	used := map[string][]string{}  // routes by the secret that they use
	hosts := map[string][]string{} // hosts by the secret that they are shown
	for i := range v.c.Routes {
		r := &v.c.Routes[i]
		if r.Off {
			continue
		}
		where := "route " + r.Name
		smart := r.NextHop == config.HopSmartHost || r.NextHop == config.HopDirect
		outside := slices.ContainsFunc(r.Recipients,
			func(p address.Pattern) bool { return !p.Exact() })
		if smart && outside && (r.TLS == "offered" || r.TLS == "off" || r.TLS == "") &&
			!allLoopback(r.Hosts) {
			v.found(
				"clear-smart-host",
				where,
				r.Name+" does not ask its smart host for TLS",
				set("routes", r.Name, "Require TLS", "If the host has no TLS, messages wait.",
					map[string]any{"tls": "required"}),
			)
		}
		if r.SignIn != nil {
			if r.TLS == "required" {
				v.found(
					"unverified-sign-in",
					where,
					r.Name+" takes any certificate",
					set("routes", r.Name, "Check the certificate",
						"If it does not verify, messages wait.", map[string]any{"tls": "verified"}),
				)
			}
			used[r.SignIn.Secret] = append(used[r.SignIn.Secret],
				r.Name+" ("+strings.Join(r.Hosts, ", ")+")")
			for _, h := range r.Hosts {
				host, _ := config.SplitHost(strings.ToLower(h), r.Port)
				if !slices.Contains(hosts[r.SignIn.Secret], host) {
					hosts[r.SignIn.Secret] = append(hosts[r.SignIn.Secret], host)
				}
			}
		}
	}
	for secret, routes := range used {
		if len(routes) > 1 && len(hosts[secret]) > 1 {
			v.found("shared-secret", "secret "+secret,
				secret+" is used by "+strings.Join(routes, " and "), nil)
		}
	}
	if v.c.Service.AddressFamily != "ipv4" {
		for _, a := range v.f.NoReverse {
			if a.Unmap().Is6() {
				v.found(
					"ipv6-without-name",
					"",
					a.String()+" has no name that leads back",
					set("service", "", "Send by IPv4 only",
						"Hosts that have IPv6 only are no longer reached.",
						map[string]any{"address_family": "ipv4"}),
				)
				break
			}
		}
	}
}

func allLoopback(hosts []string) bool {
	for _, h := range hosts {
		host, _ := config.SplitHost(h, 0)
		if a, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !a.IsLoopback()) {
			return false
		}
	}
	return true
}

func (v *reviewer) service() {
	s := &v.c.Service
	change := func(rule, text, says, effect string, fields map[string]any) {
		v.found(rule, "", text, set("service", "", says, effect, fields))
	}
	r := s.Retry
	if r.ExpireAfter <= longEnough {
		change("short-expiry", "messages expire after "+lasting(r.ExpireAfter), "Wait five days",
			"Messages to a host that is down stay in the queue longer.",
			map[string]any{"retry": map[string]any{"expire_after": "5d"}})
	}
	if r.WarnAfter == 0 {
		change("nobody-warned", "warn_after is 0", "Tell them after four hours",
			"One notice for each message that waits so long.",
			map[string]any{"retry": map[string]any{"warn_after": "4h"}})
	}
	if len(r.Intervals) > 0 && r.Intervals[0] < eager {
		change(
			"eager-retry",
			"the second attempt comes after "+lasting(r.Intervals[0]),
			"Begin after five minutes",
			"What is deferred leaves a little later.",
			map[string]any{
				"retry": map[string]any{"intervals": []any{"5m", "10m", "20m", "30m", "1h"}},
			},
		)
	}
	if t := s.Timeouts; min(t.Greeting, t.Command) < patience {
		change(
			"hasty-timeouts",
			fmt.Sprintf("we wait %s for a greeting, %s for a reply", lasting(t.Greeting),
				lasting(t.Command)),
			"Wait five minutes",
			"A silent host keeps a connection for longer.",
			map[string]any{"timeouts": map[string]any{"greeting": "5m", "command": "5m"}},
		)
	}
	if len(s.Alerts.To) == 0 && s.Alerts.Webhook == "" {
		change("nobody-alerted", "alerts name nobody", "Tell "+s.Postmaster.Display(),
			"He gets a message for each serious snag.",
			map[string]any{"alerts": map[string]any{"to": []any{s.Postmaster.String()}}})
	}
	if len(s.DailyReport.To) == 0 {
		change("no-daily-report", "daily_report names nobody", "Send it to "+s.Postmaster.Display(),
			"One message a day.",
			map[string]any{"daily_report": map[string]any{"to": []any{s.Postmaster.String()}}})
	}
	if s.Retention < memory {
		change("short-memory", "messages are kept for "+lasting(s.Retention),
			"Keep them for 30 days", "More room in the database.",
			map[string]any{"retention": "30d"})
	}
	if len(s.BlockLists) == 0 {
		v.found("no-block-lists", "", "block_lists names none", nil)
	}
	switch {
	case len(s.Resolvers) == 1 && !s.Resolvers[0].Addr().IsLoopback():
		v.found("one-resolver", "", s.Resolvers[0].String()+" is the only one", nil)
	case slices.ContainsFunc(s.Resolvers,
		func(a netip.AddrPort) bool { return !a.Addr().IsLoopback() && !a.Addr().IsPrivate() }):
		v.found("resolver-outside", "", "a resolver is outside our network", nil)
	}
	if kind := v.c.Kind(s.Postmaster.Domain); kind != config.Local && kind != config.Shared {
		v.found("postmaster-leaves", "", s.Postmaster.Display()+" is not at a domain of ours", nil)
	} else if a := v.c.Alias(s.Postmaster); a != nil && !v.staysHere(a) {
		v.found("postmaster-leaves", "", s.Postmaster.Display()+" is an alias that leads outside",
			nil)
	}
}

func (v *reviewer) staysHere(a *directory.Alias) bool {
	return slices.ContainsFunc(a.To,
		func(to address.Address) bool { return v.c.Domain(to.Domain) != nil })
}

// people looks at mailboxes and aliases. What many share is told once.
func (v *reviewer) people() {
	if v.c.Directory == nil {
		return
	}
	var noQuota, forwardAll []string
	for _, m := range v.c.Directory.Mailboxes() {
		if m.Quota == 0 {
			noQuota = append(noQuota, m.Address.Display())
		}
		if len(m.ForwardTo) > 0 && !m.KeepCopy &&
			!slices.ContainsFunc(
				m.ForwardTo,
				func(a address.Address) bool { return v.c.Domain(a.Domain) != nil },
			) {
			forwardAll = append(forwardAll, m.Address.Display())
		}
		if slices.ContainsFunc(m.SendAs, func(p address.Pattern) bool {
			return strings.HasPrefix(p.String(), "*") || !strings.Contains(p.String(), "@")
		}) {
			v.found("send-as-everybody", "mailbox "+m.Address.Display(),
				m.Address.Display()+" may send as everybody of a domain", nil)
		}
	}
	v.many("cannot-sign-in", v.f.NoPassword)
	v.many("unused-mailbox", v.f.Unused)
	v.many("no-quota", noQuota)
	v.many("forward-all", forwardAll)
	for _, a := range v.c.Directory.Aliases() {
		if !v.staysHere(a) {
			v.found("alias-leads-out", "alias "+a.Address.Display(),
				a.Address.Display()+" leads to "+a.To[0].Display(), nil)
		}
	}
}

func (v *reviewer) many(rule string, who []string) {
	if len(who) == 0 {
		return
	}
	slices.Sort(who)
	text := strings.Join(who[:min(len(who), maxNamed)], ", ")
	if more := len(who) - maxNamed; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	v.found(rule, "", text, nil)
}

func (v *reviewer) machine() {
	told := map[string]bool{} // disks that are
	for _, d := range v.f.Disks {
		if d.Used >= NearlyFull {
			told[d.Dir] = true
			v.found("disk-full", d.What,
				fmt.Sprintf("%s is %.0f%% full, %d MB are free", d.What, d.Used*100, d.Free>>20),
				nil)
		}
	}
	for _, c := range v.f.Machine {
		if c.What == machine.ClockAgainst || strings.HasSuffix(c.What, ", rights") || told[c.Dir] {
			continue // the clock is told of below, the disk above; rights are no matter of the mail
		}
		v.found("machine", "machine, "+c.What, c.Found+": "+c.Fix, nil)
	}
	if off := v.f.ClockOff.Abs(); off > clockTolerance {
		v.found("clock-off", "",
			fmt.Sprintf("it differs from the database's by %.0f s", off.Seconds()), nil)
	}
	if v.f.ConsoleOpen {
		v.found("console-in-clear", "", "the console listens on the network without a certificate",
			nil)
	}
	switch {
	case v.f.Standbys > 0 && v.f.Synchronous == "":
		v.found(
			"asynchronous-standby",
			"database",
			fmt.Sprintf("the database has a standby (%d), and synchronous_standby_names is empty",
				v.f.Standbys),
			nil,
		)
	case v.f.Standbys == 1 && v.f.Synchronous != "":
		v.found("only-standby", "database", "one standby is connected, and commits wait for it",
			nil)
	}
	if v.f.KeyFile {
		v.found("key-file-copy", "", "passwords or signing keys are kept under the key file", nil)
	}
}

// lasting is a time in the words of a configuration.
func lasting(d time.Duration) string {
	for _, unit := range []struct {
		d    time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if d >= unit.d && d%unit.d == 0 {
			return fmt.Sprintf("%d%s", d/unit.d, unit.name)
		}
	}
	return d.String()
}
