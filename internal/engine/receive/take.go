package receive

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/message"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// verifyTimeout bounds the question to a relay domain's next hop.
const verifyTimeout = 20 * time.Second

// mayTake finds what stands against a recipient that rules and routes allow: the
// rule's limits, a full mailbox, a next hop that does not know it.
func (se *session) mayTake(e config.Envelope, d relay.Decision, to address.Address, legs []route.Leg) (*smtp.Reply, diagnose.Cause) {
	ctx, cancel := context.WithTimeout(context.Background(), verifyTimeout)
	defer cancel()
	if d.Limits != (config.RuleLimits{}) && se.server.Allowance != nil {
		if why := se.server.Allowance.Left(ctx, d.Rule, relay.Holder(e), d.Limits, se.under(d.Rule)); why != "" {
			r := smtp.NewReply(450, "4.7.1", "%s", why)
			return &r, diagnose.LimitReached
		}
	}
	for _, leg := range legs {
		if leg.Route.NextHop == config.HopMailbox {
			if r := se.room(ctx, leg.Recipient); r != nil && len(legs) == 1 {
				if r.Enhanced == "5.2.3" {
					return r, diagnose.TooLarge
				}
				return r, diagnose.MailboxFull
			}
		}
	}
	dom := se.cfg.Domain(to.Domain)
	switch {
	case dom == nil || dom.Kind != config.Relay:
	case dom.Verify == "list" && !listed(dom, to):
		r := smtp.NewReply(550, "5.1.1", "%s is not among the recipients of %s", to.Display(), address.DisplayDomain(to.Domain))
		return &r, diagnose.NoSuchUser
	case dom.Verify == "call" && se.server.Verify != nil:
		return se.server.Verify(ctx, se.cfg, to), diagnose.NoSuchUser
	}
	return nil, diagnose.NoCause
}

func listed(d *config.Domain, to address.Address) bool {
	for _, a := range d.Recipients {
		if a.Key() == to.Key() {
			return true
		}
	}
	return strings.EqualFold(to.Local, "postmaster")
}

// under counts the recipients taken under a rule in the message under way.
func (se *session) under(rule string) int {
	n := 0
	for _, r := range se.rcpts {
		if r.decision.Rule == rule {
			n++
		}
	}
	return n
}

// room reports a mailbox that cannot take the message: RFC 3463's 2.2 is a full
// one, 2.3 a message larger than it ever takes.
func (se *session) room(ctx context.Context, to address.Address) *smtp.Reply {
	box := se.cfg.Mailbox(to)
	if box == nil || box.Quota == 0 || se.server.Use == nil {
		return nil
	}
	if se.mail.Size > int64(box.Quota) {
		r := smtp.NewReply(552, "5.2.3", "the message has %d octets; mailbox %s holds at most %s", se.mail.Size, to.Display(), box.Quota)
		return &r
	}
	used, err := se.server.Use(ctx, to.String())
	if err != nil || used+max(se.mail.Size, 1) <= int64(box.Quota) {
		return nil // if it cannot be known now, delivery will find out
	}
	r := smtp.NewReply(452, "4.2.2", "mailbox %s is full", to.Display())
	return &r
}

// count notes the message against its rules' limits.
func (se *session) count() {
	if se.server.Allowance == nil {
		return
	}
	counted := map[string]bool{}
	for _, r := range se.rcpts {
		if rule := r.decision.Rule; r.decision.Limits != (config.RuleLimits{}) && !counted[rule] {
			counted[rule] = true
			se.server.Allowance.Count(rule, relay.Holder(se.envelope()), se.under(rule))
		}
	}
}

// fix completes a header section: for people who submit, Date, Message-ID and
// From where they are missing (RFC 6409 section 8); for our machines too, senders
// at machines' names as our domain writes them.
func (se *session) fix(section []byte, id ident.ID, now time.Time) ([]byte, bool) {
	if !se.trusted() {
		return section, false
	}
	h := message.ParseHeader(section)
	var add strings.Builder
	submission := se.conf.Kind == config.Submission
	if submission && h.First("From") == "" && !se.mail.From.IsNull() && !se.mail.From.NeedsUTF8() {
		fmt.Fprintf(&add, "From: <%s>\r\n", se.mail.From)
	}
	if submission && h.First("Date") == "" {
		fmt.Fprintf(&add, "Date: %s\r\n", now.Format(message.DateFormat))
	}
	if submission && h.First("Message-ID") == "" {
		fmt.Fprintf(&add, "Message-ID: <%s@%s>\r\n", id, se.conf.GreetingName)
	}
	out, rewritten := section, false
	if se.cfg.Rewrites() {
		out, rewritten = message.RewriteAddresses(section, []string{"From", "Sender", "Reply-To"}, func(a string) string {
			old, err := address.Parse(a)
			if err != nil {
				return a
			}
			if fresh := se.cfg.RewriteSender(old); fresh != old {
				return fresh.String()
			}
			return a
		})
	}
	if add.Len() == 0 && !rewritten {
		return section, false
	}
	return append([]byte(add.String()), out...), true
}

// machineLoad is the load of the last minute; 0 where the system does not say.
func machineLoad() float64 {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return 0
	}
	word, _, _ := strings.Cut(string(text), " ")
	load, _ := strconv.ParseFloat(word, 64)
	return load
}
