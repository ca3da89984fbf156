// Package snag puts failing deliveries together: the same cause at the same place
// is one trouble, whatever the number of messages.
package snag

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Kind is what kind of place a trouble is at.
type Kind string

// The kinds of place.
const (
	NextHop   Kind = "next-hop"  // a domain, as mail goes to it
	Route     Kind = "route"     // a smart host or mailbox server, by the route that leads there
	Domain    Kind = "domain"    // a recipient's domain
	Address   Kind = "address"   // a recipient
	Sender    Kind = "sender"    // a domain of senders
	Account   Kind = "account"   // one of ours that sends
	Client    Kind = "client"    // an address that connects to us
	Ourselves Kind = "ourselves" // us as the world sees us, or our own side
)

// Place is where a trouble is.
type Place struct {
	Kind Kind   `json:"kind" enum:"next-hop,route,domain,address,sender,account,client,ourselves"`
	Name string `json:"name"`
}

// Sighting is one delivery or refusal that fails for a cause at a place.
type Sighting struct {
	Cause     diagnose.Cause
	Place     Place
	At        time.Time
	Failed    bool // it came to its end
	Lane      ident.ID
	Sender    string
	Recipient string
	Message   ident.ID
	N         int16
	Session   ident.ID
	Last      mail.LastReply
}

// OfDelivery is what a delivery's outcome shows; false if it shows no trouble.
func OfDelivery(d *mail.Delivery, sender string, at time.Time) (Sighting, bool) {
	if d.State == mail.Delivered || d.Cause == diagnose.NoCause || d.Cause == diagnose.Returned ||
		d.Cause == diagnose.TakenOut {
		return Sighting{}, false
	}
	s := Sighting{
		Cause:     d.Cause,
		At:        at,
		Failed:    d.State.Final(),
		Lane:      d.LaneID,
		Sender:    strings.ToLower(sender),
		Recipient: strings.ToLower(d.Recipient),
		Message:   d.MessageID,
		N:         d.N,
	}
	if d.Last != nil {
		s.Last, s.Session = *d.Last, d.Last.SessionID
	}
	s.Place = placeOf(d, s.Sender, s.Recipient)
	return s, true
}

func placeOf(d *mail.Delivery, sender, recipient string) Place {
	domain := recipient[strings.LastIndexByte(recipient, '@')+1:]
	there := Place{NextHop, strings.ToLower(d.NextHop)}
	if d.NextHop == "" || !strings.Contains(d.NextHop, ".") || strings.Contains(d.NextHop, ":") ||
		d.NextHop == "local" {
		there = Place{Route, d.Route} // by its hosts, not by the domain
	}
	switch d.Cause {
	case diagnose.NoRoute,
		diagnose.RouteRefuses,
		diagnose.NoSuchDomain,
		diagnose.NoMail,
		diagnose.NoAddress:
		return Place{Domain, domain}
	case diagnose.SenderDomain, diagnose.SPFFails, diagnose.DKIMFails, diagnose.DMARCFails,
		diagnose.IdentityUnchecked, diagnose.DomainListed, diagnose.BulkRules, diagnose.NoBounces:
		if i := strings.LastIndexByte(sender, '@'); i >= 0 {
			return Place{Sender, sender[i+1:]}
		}
	case diagnose.SendingLimit,
		diagnose.SignInRefused,
		diagnose.SignInRequired,
		diagnose.SignInDown,
		diagnose.ClientCertificate:
		return Place{Route, d.Route}
	case diagnose.Overwhelmed:
		return Place{Address, recipient}
	}
	switch diagnose.Explain(d.Cause).Family {
	case diagnose.Address, diagnose.Mailbox, diagnose.Looping:
		return Place{Address, recipient}
	case diagnose.Ours:
		if d.Cause != diagnose.Unknown {
			return Place{Kind: Ourselves}
		}
	}
	return there
}

// OfRefusal is what a refusal shows, where it is more than one client's fault.
func OfRefusal(r *mail.Refusal) (Sighting, bool) {
	s := Sighting{
		Cause:     r.Cause,
		At:        r.At,
		Failed:    true,
		Sender:    strings.ToLower(r.Sender),
		Recipient: strings.ToLower(r.Recipient),
		Session:   r.SessionID,
		Last: mail.LastReply{
			Stage:    r.Stage,
			Host:     r.Listener,
			Address:  r.ClientAddress,
			Code:     r.Code,
			Enhanced: r.Enhanced,
			Text:     r.Text,
		},
	}
	switch r.Cause {
	case diagnose.LimitReached:
		if s.Place = (Place{Account, strings.ToLower(r.Account)}); r.Account == "" {
			s.Place = Place{Client, r.ClientAddress}
		}
	case diagnose.Loop:
		s.Place = Place{Address, s.Recipient}
	case diagnose.NoRuleAllows, diagnose.RuleRefuses, diagnose.TooManySignIns:
		s.Place = Place{Client, r.ClientAddress}
	default:
		return s, false
	}
	return s, true
}

