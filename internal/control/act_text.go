package control

import (
	"fmt"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/mail"
)

func (a *act) say() string {
	if a.r.Say != "" {
		return a.r.Say
	}
	return "It is not delivered from here."
}

var doing = map[string]string{
	mail.VerbHold:         "held",
	mail.VerbRelease:      "released",
	mail.VerbFlush:        "to be tried immediately",
	mail.VerbReroute:      "sent by another route",
	mail.VerbExpire:       "given another end",
	mail.VerbReturn:       "sent back",
	mail.VerbDrop:         "dropped",
	mail.VerbChangeDomain: "sent to another domain",
	mail.VerbRestore:      "restored",
	mail.VerbUndo:         "put back where the routes send them",
}

// eventText is what the message's own story says.
func (a *act) eventText() string {
	text := doing[a.r.Verb] + " by " + a.who
	switch a.r.Verb {
	case mail.VerbReroute:
		text = fmt.Sprintf("sent by %s %s by %s",
			map[bool]string{true: "route", false: "host"}[a.r.Route != ""], a.r.Route+a.r.Host,
			a.who)
	case mail.VerbExpire:
		text = "the time it expires was changed by " + a.who + " (" + a.r.ExpireAfter + ")"
	case mail.VerbChangeDomain:
		text = "sent to " + address.DisplayDomain(a.host) + " by " + a.who
	}
	if a.r.Why != "" {
		text += ": " + a.r.Why
	}
	return text
}

func (a *act) wouldText() string {
	return fmt.Sprintf("%s would be %s", plural(a.matched, "delivery", "deliveries"),
		strings.TrimPrefix(doing[a.r.Verb], "to be "))
}

func (a *act) doneText(sending int64) string {
	text := fmt.Sprintf("%s %s", plural(a.touched, "delivery is", "deliveries are"),
		doing[a.r.Verb])
	if a.touched == 0 {
		text = "nothing that matches could be " + strings.TrimPrefix(doing[a.r.Verb], "to be ")
		if a.f.Action != 0 {
			text += ": what it touched has left, or a later action touched it; take that back first"
		}
	}
	if a.skipped > 0 {
		text += fmt.Sprintf("; %s left as before: the new address is refused here",
			plural(a.skipped, "was", "were"))
	}
	if sending > 0 {
		text += fmt.Sprintf("; %s left alone, being sent at that moment",
			plural(sending, "was", "were"))
	}
	return text
}

func plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
