package mail

import (
	"time"
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

// MailboxLine is a mailbox as it is listed.
type MailboxLine struct {
	Address      string    `json:"address"`
	Name         string    `json:"name"`
	Addresses    []string  `json:"addresses"`
	Generated    []string  `json:"generated" doc:"Made from the name by the domain's patterns"`
	Quota        int64     `json:"quota" doc:"Octets; 0 is no limit"`
	ForwardTo    []string  `json:"forward_to"`
	KeepCopy     bool      `json:"keep_copy"`
	MaySubmit    bool      `json:"may_submit"`
	SendAs       []string  `json:"send_as"`
	Replies      bool      `json:"replies" doc:"It has an automatic reply"`
	HasPassword  bool      `json:"has_password"`
	ReadBy       string    `json:"read_by" enum:"all,imap,pop3,none" doc:"By which protocols its owner reads it"`
	MostMessages int64     `json:"most_messages" doc:"How many it holds at most; 0 is no limit"`
	Shared       int       `json:"shared" doc:"With how many it is shared, by entries"`
	Messages     int64     `json:"messages"`
	Octets       int64     `json:"octets"`
	LastUse      []LastUse `json:"last_use" doc:"When its owner last signed in, by protocol, the latest first"`
}

// GoneMailbox is one that was taken out, while its mail is kept.
type GoneMailbox struct {
	Address   string    `json:"address"`
	RemovedAt time.Time `json:"removed_at"`
	By        string    `json:"by,omitempty" doc:"Who took it out"`
	Messages  int64     `json:"messages"`
	Octets    int64     `json:"octets"`
	EndsAt    time.Time `json:"ends_at" doc:"Until then it can be given back; then its mail is gone"`
	Taken     bool      `json:"taken,omitempty" doc:"The address is somebody's again: it can be given back under another"`
	Aside     string    `json:"-"` // under which its mail is set aside
}

// LastUse is when a mailbox was last used by a protocol.
type LastUse struct {
	Protocol string    `json:"protocol" enum:"submission,imap,pop3"`
	At       time.Time `json:"at"`
	Client   string    `json:"client" doc:"IP address"`
}

// AppPassword is a password for one program, as it is listed: never the password.
type AppPassword struct {
	Name      string    `json:"name"`
	Who       string    `json:"who" doc:"Who made it"`
	CreatedAt time.Time `json:"created_at"`
	UsedAt    OptTime   `json:"used_at" nullable:"true"`
	UsedBy    string    `json:"used_by" doc:"The protocol"`
	Client    string    `json:"client" doc:"IP address"`
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

// HopHost is one host of a next hop.
type HopHost struct {
	Name       string   `json:"name"`
	Preference int      `json:"preference"`
	Port       int      `json:"port"`
	Addresses  []string `json:"addresses"`
	TLS        string   `json:"tls,omitempty" doc:"By which terms of TLS it gets mail, in words, and who says so"`
	Trouble    string   `json:"trouble,omitempty"`
}
