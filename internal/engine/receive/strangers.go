package receive

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/repute"
	core "gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/weigh"
	"gullroute/internal/store"
)

// Weigher asks DNS what there is to know of a stranger.
type Weigher interface {
	Client(ctx context.Context, t *repute.Settings, f weigh.Facts) *repute.Client
	Domains(ctx context.Context, listener string, from, links []string) []repute.Listing
}

// Greylist keeps who came, on record of all nodes.
type Greylist interface {
	Came(
		ctx context.Context,
		network, sender, recipient string,
		since, ripe time.Time,
	) (repute.Known, error)
}

// greylistTimeout bounds the question whether somebody came before.
const greylistTimeout = 2 * time.Second

// strangerTalk is the part of a session in which a stranger is weighed.
type strangerTalk struct{ *session }

// stranger is what is known of the client of the message under way, and of the one that a
// relay in front of us saw.
type stranger struct {
	known    *repute.Client
	seen     netip.Addr // the client, or the one that a relay in front of us saw
	greeting string     // its name in EHLO
	score    *repute.Score
}

// weighed is what was decided about a recipient by who sends.
type weighed struct {
	spared string // by what; "" if it is weighed
	refuse *smtp.Reply
	cause  diagnose.Cause
	hold   bool
	mark   string
}

// settings are those of the listener.
func (se strangerTalk) settings() repute.Settings { return se.conf.Weighs(se.cfg.Service.Reputation) }

// inFront reports a relay in front of us: who sends is known after the content only.
func inFront(t *repute.Settings, client netip.Addr) bool {
	return slices.ContainsFunc(t.InFront, func(p netip.Prefix) bool { return p.Contains(client) })
}

// refusedEarly decides about a recipient as far as that is possible before the content.
func (se strangerTalk) refusedEarly(to address.Address) (weighed, *refused) {
	t := se.settings()
	if se.conf.Kind != config.Edge || se.server.Door == nil || se.server.Weigher == nil ||
		inFront(&t, se.client) {
		return weighed{}, nil
	}
	se.seen, se.greeting = se.client, se.helo
	x := t.Before(se.server.Door(), se.client, se.mail.From, to,
		func() *repute.Client { return se.facts(&t) }, se.cfg.DNSLists)
	no := refused{stage: diagnose.StageRecipient, cause: diagnose.ScoreRefuses, to: to}
	switch {
	case x.Refuse != nil:
		if no.reply = *x.Refuse; x.Denied {
			no.cause = diagnose.DeniedHere
		} else {
			se.record.Note("%s", x.Early.Words())
		}
		return weighed{}, &no
	case x.Greylist:
		if wait := se.greylisted(&t, to); wait > 0 {
			no.cause, no.reply = diagnose.GreylistedHere, comeAgain(wait)
			return weighed{}, &no
		}
	}
	return weighed{spared: x.Spared}, nil
}

func comeAgain(wait time.Duration) smtp.Reply {
	return smtp.NewReply(451, "4.7.1", "you are not known here yet; come again in %s (RFC 6647)",
		wait.Round(time.Second))
}

// facts asks what is known of who sends, once a message: SPF goes by its sender.
func (se strangerTalk) facts(t *repute.Settings) *repute.Client {
	if se.stranger.known == nil {
		se.stranger.known = se.server.Weigher.Client(context.Background(), t, weigh.Facts{
			Listener: se.conf.Name,
			Client:   se.seen,
			Helo:     se.greeting,
			Sender:   se.mail.From,
			Ours:     contentTalk(se).ownNames(),
		})
	}
	return se.stranger.known
}

