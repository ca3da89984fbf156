// Package diagnose says what a failure means: its cause, whether waiting helps
// and who can mend it.
package diagnose

// Cause names why a delivery failed or waits.
type Cause string

// The causes known so far.
const (
	NoCause         Cause = ""
	NoRoute         Cause = "no-route"
	RouteRefuses    Cause = "route-refuses"
	NoSuchDomain    Cause = "no-such-domain"
	NoMail          Cause = "domain-takes-no-mail"
	NoAddress       Cause = "no-address-for-host"
	DNSTrouble      Cause = "dns-trouble"
	ConnectRefused  Cause = "connection-refused"
	ConnectTimeout  Cause = "connection-timed-out"
	Unreachable     Cause = "network-unreachable"
	NoAnswer        Cause = "no-answer"
	Dropped         Cause = "connection-dropped"
	NotSMTP         Cause = "not-smtp"
	HostBusy        Cause = "host-busy"
	TooManySessions Cause = "too-many-connections"
	RateLimited     Cause = "rate-limited"
	Greylisted      Cause = "greylisted"
	NoSuchUser      Cause = "no-such-user"
	MailboxFull     Cause = "mailbox-full"
	BlockListed     Cause = "block-listed"
	HomeLine        Cause = "home-line-refused"
	TLSRequired     Cause = "tls-required"
	TLSTrouble      Cause = "tls-trouble"
	SignInRequired  Cause = "sign-in-required"
	RelayRefused    Cause = "relay-refused"
	TooLarge        Cause = "too-large"
	NeedsUTF8       Cause = "needs-smtputf8"
	Needs8Bit       Cause = "needs-8bitmime"
	ContentRefused  Cause = "content-refused"
	Loop            Cause = "loop"
	OurTrouble      Cause = "our-trouble"
	Returned        Cause = "returned" // by a person of ours
	TakenOut        Cause = "dropped"  // by a person of ours
	Unknown         Cause = "not-known"
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
	LimitReached   Cause = "limit-reached"
	Malformed      Cause = "malformed"
	TLSNeeded      Cause = "tls-needed-here"
	SignInNeeded   Cause = "sign-in-needed-here"
	WrongPassword  Cause = "wrong-password"
	TooManySignIns Cause = "too-many-sign-ins"
	TooManyErrors  Cause = "too-many-errors"
)

// Meaning is what a cause is to people.
type Meaning struct {
	// Title is a short statement.
	Title string `json:"title"`
	// Mend says what to do.
	Mend string `json:"mend"`
	// WhoCanMend is us, recipient, far-administrator, provider, block-list or
	// nobody.
	WhoCanMend string `json:"who_can_mend"`
	// WaitingHelps reports whether the trouble usually ends by itself.
	WaitingHelps bool `json:"waiting_helps"`
}

// Explain is the meaning of c.
func Explain(c Cause) Meaning {
	if m, ok := meanings[c]; ok {
		return m
	}
	return meanings[Unknown]
}

// Causes lists every cause that has a meaning.
func Causes() []Cause {
	list := make([]Cause, 0, len(meanings))
	for c := range meanings {
		list = append(list, c)
	}
	return list
}

