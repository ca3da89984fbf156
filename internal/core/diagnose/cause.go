// Package diagnose says what a failure means: its cause, whether waiting helps,
// who can fix it and how.
package diagnose

import (
	"fmt"
	"slices"
)

// Cause names why a delivery failed or waits.
type Cause string

// The causes of what fails on the way out.
const (
	NoCause            Cause = ""
	NoRoute            Cause = "no-route"
	RouteRefuses       Cause = "route-refuses"
	NoSuchDomain       Cause = "no-such-domain"
	NoMail             Cause = "domain-takes-no-mail"
	NoAddress          Cause = "no-address-for-host"
	DNSTrouble         Cause = "dns-trouble"
	ConnectRefused     Cause = "connection-refused"
	ConnectTimeout     Cause = "connection-timed-out"
	Unreachable        Cause = "network-unreachable"
	NoAnswer           Cause = "no-answer"
	Dropped            Cause = "connection-dropped"
	NotSMTP            Cause = "not-smtp"
	HostBusy           Cause = "host-busy"
	HostFull           Cause = "host-full"
	TooManySessions    Cause = "too-many-connections"
	TooManyRecipients  Cause = "too-many-recipients"
	RateLimited        Cause = "rate-limited"
	SendingLimit       Cause = "sending-limit"
	Greylisted         Cause = "greylisted"
	NoSuchUser         Cause = "no-such-user"
	MailboxDisabled    Cause = "mailbox-disabled"
	MailboxMoved       Cause = "mailbox-moved"
	MailboxFull        Cause = "mailbox-full"
	MailboxBusy        Cause = "mailbox-busy"
	BadAddress         Cause = "bad-address"
	SendersRestricted  Cause = "senders-restricted"
	SenderRefused      Cause = "sender-refused"
	SenderDomain       Cause = "sender-domain-unknown"
	BlockListed        Cause = "block-listed"
	BlockedHere        Cause = "blocked-by-host"
	LowReputation      Cause = "low-reputation"
	ResidentialAddress Cause = "residential-address-refused"
	PolicyRefused      Cause = "policy-refused"
	NoReverseName      Cause = "no-reverse-name"
	BadHelloName       Cause = "bad-hello-name"
	SPFFails           Cause = "spf-fails"
	DKIMFails          Cause = "dkim-fails"
	DMARCFails         Cause = "dmarc-fails"
	TLSRequired        Cause = "tls-required"
	TLSTrouble         Cause = "tls-trouble"
	TLSNotOffered      Cause = "tls-not-offered"
	CertificateBad     Cause = "certificate-not-valid"
	PolicyNotKept      Cause = "tls-policy-not-kept"
	SignInRequired     Cause = "sign-in-required"
	SignInRefused      Cause = "sign-in-refused"
	RelayRefused       Cause = "relay-refused"
	TooLarge           Cause = "too-large"
	NeedsUTF8          Cause = "needs-smtputf8"
	Needs8Bit          Cause = "needs-8bitmime"
	SenderNeedsTLS     Cause = "sender-demands-tls"
	SenderNeedsTime    Cause = "sender-demands-time"
	HeaderMalformed    Cause = "header-malformed"
	LineTooLong        Cause = "line-too-long"
	ContentRefused     Cause = "content-refused"
	VirusFound         Cause = "virus-found"
	AttachmentRefused  Cause = "attachment-refused"
	Loop               Cause = "loop"
	ProtocolError      Cause = "protocol-error"
	Overwhelmed        Cause = "recipient-overwhelmed"
	SignInDown         Cause = "sign-in-service-down"
	DomainListed       Cause = "domain-listed"
	LinkListed         Cause = "link-listed"
	IdentityUnchecked  Cause = "identity-not-checked"
	RecipientBlocks    Cause = "recipient-blocks"
	SenderVerified     Cause = "sender-being-verified"
	ClientCertificate  Cause = "client-certificate-demanded"
	DataLoss           Cause = "data-loss-policy"
	BulkRules          Cause = "bulk-sender-rules"
	NoBounces          Cause = "sender-takes-no-bounces"
	OurTrouble         Cause = "our-trouble"
	Returned           Cause = "returned" // by a person of ours
	TakenOut           Cause = "dropped"  // by a person of ours
	Unknown            Cause = "not-known"
)

// NotReady is what the readiness of a domain of ours shows, messages or not.
const NotReady Cause = "domain-not-ready"

// What others report of our name, and what becomes of our certificates: no message has these.
const (
	NameUsed          Cause = "name-used-by-strangers"
	CertificateNotHad Cause = "certificate-not-had"
)

