package api

import (
	"gullroute/internal/core/gate"
	"gullroute/internal/core/mail"
)

// Question is an envelope to explain.
type Question struct {
	From     string   `json:"from" doc:"Envelope sender; empty for the null path"`
	To       []string `json:"to" minItems:"1" maxItems:"100"`
	Client   string   `json:"client,omitempty" doc:"Address of the client" default:"127.0.0.1"`
	Listener string   `json:"listener,omitempty" doc:"Name of a listener; the first if empty"`
	Account  string   `json:"account,omitempty" doc:"Who signed in; nobody if empty"`
	Size     int64    `json:"size,omitempty" doc:"Octets"`
	Draft    bool     `json:"draft,omitempty" doc:"Ask the draft, not the configuration in force"`
	Content  []byte   `json:"content,omitempty" doc:"The message itself, in base64: what gates would do about it"`
}

// Check is one of the checks of an envelope, in order.
type Check struct {
	What   string `json:"what" doc:"Like relay rule ticket machines"`
	Result string `json:"result" enum:"passed,refused,no_match,decided"`
	Text   string `json:"text"`
}

// Answer is what would be decided for one recipient.
type Answer struct {
	Recipient string  `json:"recipient"`
	Allowed   bool    `json:"allowed"`
	Rule      string  `json:"rule"`
	RuleLine  int     `json:"rule_line" doc:"Line of the rule in the configuration; 0 for a built-in one"`
	Revision  int     `json:"revision"`
	Why       string  `json:"why"`
	Reply     string  `json:"reply" doc:"What the client would be told"`
	Checks    []Check `json:"checks" doc:"Each check in order, up to the one that decided"`
	Limits    string  `json:"limits,omitempty" doc:"What is left of the rule's limits"`
	Paths     []Path  `json:"paths"`
	// Gates are what each says; their effects follow from those that are met.
	Gates    []gate.Asked `json:"gates" doc:"What each gate says, in order"`
	Severity string       `json:"severity" enum:"none,minor,serious,critical" doc:"The worst of the gates that are met and do not only watch"`
	Fate     string       `json:"fate" enum:"taken,refused,held,discarded,delayed" doc:"What becomes of it"`
}

// Path is one delivery that a recipient would lead to.
type Path struct {
	Recipient string         `json:"recipient"`
	Via       []string       `json:"via"`
	PassedOn  string         `json:"passed_on,omitempty" doc:"How a forward goes on: return path and seal"`
	Route     string         `json:"route"`
	NextHop   string         `json:"next_hop"`
	Lane      string         `json:"lane"`
	Stranded  bool           `json:"stranded"`
	Why       string         `json:"why"`
	Earlier   []Check        `json:"earlier" doc:"Routes before it, and why they did not match"`
	TLS       string         `json:"tls" doc:"Terms towards the next hop"`
	Peer      string         `json:"peer,omitempty" doc:"The agreement that counts"`
	Written   string         `json:"written,omitempty" doc:"In what form the peer gets the message"`
	Hosts     []mail.HopHost `json:"hosts" doc:"Where it would connect, in order, as DNS says now"`
	Trouble   string         `json:"trouble,omitempty" doc:"Why no host was found"`
}
