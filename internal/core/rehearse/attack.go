package rehearse

import (
	"net/netip"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// Attempt is an attempt to relay that came through.
type Attempt struct {
	Form      string `json:"form"`
	Listener  string `json:"listener"`
	Client    string `json:"client"`
	Sender    string `json:"sender"`
	Recipient string `json:"recipient"`
	Rule      string `json:"rule"`
}

// strangers are addresses of nobody's network (RFC 5737, RFC 3849).
var strangers = []netip.Addr{
	netip.MustParseAddr("192.0.2.66"),
	netip.MustParseAddr("203.0.113.9"),
	netip.MustParseAddr("2001:db8::66"),
}

// attackDomain is a domain that is not ours.
const attackDomain = "saltmarsh.example"

// forms are the classical ways to smuggle a recipient past a check on its
// domain. OURS is a domain of ours.
var forms = []struct{ name, path string }{
	{"plain", "<victim@" + attackDomain + ">"},
	{"percent sign", "<victim%" + attackDomain + "@OURS>"},
	{"source route", "<@OURS:victim@" + attackDomain + ">"},
	{"bang path", "<" + attackDomain + "!victim@OURS>"},
	{"quoted local part", `<"victim@` + attackDomain + `"@OURS>`},
	{"quoted whole", `<"victim@` + attackDomain + `">`},
	{"two at signs", "<victim@" + attackDomain + "@OURS>"},
	{"mixed", "<" + attackDomain + "!victim%" + attackDomain + "@OURS>"},
	{"address literal", "<victim@[192.0.2.1]>"},
	{"percent sign at a literal", "<victim%" + attackDomain + "@[127.0.0.1]>"},
	{"upper case", "<VICTIM@" + "SALTMARSH.EXAMPLE>"},
	{"trailing dot", "<victim@" + attackDomain + ".>"},
	{"without brackets", "victim@" + attackDomain},
}

// Attack tries to relay through a configuration from outside in every classical
// form, with a foreign sender, the null sender and senders of our own. What
// comes through is returned, with the number of attempts.
func Attack(c *config.Compiled) (through []Attempt, attempts int) {
	through = []Attempt{}
	senders := []address.Address{
		{},
		{Local: "stranger", Domain: "driftnet.example"},
		{Local: "victim", Domain: attackDomain},
	}
	ours := someOfEachKind(c.Domains)
	for _, d := range ours {
		senders = append(senders, address.Address{Local: "postmaster", Domain: d})
	}
	if len(ours) == 0 {
		ours = []string{string(c.Service.HostName)}
	}
	for i := range c.Listeners {
		l := &c.Listeners[i]
		if l.Kind == config.Submission || l.Reads() { // nobody sends there without sign-in
			continue
		}
		for _, client := range strangers {
			if !Admits(l, client) {
				continue
			}
			for _, sender := range senders {
				for _, domain := range ours {
					for _, f := range forms {
						attempts++
						e := config.Envelope{Client: client, Listener: l.Name, Sender: sender}
						if a, ok := attack(c, e, f.name, expandForm(f.path, domain)); ok {
							through = append(through, a)
						}
					}
				}
			}
		}
	}
	return through, attempts
}

// maxTried bounds how many domains of ours attempts are made through.
const maxTried = 4

// Forms are the classical forms of an attempt to relay through a domain of ours,
// by name.
func Forms(domain string) [][2]string {
	var out [][2]string
	for _, f := range forms {
		out = append(out, [2]string{f.name, expandForm(f.path, domain)})
	}
	return out
}

// Through reports whether a configuration would let an attempt leave.
func Through(c *config.Compiled, e config.Envelope, path string) bool {
	_, through := attack(c, e, "", path)
	return through
}

// someOfEachKind picks one domain of each kind, because those of a kind are
// decided alike, and then more up to the bound.
func someOfEachKind(domains []config.Domain) []string {
	var out, more []string
	seen := map[string]bool{}
	for _, d := range domains {
		if seen[d.Kind] {
			more = append(more, string(d.Name))
			continue
		}
		seen[d.Kind] = true
		out = append(out, string(d.Name))
	}
	return append(out, more[:min(len(more), maxTried-len(out))]...)
}

func expandForm(path, domain string) string {
	for i := 0; i+4 <= len(path); i++ {
		if path[i:i+4] == "OURS" {
			return path[:i] + domain + path[i+4:]
		}
	}
	return path
}

// Admits reports whether a listener lets a client connect.
func Admits(l *config.Listener, client netip.Addr) bool {
	for _, n := range l.Deny {
		if n.Contains(client) {
			return false
		}
	}
	for _, n := range l.Allow {
		if n.Contains(client) {
			return true
		}
	}
	return len(l.Allow) == 0
}

// attack reports an attempt that is taken and would leave by a way that is not
// one of our domains' own.
func attack(c *config.Compiled, e config.Envelope, name, path string) (Attempt, bool) {
	rcpt, fault := smtp.ParseRcpt("TO:"+path, false)
	if fault != nil {
		return Attempt{}, false
	}
	d := relay.Decide(c, e, rcpt.To)
	if !d.Allow || c.Domain(rcpt.To.Domain) != nil && d.Rule == config.RuleOurDomain {
		return Attempt{}, false
	}
	legs, refusal := route.Plan(c, e, rcpt.To)
	if refusal != nil {
		return Attempt{}, false
	}
	for _, leg := range legs {
		if c.Domain(leg.Recipient.Domain) == nil {
			return Attempt{
				name,
				e.Listener,
				e.Client.String(),
				e.Sender.String(),
				rcpt.To.String(),
				d.Rule,
			}, true
		}
	}
	return Attempt{}, false
}
