package receive

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/message"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// recipientTalk is the part of a session in which recipients are named.
type recipientTalk struct{ *session }

// verifyTimeout bounds the question to a relay domain's next hop.
const verifyTimeout = 20 * time.Second

// mayTake finds what stands against a recipient that rules and routes allow: the
// rule's limits, a full mailbox, a next hop that does not know it.
func (se recipientTalk) mayTake(
	e config.Envelope,
	d relay.Decision,
	to address.Address,
	legs []route.Leg,
) (*smtp.Reply, diagnose.Cause) {
	ctx, cancel := context.WithTimeout(context.Background(), verifyTimeout)
	defer cancel()
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
	if r := se.tooLarge(legs); r != nil {
		return r, diagnose.TooLarge
	}
	dom := se.cfg.Domain(to.Domain)
	switch {
	case !route.GoesOn(dom, to, legs):
	case dom.Verify == "list" && !dom.Lists(to):
		r := smtp.NewReply(550, "5.1.1", "%s is not among the recipients of %s", to.Display(),
			address.DisplayDomain(to.Domain))
		return &r, diagnose.NoSuchUser
	case dom.Verify == "call" && se.server.Verifier != nil:
		if r := se.server.Verifier.Verify(ctx, se.cfg, to); r != nil {
			return r, diagnose.NoSuchUser
		}
	}
	if why := se.reserve(ctx, d, relay.Holder(e), to); why != "" {
		if r := se.over(ctx, d, relay.Holder(e), why); r != nil {
			return r, diagnose.LimitReached
		}
	}
	return nil, diagnose.NoCause
}

// reserved is what of a rule's limits the message under way has taken.
type reserved struct {
	rule, holder string
	recipients   int
	fresh        int
}

// reserve counts a recipient against its rule's limits: before it is taken, so that
// sessions side by side can't all pass. It returns what forbids it.
func (se recipientTalk) reserve(
	ctx context.Context,
	d relay.Decision,
	holder string,
	to address.Address,
) string {
	if !d.Limits.Given() || se.server.Allowance == nil {
		return ""
	}
	more := relay.More{Over: d.Limits.Over == config.OverHold}
	if d.Limits.NewRecipientsPerDay > 0 {
		more.Fresh = gateTalk(se).firstContact(&gate.Recipient{Given: to})
	}
	i := slices.IndexFunc(se.reserved,
		func(r reserved) bool { return r.rule == d.Rule && r.holder == holder })
	more.First = i < 0
	why := se.server.Allowance.Take(ctx, d.Rule, holder, d.Limits, more)
	if why != "" && !more.Over {
		return why
	}
	if i < 0 {
		i = len(se.reserved)
		se.reserved = append(se.reserved, reserved{rule: d.Rule, holder: holder})
	}
	se.reserved[i].recipients++
	if more.Fresh {
		se.reserved[i].fresh++
	}
	return why
}

// over does what a rule says of who is over its limit. It returns the refusal, or nil if the
// message is held.
func (se recipientTalk) over(
	ctx context.Context,
	d relay.Decision,
	holder, why string,
) *smtp.Reply {
	if se.server.Over != nil && d.Limits.Over != "" && d.Limits.Over != "defer" {
		se.server.Over(ctx, Over{Rule: d.Rule, Holder: holder, Account: se.account, Why: why,
			Stop: d.Limits.Over == config.OverStop})
	}
	if d.Limits.Over == config.OverHold {
		se.overLimit = why
		return nil
	}
	r := smtp.NewReply(450, "4.7.1", "%s", why)
	return &r
}

// giveBack takes off what a message had reserved that was not taken.
func (se *session) giveBack() {
	for _, r := range se.reserved {
		se.server.Allowance.GiveBack(r.rule, r.holder, 1, r.recipients, r.fresh)
	}
	se.reserved = nil
}

// room reports a mailbox that cannot take the message: RFC 3463's 2.2 is a full
// one, 2.3 a message larger than it ever takes.
func (se recipientTalk) room(ctx context.Context, to address.Address) *smtp.Reply {
	return se.roomFor(ctx, to, se.mail.Size, true)
}