// The causes of what we refuse ourselves, before there is a message.
const (
	SpokeEarly     Cause = "spoke-early"
	SentAhead      Cause = "sent-ahead"
	MayNotConnect  Cause = "may-not-connect"
	CrowdHere      Cause = "too-many-connections-here"
	PausedHere     Cause = "listener-paused"
	NoRuleAllows   Cause = "no-rule-allows"
	RuleRefuses    Cause = "rule-refuses"
	GateRefuses    Cause = "gate-refuses"
	ScoreRefuses   Cause = "score-refuses"
	DeniedHere     Cause = "denied-here"
	GreylistedHere Cause = "greylisted-here"
	GateDiscards   Cause = "gate-discards"
	GateDelays     Cause = "gate-delays"
	SenderDelays   Cause = "sender-asks-later"
	LimitReached   Cause = "limit-reached"
	AccountStopped Cause = "account-stopped"
	SenderUnproved Cause = "sender-unproved"
	Malformed      Cause = "malformed"
	TLSNeeded      Cause = "tls-needed-here"
	SignInNeeded   Cause = "sign-in-needed-here"
	WrongPassword  Cause = "wrong-password"
	TooManySignIns Cause = "too-many-sign-ins"
	TooManyErrors  Cause = "too-many-errors"
)

// Family is what kind of trouble a cause is.
type Family string

// The families.
const (
	Address    Family = "address"
	Mailbox    Family = "mailbox"
	Reputation Family = "policy and reputation"
	Identity   Family = "identity"
	Rate       Family = "rate"
	Connection Family = "connection"
	DNS        Family = "dns"
	TLS        Family = "tls"
	SignIn     Family = "sign-in"
	Content    Family = "content"
	Size       Family = "size"
	Looping    Family = "loop"
	Route      Family = "route"
	Ours       Family = "ours"
)

// Who can fix a trouble.
const (
	Us          = "us"
	Sender      = "sender"
	Recipient   = "recipient"
	RemoteAdmin = "remote-administrator"
	Provider    = "provider"
	ListOwner   = "block-list"
	Nobody      = "nobody"
)

// Fix is a way to fix a trouble that can be done from here.
type Fix string

// The fixes, as they are offered.
const (
	FixFlush     Fix = "flush"      // try now
	FixSmartHost Fix = "smart-host" // send what waits by another route
	FixRoute     Fix = "route"      // add or change a route
	FixSlower    Fix = "slower"     // fewer connections, a lower rate
	FixPause     Fix = "pause"      // stop trying for a while
	FixTLS       Fix = "tls"        // change the TLS terms for this domain
	FixReturn    Fix = "return"     // send what waits back to its senders
	FixAlias     Fix = "alias"      // take the address out of an alias of ours
	FixRecord    Fix = "record"     // say the exact DNS record to publish
	FixAddRoute  Fix = "add-route"  // make a route, filled in
)

// Meaning is what a cause is to people.
type Meaning struct {
	Family Family `json:"family"`
	// Title is a short statement.
	Title string `json:"title"`
	// Means says it in a sentence or two.
	Means string `json:"means"`
	// Fix says what to do.
	Fix string `json:"fix"`
	// WhoCanFix is us, sender, recipient, remote-administrator, provider, block-list
	// or nobody.
	WhoCanFix string `json:"who_can_fix"`
	// WaitingHelps reports whether the trouble usually ends by itself.
	WaitingHelps bool `json:"waiting_helps"`
	// Usually says how long it takes until it does.
	Usually string `json:"usually,omitempty"`
	// Fixes are what can be done from here, best first.
	Fixes []Fix `json:"fixes,omitempty"`
}

// Helps says whether waiting helps, as programs read it: true, false or "unknown".
type Helps struct{ Yes, Unknown bool }

// MarshalJSON writes true, false or "unknown".
func (h Helps) MarshalJSON() ([]byte, error) {
	switch {
	case h.Unknown:
		return []byte(`"unknown"`), nil
	case h.Yes:
		return []byte("true"), nil
	}
	return []byte("false"), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (h *Helps) UnmarshalJSON(b []byte) error {
	switch string(b) {
	case "true":
		*h = Helps{Yes: true}
	case "false":
		*h = Helps{}
	case `"unknown"`:
		*h = Helps{Unknown: true}
	default:
		return fmt.Errorf("waiting helps is true, false or \"unknown\", not %s", b)
	}
	return nil
}

// MarshalText writes the word, as tables and forms have it.
func (h Helps) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads the word.
func (h *Helps) UnmarshalText(b []byte) error {
	*h = Helps{Yes: string(b) == "yes", Unknown: string(b) == "not known"}
	return nil
}

// String is the word for tables.
func (h Helps) String() string {
	switch {
	case h.Unknown:
		return "not known"
	case h.Yes:
		return "yes"
	}
	return "no"
}

// WaitingHelps says whether waiting helps with a cause.
func WaitingHelps(c Cause) Helps {
	m := Explain(c)
	return Helps{Yes: m.WaitingHelps && m.Title != meanings[Unknown].Title,
		Unknown: m.Title == meanings[Unknown].Title}
}

// Explain is the meaning of c.
func Explain(c Cause) Meaning {
	if m, ok := meanings[c]; ok {
		return m
	}
	return meanings[Unknown]
}

// Causes lists every cause that has a meaning, in the order of their names.
func Causes() []Cause {
	list := make([]Cause, 0, len(meanings))
	for c := range meanings {
		list = append(list, c)
	}
	slices.Sort(list)
	return list
}
