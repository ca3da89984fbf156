package api

import (
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// ContentPart is a part of a message's content (RFC 2045).
type ContentPart struct {
	Path        string `json:"path" doc:"1.2 is the second part of the first"`
	Type        string `json:"type"`
	Charset     string `json:"charset,omitempty"`
	Encoding    string `json:"encoding,omitempty"`
	Name        string `json:"name,omitempty" doc:"File name"`
	Disposition string `json:"disposition,omitempty"`
	Size        int64  `json:"size" doc:"Octets as they are in the message"`
}

// HeaderField is a field of a header.
type HeaderField struct {
	Name  string `json:"name"`
	Value string `json:"value" doc:"Decoded"`
}

// Message is the content of a message, made safe to look at.
type ContentView struct {
	ID        ident.ID      `json:"id"`
	Fields    []HeaderField `json:"fields"`
	Header    string        `json:"header" doc:"As received"`
	Parts     []ContentPart `json:"parts"`
	Text      string        `json:"text" doc:"What people read, as plain text: of HTML only its words"`
	TextType  string        `json:"text_type" doc:"What it was made of"`
	Truncated bool          `json:"truncated" doc:"There is more than is shown"`
}

// Trace is a message's whole way.
type Trace struct {
	Message mail.Message `json:"message"`
	Events  []mail.Event `json:"events"`
	Notices []ident.ID   `json:"notices" doc:"Messages that it generated: notices, automatic replies, notices of others about it"`
	Causes  []mail.Cause `json:"causes" doc:"What the causes among its deliveries mean"`
	// Session is how it came in.
	Session   *mail.Session  `json:"session,omitempty" doc:"How it was received; null if that is no longer on record, or is not yet"`
	Sessions  []mail.Session `json:"sessions" doc:"Those in which its deliveries were tried"`
	Generated []mail.Message `json:"generated" doc:"The messages of notices, with their own deliveries"`
	About     *mail.Message  `json:"about,omitempty" doc:"The message that it is about or answers"`
	Boxes     []mail.BoxUse  `json:"mailboxes" doc:"How full the mailboxes are that it went to"`
	// Words to hand on.
	ForUser   string `json:"for_user" doc:"What became of it in three sentences, for whoever asks"`
	ForRemote string `json:"for_remote" doc:"Times in UTC, addresses, ids and replies, for the remote administrator"`
}

// TestMessage is a message to submit at one of our own listeners, as a client
// would.
type TestMessage struct {
	From     string   `json:"from"`
	To       []string `json:"to" minItems:"1" maxItems:"100"`
	Subject  string   `json:"subject,omitempty" maxLength:"200"`
	Text     string   `json:"text,omitempty" maxLength:"100000"`
	Listener string   `json:"listener,omitempty"`
	Client   string   `json:"client,omitempty" doc:"Address of this machine to send from, such as 127.20.1.5"`
}

// Step is one line of a conversation.
type Step struct {
	Said     string  `json:"said" doc:"What we said; empty for the greeting"`
	Heard    string  `json:"heard"`
	Seconds  float64 `json:"seconds"`
	Positive bool    `json:"positive"`
}

// Submitted is how submitting went.
type Submitted struct {
	ID       string `json:"id" doc:"The message's id; empty if it was refused"`
	Listener string `json:"listener"`
	Address  string `json:"address"`
	Steps    []Step `json:"steps"`
}

// FoundPage is one page of what a search found.
type FoundPage struct {
	Items      []mail.Found `json:"items"`
	Next       string       `json:"next" doc:"Give this as after to go on; empty at the end"`
	Understood []string     `json:"understood" doc:"How the question was understood, condition by condition"`
	Back       mail.OptTime `json:"searched_back_to" nullable:"true" doc:"Set when time ran out before the page was full, to as far as was searched: go on with next"`
	AsOf       mail.OptTime `json:"as_of" nullable:"true" doc:"Set when it was read from a standby: what was written until then is in it"`
}

// RefusalView is a refusal as it is shown.
type RefusalView struct {
	Refusal mail.Refusal  `json:"refusal"`
	Meaning mail.Cause    `json:"meaning"`
	Session *mail.Session `json:"session,omitempty"`
	ForUser string        `json:"for_user"`
}
