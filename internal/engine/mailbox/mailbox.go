// Package mailbox makes messages for our own mailboxes: final delivery as RFC
// 5321 section 4.4 asks for it.
package mailbox

import (
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// Message is the message as it goes into a mailbox: behind a Return-Path.
func Message(
	id ident.ID,
	sender address.Address,
	mailbox string,
	at time.Time,
) *store.MailboxMessage {
	return &store.MailboxMessage{
		Mailbox:  mailbox,
		ID:       id,
		Sender:   sender.String(),
		Received: at.UTC(),
	}
}
