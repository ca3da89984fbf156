package mail

import (
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/smtp"
)

// QueueItem is a delivery in the queue with what one wants to know of its
// message.
type QueueItem struct {
	Delivery   Delivery  `json:"delivery"`
	Sender     string    `json:"sender"`
	Subject    string    `json:"subject"`
	Size       int64     `json:"size"`
	ReceivedAt time.Time `json:"received_at"`
}

// MailboxItem is a message in a mailbox as it is listed.
type MailboxItem struct {
	ID         ident.ID  `json:"id"`
	Sender     string    `json:"sender"`
	Subject    string    `json:"subject"`
	ReceivedAt time.Time `json:"received_at"`
	Size       int64     `json:"size"`
}

// Count is how often something happened in an hour.
type Count struct {
	Hour  time.Time `json:"hour"`
	Kind  string    `json:"kind" doc:"received, delivered, deferred, bounced, expired or rejected"`
	N     int64     `json:"n"`
	Bytes int64     `json:"bytes"`
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

// Listener is an open listener.
type Listener struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Address  string `json:"address"`
	Sessions int    `json:"sessions"`
}

// Status is how a node does.
type Status struct {
	Node      string     `json:"node"`
	Version   string     `json:"version"`
	HostName  string     `json:"host_name"`
	StartedAt time.Time  `json:"started_at"`
	Revision  int        `json:"revision"`
	Listeners []Listener `json:"listeners"`
	Waiting   int64      `json:"waiting"`
	Deferred  int64      `json:"deferred"`
	Held      int64      `json:"held"`
	Sending   int64      `json:"sending"`
	Lanes     int        `json:"lanes"`
	Resting   int        `json:"resting"`
	Stranded  int        `json:"stranded"`
	Paused    int        `json:"paused" doc:"Lanes that a person has stopped"`
	Stopped   string     `json:"stopped" doc:"Why no mail leaves at all and what to do, in a sentence; empty if it does"`
	OldestAt  OptTime    `json:"oldest_at" nullable:"true"`
	// Today are the counts of the last 24 hours by kind.
	Today map[string]int64 `json:"today" doc:"Counts of the last 24 hours by kind"`
	// Trouble are the lanes in trouble: the stranded ones first, then
	// the resting ones, each with most mail first.
	Trouble []Lane          `json:"trouble"`
	Snags   map[string]int  `json:"snags" doc:"Open troubles by severity"`
	Hazards []config.Hazard `json:"hazards" doc:"What is dangerous in the configuration in force"`
	// ConfirmBy is set while a revision would go back by itself.
	ConfirmBy OptTime `json:"confirm_by" nullable:"true" doc:"The revision in force goes back by itself unless confirmed before"`
	Mailboxes int     `json:"mailboxes"`
	Domains   int     `json:"domains"`
	Routes    int     `json:"routes"`
	Hours     []Count `json:"hours" doc:"Counts by hour, of the last 24"`
}

// Cause is what a cause of failure means.
type Cause struct {
	Cause        string `json:"cause"`
	Family       string `json:"family"`
	Title        string `json:"title"`
	Means        string `json:"means" doc:"In a sentence or two"`
	Fix          string `json:"fix"`
	WhoCanFix    string `json:"who_can_fix" enum:"us,recipient,remote-administrator,provider,block-list,nobody"`
	WaitingHelps bool   `json:"waiting_helps"`
	Usually      string `json:"usually,omitempty" doc:"How long it lasts as a rule, where waiting helps"`
	// Of the very answer, where there is one.
	Sure          string   `json:"sure,omitempty" enum:"certain,likely,not-known"`
	Evidence      []string `json:"evidence,omitempty" doc:"The words and codes that decided"`
	Contradiction string   `json:"contradiction,omitempty" doc:"What in the answer does not fit together"`
}

// Explain says what a cause means; last is the answer that gave it, if one did.
func Explain(c diagnose.Cause, last *LastReply) Cause {
	m := diagnose.Explain(c)
	out := Cause{
		Cause:        string(c),
		Family:       string(m.Family),
		Title:        m.Title,
		Means:        m.Means,
		Fix:          m.Fix,
		WhoCanFix:    m.WhoCanFix,
		WaitingHelps: m.WaitingHelps,
		Usually:      m.Usually,
	}
	if last == nil || last.Code == 0 {
		return out
	}
	if v := diagnose.Judge(
		last.Stage,
		smtp.Reply{Code: last.Code, Enhanced: last.Enhanced, Lines: []string{last.Text}},
	); v.Cause == c {
		out.Sure, out.Evidence, out.Contradiction = string(v.Sure), v.Evidence, v.Contradiction
	}
	return out
}

// Trace is a message's whole way.
type Trace struct {
	Message Message    `json:"message"`
	Events  []Event    `json:"events"`
	Notices []ident.ID `json:"notices" doc:"Messages that it generated: notices, automatic replies, notices of others about it"`
	Causes  []Cause    `json:"causes" doc:"What the causes among its deliveries mean"`
	// Session is how it came in.
	Session   *Session  `json:"session,omitempty" doc:"How it came in; null if that is no longer on record, or is not yet"`
	Sessions  []Session `json:"sessions" doc:"Those in which its deliveries were tried"`
	Generated []Message `json:"generated" doc:"The messages of notices, with their own deliveries"`
	About     *Message  `json:"about,omitempty" doc:"The message that it is about or answers"`
	Boxes     []BoxUse  `json:"mailboxes" doc:"How full the mailboxes are that it went to"`
	// Words to hand on.
	ForUser   string `json:"for_user" doc:"What became of it in three sentences, for whoever asks"`
	ForRemote string `json:"for_remote" doc:"Times in UTC, addresses, ids and answers, for the administrator of the other side"`
}

// BoxUse is how full a mailbox is.
type BoxUse struct {
	Address  string `json:"address"`
	Messages int64  `json:"messages"`
	Used     int64  `json:"used"`
	Quota    int64  `json:"quota" doc:"0 if there is none"`
}
