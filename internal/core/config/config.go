// Package config is the configuration of a server: its YAML form, checks that
// name line and field, and the immutable lookups that decisions are made on.
package config

import (
	"net/netip"
	"time"

	"gullroute/internal/core/address"
)

// Config is one whole configuration as it is written.
type Config struct {
	Service    Service     `yaml:"service" required:"true"`
	Listeners  []Listener  `yaml:"listeners"`
	Domains    []Domain    `yaml:"domains"`
	RelayRules []RelayRule `yaml:"relay_rules"`
	Routes     []Route     `yaml:"routes"`
	Mailboxes  []Mailbox   `yaml:"mailboxes"`
	Aliases    []Alias     `yaml:"aliases"`
}

// Service is what concerns the server as a whole.
type Service struct {
	Line int
	// HostName is our name in greetings and trace fields.
	HostName DomainName `yaml:"host_name" required:"true"`
	// Postmaster gets what is sent to postmaster at any of our domains.
	Postmaster address.Address `yaml:"postmaster" required:"true"`
	// Resolvers are DNS servers; none means those of the system.
	Resolvers []netip.AddrPort `yaml:"resolvers"`
	// AddressFamily is what we connect by: ipv4, ipv6 or both.
	AddressFamily string `yaml:"address_family" enum:"both,ipv4,ipv6"`
	// MXPort is the port of hosts found by MX; 25 but in a simulated internet.
	MXPort int `yaml:"mx_port" min:"1" max:"65535"`
	// Connections bounds what we have open outwards at once.
	Connections int           `yaml:"connections" min:"1" max:"10000"`
	Retry       Retry         `yaml:"retry"`
	Timeouts    Timeouts      `yaml:"timeouts"`
	Retention   time.Duration `yaml:"retention" min:"1h"`
}

// Retry is the schedule of deliveries that wait.
type Retry struct {
	Intervals []time.Duration `yaml:"intervals"`
	GiveUp    time.Duration   `yaml:"give_up"`
	// LaneRest is how long a lane rests after its host's first trouble; the
	// rest doubles with each further one, up to thirty times as long.
	LaneRest time.Duration `yaml:"lane_rest"`
}

// Timeouts bound each step outwards (RFC 5321 section 4.5.3.2).
type Timeouts struct {
	Connect  time.Duration `yaml:"connect"`
	Greeting time.Duration `yaml:"greeting"`
	Command  time.Duration `yaml:"command"`
	Content  time.Duration `yaml:"content"`
	Final    time.Duration `yaml:"final"`
}

// Listener is an address at which mail comes in.
type Listener struct {
	Line    int
	Name    string         `yaml:"name" required:"true"`
	Address netip.AddrPort `yaml:"address" required:"true"`
	// Kind is edge (the world) or inside (machines of ours, no sign-in).
	Kind         string     `yaml:"kind" required:"true" enum:"edge,inside"`
	GreetingName DomainName `yaml:"greeting_name"`
	Limits       Limits     `yaml:"limits"`
}

// Limits bound what one listener takes.
type Limits struct {
	Connections           int           `yaml:"connections" min:"1" max:"100000"`
	ConnectionsPerAddress int           `yaml:"connections_per_address" min:"1" max:"100000"`
	MessageSize           Size          `yaml:"message_size" min:"1024"`
	Recipients            int           `yaml:"recipients" min:"1" max:"100000"`
	MessagesPerConnection int           `yaml:"messages_per_connection" min:"1"`
	Errors                int           `yaml:"errors" min:"1" max:"1000"`
	CommandTimeout        time.Duration `yaml:"command_timeout" min:"1s"`
	ContentTimeout        time.Duration `yaml:"content_timeout" min:"1s"`
}

// Domain is one whose mail we take from anyone.
type Domain struct {
	Line int
	Name DomainName `yaml:"name" required:"true"`
	// Kind is local (every address is ours), shared (what we don't know goes on
	// by Route) or relay (everything goes on by Route).
	Kind  string `yaml:"kind" required:"true" enum:"local,shared,relay"`
	Route string `yaml:"route"`
}

// RelayRule says who may send where. The first that matches decides.
type RelayRule struct {
	Line       int
	Name       string           `yaml:"name" required:"true"`
	Networks   []netip.Prefix   `yaml:"networks"`
	Listeners  []string         `yaml:"listeners"`
	Senders    address.Patterns `yaml:"senders"`
	Recipients address.Patterns `yaml:"recipients"`
	Action     string           `yaml:"action" required:"true" enum:"allow,refuse"`
	// Say is the sentence of a refusal.
	Say string `yaml:"say"`
}

