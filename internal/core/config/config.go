// Package config is the configuration of a server: its YAML form, checks that
// name line and field, and the immutable lookups that decisions are made on.
package config

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
)

// The forms of values, under the names they have in a configuration.
type (
	// DomainName is a domain in A-label form.
	DomainName = form.DomainName
	// Size is a number of octets.
	Size = form.Size
	// Problem is one thing wrong with a configuration.
	Problem = form.Problem
	// Problems is everything wrong with a configuration; it is an error.
	Problems = form.Problems
)

// Config is one whole configuration as it is written. Mailboxes and aliases may
// stand with it in one text; in force they are the directory's.
type Config struct {
	Service      Service             `yaml:"service" required:"true" doc:"What concerns the server as a whole"`
	Listeners    []Listener          `yaml:"listeners" doc:"Addresses at which mail comes in"`
	Domains      []Domain            `yaml:"domains" doc:"Domains whose mail is taken from anyone"`
	RelayRules   []RelayRule         `yaml:"relay_rules" doc:"Who may send where; the first that matches decides"`
	Routes       []Route             `yaml:"routes" doc:"Where mail goes next; the first that matches decides"`
	Peers        []Peer              `yaml:"peers" doc:"What was agreed with others' domains; the first that matches counts"`
	Lists        []list.List         `yaml:"lists" doc:"Named sets that gates, relay rules, routes and peers refer to"`
	Gates        []gate.Gate         `yaml:"gates" doc:"Rules on whole messages; asked in order, and the effects of all that match add up"`
	DNSLists     []repute.DNSList    `yaml:"dns_lists" doc:"Lists that are asked by DNS about strangers (RFC 5782)"`
	Scanners     []Scanner           `yaml:"scanners" doc:"Scanners beside us; gates ask for their verdict"`
	DNSServers   []DNSServer         `yaml:"dns_servers" doc:"Servers of our zones that take changes: records are published by a button"`
	Certificates []Certificate       `yaml:"certificates" doc:"Certificates that are kept here, and renewed"`
	Mailboxes    []directory.Mailbox `yaml:"mailboxes" doc:"The directory's mailboxes, in an export of everything"`
	Aliases      []directory.Alias   `yaml:"aliases" doc:"The directory's aliases, in an export of everything"`
	Secrets      []Secret            `yaml:"secrets" doc:"Passwords for others' servers, in an export with secrets"`
}

// Secret is a password for somebody else's server.
type Secret struct {
	Name  string `yaml:"name" required:"true"`
	Value string `yaml:"value" required:"true"`
}

