package control

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/forward"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/limits"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/receive"
	"gullroute/internal/engine/weigh"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Explainer says what would be decided.
type Explainer struct {
	InForce   *inforce.State
	Draft     *Drafts
	Runs      store.Runs
	Mailboxes store.Mailboxes
	Messages  store.Messages
	Limits    *limits.Counter
	Queue     *queue.Queue
	Weigher   *weigh.Weigher
	Returns   receive.Returns
}

// Explain says what would be decided, by the very functions that decide, and
// where it would go, as DNS says now; nothing is sent.
func (s *Explainer) Explain(ctx context.Context, q api.Question) ([]api.Answer, error) {
	c := s.InForce.Config()
	if q.Draft {
		_, draft, err := s.Draft.Compiled(ctx)
		if err != nil {
			return nil, err
		}
		c = draft
	}
	if len(q.Content) > 0 {
		q.Size = int64(len(q.Content))
	}
	env := config.Envelope{Size: q.Size}
	client, err := netip.ParseAddr(q.Client)
	if err != nil {
		return nil, fmt.Errorf("client: %q is not an IP address", q.Client)
	}
	env.Client = client.Unmap()
	listener, err := pickListener(c, q.Listener)
	if err != nil {
		return nil, err
	}
	env.Listener = listener.Name
	if q.From != "" && q.From != "<>" {
		if env.Sender, err = address.Parse(q.From); err != nil {
			return nil, fmt.Errorf("from: %w", err)
		}
	}
	if q.Account != "" {
		if env.Account, err = address.Parse(q.Account); err != nil {
			return nil, fmt.Errorf("account: %w", err)
		}
	}
	answers, message := []api.Answer{}, contentOf(q.Content)
	for _, text := range q.To {
		to, err := parseRecipient(text)
		if err != nil {
			return nil, fmt.Errorf("to: %w", err)
		}
		x := explainer{on: s, ctx: ctx, c: c, l: listener, env: env, to: to, content: message,
			recipients: len(q.To)}
		answers = append(answers, x.answer())
	}
	return answers, nil
}

func parseRecipient(text string) (address.Address, error) {
	if strings.EqualFold(text, "postmaster") {
		return address.Address{Local: "postmaster"}, nil
	}
	return address.Parse(text)
}

func pickListener(c *config.Compiled, name string) (*config.Listener, error) {
	if name != "" {
		if l := c.Listener(name); l != nil && l.Reads() {
			return nil, fmt.Errorf("listener: %q is for reading; nothing is sent there", name)
		} else if l != nil {
			return l, nil
		}
		var names []string
		for _, l := range c.Listeners {
			names = append(names, l.Name)
		}
		return nil, fmt.Errorf("listener: there is none named %q; there are: %s", name,
			strings.Join(names, ", "))
	}
	if len(c.Listeners) == 0 {
		return nil, errors.New("listener: the configuration has none")
	}
	for i := range c.Listeners {
		if !c.Listeners[i].Reads() {
			return &c.Listeners[i], nil
		}
	}
	return nil, errors.New("listener: the configuration has none that takes mail")
}

// explainer answers for one recipient.
type explainer struct {
	on  *Explainer
	ctx context.Context
	c   *config.Compiled
	l   *config.Listener
	env config.Envelope
	to  address.Address
	out api.Answer
	// The message itself, if one was given, and to how many it goes.
	content    *rehearse.Content
	recipients int
}

func (x *explainer) note(what, result, format string, args ...any) {
	x.out.Checks = append(x.out.Checks,
		api.Check{What: what, Result: result, Text: fmt.Sprintf(format, args...)})
}

func (x *explainer) refuse(rule, why string, r smtp.Reply) api.Answer {
	x.out.Allowed, x.out.Rule, x.out.Why, x.out.Reply = false, rule, why, r.String()
	x.out.Fate = "refused"
	return x.out
}

func (x *explainer) answer() api.Answer {
	x.out = api.Answer{
		Recipient: x.to.Display(),
		Revision:  x.c.Revision,
		Paths:     []api.Path{},
		Checks:    []api.Check{},
		Gates:     []gate.Asked{},
		Severity:  "none",
		Fate:      "taken",
	}
	where := "listener " + x.l.Name
	if !rehearse.Admits(x.l, x.env.Client) {
		x.note(where, "refused", "%s may not connect here", x.env.Client)
		return x.refuse("listener",
			"the listener's allow and deny lists keep "+x.env.Client.String()+" out",
			smtp.NewReply(554, "5.7.1", "%s may not connect to this listener", x.env.Client))
	}
	if x.l.Kind == config.Submission && x.env.Account.IsNull() {
		x.note(where, "refused", "it is for people who signed in")
		return x.refuse(
			"listener",
			"nobody sends at a submission listener without sign-in; ask with an account",
			smtp.NewReply(530, "5.7.0",
				"sign in first; this listener is for people with an account"),
		)
	}
	if !x.env.Account.IsNull() {
		if box := x.c.Mailbox(x.env.Account); box == nil || !box.MaySubmit {
			x.note("account "+x.env.Account.Display(), "refused",
				"there is no mailbox of that name that may submit")
			return x.refuse("account", "only mailboxes with may_submit sign in",
				smtp.NewReply(535, "5.7.8", "account or password is wrong"))
		}
	}
	if limit := int64(x.l.Limits.MessageSize); x.env.Size > limit {
		x.note(where, "refused", "it takes at most %d octets", limit)
		return x.refuse(
			"listener",
			fmt.Sprintf("listener %s takes at most %d octets", x.l.Name, limit),
			smtp.NewReply(552, "5.3.4", "the message has %d octets; %d are allowed here",
				x.env.Size, limit),
		)
	}
	x.note(where, "passed", "kind %s, TLS %s, at most %s", x.l.Kind, x.l.TLS,
		x.l.Limits.MessageSize)
	if fresh := x.c.RewriteSender(x.env.Sender); fresh != x.env.Sender &&
		(x.l.Kind == config.Inside || x.l.Kind == config.Submission) {
		x.note("sender", "passed", "it is written as %s", fresh.Display())
		x.env.Sender = fresh
	}
	return x.rules()
}

