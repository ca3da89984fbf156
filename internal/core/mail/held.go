package mail

import (
	"time"

	"gullroute/internal/core/ident"
)

// Who held a delivery.
const (
	HeldByGate     = "gate"
	HeldByScore    = "score"
	HeldByIdentity = "identity"
	HeldByPerson   = "person"
	HeldByLimit    = "limit" // its sender is over a limit of a relay rule
	HeldByOther    = "other" // a mailbox was removed, and the like
)

// HeldItem is a delivery that is held, with why.
type HeldItem struct {
	ID        DeliveryID `json:"id"`
	MessageID ident.ID   `json:"message_id"`
	Received  time.Time  `json:"received_at"`
	Since     time.Time  `json:"since"`
	Expires   OptTime    `json:"expires_at" nullable:"true" doc:"When it is held no longer, as the settings say; null is never"`
	By        string     `json:"by" enum:"gate,score,identity,limit,person,other"`
	Name      string     `json:"name,omitempty" doc:"Of the gate or the person"`
	Why       string     `json:"why"`
	Severity  Severity   `json:"severity,omitempty" enum:"none,minor,serious,critical"`
	Score     *int16     `json:"score,omitempty"`
	Sender    string     `json:"sender"`
	From      string     `json:"header_from"`
	Recipient string     `json:"recipient"`
	Subject   string     `json:"subject"`
	Size      int64      `json:"size"`
	Direction string     `json:"direction"`
	Client    string     `json:"client_address"`
}

// HeldFilter chooses held deliveries. Zero fields choose all.
type HeldFilter struct {
	By       string
	Name     string
	Severity Severity // at least that
	Find     string   // a part of sender, From, recipient or subject
	// Recipient is one address; "" is any.
	Recipient string
	Within    []string // sender or recipient at one of these domains; none is no bound
	After     DeliveryID
	Limit     int
}