// Service is what concerns the server as a whole.
type Service struct {
	Line                 int
	HostName             DomainName       `yaml:"host_name" required:"true" doc:"Our name in greetings, EHLO and trace fields"`
	Postmaster           address.Address  `yaml:"postmaster" required:"true" doc:"Gets what is sent to postmaster at any of our domains"`
	DefaultSenderDomain  DomainName       `yaml:"default_sender_domain" doc:"Completes senders without a domain, from our own machines and people"`
	Resolvers            []netip.AddrPort `yaml:"resolvers" doc:"DNS servers; none means those of the system"`
	AddressFamily        string           `yaml:"address_family" enum:"both,ipv4,ipv6" default:"both" doc:"What we connect by"`
	Addresses            []netip.Addr     `yaml:"addresses" doc:"By which the world sees us; those of the host name in DNS if not given"`
	BlockLists           []DomainName     `yaml:"block_lists" doc:"DNS block lists (RFC 5782) on which our addresses are looked for"`
	MXPort               int              `yaml:"mx_port" min:"1" max:"65535" default:"25" doc:"Port of hosts found by MX; 25 but in a simulated internet"`
	PolicyPort           int              `yaml:"policy_port" min:"1" max:"65535" default:"443" doc:"Port of the hosts that say domains' TLS policies (MTA-STS); 443 but in a simulated internet"`
	TLSPolicies          TLSPolicies      `yaml:"tls_policies" doc:"Whether we heed what domains say of TLS for mail to them"`
	CertificateAuthority Authority        `yaml:"certificate_authority" doc:"Who gives us certificates (ACME)"`
	Feedback             Feedback         `yaml:"feedback" doc:"What other servers report of our mail (DMARC, TLS), and what we report to them"`
	Forwards             Forwards         `yaml:"forwards" doc:"How mail of others goes on that our mailboxes and aliases pass to addresses elsewhere"`
	WithoutKey           string           `yaml:"without_key" enum:"hold,send" default:"hold" doc:"Mail whose signing key a node's key file does not open: it waits there, or goes out unsigned"`
	Connections          int              `yaml:"connections" min:"1" max:"10000" default:"500" doc:"Open outwards at the same time"`
	Retry                Retry            `yaml:"retry" doc:"When deliveries that wait are tried again"`
	Notices              Notices          `yaml:"notices" doc:"What senders and the postmaster are told of messages that do not arrive"`
	Timeouts             Timeouts         `yaml:"timeouts" doc:"Of each step outwards (RFC 5321 section 4.5.3.2)"`
	Retention            time.Duration    `yaml:"retention" min:"1h" default:"30d" doc:"How long messages and their history are kept"`
	TranscriptsKept      time.Duration    `yaml:"transcripts_kept" min:"1h" default:"14d" doc:"How long the transcripts of sessions are kept"`
	CountsKept           time.Duration    `yaml:"counts_kept" min:"24h" default:"400d" doc:"How long the counts of reports are kept; those by single sender, recipient and account by the hour only as long as messages"`
	TrashKept            time.Duration    `yaml:"trash_kept" min:"24h" default:"30d" doc:"How long messages stay in the trash folders of mailboxes"`
	MailboxesKept        time.Duration    `yaml:"mailboxes_kept" min:"24h" default:"30d" doc:"How long the mail of a mailbox that was removed is kept; until then it can be given back"`
	PeoplePage           string           `yaml:"people_page" enum:"on,off" default:"on" doc:"Whether people with a mailbox have a page of their own, for password, automatic reply and app passwords"`
	PeopleForward        string           `yaml:"people_forward" enum:"no,inside,anywhere" default:"no" doc:"Where people may let their mail go on to by themselves: nowhere, to addresses of our domains, anywhere"`
	AuditKept            time.Duration    `yaml:"audit_kept" min:"720h" default:"800d" doc:"How long the record of who did what is kept"`
	Operators            Operators        `yaml:"operators" doc:"How people who administer sign in"`
	Log                  TextLog          `yaml:"log" doc:"The service's log and what happens to messages, kept as text by day"`
	Archive              DailyArchive     `yaml:"archive" doc:"Days that are archived before they are forgotten"`
	ViewersSee           ViewersSee       `yaml:"viewers_see" doc:"What is hidden from people who may look only"`
	DailyReport          DailyReport      `yaml:"daily_report" doc:"A report of the day before, by mail"`
	Reputation           repute.Settings  `yaml:"reputation" doc:"How strangers and their messages are weighed"`
	Held                 Held             `yaml:"held" doc:"What becomes of messages that are held"`
	Alerts               Alerts           `yaml:"alerts" doc:"Who is told of snags, each once, again after a time, and when it is over"`
}

// Where people may let their mail go on to.
const (
	ForwardInside   = "inside"
	ForwardAnywhere = "anywhere"
)

// SendUnsigned lets mail go out unsigned whose signing key is not opened.
const SendUnsigned = "send"

// The levels of a transcript.
const (
	TranscriptNone    = "none"
	TranscriptTrouble = "trouble"
	TranscriptAll     = "all"
)

// ViewersSee is what people with the role viewer are shown of messages.
type ViewersSee struct {
	Addresses string `yaml:"addresses" enum:"whole,masked" default:"whole" doc:"masked: only the first message before the @"`
	Subjects  string `yaml:"subjects" enum:"whole,hidden" default:"whole"`
}

// DailyReport is when and to whom a report of the day before goes.
type DailyReport struct {
	At   string            `yaml:"at" default:"06:00" doc:"Hour and minute in the time zone"`
	Zone string            `yaml:"zone" default:"UTC" doc:"Time zone of the hour and of the day, like Europe/Oslo"`
	To   []address.Address `yaml:"to" doc:"Who gets it; nobody if not given"`
}

// Held is what becomes of messages that are held.
type Held struct {
	Keep   time.Duration `yaml:"keep" min:"1s" default:"30d" doc:"How long they are held; then they are at an end"`
	Then   string        `yaml:"then" enum:"drop,return" default:"drop" doc:"What becomes then of those from the world: dropped, since their senders may be forged, or sent back. Those of our people and machines always go back"`
	Quota  Size          `yaml:"quota" default:"5 GB" doc:"If more is held, what would be held is asked to come again; 0 is no bound"`
	Digest Digest        `yaml:"digest" doc:"People are told by mail what came for them and is held"`
}

