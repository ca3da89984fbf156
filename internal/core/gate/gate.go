// Package gate decides about a message by what it is: ordered gates, each with conditions
// and effects. It is computation only: what is known of the message is brought to it.
package gate

import (
	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// The states of a gate.
const (
	On    = "on"
	Off   = "off"
	Watch = "watch"
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
	Line              int
	Name              string            `yaml:"name" required:"true"`
	State             string            `yaml:"state" enum:"on,off,watch" default:"on" doc:"watch: it decides nothing, and counts what it would have done"`
	About             string            `yaml:"about" doc:"What it is for"`
	All               Conditions        `yaml:"all" doc:"All of these hold. Of several values of one, one is enough"`
	Any               Conditions        `yaml:"any" doc:"At least one of these holds"`
	None              Conditions        `yaml:"none" doc:"None of these holds"`
	Action            string            `yaml:"action" enum:"go_on,refuse,hold,discard" default:"go_on" doc:"refuse: with say and code. hold: kept among the held messages. discard: thrown away, and nobody is told"`
	Say               string            `yaml:"say" doc:"The sentence of a refusal, in your own words"`
	Code              string            `yaml:"code" doc:"Enhanced code of a refusal: 5.7.1 if not given; 4.7.1 asks to try again later"`
	RedirectTo        []address.Address `yaml:"redirect_to" doc:"Goes there in place of the recipient"`
	CopyTo            []address.Address `yaml:"copy_to" doc:"Get it too; nobody else sees that"`
	Route             string            `yaml:"route" doc:"Goes by this route, where it does not stay here"`
	DelayUntil        []string          `yaml:"delay_until" whole:"yes" doc:"Waits for these hours: list:NAME, or like sat,sun or 20:00-06:00 (UTC)"`
	RemoveAttachments []string          `yaml:"remove_attachments" doc:"Files of these kinds are taken out; a note with name, size and hash stands in their place. programs, office-macros, archives, pictures, image/*, *.iso, list:NAME, or * for all"`
	MakeHarmless      string            `yaml:"make_harmless" enum:"text,clean" doc:"HTML: made plain text, or cleaned of scripts, forms, hidden text and everything remote"`
	AddText           string            `yaml:"add_text" doc:"Stands at the end of what people read; never in signed or encrypted parts"`
	MarkSubject       string            `yaml:"mark_subject" doc:"Stands before the subject, like [outside]"`
	SetFields         []string          `yaml:"set_fields" whole:"yes" doc:"Header fields that are written, like X-Skerry-Mark: outside. Those that a stranger wrote are taken out"`
	Severity          string            `yaml:"severity" enum:"none,minor,serious,critical" default:"none" doc:"Shows in the trace"`
	Stop              bool              `yaml:"stop" doc:"Gates behind this one are not asked"`
}

// Conditions are what a gate asks of a message. Each may have several values.
type Conditions struct {
	Direction        []string         `yaml:"direction" each:"in,out,between" doc:"in: from the world to us. out: to others' domains. between: from ours to ours"`
	Listeners        []string         `yaml:"listeners"`
	Clients          []string         `yaml:"clients" doc:"Networks, or list:NAME"`
	Accounts         address.Patterns `yaml:"accounts" doc:"Who signed in; * is anybody who did"`
	Senders          address.Patterns `yaml:"senders" doc:"Of the envelope; list:NAME for a list"`
	Recipients       address.Patterns `yaml:"recipients" doc:"As given, or where it ends; list:NAME for a list"`
	From             address.Patterns `yaml:"from" doc:"Addresses in the field From"`
	Header           []string         `yaml:"header" whole:"yes" doc:"Field: words, like X-Origin: kiosk; Field: * where it is there at all"`
	Subject          []string         `yaml:"subject" whole:"yes" doc:"Words: a phrase, *part*, /expression/ or list:NAME"`
	Words            []string         `yaml:"words" whole:"yes" doc:"The same in the text that people read, its first 256 KB"`
	SizeOver         form.Size        `yaml:"size_over"`
	SizeUpTo         form.Size        `yaml:"size_up_to"`
	RecipientsOver   int              `yaml:"recipients_over" min:"1" max:"100000"`
	Attachments      []string         `yaml:"attachments" doc:"Kinds of files, by content, in archives too: programs, office-macros, archives, pictures, application/pdf, image/*, *.iso, list:NAME, or * for any"`
	TwoEndings       bool             `yaml:"two_endings" doc:"A file whose name deceives, like invoice.pdf.exe"`
	EncryptedArchive bool             `yaml:"encrypted_archive"`
	ArchiveBomb      bool             `yaml:"archive_bomb" doc:"An archive that unpacks to more than a hundred times its size"`
	Unreadable       bool             `yaml:"unreadable" doc:"It cannot be taken apart without doubt: broken, ambiguous, or beyond the bounds"`
	Proof            []string         `yaml:"proof" each:"proved,unproved,forged,spf_fail,spf_softfail,spf_none,dkim_fail,dkim_none,dmarc_fail,dmarc_none" doc:"Whether the sender is who it says. proved: by SPF or DMARC. forged: they say it is not. Of mail from outside"`
	Verdict          []string         `yaml:"verdict" each:"clean,infected,unwanted,none,too_large" doc:"Of a scanner. unwanted: against its policy, spam among it. none: no scanner answered"`
	Hours            []string         `yaml:"hours" whole:"yes" doc:"When it comes: list:NAME, or like mon-fri 08:00-17:00 (UTC)"`
	FirstContact     bool             `yaml:"first_contact" doc:"Sender and recipient have not exchanged mail before, as far as history goes"`
}

// Effects are all that gates do, in the order in which they are done.
var Effects = []string{"refuse", "discard", "hold", "redirect_to", "copy_to", "route", "delay_until",
	"remove_attachments", "make_harmless", "add_text", "mark_subject", "set_fields"}
