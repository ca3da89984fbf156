// Package gate decides about a message by what it is: ordered gates, each with conditions
// and effects. It is computation only: what is known of the message is brought to it.
package gate

import (
	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// What a gate does with a message that meets it.
const (
	GoOn    = "go_on"
	Refuse  = "refuse"
	Hold    = "hold"
	Discard = "discard"
)

// Gate is a rule on a whole message.
type Gate struct {
	Line     int
	Name     string `yaml:"name" required:"true"`
	Off      bool   `yaml:"off" doc:"Not asked for now"`
	Watch    bool   `yaml:"watch" doc:"It decides nothing, and counts what it would have done"`
	About    string `yaml:"about" doc:"What it is for"`
	When     When   `yaml:"when" doc:"All of these hold. Of several values of one, one is enough"`
	Then     Then   `yaml:"then" doc:"What is done, in this order"`
	Severity string `yaml:"severity" enum:"none,minor,serious,critical" default:"none" doc:"Shows in the trace"`
	Stop     bool   `yaml:"stop" doc:"Gates behind this one are not asked"`
}

// When are the conditions of a gate, and groups of further ones.
type When struct {
	Conditions
	Any  Conditions `yaml:"any" doc:"At least one of these holds"`
	All  Conditions `yaml:"all" doc:"These hold as well, such as a second list of recipients"`
	None Conditions `yaml:"none" doc:"None of these holds"`
}

// Then are the effects of a gate.
type Then struct {
	Refuse            string            `yaml:"refuse" doc:"It is not taken; this is the sentence that the sender reads"`
	Code              string            `yaml:"code" doc:"Enhanced code of the refusal: 5.7.1 if not given; 4.7.1 asks to try again later"`
	Discard           bool              `yaml:"discard" doc:"Thrown away, and nobody is told; only with severity critical"`
	Hold              bool              `yaml:"hold" doc:"Kept among the held messages until somebody has looked"`
	RedirectTo        []address.Address `yaml:"redirect_to" doc:"Goes there in place of the recipient"`
	CopyTo            []address.Address `yaml:"copy_to" doc:"Get it too; nobody else sees that"`
	Route             string            `yaml:"route" doc:"Goes by this route, where it does not stay here"`
	Delay             []string          `yaml:"delay" whole:"yes" doc:"Waits so long, like 30m, or for these hours: list:NAME, or like sat,sun or 20:00-06:00 (UTC)"`
	RemoveAttachments []string          `yaml:"remove_attachments" doc:"Files of these kinds are taken out; a note with name, size and hash stands in their place. programs, office-macros, archives, pictures, image/*, *.iso, list:NAME, or * for all"`
	Clean             string            `yaml:"clean" enum:"text,html" doc:"HTML made harmless. text: made plain text. html: cleaned of scripts, forms, hidden text and everything remote"`
	AddText           string            `yaml:"add_text" doc:"Stands at the end of what people read; never in signed or encrypted parts"`
	Mark              Mark              `yaml:"mark" doc:"Says for all behind us that it was met"`
}

// Mark is what a gate writes for all behind us to see.
type Mark struct {
	Subject string   `yaml:"subject" doc:"Stands before the subject, like [outside]"`
	Header  []string `yaml:"header" whole:"yes" doc:"Header fields, like X-Skerry-Mark: outside. Those that a stranger wrote are taken out"`
}

// Action is what becomes of a message that meets the gate: refused, held, discarded, or it
// goes on.
func (g *Gate) Action() string {
	switch {
	case g.Then.Refuse != "":
		return Refuse
	case g.Then.Discard:
		return Discard
	case g.Then.Hold:
		return Hold
	}
	return GoOn
}

// Decides reports a gate that is neither off nor only watches.
func (g *Gate) Decides() bool { return !g.Off && !g.Watch }

// group is conditions, and where they stand.
type group struct {
	at string
	c  *Conditions
}

func (g *Gate) groups() []group {
	w := &g.When
	return []group{{"when", &w.Conditions}, {"when.any", &w.Any}, {"when.all", &w.All},
		{"when.none", &w.None}}
}

// Conditions are what a gate asks of a message. Each may have several values.
type Conditions struct {
	Direction        []string         `yaml:"direction" each:"in,out,between" doc:"in: from the world to us. out: to others' domains. between: from ours to ours"`
	Listeners        []string         `yaml:"listeners"`
	Networks         []string         `yaml:"networks" doc:"Of the client; list:NAME for a list"`
	Accounts         address.Patterns `yaml:"accounts" doc:"Who signed in; * is anybody who did"`
	Senders          address.Patterns `yaml:"senders" doc:"Of the envelope; list:NAME for a list"`
	Recipients       address.Patterns `yaml:"recipients" doc:"As given, or where it ends; list:NAME for a list"`
	From             address.Patterns `yaml:"from" doc:"Addresses in the field From"`
	Header           []string         `yaml:"header" whole:"yes" doc:"Field: words, like X-Origin: kiosk; Field: * where it is there at all"`
	Subject          []string         `yaml:"subject" whole:"yes" doc:"Words: a phrase, *part*, /expression/ or list:NAME"`
	Body             []string         `yaml:"body" whole:"yes" doc:"The same in the text that people read, its first 256 KB"`
	SizeOver         form.Size        `yaml:"size_over"`
	SizeUpTo         form.Size        `yaml:"size_up_to"`
	RecipientsOver   int              `yaml:"recipients_over" min:"1" max:"100000"`
	Attachment       []string         `yaml:"attachment" doc:"Kinds of files, by content, in archives too: programs, office-macros, archives, pictures, application/pdf, image/*, *.iso, the name of a list, or * for any"`
	TwoEndings       bool             `yaml:"two_endings" doc:"A file whose name deceives, like invoice.pdf.exe"`
	EncryptedArchive bool             `yaml:"encrypted_archive"`
	ArchiveBomb      bool             `yaml:"archive_bomb" doc:"An archive that unpacks to more than a hundred times its size"`
	Unreadable       bool             `yaml:"unreadable" doc:"It cannot be taken apart without doubt: broken, ambiguous, or beyond the bounds"`
	Identity         []string         `yaml:"identity" each:"proved,unproved,forged,spf_fail,spf_softfail,spf_none,dkim_fail,dkim_none,dmarc_fail,dmarc_none" doc:"Whether the sender is who it says. proved: by SPF or DMARC. forged: they say it is not. Of mail from outside"`
	ScoreOver        int              `yaml:"score_over" min:"1" max:"1000" doc:"The score of reputation is higher. Of mail from outside"`
	Scanner          []string         `yaml:"scanner" each:"clean,infected,unwanted,none,too_large" doc:"What a scanner says. unwanted: against its policy, spam among it. none: no scanner answered"`
	Hours            []string         `yaml:"hours" whole:"yes" doc:"When it comes: list:NAME, or like mon-fri 08:00-17:00 (UTC)"`
	FirstContact     bool             `yaml:"first_contact" doc:"Sender and recipient have not exchanged mail before, as far as history goes"`
}

// Effects are all that gates do, in the order in which they are done.
var Effects = []string{"refuse", "discard", "hold", "redirect_to", "copy_to", "route", "delay",
	"remove_attachments", "clean", "add_text", "mark"}