// Route says where mail for some recipients goes next.
type Route struct {
	Line int
	Name string `yaml:"name" required:"true"`
	// Recipients select; an asterisk stands for domains that are not ours, which
	// must be named. A route without recipients is used only by the domains that
	// name it.
	Recipients address.Patterns `yaml:"recipients"`
	Senders    address.Patterns `yaml:"senders"`
	NextHop    string           `yaml:"next_hop" required:"true" enum:"mx,smarthost,lmtp,mailbox,refuse"`
	Hosts      []string         `yaml:"hosts"`
	Port       int              `yaml:"port" min:"1" max:"65535"`
	MXLookup   bool             `yaml:"mx_lookup"`
	// TLS is off, offered (used where offered, whatever the certificate),
	// required or verified.
	TLS    string  `yaml:"tls" enum:"offered,off,required,verified"`
	SignIn *SignIn `yaml:"sign_in"`
	Say    string  `yaml:"say"`
	// Connections bounds each lane of this route.
	Connections          int `yaml:"connections" min:"1" max:"1000"`
	LettersPerConnection int `yaml:"letters_per_connection" min:"1" max:"100000"`
}

// SignIn is our account at a smart host. The password stays in a file of its
// own and is never part of the configuration.
type SignIn struct {
	Account      string `yaml:"account" required:"true"`
	PasswordFile string `yaml:"password_file" required:"true"`
}

// Mailbox is a person's or a function's.
type Mailbox struct {
	Line    int
	Address address.Address `yaml:"address" required:"true"`
	Name    string          `yaml:"name"`
	// Addresses are further ones under which it is reached.
	Addresses []address.Address `yaml:"addresses"`
	Quota     Size              `yaml:"quota"`
}

// Alias passes mail on to other addresses.
type Alias struct {
	Line    int
	Address address.Address   `yaml:"address" required:"true"`
	To      []address.Address `yaml:"to" required:"true"`
}

// DomainName is a domain in A-label form.
type DomainName string

// Size is a number of octets, written like "50 MB" (1 MB is 1,000,000).
type Size int64

func (c *Config) setDefaults() {
	s := &c.Service
	orString(&s.AddressFamily, "both")
	orInt(&s.MXPort, 25)
	orInt(&s.Connections, 500)
	orDuration(&s.Retention, 30*24*time.Hour)
	orDuration(&s.Retry.GiveUp, 5*24*time.Hour)
	orDuration(&s.Retry.LaneRest, time.Minute)
	orDuration(&s.Timeouts.Connect, 30*time.Second)
	orDuration(&s.Timeouts.Greeting, 5*time.Minute)
	orDuration(&s.Timeouts.Command, 5*time.Minute)
	orDuration(&s.Timeouts.Content, 3*time.Minute)
	orDuration(&s.Timeouts.Final, 10*time.Minute)
	for i := range c.Listeners {
		c.Listeners[i].setDefaults(s.HostName)
	}
	for i := range c.Routes {
		r := &c.Routes[i]
		orString(&r.TLS, "offered")
		orInt(&r.Port, 25)
		orInt(&r.Connections, 10)
		orInt(&r.LettersPerConnection, 100)
	}
}

func (l *Listener) setDefaults(hostName DomainName) {
	if l.GreetingName == "" {
		l.GreetingName = hostName
	}
	orInt(&l.Limits.Connections, 1000)
	orInt(&l.Limits.ConnectionsPerAddress, 100)
	orInt(&l.Limits.Recipients, 1000)
	orInt(&l.Limits.MessagesPerConnection, 1000)
	orInt(&l.Limits.Errors, 10)
	if l.Limits.MessageSize == 0 {
		l.Limits.MessageSize = 50_000_000
	}
	orDuration(&l.Limits.CommandTimeout, 5*time.Minute)
	orDuration(&l.Limits.ContentTimeout, 10*time.Minute)
}

func orString(p *string, v string) {
	if *p == "" {
		*p = v
	}
}

func orInt(p *int, v int) {
	if *p == 0 {
		*p = v
	}
}

func orDuration(p *time.Duration, v time.Duration) {
	if *p == 0 {
		*p = v
	}
}