// greylisted notes that a client came, and says how long it must wait. What cannot be known
// now lets it pass: mail must not be kept off because the database is slow.
func (se strangerTalk) greylisted(t *repute.Settings, to address.Address) time.Duration {
	if se.server.Greylist == nil {
		return 0
	}
	ctx, cancel := context.WithTimeout(context.Background(), greylistTimeout)
	defer cancel()
	now := time.Now()
	known, err := se.server.Greylist.Came(
		ctx,
		repute.Network(se.seen),
		strings.ToLower(
			se.mail.From.String(),
		),
		to.Key(),
		now.Add(-t.GreylistWait),
		now.Add(-t.GreylistFor),
	)
	if err != nil {
		se.log.Warn("greylisting was passed over", "error", err)
		return 0
	}
	return t.Wait(known, now)
}

// meet finds who sends, where a relay in front of us hands the message over.
func (se strangerTalk) meet(section []byte) {
	t := se.settings()
	if se.seen, se.greeting = se.client, se.helo; !inFront(&t, se.client) {
		return
	}
	client, helo, ok := repute.Seen(message.ParseHeader(section),
		func(ip netip.Addr) bool { return inFront(&t, ip) })
	if !ok {
		se.record.Note("the relay in front of us does not say from whom it took the message")
		se.seen = netip.Addr{}
		return
	}
	se.seen, se.greeting, se.stranger.known = client, helo, nil
}

// weighs reports that the message is a stranger's, and weighed.
func (se strangerTalk) weighs(t *repute.Settings) bool {
	if se.conf.Kind != config.Edge || se.server.Weigher == nil || !se.seen.IsValid() ||
		t.Score == repute.Off && t.Greylisting == repute.Off {
		return false
	}
	return !slices.ContainsFunc(se.rcpts,
		func(r recipient) bool { return r.decision.Rule != config.RuleOurDomain })
}

// weigh makes the score of a message, and decides about each recipient by it. It returns the
// reply if the client is to come again.
func (se strangerTalk) weigh(
	m *gate.Message,
	section []byte,
	check *core.Assessment,
) *smtp.Reply {
	t := se.settings()
	ahead := inFront(&t, se.client)
	var left []*recipient
	for i := range se.rcpts {
		r := &se.rcpts[i]
		if r.weighed.spared == "" && se.seen.IsValid() && se.conf.Kind == config.Edge &&
			se.server.Door != nil {
			switch x := se.server.Door().Ask(se.seen, se.mail.From, r.rcpt.To, repute.Proved(check, se.mail.From)); {
			case x.Says == repute.Allow:
				r.weighed.spared = x.Why
			case x.Says == repute.Deny && ahead:
				reply := x.Reply()
				r.weighed.refuse, r.weighed.cause = &reply, diagnose.DeniedHere
			}
		}
		if r.weighed.spared == "" && r.weighed.refuse == nil {
			left = append(left, r)
		}
	}
	if len(left) == 0 || !se.weighs(&t) {
		return nil
	}
	facts := se.facts(&t)
	if early := t.Early(facts); ahead && t.Greylisted(early) {
		for _, r := range left {
			if wait := se.greylisted(&t, r.rcpt.To); wait > 0 {
				reply := comeAgain(wait)
				return &reply
			}
		}
	}
	if t.Score == repute.Off {
		return nil
	}
	m.Header = message.ParseHeader(section)
	score := t.Late(facts, se.late(&t, m, check, left[0]))
	se.stranger.score = &score
	points := score.Points
	m.Score = &points
	if t.Score != repute.On {
		return nil
	}
	for _, r := range left {
		switch t.Fate(score) {
		case repute.Refuse:
			reply := score.Reply()
			r.weighed.refuse, r.weighed.cause = &reply, diagnose.ScoreRefuses
		case repute.Held:
			r.weighed.hold = true
		case repute.Marked:
			r.weighed.mark = t.Mark
		}
	}
	return nil
}