// Digest is the mail by which people are told what is held for them.
type Digest struct {
	To        address.Patterns `yaml:"to" doc:"Whose mailboxes: addresses, domains, list:NAME; nobody's if not given"`
	At        []string         `yaml:"at" doc:"Hours and minutes in the time zone, like 07:00; that one if not given"`
	Zone      string           `yaml:"zone" default:"UTC" doc:"Time zone of the hours, like Europe/Oslo"`
	Link      string           `yaml:"link" doc:"How people reach this service, like https://mail.skerryline.example: what is held is looked at there, without sign-in, by a link that only its reader has"`
	LinksLast time.Duration    `yaml:"links_last" min:"1h" default:"3d"`
	Language  string           `yaml:"language" enum:"en,de" default:"en" doc:"Of what people read"`
	Release   string           `yaml:"release" enum:"none,minor,serious" default:"minor" doc:"Up to which severity people let messages go on by themselves"`
}

// Slot is the last of the hours that has come.
func (d Digest) Slot(now time.Time) (time.Time, error) {
	zone, err := time.LoadLocation(d.Zone)
	if err != nil {
		return time.Time{}, fmt.Errorf(
			"zone: %q is no time zone; write one like Europe/Oslo or UTC",
			d.Zone,
		)
	}
	hours := d.At
	if len(hours) == 0 {
		hours = []string{"07:00"}
	}
	var last time.Time
	local := now.In(zone)
	for _, text := range hours {
		at, err := time.Parse("15:04", text)
		if err != nil {
			return last, fmt.Errorf("at: %q is no time of day; write one like 07:00", text)
		}
		for day := -1; day <= 0; day++ {
			slot := time.Date(
				local.Year(),
				local.Month(),
				local.Day()+day,
				at.Hour(),
				at.Minute(),
				0,
				0,
				zone,
			)
			if !slot.After(now) && slot.After(last) {
				last = slot
			}
		}
	}
	return last, nil
}

// linkFault says what is wrong with the address to which links lead.
func (d Digest) linkFault() string {
	if d.Link == "" {
		return "say how people reach this service, like https://mail.skerryline.example"
	}
	return webAddress(d.Link)
}

// Alerts is who is told of snags.
type Alerts struct {
	To      []address.Address `yaml:"to" doc:"Who gets mail"`
	Webhook string            `yaml:"webhook" doc:"URL that gets signed JSON: https, or http on loopback"`
	Secret  string            `yaml:"secret" doc:"Name of the secret that signs it (gull secret set)"`
	From    string            `yaml:"from" enum:"minor,serious,critical" default:"serious" doc:"How bad it must be"`
	After   time.Duration     `yaml:"after" default:"5m" doc:"How long it must last before anybody is told"`
	Remind  time.Duration     `yaml:"remind" min:"1s" default:"12h"`
}

// check says what is wrong with a webhook's address.
func (a Alerts) check() (field, fault string) {
	if a.Webhook == "" {
		return "", ""
	}
	if strings.HasSuffix(a.Webhook, hiddenPath) {
		return "webhook", "write the whole URL: its path is a secret, and was left out where you " +
			"read it"
	}
	u, err := url.Parse(a.Webhook)
	if err != nil || u.Host == "" || u.User != nil {
		return "webhook",
			"write a URL like https://watch.skerryline.example/gull, without a name " +
				"and password"
	}
	if u.Scheme != "https" && !(u.Scheme == "http" && loopback(u)) {
		return "webhook",
			"what is told there must not be read in transit: write https (http only " +
				"on loopback)"
	}
	if a.Secret == "" {
		return "secret", "name the secret that signs what the webhook gets, and set it with gull " +
			"secret set"
	}
	return "", ""
}

// loopback reports a URL of this very machine.
func loopback(u *url.URL) bool {
	ip, _ := netip.ParseAddr(u.Hostname())
	return ip.IsLoopback() || u.Hostname() == "localhost"
}

// Time is the hour and minute, and the zone.
func (d DailyReport) Time() (hour, minute int, zone *time.Location, err error) {
	if zone, err = time.LoadLocation(d.Zone); err != nil {
		return 0, 0, nil, fmt.Errorf("zone: %q is no time zone; write one like Europe/Oslo or UTC",
			d.Zone)
	}
	at, err := time.Parse("15:04", d.At)
	if err != nil {
		return 0, 0, nil, fmt.Errorf("at: %q is no time of day; write one like 06:00", d.At)
	}
	return at.Hour(), at.Minute(), zone, nil
}

