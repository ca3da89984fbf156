// Package mail holds the records that the engine makes, the store keeps and the
// interfaces show: messages, deliveries, lanes and what happened to them.
package mail

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/senderauth"
)

// State is where a delivery stands.
type State string

// The states; the last four are final.
const (
	Waiting   State = "waiting"
	Sending   State = "sending"
	Deferred  State = "deferred"
	Held      State = "held"
	Delivered State = "delivered"
	Bounced   State = "bounced"
	Expired   State = "expired"
	Discarded State = "discarded"
)

// States are all of them.
var States = []State{Waiting, Sending, Deferred, Held, Delivered, Bounced, Expired, Discarded}

// Final reports whether nothing more happens to the delivery.
func (s State) Final() bool {
	return s == Delivered || s == Bounced || s == Expired || s == Discarded
}

// Message is one message as it came in.
type Message struct {
	ID            ident.ID  `json:"id"`
	ReceivedAt    time.Time `json:"received_at"`
	Sender        string    `json:"sender" doc:"Envelope sender; empty for the null path"`
	HeaderFrom    string    `json:"header_from"`
	Subject       string    `json:"subject"`
	MessageID     string    `json:"message_id_header"`
	Size          int64     `json:"size" doc:"Octets, our Received field included"`
	Listener      string    `json:"listener"`
	ClientAddress string    `json:"client_address"`
	Helo          string    `json:"helo"`
	Account       string    `json:"account"`
	SessionID     ident.ID  `json:"session_id"`
	Revision      int       `json:"revision" doc:"The configuration revision its decisions were made under"`
	Protocol      string    `json:"protocol"`
	Hops          int       `json:"hops" doc:"Received fields before ours"`
	UTF8          bool      `json:"utf8"`
	EightBit      bool      `json:"eight_bit"`
	Ret           string    `json:"ret"`
	EnvID         string    `json:"env_id"`
	Asked         Demands   `json:"asked,omitzero" doc:"What its sender asks of everybody who passes it on"`
	Direction     string    `json:"direction" enum:"in,out,own" doc:"in: from the world. out: from our people and machines. own: made here"`
	// NoticeOf is the message this one is a notification about, one of ours or
	// from elsewhere, or the message it answers; 0 if none.
	NoticeOf ident.ID `json:"notice_of,omitzero"`
	// Identity is what was found of who it is from; nil where nobody asked.
	Identity *senderauth.Assessment `json:"identity,omitempty"`
	// Gates are those it met, the watching ones too.
	Gates    []string `json:"gates,omitempty" doc:"Gates that it met, those that only watch too"`
	Severity Severity `json:"severity,omitempty" enum:"none,minor,serious,critical" doc:"The worst of the gates that it met and that do not only watch"`
	// Score is the sum of what spoke against it; nil where nobody was weighed.
	Score      *int16     `json:"score,omitempty" doc:"What speaks against a stranger's message, in points; the history has each"`
	Deliveries []Delivery `json:"deliveries"`
}

// Severity is how much what a gate found weighs; "" is none.
type Severity string

// Severities, the mildest first.
var Severities = []Severity{"none", "minor", "serious", "critical"}

// Rank is 0 for none and 3 for critical.
func (s Severity) Rank() int { return max(0, slices.Index(Severities, s)) }

// SeverityOf is the severity of a rank; "" is none.
func SeverityOf(rank int) Severity {
	if rank <= 0 || rank >= len(Severities) {
		return ""
	}
	return Severities[rank]
}

// KindReport is the protocol of a daily report.
const KindReport = "report"

// Directions of messages.
const (
	In  = "in"
	Out = "out"
	Own = "own"
)

// From is the envelope sender; the null path if it is empty.
func (m *Message) From() address.Address {
	a, _ := address.Parse(m.Sender)
	return a
}

// MadeHere reports whether it is a notice, a reply or a report of ours.
func (m *Message) MadeHere() bool { return m.Direction == Own }

// LastReply is what was said last at the remote host, or what failed there.
type LastReply struct {
	Stage     diagnose.Stage `json:"stage"`
	Host      string         `json:"host"`
	Address   string         `json:"address"`
	Code      int            `json:"code" doc:"SMTP reply code; 0 if nobody answered"`
	Enhanced  string         `json:"enhanced"`
	Text      string         `json:"text"`
	TLS       string         `json:"tls,omitempty" doc:"TLS version and cipher, and whether the certificate was verified"`
	SessionID ident.ID       `json:"session_id,omitzero" doc:"The session in which it was said"`
	// Written is what was changed in the message for this recipient, as agreed with the peer.
	Written []string `json:"written,omitempty" doc:"What was changed in the message as agreed with the peer"`
	// Tried are hosts that failed before this one in the same attempt.
	Tried []LastReply `json:"tried,omitempty"`
}

