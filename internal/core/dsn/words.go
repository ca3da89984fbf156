package dsn

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/retry"
)

// words is the part for people, in the sender's terms.
func (n Notice) words() string {
	var b strings.Builder
	line := func(format string, args ...any) {
		b.WriteString(strings.TrimRight(fmt.Sprintf(format, args...), " ") + "\r\n")
	}
	t := n.texts()
	if n.CopyOf != n.To && n.CopyOf.String() != "" {
		line(t.copyOf, n.CopyOf.Display())
		if n.Uncopied > 0 {
			line(t.uncopied, n.Uncopied)
		}
		line("")
	}
	line("%s", t.openings[n.Worst()])
	line("")
	if n.Subject != "" {
		line("%-13s %s", t.subject, oneLine(n.Subject))
	}
	line("%-13s %s", t.sent, t.date(n.Arrived))
	for _, r := range n.Recipients {
		line("")
		line("%-13s %s", t.to, r.Final.Display())
		for _, s := range n.about(r) {
			for i, part := range fold(s.text) {
				label := s.label
				if i > 0 {
					label = ""
				}
				line("%-13s %s", label, part)
			}
		}
	}
	line("")
	line(t.writtenBy, n.HostName)
	line(t.help, n.Postmaster.Display())
	return b.String()
}

type statement struct{ label, text string }

// about are the statements on one recipient: what happened, what one can do and
// the exact words of the remote host.
func (n Notice) about(r Recipient) []statement {
	var out []statement
	say := func(label, text string) { out = append(out, statement{label, text}) }
	exact := clipLine(r.Reply.String())
	t := n.texts()
	switch r.Action {
	case Delivered:
		say("", t.inMailbox)
		return out
	case Relayed:
		say("", fmt.Sprintf(t.passedOn, r.RemoteHost))
		return out
	case Expanded:
		say("", t.forOthers)
		return out
	}
	if r.Words != "" {
		say(t.why, t.sentBack+r.Words)
		return out
	}
	meaning := diagnose.ForSenderIn(t.language, r.Cause)
	if r.Unsure {
		meaning.Why = t.likely + meaning.Why
	}
	say(t.why, meaning.Why)
	if r.Expired {
		say("", fmt.Sprintf(t.expired, retry.Words(n.Now.Sub(n.Arrived).Round(time.Minute))))
	}
	if r.Action == Delayed {
		if !r.RetryUntil.IsZero() {
			say(t.whatNext, fmt.Sprintf(t.until, t.date(r.RetryUntil)))
		}
		if meaning.Do != "" && !meaning.Waiting {
			say(t.youCan, meaning.Do)
		}
	} else {
		say(t.youCan, meaning.Do)
	}
	switch {
	case r.RemoteHost != "" && r.Reply.Code != 0:
		say(t.inFull, fmt.Sprintf(t.hostSaid, r.RemoteHost)+exact)
	case exact != "" && r.Reply.Code != 0:
		say(t.inFull, exact)
	}
	return out
}

// width is how long a line of the first part is, beside its label.
const width = 62

// fold breaks a text into lines at its spaces.
func fold(s string) []string {
	var lines []string
	current := ""
	for _, word := range strings.Fields(s) {
		if current != "" && len([]rune(current))+1+len([]rune(word)) > width {
			lines = append(lines, current)
			current = ""
		}
		if current != "" {
			current += " "
		}
		current += word
	}
	if current != "" {
		lines = append(lines, current)
	}
	return lines
}