// EndsOnceThrough reports whether a message that gets through ends the trouble at
// once; others end when nothing more is seen of them for a while.
func EndsOnceThrough(c diagnose.Cause) bool {
	switch diagnose.Explain(c).Family {
	case diagnose.Connection, diagnose.DNS, diagnose.TLS, diagnose.SignIn, diagnose.Route:
		return true
	case diagnose.Address, diagnose.Mailbox:
		return true
	}
	return c == diagnose.Greylisted || c == diagnose.NoRoute
}

// Quiet is how long nothing must be seen of a trouble until it counts as over.
func Quiet(c diagnose.Cause) time.Duration {
	switch diagnose.Explain(c).Family {
	case diagnose.Rate:
		return time.Hour
	case diagnose.Address:
		return 6 * time.Hour
	}
	return 24 * time.Hour
}

// HoldsAll reports whether the trouble holds up all that waits in a lane, not only
// the messages that met it.
func HoldsAll(c diagnose.Cause) bool {
	switch diagnose.Explain(c).Family {
	case diagnose.Connection, diagnose.DNS, diagnose.TLS, diagnose.SignIn:
		return true
	}
	return c == diagnose.NoRoute || c == diagnose.SendingLimit
}

// OfConnecting reports whether the trouble is one of reaching the host, over once it
// answers a message.
func OfConnecting(c diagnose.Cause) bool {
	switch c {
	case diagnose.ConnectRefused, diagnose.ConnectTimeout, diagnose.Unreachable, diagnose.NoAnswer,
		diagnose.NotSMTP, diagnose.DNSTrouble, diagnose.NoAddress, diagnose.TooManySessions:
		return true
	}
	return false
}

// Wide reports whether the cause, seen at many places at the same time, is likely ours.
func Wide(c diagnose.Cause) bool {
	switch c {
	case diagnose.ConnectRefused,
		diagnose.ConnectTimeout,
		diagnose.Unreachable,
		diagnose.DNSTrouble,
		diagnose.BlockListed,
		diagnose.ResidentialAddress,
		diagnose.LowReputation,
		diagnose.NoReverseName,
		diagnose.BadHelloName,
		diagnose.TLSTrouble:
		return true
	}
	return false
}

// wideMeans is what a cause means when many hosts show it at the same time.
var wideMeans = map[diagnose.Cause]string{
	diagnose.ConnectRefused: "Many hosts refuse our connections at the same time: our provider " +
		"or " +
		"a firewall of ours likely closes the port. Send through a smart host.",
	diagnose.ConnectTimeout: "Many hosts cannot be reached at the same time: our provider or a " +
		"firewall of ours likely drops what we send. Send through a smart host.",
	diagnose.Unreachable: "Many hosts cannot be reached from our network: look at our own line " +
		"first, and whether IPv6 is tried where there is none.",
	diagnose.DNSTrouble: "Many domains cannot be looked up at the same time: our resolver is " +
		"likely down. See the resolvers of the service.",
}

// WideFrom is at how many places at the same time a cause counts as ours.
const WideFrom = 4

// Severity is how bad a trouble is, by its effect.
type Severity int

// The severities.
const (
	Minor    Severity = 1
	Serious  Severity = 2
	Critical Severity = 3
)

var severities = [...]string{"", "minor", "serious", "critical"}

// MarshalText writes the word.
func (s Severity) MarshalText() ([]byte, error) { return []byte(severities[s]), nil }

// UnmarshalText reads the word.
func (s *Severity) UnmarshalText(text []byte) error {
	for i, w := range severities {
		if w == string(text) {
			*s = Severity(i)
		}
	}
	return nil
}

