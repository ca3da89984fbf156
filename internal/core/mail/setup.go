package mail

import (
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
)

// Revision is a configuration that was applied.
type Revision struct {
	Number    int       `json:"number"`
	AppliedAt time.Time `json:"applied_at"`
	Who       string    `json:"who"`
	Why       string    `json:"why"`
	Forced    bool      `json:"forced" doc:"Applied although the rehearsal found it dangerous"`
	Reverts   int       `json:"reverts" doc:"The revision it went back to; 0 if none"`
	ConfirmBy OptTime   `json:"confirm_by" nullable:"true" doc:"It goes back by itself unless confirmed before"`
	Text      string    `json:"text,omitempty"`
}

// DraftChange is one change to the draft.
type DraftChange struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	Text string    `json:"text"`
}

// Draft is the changes that are not applied yet.
type Draft struct {
	Exists    bool            `json:"exists"`
	Base      int             `json:"base" doc:"The revision it was begun from"`
	InForce   int             `json:"in_force"`
	Stale     bool            `json:"stale" doc:"Another revision came into force since; rebase it"`
	Version   int64           `json:"version"`
	ChangedAt OptTime         `json:"changed_at" nullable:"true"`
	Changes   []config.Change `json:"changes" doc:"What differs from the configuration in force"`
	Log       []DraftChange   `json:"log" doc:"Who changed what, oldest first"`
	Hazards   []config.Hazard `json:"hazards"`
	YAML      string          `json:"yaml,omitempty" doc:"The difference as a unified diff"`
}

// SectionItems are the items of a section as they stand in the draft, or in
// force if there is none.
type SectionItems struct {
	Items   []config.Item `json:"items"`
	Fields  []form.Field  `json:"fields" doc:"What the fields are"`
	Ordered bool          `json:"ordered" doc:"The first that matches decides"`
	Draft   bool          `json:"draft" doc:"These are the draft's"`
}

// Question is an envelope to explain.
type Question struct {
	From     string   `json:"from" doc:"Envelope sender; empty for the null path"`
	To       []string `json:"to" minItems:"1" maxItems:"100"`
	Client   string   `json:"client,omitempty" doc:"Address of the client" default:"127.0.0.1"`
	Listener string   `json:"listener,omitempty" doc:"Name of a listener; the first if empty"`
	Account  string   `json:"account,omitempty" doc:"Who signed in; nobody if empty"`
	Size     int64    `json:"size,omitempty" doc:"Octets"`
	Draft    bool     `json:"draft,omitempty" doc:"Ask the draft, not the configuration in force"`
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
	Ways      []Way   `json:"ways"`
}

// Way is one delivery that a recipient would lead to.
type Way struct {
	Recipient string    `json:"recipient"`
	Via       []string  `json:"via"`
	Route     string    `json:"route"`
	NextHop   string    `json:"next_hop"`
	Lane      string    `json:"lane"`
	Stranded  bool      `json:"stranded"`
	Why       string    `json:"why"`
	Earlier   []Check   `json:"earlier" doc:"Routes before it, and why they did not match"`
	TLS       string    `json:"tls" doc:"Terms towards the next hop"`
	Peer      string    `json:"peer,omitempty" doc:"The agreement that counts"`
	Hosts     []HopHost `json:"hosts" doc:"Where it would connect, in order, as DNS says now"`
	Trouble   string    `json:"trouble,omitempty" doc:"Why no host was found"`
}

// HopHost is one host of a next hop.
type HopHost struct {
	Name       string   `json:"name"`
	Preference int      `json:"preference"`
	Port       int      `json:"port"`
	Addresses  []string `json:"addresses"`
	Trouble    string   `json:"trouble,omitempty"`
}

// MailboxLine is a mailbox as it is listed.
type MailboxLine struct {
	Address     string   `json:"address"`
	Name        string   `json:"name"`
	Addresses   []string `json:"addresses"`
	Generated   []string `json:"generated" doc:"Made from the name by the domain's patterns"`
	Quota       int64    `json:"quota" doc:"Octets; 0 is no limit"`
	ForwardTo   []string `json:"forward_to"`
	KeepCopy    bool     `json:"keep_copy"`
	MaySubmit   bool     `json:"may_submit"`
	SendAs      []string `json:"send_as"`
	Replies     bool     `json:"replies" doc:"It has an automatic reply"`
	HasPassword bool     `json:"has_password"`
	Messages    int64    `json:"messages"`
	Octets      int64    `json:"octets"`
}

// Record is one change by a person, beyond the configuration's revisions.
type Record struct {
	ID     int64          `json:"id"`
	At     time.Time      `json:"at"`
	Who    string         `json:"who"`
	What   string         `json:"what"`
	Name   string         `json:"name"`
	Before map[string]any `json:"before" nullable:"true"`
	After  map[string]any `json:"after" nullable:"true"`
}

// SecretLine is a secret as it is listed, never its value.
type SecretLine struct {
	Name      string    `json:"name"`
	Who       string    `json:"who"`
	ChangedAt time.Time `json:"changed_at"`
}

// Applied is what an apply or a revert did.
type Applied struct {
	Revision int   `json:"revision"`
	Rerouted int64 `json:"rerouted" doc:"Waiting deliveries that were without a route and have one now"`
	// Directory says what a revert did with what later revisions had brought.
	Directory []string `json:"directory" doc:"What became of mailboxes and aliases, in sentences"`
	Trouble   []string `json:"trouble" doc:"What did not work on this node, such as an address that is in use"`
}

// Imported is what an import did, or would do.
type Imported struct {
	Rows      int            `json:"rows"`
	New       int            `json:"new"`
	Changed   int            `json:"changed"`
	Unchanged int            `json:"unchanged"`
	Problems  []form.Problem `json:"problems" doc:"Row by row; with any, nothing was changed"`
	Written   bool           `json:"written"`
}
