package config

import (
	"fmt"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
)

// ScoreMade reports that strangers are weighed at some listener.
func (c *Config) ScoreMade() bool {
	for i := range c.Listeners {
		if !c.Listeners[i].Reads() &&
			c.Listeners[i].Weighs(c.Service.Reputation).Score != repute.Off {
			return true
		}
	}
	return false
}

// Scans reports that the score asks a scanner.
func (c *Config) Scans() bool {
	p := &c.Service.Reputation.Points
	return p.Infected+p.Unwanted > 0
}

func (k *checker) reputation(stored bool) {
	t := &k.c.Service.Reputation
	line := k.c.Service.Line
	at := "service.reputation."
	rising := []struct {
		name  string
		value int
	}{{"mark", t.Thresholds.Mark}, {"hold", t.Thresholds.Hold}, {"refuse", t.Thresholds.Refuse}}
	for i, x := range rising {
		for _, y := range rising[i+1:] {
			if x.value > 0 && y.value > 0 && y.value <= x.value {
				k.wrong(
					line,
					at+"thresholds."+y.name,
					"it is %d, and %s begins at %d already: write "+
						"a higher one, or 0 for never",
					y.value,
					x.name,
					x.value,
				)
			}
		}
	}
	if t.GreylistWait <= t.GreylistFor {
		k.wrong(
			line,
			at+"greylist_wait",
			"it is not longer than greylist_for (%s): nobody could pass",
			t.GreylistFor,
		)
	}
	if strings.ContainsAny(t.Mark, "\r\n") || len(t.Mark) > 60 {
		k.wrong(line, at+"mark", "write one line of at most 60 octets")
	}
	if k.c.Scans() && len(k.c.Scanners) == 0 {
		k.wrong(line, at+"points", "infected and unwanted ask a scanner, and none is set up")
	}
	for i, n := range t.InFront {
		if n.Bits() == 0 {
			k.wrong(
				line,
				fmt.Sprintf("%sin_front[%d]", at, i),
				"%s is all the world: anybody could "+
					"then say for whom they send",
				n,
			)
		}
	}
	if !stored {
		k.exceptions(line, at+"allow.", &t.Allow)
		k.exceptions(line, at+"deny.", &t.Deny)
	}
	k.dnsLists()
}

func (k *checker) exceptions(line int, at string, e *repute.Exceptions) {
	for i, n := range e.Networks {
		field := fmt.Sprintf("%snetworks[%d]", at, i)
		if name, ok := strings.CutPrefix(n, address.ListPrefix); ok {
			k.listOf(line, field, list.Networks, strings.TrimSpace(name))
			continue
		}
		for _, f := range list.Check(list.List{Kind: list.Networks, Entries: []string{n}}) {
			k.wrong(line, field, "%s", f.Text)
		}
	}
	for name, ps := range map[string]address.Patterns{"senders": e.Senders, "recipients": e.Recipients} {
		for i, p := range ps {
			field := fmt.Sprintf("%s%s[%d]", at, name, i)
			if p.List() != "" {
				k.listOf(line, field, list.Addresses, p.List())
			} else if err := p.Never(); err != nil {
				k.wrong(line, field, "%v", err)
			}
		}
	}
}

func (k *checker) dnsLists() {
	names := map[string]int{}
	for i := range k.c.DNSLists {
		l := &k.c.DNSLists[i]
		field := fmt.Sprintf("dns_lists[%d]", i)
		k.unique(names, l.Line, field+".name", l.Name)
		if strings.ContainsAny(l.AskAt, "\r\n") || len(l.AskAt) > 200 {
			k.wrong(l.Line, field+".ask_at", "write one line of at most 200 octets")
		}
		for j, name := range l.Listeners {
			if _, ok := k.listenerAt[name]; !ok {
				k.wrong(
					l.Line,
					fmt.Sprintf("%s.listeners[%d]", field, j),
					"there is no listener %q",
					name,
				)
			}
		}
	}
}