// Snag is one trouble, as it is shown.
type Snag struct {
	ID           ident.ID       `json:"id"`
	Cause        diagnose.Cause `json:"cause"`
	Title        string         `json:"title"`
	Means        string         `json:"means"`
	Place        Place          `json:"place"`
	Severity     Severity       `json:"severity" enum:"minor,serious,critical"`
	State        string         `json:"state" enum:"open,closed"`
	Since        time.Time      `json:"since"`
	LastAt       time.Time      `json:"last_at"`
	ClosedAt     mail.OptTime   `json:"closed_at" nullable:"true"`
	Ended        string         `json:"ended,omitempty" doc:"What ended it"`
	Deliveries   int64          `json:"deliveries" doc:"Waiting and failed"`
	Waiting      int64          `json:"waiting" doc:"Messages that wait because of it"`
	Failed       int64          `json:"failed" doc:"Messages that bounced, expired or were refused"`
	Refused      int64          `json:"refused,omitempty" doc:"Of a client: messages that we refused; none of ours failed"`
	Attempts     int64          `json:"attempts" doc:"How often it was met"`
	Senders      []string       `json:"senders" doc:"Up to twenty of those touched"`
	Domains      []string       `json:"domains" doc:"Up to twenty domains of recipients"`
	Lanes        []ident.ID     `json:"lanes"`
	WhoCanFix    string         `json:"who_can_fix"`
	WaitingHelps diagnose.Helps `json:"waiting_helps" doc:"true, false or \"unknown\""`
	Usually      string         `json:"usually,omitempty"`
	Advice       string         `json:"advice"`
	Doubt        string         `json:"doubt,omitempty" doc:"What its history says against its words"`
	Evidence     Evidence       `json:"evidence"`
	Fixes        []Fix          `json:"fixes"`
	Fix          string         `json:"fix,omitempty" doc:"What somebody did about it last"`
	FixedAt      mail.OptTime   `json:"fixed_at" nullable:"true"`
	Checking     bool           `json:"checking,omitempty" doc:"Something was done, and it was not met since"`
	PartOf       ident.ID       `json:"part_of,omitzero" doc:"The trouble of ours that it is likely one of"`
	Parts        int            `json:"parts,omitempty" doc:"How many places show it, where it is likely ours"`
	Note         string         `json:"note,omitempty"`
	NoteBy       string         `json:"note_by,omitempty"`
	Mine         string         `json:"mine,omitempty" doc:"Who looks after it"`
	MutedUntil   mail.OptTime   `json:"muted_until" nullable:"true"`
	Hours        []Hour         `json:"hours,omitempty" doc:"How often it was met, by hour"`
}

// Hour is how often a trouble was met in an hour.
type Hour struct {
	At time.Time `json:"at"`
	N  int64     `json:"n"`
}

// Evidence is one full example.
type Evidence struct {
	MessageID  ident.ID         `json:"message_id,omitzero"`
	DeliveryID *mail.DeliveryID `json:"delivery_id,omitempty"`
	SessionID  ident.ID         `json:"session_id,omitzero"`
	Sender     string           `json:"sender"`
	Recipient  string           `json:"recipient"`
	At         time.Time        `json:"at"`
	Last       mail.LastReply   `json:"reply"`
	Verdict    *mail.Cause      `json:"verdict,omitempty" doc:"What decided, and what does not fit together"`
}

// Fix is one thing that can be done about it from here.
type Fix struct {
	Do    diagnose.Fix `json:"do"`
	Says  string       `json:"says" doc:"What it does, on a button"`
	Route string       `json:"route,omitempty" doc:"The route it would use"`
	// Alias is the one that the address is taken out of.
	Alias string `json:"alias,omitempty" doc:"The alias of ours that names the address"`
	// Domain is the domain of ours whose DNS is looked at.
	Domain string `json:"domain,omitempty" doc:"The domain of ours whose records it shows"`
	Draft  bool   `json:"draft,omitempty" doc:"It goes into the draft, to be rehearsed and applied"`
	First  bool   `json:"first,omitempty" doc:"The one to try first"`
	// Costs says what is lost by it; what costs something is never first.
	Costs string `json:"costs,omitempty" doc:"What is lost by it; such a fix is never the first"`
}

// Order is what is to be done about a trouble.
type Order struct {
	Do    diagnose.Fix `json:"do" enum:"flush,smart-host,route,add-route,slower,pause,return,tls,record,alias"`
	Route string       `json:"route,omitempty" doc:"Of several that are offered, the one by this route"`
	Alias string       `json:"alias,omitempty" doc:"Of several that are offered, the one out of this alias"`
	Why   string       `json:"why,omitempty" maxLength:"500"`
	Say   string       `json:"say,omitempty" maxLength:"500" doc:"return: the sentence that the senders read"`
	// DryRun only says what would be done.
	DryRun bool `json:"dry_run,omitempty" doc:"Only say what would be done"`
}