// late finds what only the content tells, as far as it counts.
func (se strangerTalk) late(
	t *repute.Settings,
	m *gate.Message,
	check *core.Assessment,
	first *recipient,
) *repute.Message {
	p := &t.Points
	x := &repute.Message{Header: m.Header, Identity: check}
	if p.FirstContact > 0 {
		to := rehearse.GateRecipient(first.rcpt.To, first.legs)
		x.FirstContact = m.FirstContact != nil && m.FirstContact(&to)
	}
	var links []string
	if se.wantsLinks() {
		x.Links = m.Taken().Links
		for _, l := range x.Links {
			links = append(links, withOrganization(l.Host)...)
		}
	}
	from := withOrganization(se.mail.From.Domain)
	for _, a := range m.From() {
		from = append(from, withOrganization(a.Domain)...)
	}
	x.Listings = se.server.Weigher.Domains(
		context.Background(),
		se.conf.Name,
		once(from),
		once(links),
	)
	if p.Infected+p.Unwanted > 0 && m.Scan != nil {
		v := m.Verdict()
		x.Threat, x.Infected, x.Unwanted = v.Threat, v.Word == gate.Infected, v.Word == gate.Unwanted
	}
	return x
}

// wantsLinks reports that it counts where the text leads.
func (se strangerTalk) wantsLinks() bool {
	t := se.settings()
	if t.Score == repute.Off {
		return false
	}
	return t.Points.DeceivingLink > 0 || slices.ContainsFunc(se.cfg.DNSLists,
		func(l repute.DNSList) bool { return !l.Off && l.About(repute.AsksLinks) })
}

func withOrganization(domain string) []string {
	if domain == "" || address.IsLiteral(domain) {
		return nil
	}
	domain = strings.ToLower(domain)
	if _, err := netip.ParseAddr(domain); err == nil {
		return []string{domain}
	}
	return []string{domain, core.Organization(domain)}
}

func once(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// merge adds to what gates decide what was decided by who sends.
func (se strangerTalk) merge(fates []gate.Fate) []gate.Fate {
	for i := range se.rcpts {
		w := &se.rcpts[i].weighed
		w.hold = w.hold || se.overLimit != ""
		if w.refuse == nil && !w.hold && w.mark == "" {
			continue
		}
		if fates == nil {
			fates = make([]gate.Fate, len(se.rcpts))
		}
		f := &fates[i]
		if w.refuse != nil && f.Refuse == nil {
			f.Refuse, f.By = w.refuse, ""
		}
		f.Hold = f.Hold || w.hold
		if w.mark != "" && !slices.Contains(f.Changes.Mark, w.mark) {
			f.Changes.Mark = append(f.Changes.Mark, w.mark)
		}
	}
	return fates
}

// tell puts the score on record, and by what recipients were spared.
func (se strangerTalk) tell(e *store.Entry) {
	m := e.Message
	add := func(kind mail.Kind, text string, detail map[string]any) {
		e.Events = append(e.Events, mail.Event{At: m.ReceivedAt, Kind: kind, MessageID: m.ID,
			Node: se.server.Node, Text: text, Detail: detail})
	}
	if s := se.stranger.score; s != nil {
		n := int16(min(s.Points, 30_000))
		m.Score = &n
		t := se.settings()
		text, fate := s.Words(), t.Fate(*s)
		switch {
		case t.Score == repute.Watch && fate != repute.Pass:
			text += "; the score watches, it would have been: " + fateWords[fate]
		case fate != repute.Pass:
			text += "; " + fateWords[fate]
		}
		add(mail.EventScore, text, map[string]any{"points": s.Points, "parts": s.Parts,
			"client": se.seen.String(), "watching": t.Score == repute.Watch, "revision": m.Revision})
	}
	var spared []string
	why := ""
	for _, r := range se.rcpts {
		if r.weighed.spared != "" {
			spared = append(spared, r.rcpt.To.Display())
			why = r.weighed.spared
		}
	}
	if len(spared) > 0 && se.settings().Score != repute.Off {
		add(mail.EventScore, "not weighed: allowed by "+why,
			map[string]any{"recipients": spared[:min(len(spared), maxTold)]})
	}
}

var fateWords = map[string]string{
	repute.Refuse: "refused",
	repute.Held:   "held",
	repute.Marked: "marked",
}