// Retry is the schedule of deliveries that wait.
type Retry struct {
	Intervals          []time.Duration `yaml:"intervals" doc:"Between attempts; the last one goes on"`
	Jitter             int             `yaml:"jitter" min:"0" max:"50" default:"10" doc:"Percent by which an interval may be longer, so that what failed together is not tried together for ever"`
	WarnAfter          time.Duration   `yaml:"warn_after" default:"4h" doc:"After that the sender gets a delay notice, once; 0s sends none"`
	ExpireAfter        time.Duration   `yaml:"expire_after" min:"1s" default:"5d" doc:"After that the message goes back"`
	NoticesExpireAfter time.Duration   `yaml:"notices_expire_after" min:"1s" default:"2d" doc:"The same for notices and other messages from the null sender, which go back to nobody"`
	BackOff            time.Duration   `yaml:"back_off" default:"1m" doc:"Back-off of a lane after its host's first trouble; it doubles, up to thirty times as long"`
}

// OwnRetry is the schedule of a route or a peer, where it differs.
type OwnRetry struct {
	Intervals   []time.Duration `yaml:"intervals" doc:"Between attempts; the server's if not given"`
	WarnAfter   time.Duration   `yaml:"warn_after" doc:"Until a delay notice is sent; the server's if not given"`
	ExpireAfter time.Duration   `yaml:"expire_after" doc:"Until the message goes back; the server's if not given"`
}

// Notices is what senders and the postmaster are told of messages that do not
// arrive.
type Notices struct {
	ReturnUpTo    Size   `yaml:"return_up_to" default:"256 KB" doc:"Messages up to this size go back whole where the sender asked for it (RFC 3461 RET=FULL); of others the header"`
	CopyTo        string `yaml:"copy_to" enum:"nobody,failures,all" default:"nobody" doc:"Which notices the postmaster gets a copy of"`
	Language      string `yaml:"language" enum:"as_sent,en,de" default:"as_sent" doc:"Of the part for people: as the message's Content-Language says, English otherwise; or always the one"`
	CopiesPerHour int    `yaml:"copies_per_hour" min:"1" max:"10000" default:"20" doc:"More are not copied, but counted in the next"`
}

// Timeouts bound each step outwards (RFC 5321 section 4.5.3.2).
type Timeouts struct {
	Connect  time.Duration `yaml:"connect" default:"30s"`
	Greeting time.Duration `yaml:"greeting" default:"5m"`
	Command  time.Duration `yaml:"command" default:"5m"`
	Content  time.Duration `yaml:"content" default:"3m"`
	Final    time.Duration `yaml:"final" default:"10m" doc:"For the reply to the content"`
}

// The kinds of listener.
const (
	Edge       = "edge"       // the world, anonymous
	Submission = "submission" // people, signed in (RFC 6409)
	Inside     = "inside"     // our machines, without sign-in
	LMTP       = "lmtp"       // a neighbour that passes on by LMTP (RFC 2033)
	IMAP       = "imap"       // people who read (RFC 9051)
	POP3       = "pop3"       // people who fetch (RFC 1939)
)

// The uses of TLS at a listener.
const (
	TLSOff      = "off"
	TLSStart    = "starttls"
	TLSRequired = "required"
	TLSImplicit = "implicit"
)

