package main

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"gullroute/internal/core/diagnose/corpus"
	"gullroute/internal/core/reading"
)

// example is a reply as the model sees it.
type example struct {
	cause    string
	features []string
}

// tails are what hosts say behind a reply and what says nothing about the trouble.
// The corpus is learnt with some of them, so that their words weigh nothing.
var tails = []string{
	" (ref %d-7)", " [%d]", " id=%x", " see https://help.lagoon.example/%d",
	" - please contact postmaster@lagoon.example", " (mx%d.lagoon.example)",
	" For help visit https://post.lagoon.example/e?c=%d", " Session %x", ". Ticket %d",
	" - spam-filter-%d.lagoon.example", " <dkim-%d@lagoon.example>", " (gw%d.virus-scan.example)",
	". If you think this is wrong, write to abuse@lagoon.example", " (in reply to RCPT TO command)",
	" [full-moon-%d.lagoon.example]", ". Questions? Call +47 555 0%d", " t=%d n=3",
	". Please quote %x when asking for support", " - quota%d.lagoon.example",
	". Time: 2026-11-02T08:11:%dZ", ". Have a nice day", ". Sorry for the trouble",
}

// denials say what a reply is not about; they go before or behind replies of other
// causes, so that what is denied does not count as said.
var denials = []struct {
	text string
	not  []string // causes that it would deny
}{
	{
		"this is not a spam block",
		[]string{"content-refused", "block-listed", "blocked-by-host", "not-known"},
	},
	{"not a quota problem", []string{"mailbox-full", "sending-limit", "host-full", "not-known"}},
	{"no virus was found", []string{"virus-found", "attachment-refused", "not-known"}},
	{"this has nothing to do with greylisting", []string{"greylisted", "not-known"}},
	{
		"you are not on any block list",
		[]string{"block-listed", "domain-listed", "link-listed", "not-known"},
	},
	{"SPF is fine", []string{"spf-fails", "dmarc-fails", "identity-not-checked", "not-known"}},
	{"DKIM passed", []string{"dkim-fails", "dmarc-fails", "identity-not-checked", "not-known"}},
	{"the user exists", []string{"no-such-user", "not-known"}},
	{"not because of your IP", []string{"block-listed", "blocked-by-host", "low-reputation",
		"no-reverse-name", "residential-address-refused", "not-known"}},
	{"it isn't the size", []string{"too-large", "mailbox-full", "not-known"}},
	{"the mailbox is not full", []string{"mailbox-full", "not-known"}},
	{"not a policy matter", []string{"policy-refused", "not-known"}},
}

// denied is a reply with something beside it that it is not about, "" if all that
// is at hand would deny its own cause.
func denied(s corpus.Sample, n uint32) string {
	for i := range denials {
		d := denials[(int(n)+i)%len(denials)]
		if slices.Contains(d.not, s.Cause) {
			continue
		}
		if n&64 == 0 {
			return s.Reply.Text() + fmt.Sprintf(
				[]string{" (%s)", "; %s", ", %s", " - %s"}[n%4],
				d.text,
			)
		}
		return strings.ToUpper(
			d.text[:1],
		) + d.text[1:] + []string{": ", ", but ", ". "}[n%3] + s.Reply.Text()
	}
	return ""
}

// prepared makes examples: each reply as it is, twice with a tail, and one in
// three with something that it is not about.
func prepared(list []corpus.Sample) []example {
	var out []example
	for i, s := range list {
		out = append(out, made(s, s.Reply.Text(), reading.Context{}))
		for k := range 2 {
			h := fnv.New32a()
			fmt.Fprintf(h, "%s %d", s.Line, k)
			n := h.Sum32()
			tail := tails[int(n%uint32(len(tails)))]
			if count := countVerbs(tail); count > 0 {
				tail = fmt.Sprintf(tail, n>>8+uint32(i))
			}
			out = append(out, made(s, s.Reply.Text()+tail, about(s)))
			if k == 0 && n%3 == 0 {
				if text := denied(s, n>>4); text != "" {
					out = append(out, made(s, text, about(s)))
				}
			}
		}
	}
	return out
}

func countVerbs(s string) (n int) {
	for i := range len(s) {
		if s[i] == '%' {
			n++
		}
	}
	return n
}

// about is what is known of a delivery where it can be seen from the reply: the
// recipients of the corpus are of a few domains, and so are we.
func about(s corpus.Sample) reading.Context {
	c := reading.Context{Sender: "deck@skerryline.example"}
	apart := func(r rune) bool { return strings.ContainsRune(" <>[](),;:", r) }
	for _, w := range strings.FieldsFunc(s.Line, apart) {
		if strings.HasSuffix(w, "@nosuch.example") || strings.HasSuffix(w, "@lagoon.example") {
			c.Recipient = w
			break
		}
	}
	return c
}

func made(s corpus.Sample, text string, about reading.Context) example {
	e := example{cause: s.Cause}
	for _, f := range reading.Of(text, about).Features(nil, s.Stage, s.Reply.Code, s.Reply.Enhanced) {
		e.features = append(e.features, f.Name())
	}
	return e
}