var meanings = map[Cause]Meaning{
	NoRoute:         {"No route leads to this recipient", "Add a route for this domain; the letters leave by themselves once it is there.", "us", false},
	RouteRefuses:    {"A route of ours refuses this recipient", "Change the route named in the decision if this is not wanted.", "us", false},
	NoSuchDomain:    {"The domain does not exist", "Check the spelling of the domain with the sender.", "recipient", false},
	NoMail:          {"The domain says it takes no mail", "Ask the recipient for another address.", "recipient", false},
	NoAddress:       {"The mail host has no address in DNS", "Tell the administrator of the domain that the host named by its MX does not resolve.", "far-administrator", true},
	DNSTrouble:      {"DNS gives no answer", "If many lanes show this, check our resolvers; if one does, that domain's name servers are in trouble.", "us", true},
	ConnectRefused:  {"The host refuses the connection", "Nothing listens on the port. If every host refuses, our provider may close it: send through a smart host.", "far-administrator", true},
	ConnectTimeout:  {"The host cannot be reached", "The host is down or a firewall drops our connection. If every host does this, our provider may close the port.", "far-administrator", true},
	Unreachable:     {"There is no network path to the host", "Check our network and whether IPv6 is tried where there is none.", "us", true},
	NoAnswer:        {"The host accepts the connection but says nothing", "Wait; if it lasts, tell the administrator of the host.", "far-administrator", true},
	Dropped:         {"The host drops the connection", "If it happens at the same place each time, something between refuses the content; ask the far administrator.", "far-administrator", true},
	NotSMTP:         {"What answers does not speak SMTP", "Check the host and port of the route.", "us", true},
	HostBusy:        {"The host says it is not available now", "Wait; it asked to be tried later.", "far-administrator", true},
	TooManySessions: {"The host allows fewer connections than we open", "Lower the connections of this route.", "us", true},
	RateLimited:     {"We send faster than the host allows", "Wait, or lower the connections of this route.", "us", true},
	Greylisted:      {"Greylisted: the host asks us to come back", "Nothing; it will be taken at a later attempt.", "nobody", true},
	NoSuchUser:      {"There is no such mailbox", "Check the address with the sender.", "recipient", false},
	MailboxFull:     {"The recipient's mailbox is full", "The recipient must make room.", "recipient", true},
	BlockListed:     {"Our address is on a block list", "Ask the list named in the answer to take us off, after finding why; meanwhile send through a smart host.", "block-list", false},
	HomeLine:        {"The host refuses addresses of home lines", "Send to this domain through a smart host.", "us", false},
	TLSRequired:     {"The host demands TLS", "Let the route use TLS.", "us", false},
	TLSTrouble:      {"TLS with the host fails", "See the exact fault; an expired certificate is the far administrator's to renew.", "far-administrator", true},
	SignInRequired:  {"The host demands sign-in", "Give the route the account of this smart host.", "us", false},
	RelayRefused:    {"The host does not relay for us", "Check that the route's host is right for this domain, and that our address is known there.", "us", false},
	TooLarge:        {"The message is larger than the host takes", "Ask the sender to send less, or a link.", "recipient", false},
	NeedsUTF8:       {"The address needs SMTPUTF8 and the host lacks it", "Ask the recipient for an ASCII address.", "recipient", false},
	Needs8Bit:       {"The content is 8-bit and the host takes only 7-bit", "Ask the sender to send it encoded.", "us", false},
	ContentRefused:  {"The host refuses the content", "Read its answer; the sender may change what it objects to.", "far-administrator", false},
	Loop:            {"The message goes round in a loop", "Find the forward that sends it back and end it.", "us", false},
	OurTrouble:      {"Something failed on our side", "Read the exact fault and the service's log.", "us", true},
	Returned:        {"An administrator sent it back", "Nothing; see the action on record for who and why.", "us", false},
	TakenOut:        {"An administrator dropped it", "It can be restored for a day; see the action on record for who and why.", "us", false},
	SpokeEarly:      {"It spoke before the greeting", "Nothing, as a rule: programs that send rubbish do this. A machine of ours that does it needs mending.", "nobody", false},
	SentAhead:       {"It sent ahead of a reply that it had to wait for", "Mend the program that sends; see the dialogue for where.", "far-administrator", false},
	MayNotConnect:   {"This address may not connect to the listener", "If it should, change the listener's allowed networks.", "us", false},
	CrowdHere:       {"Too many connections at once", "It comes back by itself; if it is ours, raise the listener's limit or mend the program.", "us", true},
	PausedHere:      {"The listener takes no mail just now", "It comes back by itself when the pause ends.", "us", true},
	NoRuleAllows:    {"No relay rule lets this client send to outside", "If it should, add a relay rule as narrow as it can be: its network, its senders.", "us", false},
	RuleRefuses:     {"A relay rule refuses it", "If it should pass, change the rule named in the decision.", "us", false},
	LimitReached:    {"A limit of a relay rule is reached", "If this is wanted mail, raise the limit; if not, change the account's password.", "us", true},
	Malformed:       {"The command or the content is malformed", "Mend the program that sends; see the dialogue for the exact line.", "far-administrator", false},
	TLSNeeded:       {"This listener takes no mail before TLS", "Let the program use STARTTLS, or TLS from the start.", "recipient", false},
	SignInNeeded:    {"This listener takes mail only from people who signed in", "Let the program sign in; machines without an account belong at an inside listener.", "us", false},
	WrongPassword:   {"Wrong name or password", "Set the password anew with its owner; many of these from one address are somebody guessing.", "us", false},
	TooManySignIns:  {"Too many failed sign-ins from this address", "Wait a few minutes; find the program that keeps trying with an old password.", "us", true},
	TooManyErrors:   {"The session was closed after too many errors", "See the dialogue for what went wrong first.", "far-administrator", false},
	Unknown:         {"The host gives a reason we do not know", "Read its exact answer.", "far-administrator", true},
}