// Listener is an address at which mail comes in.
type Listener struct {
	Line               int
	Name               string         `yaml:"name" required:"true"`
	Address            netip.AddrPort `yaml:"address" required:"true" doc:"Where it listens, like 0.0.0.0:25 or [::]:587"`
	Kind               string         `yaml:"kind" required:"true" enum:"edge,submission,inside,lmtp,imap,pop3" doc:"edge: the world, anonymous. submission: people who sign in. inside: our machines, without sign-in. lmtp: a neighbouring server. imap, pop3: people who read their mail"`
	Nodes              []string       `yaml:"nodes" doc:"Nodes that open it; none means all"`
	GreetingName       DomainName     `yaml:"greeting_name" doc:"Our name here; the server's host name if not given"`
	TLS                string         `yaml:"tls" enum:"off,starttls,required,implicit" default:"off" doc:"starttls: offered. required: no mail before STARTTLS. implicit: from the first octet (ports 465, 993, 995). Who reads signs in under TLS only"`
	Certificate        string         `yaml:"certificate" doc:"File with the certificate chain, or kept:NAME for one of the certificates; without one a self-made certificate is shown"`
	Key                string         `yaml:"key" doc:"File with the certificate's key; none for one that is kept"`
	ClientCertificates string         `yaml:"client_certificates" doc:"File with the authorities of client certificates; asks clients for one"`
	SignIn             []string       `yaml:"sign_in" each:"plain,login,scram" doc:"Mechanisms offered; a listener of kind submission, imap or pop3 without any offers all"`
	SignInWithoutTLS   bool           `yaml:"sign_in_without_tls" doc:"Passwords may come in the clear; only for loopback"`
	Allow              []netip.Prefix `yaml:"allow" doc:"Networks that may connect; none means all"`
	Proxies            []netip.Prefix `yaml:"proxies" doc:"Networks of load balancers that name the client by the PROXY protocol (versions 1 and 2): their connections must begin with it, and allow and limits are about the client. From elsewhere it is no command"`
	Deny               []netip.Prefix `yaml:"deny" doc:"Networks that may not"`
	Complete           bool           `yaml:"complete" doc:"Of an inside listener: Date, Message-ID and From are put into messages that lack them, as they are for people who submit"`
	Transcript         string         `yaml:"transcript" enum:"none,trouble,all" default:"all" doc:"Whose transcript is kept: none, that of sessions with trouble, or all. Credentials and content never are"`
	Identity           string         `yaml:"identity" enum:"off,note,hold,refuse" default:"note" doc:"Of strangers' messages, whether the sender is who it says (SPF, DKIM, DMARC). note: written into the message and on record. hold: kept back where the sender's domain asks for it. refuse: refused where it asks for that, else kept back"`
	Score              string         `yaml:"score" enum:"as_set,off,watch,on" default:"as_set" doc:"Of an edge listener, whether strangers are weighed; as_set: as the server's reputation says"`
	Greylisting        string         `yaml:"greylisting" enum:"as_set,off,by_score,all" default:"as_set" doc:"Of an edge listener; as_set: as the server's reputation says"`
	Limits             Limits         `yaml:"limits"`
}

// Weighs are the settings of reputation at the listener: off in all but for the edge.
func (l *Listener) Weighs(t repute.Settings) repute.Settings {
	if l.Kind != Edge {
		t.Score, t.Greylisting = repute.Off, repute.Off
		return t
	}
	if l.Score != asSet {
		t.Score = l.Score
	}
	if l.Greylisting != asSet {
		t.Greylisting = l.Greylisting
	}
	return t
}

const asSet = "as_set"

// MechanismNames are the sign-in mechanisms in the words of RFC 4954's AUTH.
func (l *Listener) Mechanisms() []string {
	if len(l.SignIn) > 0 || l.Kind != Submission && !l.Reads() {
		return l.SignIn
	}
	return []string{"scram", "plain", "login"}
}

// Limits bound what one listener takes.
type Limits struct {
	Connections           int           `yaml:"connections" min:"1" max:"100000" default:"1000"`
	ConnectionsPerAddress int           `yaml:"connections_per_address" min:"1" max:"100000" default:"100"`
	NewPerMinute          int           `yaml:"new_per_minute" min:"1" max:"1000000" doc:"New connections a minute from one address; not limited if not given"`
	MessageSize           Size          `yaml:"message_size" min:"1024" default:"50 MB"`
	SessionSize           Size          `yaml:"session_size" min:"1024" doc:"Of all messages of one connection; not limited if not given"`
	Recipients            int           `yaml:"recipients" min:"1" max:"100000" default:"1000" doc:"Of one message"`
	MessagesPerConnection int           `yaml:"messages_per_connection" min:"1" default:"1000"`
	Errors                int           `yaml:"errors" min:"1" max:"1000" default:"10" doc:"After so many the connection is closed"`
	CommandTimeout        time.Duration `yaml:"command_timeout" min:"1s" default:"5m"`
	ContentTimeout        time.Duration `yaml:"content_timeout" min:"1s" default:"10m"`
	Load                  int           `yaml:"load" min:"1" max:"10000" doc:"Above this load of the machine new connections are deferred with 421"`
}

// The kinds of domain.
const (
	Local  = "local"
	Shared = "shared"
	Relay  = "relay"
)