// Explain fills in what can be said of a trouble from its cause and place.
func (s *Snag) Explain() {
	m := diagnose.Explain(s.Cause)
	s.Title, s.Means, s.Advice, s.WhoCanFix, s.WaitingHelps, s.Usually = m.Title, m.Means, m.Fix,
		m.WhoCanFix, diagnose.WaitingHelps(s.Cause), m.Usually
	if s.Place.Kind == Ourselves && s.Parts > 0 {
		s.WhoCanFix, s.WaitingHelps, s.Usually = diagnose.Us, diagnose.Helps{}, ""
		s.Title += ", at many places at the same time"
		if text := wideMeans[s.Cause]; text != "" {
			s.Means = text
		}
	}
	s.Checking = s.State == "open" && !s.FixedAt.IsZero() && !s.LastAt.After(s.FixedAt.Time)
	if s.Place.Kind == Client && s.Refused == 0 { // strangers' attempts are no mail of ours
		s.Refused, s.Failed = s.Failed, 0
	}
	s.Deliveries = s.Waiting + s.Failed
	s.doubt()
	if s.Evidence.Last.Text != "" {
		v := mail.Explain(s.Cause, &s.Evidence.Last,
			diagnose.About{Sender: s.Evidence.Sender, Recipient: s.Evidence.Recipient})
		s.Evidence.Verdict = &v
	}
}

// How long a trouble may last until its history counts more than its words.
const (
	greylistingEnds = 4 * time.Hour
	outagesEnd      = 24 * time.Hour
	oftenEnough     = 5 // times met
)

// doubt says where history speaks against what is said: a host that defers for
// ever, a code that says later and means never.
func (s *Snag) doubt() {
	lasted := s.LastAt.Sub(s.Since)
	if s.State == "closed" || s.Waiting == 0 || s.Attempts < oftenEnough ||
		s.Place.Kind == Ourselves {
		return
	}
	times := fmt.Sprintf("%d times in %s", s.Attempts, inWords(lasted))
	switch code := s.Evidence.Last.Code; {
	case s.Cause == diagnose.Greylisted && lasted > greylistingEnds:
		s.Doubt = "It has asked to come back " + times +
			". Greylisting ends within an hour: this " +
			"is likely a refusal in other words."
		s.Advice, s.WhoCanFix = "Send through a smart host, or ask the administrator of the host "+
			"with the exact reply.", diagnose.RemoteAdmin
	case !s.WaitingHelps.Yes && code/100 == 4 && lasted > greylistingEnds:
		s.Doubt = "It says later and means never: " + times + "."
	case (s.WaitingHelps.Yes || s.WaitingHelps.Unknown) && HoldsAll(s.Cause) && lasted > outagesEnd:
		s.Doubt = "It was met " + times + ", and nothing got through: it does not look as if it " +
			"ended by itself."
		s.Advice = "Tell the administrator of the host by other means; send what waits through a " +
			"smart host, or back to its senders."
	default:
		return
	}
	s.WaitingHelps, s.Usually = diagnose.Helps{}, ""
}

// inWords is a time in whole hours or days.
func inWords(d time.Duration) string {
	if h := int(d.Hours()); h < 48 {
		return fmt.Sprintf("%d hours", h)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Where says in words where it is.
func (p Place) Where() string {
	switch p.Kind {
	case Ourselves:
		if p.Name != "" {
			return "our side, " + p.Name
		}
		return "our side"
	case Route:
		return "route " + p.Name
	case Account:
		return "account " + p.Name
	case Client:
		return "client " + p.Name
	case Sender:
		return "mail of " + p.Name
	}
	return p.Name
}

// Rate is the severity of a trouble by its effect.
func Rate(c diagnose.Cause, p Place, waiting, failed int64, since, now time.Time) Severity {
	switch {
	case p.Kind == Client && c != diagnose.LimitReached: // strangers try all day
		if failed >= 100 {
			return Serious
		}
		return Minor
	case p.Kind == Ourselves, c == diagnose.LimitReached, waiting >= 100, failed >= 50:
		return Critical
	case c == diagnose.NotReady, c == diagnose.CertificateNotHad:
		return Serious
	case waiting >= 5,
		failed >= 5,
		waiting > 0 && now.Sub(since) > 4*time.Hour,
		c == diagnose.NoRoute && waiting > 0:
		return Serious
	}
	return Minor
}
