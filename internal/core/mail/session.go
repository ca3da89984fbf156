package mail

import (
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
)

// Session is one connection, in or out.
type Session struct {
	ID             ident.ID   `json:"id"`
	Node           string     `json:"node"`
	Direction      string     `json:"direction" enum:"in,out"`
	Protocol       string     `json:"protocol" enum:"SMTP,LMTP,IMAP,POP3"`
	Listener       string     `json:"listener,omitempty" doc:"Of a session in"`
	Route          string     `json:"route,omitempty" doc:"Of a session out"`
	Address        string     `json:"address" doc:"IP address of the other side"`
	Port           int        `json:"port"`
	Name           string     `json:"name" doc:"What the client called itself, or the host we went to"`
	Account        string     `json:"account"`
	TLS            string     `json:"tls" doc:"Version, cipher and what the certificate was worth; empty without TLS"`
	StartedAt      time.Time  `json:"started_at"`
	EndedAt        OptTime    `json:"ended_at" nullable:"true" doc:"Null while it is open"`
	Seconds        float64    `json:"seconds"`
	MessageCount   int        `json:"message_count" doc:"Accepted or delivered"`
	Recipients     int        `json:"recipients"`
	Refused        int        `json:"refused" doc:"Recipients, messages and sign-ins that were refused"`
	BytesIn        int64      `json:"bytes_in"`
	BytesOut       int64      `json:"bytes_out"`
	Outcome        string     `json:"outcome" enum:"passed,partly,refused,idle,broken,open"`
	Ended          string     `json:"ended" doc:"Why it ended, in words"`
	Messages       []ident.ID `json:"messages" doc:"Its messages, at most the first 200"`
	TranscriptKept bool       `json:"transcript_kept" doc:"Whether the transcript was kept"`
}

// Outcomes of sessions.
const (
	Passed  = "passed" // all that was asked
	Partly  = "partly" // messages passed, and something was refused
	Refused = "refused"
	Idle    = "idle" // nothing was asked
	Broken  = "broken"
	Open    = "open"
)

// MaxSessionMessages is how many of its messages a session names.
const MaxSessionMessages = 200

// Conclude fills in what the counts of a session come to.
func (s *Session) Conclude(end time.Time, broken bool) {
	s.EndedAt, s.Seconds = At(end), end.Sub(s.StartedAt).Seconds()
	switch {
	case s.Outcome != "":
	case broken && s.MessageCount == 0:
		s.Outcome = Broken
	case s.MessageCount > 0 && s.Refused > 0:
		s.Outcome = Partly
	case s.MessageCount > 0:
		s.Outcome = Passed
	case s.Refused > 0:
		s.Outcome = Refused
	default:
		s.Outcome = Idle
	}
}

// Trouble reports a session in which not all went well.
func (s *Session) Trouble() bool { return s.Outcome != Passed && s.Outcome != Idle }

// AddMessage names one more message.
func (s *Session) AddMessage(id ident.ID) {
	if n := len(s.Messages); n < MaxSessionMessages && (n == 0 || s.Messages[n-1] != id) {
		s.Messages = append(s.Messages, id)
	}
}

// SessionRecord is a session with its transcript.
type SessionRecord struct {
	Session
	Transcript []byte // of transcript.Log; nil if it is not kept
}

// Refusal is what was refused before it had a message of its own: one for each
// recipient, or one for what never got that far.
type Refusal struct {
	// Probe says that we ourselves asked: it counts for nothing.
	Probe         bool           `json:"-"`
	ID            ident.ID       `json:"id"`
	At            time.Time      `json:"at"`
	SessionID     ident.ID       `json:"session_id"`
	Node          string         `json:"node"`
	Listener      string         `json:"listener"`
	ClientAddress string         `json:"client_address"`
	Helo          string         `json:"helo"`
	Account       string         `json:"account"`
	Sender        string         `json:"sender"`
	Recipient     string         `json:"recipient"`
	Stage         diagnose.Stage `json:"stage"`
	Code          int            `json:"code"`
	Enhanced      string         `json:"enhanced"`
	Text          string         `json:"text"`
	Cause         diagnose.Cause `json:"cause"`
	Rule          string         `json:"rule" doc:"The relay rule that decided, if one did"`
	Revision      int            `json:"revision"`
	Size          int64          `json:"size"`
	Subject       string         `json:"subject"`
	HeaderFrom    string         `json:"header_from"`
	MessageID     string         `json:"message_id_header"`
	Gate          string         `json:"gate,omitempty" doc:"The gate that refused it, if one did"`
	Severity      Severity       `json:"severity,omitempty" enum:"none,minor,serious,critical" doc:"Of that gate"`
}

// Reply is what the client was told.
func (r *Refusal) Reply() string {
	return LastReply{Code: r.Code, Enhanced: r.Enhanced, Text: r.Text}.String()
}

// Found is what a search finds: a message, or what was refused before it became
// one.
type Found struct {
	Message
	Refused *Refusal `json:"refused,omitempty" doc:"It was refused; then there are no deliveries"`
}

// FoundRefusal makes a refusal look like the message it did not become.
func FoundRefusal(r Refusal) Found {
	m := Message{
		ID:            r.ID,
		ReceivedAt:    r.At,
		Sender:        r.Sender,
		HeaderFrom:    r.HeaderFrom,
		Subject:       r.Subject,
		MessageID:     r.MessageID,
		Size:          r.Size,
		Listener:      r.Listener,
		ClientAddress: r.ClientAddress,
		Helo:          r.Helo,
		Account:       r.Account,
		SessionID:     r.SessionID,
		Revision:      r.Revision,
		Severity:      r.Severity,
		Deliveries:    []Delivery{},
	}
	if r.Gate != "" {
		m.Gates = []string{r.Gate}
	}
	return Found{Message: m, Refused: &r}
}

// Watch lets sessions of a client or domain be recorded in full for a while.
type Watch struct {
	Kind  string    `json:"kind" enum:"client,domain"`
	What  string    `json:"what" doc:"An IP address, a network, or a domain"`
	Who   string    `json:"who" readOnly:"true"`
	Until time.Time `json:"until"`
}
