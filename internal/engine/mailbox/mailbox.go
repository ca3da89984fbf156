// Package mailbox makes letters for our own mailboxes: final delivery as RFC
// 5321 section 4.4 asks for it.
package mailbox

import (
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/ident"
	"gullroute/internal/store"
)

// Letter is the message as it goes into a mailbox: behind a Return-Path.
func Letter(id ident.ID, sender address.Address, mailbox string, at time.Time) *store.MailboxLetter {
	head := "Return-Path: <" + sender.String() + ">\r\n"
	return &store.MailboxLetter{Mailbox: mailbox, ID: id, Sender: sender.String(), Received: at.UTC(), Head: []byte(head)}
}
