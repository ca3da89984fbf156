package dsn

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/retry"
)

// openings say in a sentence what happened.
var openings = map[Action]string{
	Failed: "Your message could not be delivered. It will not be tried again.",
	Delayed: "Your message has not been delivered yet. You need not send it again: we keep " +
		"trying.",
	Delivered: "Your message was delivered.",
	Relayed: "Your message was passed on to the recipient's mail server. That server does not " +
		"tell us when it is delivered.",
	Expanded: "Your message was passed on to all who are behind the address you wrote to. You " +
		"will not be told of each of them.",
}

// dateForPeople is how a time is written in the first part.
const dateForPeople = "Monday, 2 January 2006 15:04 MST"

// words is the part for people, in the sender's terms.
func (n Notice) words() string {
	var b strings.Builder
	line := func(format string, args ...any) {
		b.WriteString(strings.TrimRight(fmt.Sprintf(format, args...), " ") + "\r\n")
	}
	if n.CopyOf != n.To && n.CopyOf.String() != "" {
		line("This is the postmaster's copy of a notice to %s.", n.CopyOf.Display())
		if n.Uncopied > 0 {
			line("%d notices before it were not copied: the limit for an hour was reached.",
				n.Uncopied)
		}
		line("")
	}
	line("%s", openings[n.Worst()])
	line("")
	if n.Subject != "" {
		line("Subject:      %s", oneLine(n.Subject))
	}
	line("Sent:         %s", n.Arrived.UTC().Format(dateForPeople))
	for _, r := range n.Recipients {
		line("")
		line("To:           %s", r.Final.Display())
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
	line("This notice was written by the mail server %s.", n.HostName)
	line("If you need help, forward it to %s.", n.Postmaster.Display())
	return b.String()
}

type statement struct{ label, text string }

// about are the statements on one recipient: what happened, what one can do and
// the exact words of the remote host.
func (n Notice) about(r Recipient) []statement {
	var out []statement
	say := func(label, text string) { out = append(out, statement{label, text}) }
	exact := clipLine(r.Reply.String())
	switch r.Action {
	case Delivered:
		say("", "It is in the mailbox.")
		return out
	case Relayed:
		say("", "Passed on to "+r.RemoteHost+".")
		return out
	case Expanded:
		say("", "The address stands for several others.")
		return out
	}
	if r.Words != "" {
		say("Why:", "The administrator of this mail server sent it back: "+r.Words)
		return out
	}
	meaning := diagnose.ForSender(r.Cause)
	say("Why:", meaning.Why)
	if r.Expired {
		say(
			"",
			"We tried for "+retry.Words(
				n.Now.Sub(n.Arrived).Round(time.Minute),
			)+" and it has expired.",
		)
	}
	if r.Action == Delayed {
		if !r.RetryUntil.IsZero() {
			say(
				"What next:",
				"We keep trying until "+r.RetryUntil.UTC().Format(
					dateForPeople,
				)+". You hear from us again only if it cannot be delivered by then.",
			)
		}
		if meaning.Do != "" && !meaning.Waiting {
			say("You can:", meaning.Do)
		}
	} else {
		say("You can:", meaning.Do)
	}
	switch {
	case r.RemoteHost != "" && r.Reply.Code != 0:
		say("In full:", "The server "+r.RemoteHost+" said: "+exact)
	case exact != "" && r.Reply.Code != 0:
		say("In full:", exact)
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