// Domain is one whose mail we take from anyone.
type Domain struct {
	Line           int
	Name           DomainName        `yaml:"name" required:"true"`
	Kind           string            `yaml:"kind" required:"true" enum:"local,shared,relay" doc:"local: every address is ours. shared: what we don't know goes on. relay: everything goes on"`
	Route          string            `yaml:"route" doc:"By which the mail of a shared or relay domain goes on"`
	Verify         string            `yaml:"verify" enum:"none,list,call" default:"none" doc:"Of a relay domain, and of a shared one those that go on: whether recipients are checked before we take a message; call asks the next hop"`
	Recipients     []address.Address `yaml:"recipients" doc:"The list for verify: list"`
	Generated      []string          `yaml:"generated_addresses" doc:"Patterns of addresses made from people's names: {first}.{last}, {f}{last}, {name}"`
	CatchAll       *address.Address  `yaml:"catch_all" doc:"Gets what nobody else gets"`
	PlusAddressing bool              `yaml:"plus_addressing" doc:"name+anything reaches name"`
	RewriteSenders address.Patterns  `yaml:"rewrite_senders" doc:"Domains of our machines' senders that are written as this domain, like host7 or *.machines.example"`
	TLSPolicy      DomainTLS         `yaml:"tls_policy" doc:"What we ask of others who send to it (MTA-STS, RFC 8461)"`
	Forwards       DomainForwards    `yaml:"forwards" doc:"Return path of what this domain's mailboxes and aliases pass to addresses elsewhere"`
	Outgoing       string            `yaml:"outgoing" doc:"Route of what this domain's people send outside: a smart host of its own"`
}

// RelayRule says who may send where. The first that matches decides.
type RelayRule struct {
	Line         int
	Name         string           `yaml:"name" required:"true"`
	Networks     []netip.Prefix   `yaml:"networks" doc:"Of the client"`
	Accounts     address.Patterns `yaml:"accounts" doc:"Who signed in; * is anybody who did"`
	Listeners    []string         `yaml:"listeners"`
	Certificates []string         `yaml:"certificates" doc:"Names in a client certificate that verifies"`
	Senders      address.Patterns `yaml:"senders"`
	Recipients   address.Patterns `yaml:"recipients"`
	Action       string           `yaml:"action" required:"true" enum:"allow,refuse"`
	OwnSender    bool             `yaml:"own_sender" doc:"The sender must belong to the account that signed in"`
	OwnFrom      string           `yaml:"own_from" enum:"refuse,add_sender" default:"refuse" doc:"With own_sender, for a message whose From or Sender is not the account's: refuse it, or add a Sender field that names the account"`
	Limits       RuleLimits       `yaml:"limits" doc:"For each account, or each client address without sign-in; not limited if not given"`
	Say          string           `yaml:"say" doc:"The sentence of a refusal"`
}

// What a rule with own_sender does with a From that is not the account's.
const (
	OwnFromRefuse    = "refuse"
	OwnFromAddSender = "add_sender"
)

// RuleLimits bound what each account or client sends under a rule.
type RuleLimits struct {
	MessagesPerHour   int `yaml:"messages_per_hour" min:"1"`
	MessagesPerDay    int `yaml:"messages_per_day" min:"1"`
	RecipientsPerHour int `yaml:"recipients_per_hour" min:"1"`
	RecipientsPerDay  int `yaml:"recipients_per_day" min:"1"`
	// A stolen account writes to very many with whom its owner never did.
	NewRecipientsPerDay int    `yaml:"new_recipients_per_day" min:"1" doc:"With whom it has not exchanged mail before"`
	BouncesPercent      int    `yaml:"bounces_percent" min:"1" max:"100" doc:"Of the recipients whose deliveries ended today, from 20 on: lists that were bought or guessed bounce"`
	Over                string `yaml:"over" enum:"defer,hold,stop" doc:"What becomes of more. defer (if not given): asked to come again. hold: taken and held until somebody has looked. stop: the account sends nothing until somebody lets it go on"`
}

// Given reports that there is any limit.
func (l RuleLimits) Given() bool {
	return l.MessagesPerHour+l.MessagesPerDay+l.RecipientsPerHour+l.RecipientsPerDay+
		l.NewRecipientsPerDay+l.BouncesPercent > 0
}

// What becomes of what is over a limit.
const (
	OverHold = "hold"
	OverStop = "stop"
)

