package publish

import (
	"net/netip"
	"slices"
	"strings"
)

// RecordChange is what becomes of the records of one name and type. Values are in plain form: text
// unquoted and in one piece, names without their last dot.
type RecordChange struct {
	Name    string   `json:"name" doc:"Without the last dot"`
	Type    string   `json:"type"`
	Before  []string `json:"before" doc:"What stood there"`
	After   []string `json:"after" doc:"What stands there then"`
	Removed []string `json:"removed"`
	Added   []string `json:"added"`
}

// Diff compares what stands at a name with what is to stand there.
func Diff(name, kind string, before, after []string) RecordChange {
	c := RecordChange{
		Name:    name,
		Type:    kind,
		Before:  before,
		After:   after,
		Removed: []string{},
		Added:   []string{},
	}
	for _, v := range before {
		if !slices.Contains(after, v) {
			c.Removed = append(c.Removed, v)
		}
	}
	for _, v := range after {
		if !slices.Contains(before, v) {
			c.Added = append(c.Added, v)
		}
	}
	return c
}

// Nothing reports a change that changes nothing.
func (c *RecordChange) Nothing() bool { return len(c.Removed)+len(c.Added) == 0 }

// Merge is what a name's records of a type are to be, so that a record is among them and
// nothing of others' is lost: texts for other purposes stay, the terms of an SPF record stay,
// hosts beside ours stay. What the record stands in place of (instead) goes.
func Merge(before []string, r DNSRecord) []string {
	value := r.Value
	after := slices.DeleteFunc(slices.Clone(before), func(old string) bool {
		if slices.Contains(r.Instead, old) {
			return true
		}
		switch r.Type {
		case "TXT":
			return sameText(r.Name, old, value)
		case "MX":
			return old == "0 ." || old == "0 " || strings.EqualFold(second(old), second(value))
		case "A", "AAAA", "TLSA":
			return old == value
		}
		return true // CNAME, PTR, SRV: the one stands in place of the others
	})
	if isSPF(value) {
		old := slices.DeleteFunc(slices.Clone(before), func(s string) bool { return !isSPF(s) })
		value = MergeSPF(old, value)
	}
	return append(after, value)
}

// second is a record's second word, the host of an MX.
func second(value string) string {
	_, host, _ := strings.Cut(value, " ")
	return strings.TrimSuffix(host, ".")
}

// sameText reports whether one text stands in place of another: both are for the same
// purpose, or the name has only one.
func sameText(name, a, b string) bool {
	if strings.Contains(name, "._domainkey.") {
		return true
	}
	purpose := func(text string) string {
		word, _, _ := strings.Cut(strings.TrimSpace(text), " ")
		word, _, _ = strings.Cut(word, ";")
		return strings.ToLower(word)
	}
	return strings.HasPrefix(purpose(a), "v=") && purpose(a) == purpose(b)
}

func isSPF(text string) bool {
	word, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(text)), " ")
	return word == "v=spf1"
}

// MergeSPF joins SPF records into one: the terms of all in their order, each once, those with a
// fault left out, and the last one's word on everybody else (RFC 7208 section 4.5).
func MergeSPF(records []string, last string) string {
	words := []string{"v=spf1"}
	var redirect, explain string
	all := ""
	for _, text := range append(slices.Clone(records), last) {
		for _, w := range strings.Fields(text)[1:] {
			low := strings.ToLower(w)
			switch plain := strings.TrimLeft(low, "+-~?"); {
			case plain == "all":
				all = w
			case strings.HasPrefix(low, "redirect="):
				redirect = w
			case strings.HasPrefix(low, "exp="):
				explain = w
			case spfTerm(plain) && !slices.ContainsFunc(words, func(o string) bool {
				return strings.TrimPrefix(strings.ToLower(o), "+") == strings.TrimPrefix(low, "+")
			}):
				words = append(words, w)
			}
		}
	}
	// A redirect counts only where nothing is said of everybody else.
	if all != "" {
		words = append(words, all)
	} else if redirect != "" {
		words = append(words, redirect)
	}
	if explain != "" {
		words = append(words, explain)
	}
	return strings.Join(words, " ")
}

// spfTerm reports a mechanism as it may be written (RFC 7208 section 5); those that are not
// would make the whole record count for nothing.
func spfTerm(word string) bool {
	name, value, given := strings.Cut(word, ":")
	name, _, _ = strings.Cut(name, "/")
	switch name {
	case "a", "mx", "ptr":
		return true
	case "include", "exists":
		return given && value != ""
	case "ip4", "ip6":
		if !strings.Contains(value, "/") {
			_, err := netip.ParseAddr(value)
			return err == nil
		}
		_, err := netip.ParsePrefix(value)
		return err == nil
	}
	return false
}