// roomFor is room for a message of a size; full says whether a mailbox that is only
// full counts too.
func (se recipientTalk) roomFor(
	ctx context.Context,
	to address.Address,
	size int64,
	full bool,
) *smtp.Reply {
	box := se.cfg.Mailbox(to)
	if box == nil || box.Quota == 0 {
		return nil
	}
	if size > int64(box.Quota) {
		r := smtp.NewReply(552, "5.2.3", "the message has %d octets; mailbox %s holds at most %s",
			size, to.Display(), box.Quota)
		return &r
	}
	if !full || se.server.Mailboxes == nil {
		return nil
	}
	octets, err := se.server.Mailboxes.MailboxesUse(ctx, []string{to.String()})
	used := octets[to.String()]
	if err != nil || used+max(size, 1) <= int64(box.Quota) {
		return nil // if it cannot be known now, delivery will find out
	}
	r := smtp.NewReply(452, "4.2.2", "mailbox %s is full", to.Display())
	return &r
}

// tooLate marks recipients whose mailboxes turn out too small now that the size is
// known. By LMTP each has an answer of its own; by SMTP all have one, so that only a
// message that fits none of them can be refused.
func (se recipientTalk) tooLate(ctx context.Context, size int64) *smtp.Reply {
	lmtp, left := se.conf.Kind == config.LMTP, 0
	var last *smtp.Reply
	for i := range se.rcpts {
		r := &se.rcpts[i]
		if r.refusal = nil; len(r.legs) == 1 && r.legs[0].Route.NextHop == config.HopMailbox {
			r.refusal = se.roomFor(ctx, r.legs[0].Recipient, size, lmtp)
		}
		if r.refusal == nil {
			left++
		} else {
			last = r.refusal
		}
	}
	if left == 0 {
		return last
	}
	for i := range se.rcpts {
		if !lmtp {
			se.rcpts[i].refusal = nil // delivery tells the sender of those
		}
	}
	return nil
}

// tooLarge refuses a recipient whose only way takes no message of the size that the client said: it
// is told now, and not by a notice.
func (se recipientTalk) tooLarge(legs []route.Leg) *smtp.Reply {
	if se.mail.Size == 0 || len(legs) != 1 {
		return nil
	}
	leg := legs[0]
	largest, who := route.Largest(se.cfg, leg.Route, leg.Recipient.Domain)
	if largest == 0 || se.mail.Size <= int64(largest) {
		return nil
	}
	r := smtp.NewReply(
		552,
		"5.3.4",
		"the message has %d octets; %s takes at most %s",
		se.mail.Size,
		who,
		largest,
	)
	return &r
}

// fix completes a header section: for people who submit, Date, Message-ID and
// From where they are missing (RFC 6409 section 8), and for our machines where the listener is to;
// for our machines too, senders at machines' names as our domain writes them.
func (se contentTalk) fix(section []byte, id ident.ID, now time.Time) ([]byte, bool) {
	if !se.trusted() {
		return section, false
	}
	submission := se.conf.Kind == config.Submission
	dropped := 0
	if submission { // RFC 5322 section 3.6.3: whom it names is nobody else's business
		section, dropped = message.DropFields(section, "Bcc", "Resent-Bcc")
	}
	h := message.ParseHeader(section)
	var add strings.Builder
	completes := submission || se.conf.Complete
	if completes && h.First("From") == "" && !se.mail.From.IsNull() && !se.mail.From.NeedsUTF8() {
		fmt.Fprintf(&add, "From: <%s>\r\n", se.mail.From)
	}
	if completes && h.First("Date") == "" {
		fmt.Fprintf(&add, "Date: %s\r\n", now.Format(message.DateFormat))
	}
	if completes && h.First("Message-ID") == "" {
		fmt.Fprintf(&add, "Message-ID: <%s@%s>\r\n", id, se.conf.GreetingName)
	}
	out, rewritten := section, false
	if se.cfg.Rewrites() {
		out, rewritten = message.RewriteAddresses(
			section,
			[]string{"From", "Sender", "Reply-To"},
			func(a string) string {
				old, err := address.Parse(a)
				if err != nil {
					return a
				}
				if fresh := se.cfg.RewriteSender(old); fresh != old {
					return fresh.String()
				}
				return a
			},
		)
	}
	if add.Len() == 0 && !rewritten {
		return section, dropped > 0
	}
	return append([]byte(add.String()), out...), true
}