// The next hops of a route.
const (
	HopMX        = "mx"
	HopSmartHost = "smarthost"
	HopDirect    = "direct" // MX, and smart hosts on trouble
	HopLMTP      = "lmtp"
	HopMailbox   = "mailbox"
	HopRefuse    = "refuse"
	HopNone      = "none" // of the built-in route for what has none
)

// Route says where mail for some recipients goes next.
type Route struct {
	Line                  int
	Name                  string           `yaml:"name" required:"true"`
	Off                   bool             `yaml:"off" doc:"Not used for now"`
	Recipients            address.Patterns `yaml:"recipients" doc:"An asterisk stands for domains that are not ours, which must be named. Without any, the route is used only by what names it"`
	Senders               address.Patterns `yaml:"senders"`
	Accounts              address.Patterns `yaml:"accounts" doc:"Who signed in"`
	Clients               []netip.Prefix   `yaml:"clients" doc:"Networks of clients"`
	SizeOver              Size             `yaml:"size_over" doc:"Only messages larger than this"`
	SizeUpTo              Size             `yaml:"size_up_to" doc:"Only messages up to this"`
	NextHop               string           `yaml:"next_hop" required:"true" enum:"mx,smarthost,direct,lmtp,mailbox,refuse" doc:"mx: the recipient's own hosts. smarthost: hosts that send on. direct: mx, and the smart hosts on trouble. lmtp: a mailbox server"`
	Hosts                 []string         `yaml:"hosts" doc:"host or host:port, in order"`
	Choose                string           `yaml:"choose" enum:"in_order,by_weight" default:"in_order" doc:"Which of several hosts comes first"`
	Weights               []int            `yaml:"weights" doc:"One for each host"`
	Port                  int              `yaml:"port" min:"1" max:"65535" default:"25" doc:"Of the hosts"`
	MXLookup              bool             `yaml:"mx_lookup" doc:"The hosts' own MX records say where to connect"`
	WithoutMX             string           `yaml:"without_mx" enum:"address,bounce" default:"address" doc:"A domain without MX: use its address record (RFC 5321 section 5.1), or send the message back"`
	OnRefusal             string           `yaml:"on_refusal" enum:"end,next" doc:"A host refuses for good: end there, or try the next one of the next hop, whatever it refused at. If not given, an MX ends it, but for a refusal in its greeting, and among smart hosts a refusal before the message is sent tries the next"`
	TLS                   string           `yaml:"tls" enum:"offered,off,required,verified" default:"offered" doc:"offered: where the host has it, whatever its certificate"`
	TLSFromStart          bool             `yaml:"tls_from_start" doc:"TLS from the first octet, as on port 465"`
	Certificate           string           `yaml:"certificate" doc:"Ours, for hosts that know us by it: a file with the chain, or kept:NAME for one of the certificates"`
	Key                   string           `yaml:"key" doc:"File with the certificate's key; none for one that is kept"`
	SignIn                *SignIn          `yaml:"sign_in" doc:"Our account at the smart host"`
	POPBefore             *POPBefore       `yaml:"pop_before" doc:"A mailbox at the provider that has to be looked at by POP3 before it takes mail from our address"`
	Say                   string           `yaml:"say" doc:"The sentence of next hop refuse"`
	SourceAddress         netip.Addr       `yaml:"source_address" doc:"Our address to connect from"`
	SourceAddresses       []netip.Addr     `yaml:"source_addresses" doc:"Several of ours, used in turn; one that this machine does not have is left out for ten minutes"`
	EHLOName              DomainName       `yaml:"ehlo_name" doc:"Our name towards these hosts"`
	MessageSize           Size             `yaml:"message_size" doc:"Larger messages are sent back"`
	Connections           int              `yaml:"connections" min:"1" max:"1000" default:"10" doc:"Of each lane, over all nodes that deliver by it; one each at least"`
	MessagesPerConnection int              `yaml:"messages_per_connection" min:"1" max:"100000" default:"100"`
	MessagesPerMinute     int              `yaml:"messages_per_minute" min:"1" max:"1000000" doc:"Of each lane, over all nodes that deliver by it; not limited if not given"`
	Nodes                 []string         `yaml:"nodes" doc:"Nodes that deliver by it; none means all"`
	Transcript            string           `yaml:"transcript" enum:"none,trouble,all" default:"all" doc:"Whose transcript is kept: none, that of sessions with trouble, or all"`
	Retry                 OwnRetry         `yaml:"retry" doc:"A schedule of its own"`
	Asks                  *Asks            `yaml:"asks" doc:"A site that is offline most of the day and asks for its mail when it is not (ETRN, RFC 1985)"`
}