// rules asks the relay rules.
func (x *explainer) rules() api.Answer {
	d := relay.Decide(x.c, x.env, x.to)
	for i := range x.c.RelayRules {
		r := &x.c.RelayRules[i]
		if r.Name == d.Rule {
			break
		}
		if why, unmet := relay.Unmet(r, x.env, x.to); unmet && len(x.out.Checks) < maxChecks {
			x.note("relay rule "+r.Name, "no_match", "%s", why)
		}
	}
	x.out.Rule, x.out.RuleLine, x.out.Why, x.out.Allowed = d.Rule, d.Line, d.Why, d.Allow
	if !d.Allow {
		x.note("relay rule "+d.Rule, "refused", "%s", d.Why)
		x.out.Reply = d.Reply.String()
		return x.out
	}
	x.note("relay rule "+d.Rule, "decided", "%s", d.Why)
	x.out.Reply = smtp.NewReply(250, "2.1.5", "recipient ok").String()
	if x.out.Limits = x.on.Limits.Words(
		x.ctx,
		d.Rule,
		relay.Holder(x.env),
		d.Limits,
	); x.out.Limits != "" {
		if why := x.on.Limits.Left(x.ctx, d.Rule, relay.Holder(x.env), d.Limits); why != "" {
			x.note("limits of "+d.Rule, "refused", "%s", why)
			return x.refuse(d.Rule, why, smtp.NewReply(450, "4.7.1", "%s", why))
		}
		x.note("limits of "+d.Rule, "passed", "%s", x.out.Limits)
	}
	return x.paths()
}

// maxChecks bounds how many rules and routes that did not match are told.
const maxChecks = 100

// verified asks what the session asks of a recipient at a domain that we only pass on.
func (x *explainer) verified(legs []route.Leg) *smtp.Reply {
	d := x.c.Domain(x.to.Domain)
	if !route.GoesOn(d, x.to, legs) {
		return nil
	}
	switch d.Verify {
	case "list":
		if !d.Lists(x.to) {
			r := smtp.NewReply(550, "5.1.1", "%s is not among the recipients of %s", x.to.Display(),
				address.DisplayDomain(x.to.Domain))
			return &r
		}
		x.note("domain "+string(d.Name), "passed", "the recipient is on its list")
	case "call":
		x.note("domain "+string(d.Name), "passed",
			"its next hop would be asked about the recipient; that is not done here")
	}
	return nil
}

// paths finds where it would go.
func (x *explainer) paths() api.Answer {
	target, no := x.sentBack()
	if no != nil {
		x.note("recipient", "refused", "%s", no.Text())
		return x.refuse(x.out.Rule, "the relay rules allow it, but "+no.Text(), *no)
	}
	legs, refusal := route.Plan(x.c, x.env, target)
	if refusal != nil {
		x.note("recipient", "refused", "%s", refusal.Text())
		return x.refuse(x.out.Rule, "the relay rules allow it, but "+refusal.Text(), *refusal)
	}
	if no := x.verified(legs); no != nil {
		x.note("recipient", "refused", "%s", no.Text())
		return x.refuse(x.out.Rule, "the relay rules allow it, but "+no.Text(), *no)
	}
	if no := x.stranger(); no != nil {
		x.note("reputation", "refused", "%s", no.Text())
		return x.refuse(x.out.Rule, "the relay rules allow it, but who sends it is refused", *no)
	}
	fate := x.gates(legs)
	if fate.Refuse != nil {
		x.note("gate "+fate.By, "refused", "%s", fate.Refuse.Text())
		return x.refuse(x.out.Rule, "the relay rules allow it, but gate "+fate.By+" refuses it",
			*fate.Refuse)
	}
	legs, lost := plan.ByGates(x.c, x.env, x.to, legs, &fate)
	for _, to := range lost {
		x.note("gates", "refused", "%s leads nowhere: the message would be held", to.Display())
		x.out.Fate = "held"
	}
	for _, leg := range legs {
		x.out.Paths = append(x.out.Paths, x.path(leg))
	}
	for _, to := range fate.Copies {
		copies, _ := route.Plan(x.c, x.env, to)
		for _, leg := range copies {
			leg.Why = "a gate's copy; " + leg.Why
			x.out.Paths = append(x.out.Paths, x.path(leg))
		}
	}
	return x.out
}