// IntoMailbox is the reply of a node that puts a message into a mailbox of ours.
func IntoMailbox(node, recipient string) *LastReply {
	return &LastReply{
		Stage:    diagnose.StageMailbox,
		Host:     node,
		Code:     250,
		Enhanced: "2.1.5",
		Text:     "put into mailbox " + recipient,
	}
}

// String is the reply on one line.
func (r LastReply) String() string {
	var words []string
	if r.Code != 0 {
		words = append(words, strconv.Itoa(r.Code))
	}
	if r.Enhanced != "" {
		words = append(words, r.Enhanced)
	}
	return strings.Join(append(words, r.Text), " ")
}

// Delivery is one recipient of one message.
type Delivery struct {
	// Key is filled in where a delivery is shown; ID gives it always.
	Key            DeliveryID `json:"id"`
	MessageID      ident.ID   `json:"message_id"`
	N              int16      `json:"-"` // from 1 within the message
	Recipient      string     `json:"recipient"`
	Original       string     `json:"original_recipient" doc:"As the client gave it"`
	Via            []string   `json:"via,omitempty" doc:"Aliases passed through"`
	ORCPT          string     `json:"orcpt,omitempty" doc:"type;address of RFC 3461"`
	Notify         int16      `json:"-"`
	State          State      `json:"state"`
	LaneID         ident.ID   `json:"lane"`
	Route          string     `json:"route"`
	NextHop        string     `json:"next_hop"`
	Rule           string     `json:"rule" doc:"The relay rule that let it in"`
	RouteWhy       string     `json:"route_why"`
	Revision       int        `json:"revision"`
	Attempts       int        `json:"attempts"`
	FirstAttemptAt OptTime    `json:"first_attempt_at" nullable:"true"`
	LastAttemptAt  OptTime    `json:"last_attempt_at" nullable:"true"`
	NextAttemptAt  OptTime    `json:"next_attempt_at" nullable:"true"`
	ExpiresAt      OptTime    `json:"expires_at" nullable:"true"`
	FinishedAt     OptTime    `json:"finished_at" nullable:"true"`
	WarnedAt       OptTime    `json:"warned_at" nullable:"true" doc:"When the delay notice was sent"`
	Detour         Detour     `json:"detour,omitempty" enum:"once,kept" doc:"A person chose its route: for one attempt, or until it has left"`
	// Bulk is one of very many messages of its sender: those of others go first.
	Bulk bool `json:"bulk,omitempty" doc:"One of very many of its sender: others go first"`
	// Last is null before the first attempt.
	Last  *LastReply     `json:"last_reply"`
	Cause diagnose.Cause `json:"cause"`
	// Behind says that it waits behind the trouble of its lane: cause and reply are the lane's.
	Behind bool `json:"behind,omitempty" doc:"No attempt of its own yet: cause and reply are its lane's"`
}

// Detour is for how long a delivery keeps a way that a person chose.
type Detour string

// The detours.
const (
	NoDetour   Detour = ""
	DetourOnce Detour = "once"
	DetourKept Detour = "kept"
)

// DeliveryID names a delivery: its message and its number there.
type DeliveryID struct {
	Message ident.ID
	N       int16
}

// ID is the delivery's name.
func (d *Delivery) ID() DeliveryID { return DeliveryID{d.MessageID, d.N} }

// String is like "06F3GZ…-1".
func (id DeliveryID) String() string { return id.Message.String() + "-" + strconv.Itoa(int(id.N)) }

// ParseDeliveryID reads the form of String.
func ParseDeliveryID(s string) (DeliveryID, error) {
	head, tail, ok := strings.Cut(s, "-")
	m, err := ident.Parse(head)
	n, numErr := strconv.ParseInt(tail, 10, 16)
	if !ok || err != nil || numErr != nil || n < 1 {
		return DeliveryID{}, fmt.Errorf(
			"%q is not a delivery's id: write the message's id, a hyphen and a number",
			s,
		)
	}
	return DeliveryID{m, int16(n)}, nil
}

