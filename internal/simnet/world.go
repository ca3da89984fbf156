// Package simnet is the simulated internet that ships with the product: a DNS
// server and mail hosts with chosen behaviours, described by a YAML file.
package simnet

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"time"

	"go.yaml.in/yaml/v3"
)

// World is a simulated internet as its file describes it.
type World struct {
	Domains []Domain `yaml:"domains"`
	Hosts   []Spec   `yaml:"hosts"`
	// Records are further ones, as lines of a zone file.
	Records []string `yaml:"records"`
	// Updates is who may change records (RFC 2136); without it nobody may.
	Updates *Updates `yaml:"updates"`
}

// Updates are the zones that take changes, signed with a key (TSIG).
type Updates struct {
	Key    string   `yaml:"key"`    // its name
	Secret string   `yaml:"secret"` // base64
	Zones  []string `yaml:"zones"`
}

// Domain is a name in DNS.
type Domain struct {
	Name string `yaml:"name"`
	// About says what the domain is there for.
	About string   `yaml:"about"`
	MX    []string `yaml:"mx"` // "10 mx.saltmarsh.example"
	// NullMX publishes the record of RFC 7505.
	NullMX bool `yaml:"null_mx"`
	// Broken lets DNS fail for the domain.
	Broken bool     `yaml:"broken"`
	A      []string `yaml:"a"`
	// Signed lets DNS say of it and of all below it that signatures were checked (the AD bit), as
	// a resolver does that checks them.
	Signed bool `yaml:"signed"`
	// Policy is what its server says of TLS for mail to it (MTA-STS); nil is nothing.
	Policy *STSPolicy `yaml:"policy"`
}

// STSPolicy is the policy of a domain and how its server does.
type STSPolicy struct {
	Mode   string   `yaml:"mode" json:"mode"`
	MX     []string `yaml:"mx" json:"mx"`
	MaxAge int      `yaml:"max_age" json:"max_age"` // seconds; a week if not given
	// Fault: gone answers 404, certificate shows one of another name, garbage says nonsense,
	// elsewhere sends on, slow never ends.
	Fault string `yaml:"fault" json:"fault"`
}

// Spec is a mail host.
type Spec struct {
	Name      string `yaml:"name" json:"name"`
	Address   string `yaml:"address" json:"address"`
	Port      int    `yaml:"port" json:"port"` // 0 is the port of MX hosts
	About     string `yaml:"about" json:"about"`
	Scanner   bool   `yaml:"scanner" json:"scanner"` // an ICAP server, and no mail host
	DANE      string `yaml:"dane" json:"dane"`       // signed DNS names its certificate: yes, or wrong for another's
	Behaviour `yaml:",inline"`
}

// Behaviour is how a host acts. The zero value takes everything.
type Behaviour struct {
	Closed        bool     `yaml:"closed" json:"closed"`                   // nothing listens
	Silent        bool     `yaml:"silent" json:"silent"`                   // connects, says nothing
	Greeting      string   `yaml:"greeting" json:"greeting"`               // instead of 220
	Pause         Pause    `yaml:"pause" json:"pause"`                     // before each reply
	Connections   int      `yaml:"connections" json:"connections"`         // more get 421
	Rate          int      `yaml:"rate" json:"rate"`                       // messages a minute; more get 450
	Greylist      Pause    `yaml:"greylist" json:"greylist"`               // how long a sender must wait
	Mail          string   `yaml:"mail" json:"mail"`                       // reply to MAIL
	Rcpt          string   `yaml:"rcpt" json:"rcpt"`                       // reply to RCPT
	RcptInTurn    []string `yaml:"rcpt_in_turn" json:"rcpt_in_turn"`       // replies to a recipient's tries; the last repeats
	Known         []string `yaml:"known" json:"known"`                     // local parts; others get 550
	Content       string   `yaml:"content" json:"content"`                 // reply to the content
	DropContentAt int      `yaml:"drop_content_at" json:"drop_content_at"` // octets after which it hangs up
	DropAt        string   `yaml:"drop_at" json:"drop_at"`                 // hangs up at greeting, ehlo, mail, rcpt, data, or final: after it took the message
	Size          int64    `yaml:"size" json:"size"`
	Lacks         []string `yaml:"lacks" json:"lacks"`   // extensions it does not offer
	Offers        []string `yaml:"offers" json:"offers"` // further extensions that it does
	TLS           string   `yaml:"tls" json:"tls"`       // "", valid, expired, or crowded: for 10,000 names
	TLSDemanded   bool     `yaml:"tls_demanded" json:"tls_demanded"`
	KnowsBy       string   `yaml:"knows_by" json:"knows_by"` // name in the certificate that its clients must show
	Account       string   `yaml:"account" json:"account"`   // sign-in needed
	Password      string   `yaml:"password" json:"-"`
	POPPort       int      `yaml:"pop_port" json:"pop_port"`           // where its account is looked at by POP3, under TLS
	POPFirst      Pause    `yaml:"pop_first" json:"pop_first"`         // takes mail so long after that only; 0 always
	SendsBackTo   string   `yaml:"sends_back_to" json:"sends_back_to"` // passes all it takes to this address at our edge
	LMTP          bool     `yaml:"lmtp" json:"lmtp"`
	Endless       string   `yaml:"endless" json:"endless"`     // goes on for ever with its greeting or its reply to rcpt: greeting or rcpt
	LongLine      int      `yaml:"long_line" json:"long_line"` // octets of the line with which it answers RCPT
	Forgets       bool     `yaml:"forgets" json:"forgets"`     // keeps no messages, only counts
}

// Pause is a duration written like "2s".
type Pause time.Duration

// UnmarshalText reads "2s".
func (p *Pause) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	*p = Pause(d)
	return err
}

// MarshalText writes "2s".
func (p Pause) MarshalText() ([]byte, error) { return []byte(time.Duration(p).String()), nil }

// Load reads a world's file.
func Load(path string) (*World, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(text)
}

// Parse reads a world.
func Parse(text []byte) (*World, error) {
	w := &World{}
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(w); err != nil {
		return nil, fmt.Errorf("simnet: %w", err)
	}
	for _, h := range w.Hosts {
		if ip, err := netip.ParseAddr(h.Address); err != nil || !ip.IsLoopback() {
			return nil, fmt.Errorf("simnet: host %s: address %q is not a loopback address", h.Name,
				h.Address)
		}
	}
	return w, nil
}
