package review

import (
	"fmt"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/report"
)

// Of the usual volume: on how many days it must have been seen, how much more than the
// busiest day a limit leaves room for, and how much more says nothing any longer.
const (
	enoughDays = 7
	roomFor    = 3
	tooMuch    = 20
	leastLimit = 50
)

// busiest is what the busiest account of a rule sent on its busiest day.
func (v *reviewer) busiest(r *config.RelayRule) (most report.Busy, known bool) {
	for _, b := range v.f.Busiest {
		a, err := address.Parse(b.Account)
		if err != nil {
			continue
		}
		if _, ok := r.Accounts.Match(a); !ok {
			continue
		}
		if b.Recipients > most.Recipients {
			most.Account, most.Recipients = b.Account, b.Recipients
		}
		most.Messages = max(most.Messages, b.Messages)
	}
	return most, v.f.Days >= enoughDays && most.Account != ""
}

// limits looks at what accounts may send, beside what they do send.
func (v *reviewer) limits(r *config.RelayRule, where string) {
	most, known := v.busiest(r)
	messages, recipients := int64(500), int64(1000)
	effect := "Who needs more is deferred with 450 until the next hour or day."
	if known {
		messages, recipients = withRoom(most.Messages), withRoom(most.Recipients)
		effect = fmt.Sprintf("%d times what anybody sent on a day of the last %d: %s wrote to %d "+
			"recipients. Who needs more is deferred with 450 until the next day.", roomFor, v.f.Days,
			most.Account, most.Recipients)
	}
	proposed := map[string]any{"messages_per_day": messages, "recipients_per_day": recipients}
	if !r.Limits.Given() {
		if !known {
			proposed["messages_per_hour"] = 200
		}
		v.found("no-account-limits", where, r.Name+" has no limits",
			set("relay_rules", r.Name, fmt.Sprintf("Set %d messages and %d recipients a day", messages,
				recipients), effect, map[string]any{"limits": proposed}))
		return
	}
	if has := int64(r.Limits.RecipientsPerDay); known && has > recipients &&
		has > tooMuch*most.Recipients {
		v.found("loose-limits", where, fmt.Sprintf("%s allows %d recipients a day, and in %d days nobody "+
			"wrote to more than %d (%s)", r.Name, has, v.f.Days, most.Recipients, most.Account),
			set("relay_rules", r.Name, fmt.Sprintf("Set %d recipients a day", recipients), effect,
				map[string]any{"limits": map[string]any{"recipients_per_day": recipients}}))
	}
}

// withRoom is a limit that leaves room above what was seen, in round numbers.
func withRoom(seen int64) int64 {
	n, unit := max(seen*roomFor, leastLimit), int64(10)
	for n > unit*50 {
		unit *= 10
	}
	return (n + unit - 1) / unit * unit
}