// MarshalText is String.
func (id DeliveryID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText is ParseDeliveryID.
func (id *DeliveryID) UnmarshalText(text []byte) error {
	v, err := ParseDeliveryID(string(text))
	*id = v
	return err
}

// OptTime is a time or, at zero, none; it is null in JSON.
type OptTime struct{ time.Time }

// At makes an OptTime.
func At(t time.Time) OptTime { return OptTime{t.UTC()} }

// MarshalJSON writes null for the zero time.
func (t OptTime) MarshalJSON() ([]byte, error) {
	if t.IsZero() {
		return []byte("null"), nil
	}
	return t.UTC().MarshalJSON()
}

// UnmarshalJSON reads null as the zero time.
func (t *OptTime) UnmarshalJSON(text []byte) error {
	if string(text) == "null" {
		t.Time = time.Time{}
		return nil
	}
	return t.Time.UnmarshalJSON(text)
}

// Kind is what kind of thing an event tells.
type Kind string

// The kinds of event.
const (
	EventReceived  Kind = "received"
	EventAllowed   Kind = "allowed"
	EventExpanded  Kind = "expanded"
	EventRouted    Kind = "routed"
	EventDeferred  Kind = "deferred"
	EventDelivered Kind = "delivered"
	EventBounced   Kind = "bounced"
	EventExpired   Kind = "expired"
	EventDelayed   Kind = "delayed" // a delay notice was sent
	EventAction    Kind = "action"  // a person did something with it
	EventHeld      Kind = "held"    // by what was found of its sender
	EventGate      Kind = "gate"    // it met a gate
	EventScore     Kind = "score"   // it was weighed
	EventReport    Kind = "report"  // a notice about it came from elsewhere
)

// Event is one thing that happened to a message.
type Event struct {
	At        time.Time      `json:"at"`
	Kind      Kind           `json:"kind"`
	MessageID ident.ID       `json:"message_id"`
	N         int16          `json:"-"` // the delivery's number, 0 for the whole message
	Delivery  string         `json:"delivery_id,omitempty"`
	Node      string         `json:"node"`
	Text      string         `json:"text"`
	Detail    map[string]any `json:"detail"`
}

// Reply is the answer that an event tells of, if it tells of one.
func (e *Event) Reply() (LastReply, bool) {
	switch r := e.Detail["reply"].(type) {
	case *LastReply:
		return *r, r != nil
	case LastReply:
		return r, true
	case map[string]any: // read back from JSON
		var out LastReply
		text, err := json.Marshal(r)
		return out, err == nil && json.Unmarshal(text, &out) == nil
	}
	return LastReply{}, false
}

// LaneState is how a lane goes.
type LaneState string

// The states of a lane.
const (
	LaneMoving   LaneState = "moving"
	LanePaused   LaneState = "paused"
	LaneResting  LaneState = "resting"
	LaneStranded LaneState = "stranded"
	LaneParked   LaneState = "parked" // until its site asks for it (ETRN, RFC 1985)
)

// Lane is the deliveries that wait for one next hop on one route.
type Lane struct {
	ID            ident.ID   `json:"id"`
	Route         string     `json:"route"`
	NextHop       string     `json:"next_hop"`
	State         LaneState  `json:"state"`
	Why           string     `json:"why" doc:"Why it is in this state, in a sentence"`
	Since         OptTime    `json:"since" nullable:"true"`
	Until         OptTime    `json:"until" nullable:"true" doc:"When a resting lane tries again, a pause ends by itself, or a parked lane sends although nobody asked"`
	Waiting       int64      `json:"waiting"`
	Deferred      int64      `json:"deferred"`
	Held          int64      `json:"held"`
	Sending       int64      `json:"sending"`
	Bytes         int64      `json:"bytes"`
	Connections   int        `json:"connections"`
	Limit         int        `json:"connection_limit" doc:"Connections that it may open now: it grows as messages are taken and shrinks on trouble"`
	OldestAt      OptTime    `json:"oldest_at" nullable:"true"`
	NextAttemptAt OptTime    `json:"next_attempt_at" nullable:"true"`
	ExpiresAt     OptTime    `json:"expires_at" nullable:"true" doc:"When its first message expires"`
	Last          *LastReply `json:"last_reply"`
	LastAt        OptTime    `json:"last_reply_at" nullable:"true"`
	Cause         string     `json:"cause"`
	Pause         *Pause     `json:"pause,omitempty" doc:"What stops it"`
}