// sentBack is where the mail of a return path of ours goes.
func (x *explainer) sentBack() (address.Address, *smtp.Reply) {
	sender, err := x.on.Returns.Sender(x.ctx, x.c, x.to)
	switch {
	case errors.Is(err, forward.ErrOther):
		return x.to, nil
	case err != nil:
		r := smtp.NewReply(550, "5.1.1", "%s was a return path: %v", x.to.Display(), err)
		return x.to, &r
	case !x.env.Sender.IsNull():
		r := smtp.NewReply(550, "5.7.1", "%s takes notices only: mail from the null sender",
			x.to.Display())
		return x.to, &r
	}
	x.note("recipient", "passed", "it is a return path: what comes back goes to %s",
		sender.Display())
	return sender, nil
}

// contentOf is a message to ask the gates about, nil without one.
func contentOf(raw []byte) *rehearse.Content {
	if len(raw) == 0 {
		return nil
	}
	// Files have lines that end in LF; on the wire, where we read, it is CRLF.
	raw = bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n"))
	return rehearse.NewContent(bytes.NewReader(bytes.ReplaceAll(raw, []byte("\n"), []byte("\r\n"))))
}

// gates asks them.
func (x *explainer) gates(legs []route.Leg) gate.Fate {
	m := rehearse.GateMessage(x.c, x.env, x.content, nil, time.Now())
	m.Recipients = x.recipients
	m.FirstContact = func(*gate.Recipient) bool {
		met, err := x.on.Messages.Met(x.ctx, x.env.Sender.String(), x.to.String())
		return err == nil && !met
	}
	fate, asked := x.c.Gates.Explain(m, rehearse.GateRecipient(x.to, legs))
	x.out.Gates, x.out.Severity = asked, string(cmp.Or(fate.Severity(), "none"))
	switch {
	case fate.Discard:
		x.out.Fate = "discarded"
	case fate.Hold:
		x.out.Fate = "held"
	case !fate.Until.IsZero():
		x.out.Fate = "delayed"
	}
	return fate
}

func (x *explainer) path(leg route.Leg) api.Path {
	w := api.Path{
		Recipient: leg.Recipient.Display(),
		Via:       []string{},
		Route:     leg.Route.Name,
		NextHop:   address.DisplayDomain(leg.NextHop),
		Lane:      ident.ID(leg.Lane()).String(),
		Stranded:  leg.Stranded(),
		Why:       leg.Why,
		Earlier:   []api.Check{},
		Hosts:     []mail.HopHost{},
	}
	for _, v := range leg.Via {
		w.Via = append(w.Via, v.Display())
	}
	for i := range x.c.Routes {
		r := &x.c.Routes[i]
		if r.Name == leg.Route.Name || len(w.Earlier) >= maxChecks {
			break
		}
		if len(r.Recipients) == 0 { // used only by what names it
			continue
		}
		if why := route.Unmet(x.c, r, x.env, leg.Recipient); why != "" {
			w.Earlier = append(w.Earlier,
				api.Check{What: "route " + r.Name, Result: "no_match", Text: why})
		}
	}
	switch leg.Route.NextHop {
	case config.HopMailbox:
		w.TLS = "none: it stays here"
		if box := x.c.Mailbox(leg.Recipient); box != nil && box.Quota > 0 {
			if _, used, err := x.on.Mailboxes.MailboxUse(
				x.ctx,
				leg.Recipient.String(),
			); err == nil {
				w.Trouble = fullWords(used, int64(box.Quota), x.env.Size)
			}
		}
		return w
	case config.HopNone:
		w.Trouble = "it would wait, stranded, until a route leads on"
		return w
	}
	if running, err := x.on.Runs.RunningNodes(x.ctx); err == nil && leg.Route.Unserved(running) {
		w.Trouble = leg.Route.UnservedText()
		return w
	}
	w.PassedOn = forward.Of(x.c, x.env.Sender, leg.Recipient, w.Via).Words(x.c)
	terms := route.TermsOf(x.c, leg.Route, leg.NextHop)
	w.TLS, w.Peer = terms.TLS, terms.Peer
	if p := x.c.Peer(leg.Recipient.Domain); p != nil {
		w.Written = p.Form()
	}
	ctx, cancel := context.WithTimeout(x.ctx, 5*time.Second)
	defer cancel()
	hosts, failure := x.on.Queue.Client().Load().Hosts(ctx, leg.Route, leg.NextHop)
	if failure != nil {
		w.Trouble = failure.Reply.Text
	}
	w.Hosts = append(w.Hosts, hosts...)
	return w
}

func fullWords(used, quota, size int64) string {
	if used+max(size, 1) > quota {
		return fmt.Sprintf("the mailbox is full: %d of %d octets are used", used, quota)
	}
	return ""
}
