package senderauth

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"gullroute/internal/core/readiness"
)

// maxTerms bounds how much of records is followed.
const maxTerms = 100

// SPFRecords are the SPF records of a domain.
func SPFRecords(ctx context.Context, r Resolver, domain string) ([]string, error) {
	texts, err := asker{r}.LookupTXT(ctx, domain)
	var out []string
	for _, t := range texts {
		if low := strings.ToLower(t); low == "v=spf1" || strings.HasPrefix(low, "v=spf1 ") {
			out = append(out, t)
		}
	}
	return out, err
}

// Tree follows a record with all that it includes, and says what passes and how
// often it asks DNS: the worst that an evaluation can come to.
func Tree(ctx context.Context, r Resolver, domain, record string) readiness.Tree {
	w := walker{ctx: ctx, r: r}
	w.out.All = w.walk(domain, record, true, 0)
	return w.out
}

type walker struct {
	ctx   context.Context
	r     Resolver
	out   readiness.Tree
	terms int
}

func (w *walker) fault(format string, args ...any) {
	w.out.Faults = append(w.out.Faults, fmt.Sprintf(format, args...))
}

// walk follows the terms of one record. counts says whether what passes here
// passes in all.
func (w *walker) walk(domain, record string, counts bool, depth int) (all string) {
	if depth > 10 {
		w.fault("%s is included in a circle", domain)
		return ""
	}
	redirect := ""
	for _, term := range strings.Fields(record)[1:] {
		if w.terms++; w.terms > maxTerms {
			w.fault("the record has more than %d terms", maxTerms)
			return all
		}
		if name, value, ok := strings.Cut(term, "="); ok && !strings.ContainsAny(name, ":/") {
			if strings.EqualFold(name, "redirect") {
				redirect = value
			}
			continue
		}
		qualifier := "+"
		if strings.ContainsRune("+-~?", rune(term[0])) {
			qualifier, term = term[:1], term[1:]
		}
		mechanism, value := cutMechanism(term)
		passes := counts && qualifier == "+"
		switch strings.ToLower(mechanism) {
		case "all":
			return qualifier + "all"
		case "ip4", "ip6":
			w.network(mechanism, value, passes)
		case "include":
			w.out.Lookups++
			w.include(domain, value, passes, depth)
		case "a", "mx", "ptr", "exists":
			w.out.Lookups++
			if passes {
				w.out.Passes = append(w.out.Passes,
					strings.ToLower(mechanism)+" of "+orDomain(value, domain))
			}
		default:
			w.fault("%q is no term of SPF", term)
		}
	}
	if redirect == "" {
		return all
	}
	w.out.Lookups++
	next, ok := w.record(redirect)
	if !ok {
		return all
	}
	return w.walk(redirect, next, counts, depth+1)
}

// cutMechanism takes a term apart: a, a:host, a/24, mx:host/24.
func cutMechanism(term string) (mechanism, value string) {
	i := strings.IndexAny(term, ":/")
	if i < 0 {
		return term, ""
	}
	return term[:i], strings.TrimPrefix(term[i:], ":")
}

func orDomain(value, domain string) string {
	if value == "" || strings.HasPrefix(value, "/") {
		return domain + value
	}
	return value
}

func (w *walker) network(mechanism, value string, passes bool) {
	_, err := netip.ParsePrefix(value)
	if err != nil {
		if _, err = netip.ParseAddr(value); err != nil {
			w.fault("%s:%s is no network", mechanism, value)
			return
		}
	}
	if passes {
		w.out.Passes = append(w.out.Passes, value)
	}
}

func (w *walker) include(domain, value string, passes bool, depth int) {
	if value == "" {
		w.fault("an include names no domain")
		return
	}
	if strings.Contains(value, "%") { // a macro: it depends on the message
		if passes {
			w.out.Passes = append(w.out.Passes, "include of "+value)
		}
		return
	}
	if strings.EqualFold(value, domain) {
		w.fault("%s includes itself", domain)
		return
	}
	if next, ok := w.record(value); ok {
		w.walk(value, next, passes, depth+1)
	}
}

// record is the one record of a domain.
func (w *walker) record(domain string) (string, bool) {
	if strings.Contains(domain, "%") {
		return "", false
	}
	list, err := SPFRecords(w.ctx, w.r, domain)
	switch {
	case err != nil && len(list) == 0:
		w.fault("%s, which it names, cannot be looked up: %v", domain, err)
	case len(list) == 0:
		w.fault("%s, which it names, has no SPF record", domain)
	case len(list) > 1:
		w.fault("%s, which it names, has several SPF records", domain)
	default:
		return list[0], true
	}
	return "", false
}