// Asks is who may ask for the mail of a route, and how long it is kept for them.
type Asks struct {
	Kept     time.Duration    `yaml:"kept" default:"1d" doc:"How long mail waits to be asked for; then it is sent all the same, at the latest when half the time until it goes back is over. 0s sends at once"`
	Accounts address.Patterns `yaml:"accounts" doc:"Who signed in"`
	Networks []netip.Prefix   `yaml:"networks" doc:"Who asks from there, without sign-in"`
}

// POPBefore is a mailbox at a provider who takes mail from an address only after somebody
// signed in from there by POP3, under TLS.
type POPBefore struct {
	Host    string `yaml:"host" required:"true" doc:"host or host:port; port 995 if none is given, with TLS from the start"`
	Account string `yaml:"account" required:"true"`
	Secret  string `yaml:"secret" required:"true" doc:"Name of the password among the secrets: gull secret set NAME"`
}

// SignIn is our account at a smart host. The password is kept apart, encrypted
// under the key file, and never part of the configuration.
type SignIn struct {
	Account string `yaml:"account" required:"true"`
	Secret  string `yaml:"secret" required:"true" doc:"Name of the password among the secrets: gull secret set NAME"`
}

// Peer is what was agreed with somebody else's domains.
type Peer struct {
	Line                  int
	Name                  string           `yaml:"name" required:"true"`
	Domains               address.Patterns `yaml:"domains" required:"true" doc:"Their domains; *.example is every domain below"`
	TLS                   string           `yaml:"tls" enum:"offered,required,verified" doc:"Demanded of their hosts, beyond what the route demands"`
	PinnedName            DomainName       `yaml:"pinned_name" doc:"Name their certificate must have, in place of the host's"`
	IgnorePolicies        bool             `yaml:"ignore_policies" doc:"What they say of TLS by MTA-STS and DANE is not heeded: it is known to be broken"`
	Connections           int              `yaml:"connections" min:"1" max:"1000"`
	MessagesPerConnection int              `yaml:"messages_per_connection" min:"1" max:"100000"`
	MessagesPerMinute     int              `yaml:"messages_per_minute" min:"1" max:"1000000"`
	MessageSize           Size             `yaml:"message_size"`
	No8Bit                bool             `yaml:"no_8bit" doc:"Their servers take no 8-bit text"`
	NoUTF8Addresses       bool             `yaml:"no_utf8_addresses"`
	PlainText             bool             `yaml:"plain_text" doc:"Their programs show text only: HTML is written as text, and left out where the same stands beside it as text"`
	Charset               string           `yaml:"charset" enum:"us-ascii,iso-8859-1,iso-8859-2,iso-8859-4,iso-8859-5,iso-8859-7,iso-8859-9,iso-8859-13,iso-8859-15,windows-1250,windows-1251,windows-1252,windows-1257,koi8-r,iso-2022-jp,shift_jis,euc-kr,big5,gb18030" doc:"Text and subjects are written in it, with near characters for what it lacks, and all is sent 7-bit; what is signed stays as it is"`
	AutomaticReplies      string           `yaml:"automatic_replies" enum:"inside,outside,none" doc:"Which text their people get; outside if nothing is agreed"`
	Identity              string           `yaml:"identity" enum:"note,hold,refuse" doc:"What is done with messages in their name that neither SPF nor a signature proves, whatever they publish; as the listener says if not given"`
	NoForwards            bool             `yaml:"no_forwards" doc:"Mailboxes do not forward to them by themselves"`
	NoBounces             bool             `yaml:"no_bounces" doc:"Notices of failure are kept back from them"`
	NoDelayNotices        bool             `yaml:"no_delay_notices" doc:"No delay notices are sent to them"`
	Transcript            string           `yaml:"transcript" enum:"none,trouble,all" doc:"Of sessions with their hosts, in place of the route's"`
	Retry                 OwnRetry         `yaml:"retry" doc:"A schedule for mail to them; it goes before the route's"`
}

// Reads reports a listener by which people read their mail.
func (l *Listener) Reads() bool { return l.Kind == IMAP || l.Kind == POP3 }
