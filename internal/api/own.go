package api

import "gullroute/internal/core/mail"

// OwnMailbox is a mailbox as its owner sees it.
type OwnMailbox struct {
	Address      string             `json:"address"`
	Name         string             `json:"name"`
	Addresses    []string           `json:"addresses" doc:"Further ones under which it is reached"`
	Quota        int64              `json:"quota" doc:"Octets; 0 is no limit"`
	Octets       int64              `json:"octets"`
	Messages     int64              `json:"messages"`
	Reply        *OwnReply          `json:"automatic_reply,omitempty"`
	ForwardTo    []string           `json:"forward_to"`
	KeepCopy     bool               `json:"keep_copy"`
	MayForward   string             `json:"may_forward" enum:"no,inside,anywhere" doc:"What the server's settings allow"`
	Reads        bool               `json:"reads" doc:"It is read by IMAP or POP3"`
	LastUse      []mail.LastUse     `json:"last_use"`
	AppPasswords []mail.AppPassword `json:"app_passwords"`
	Held         []OwnHeld          `json:"held" doc:"Messages to it that are held, newest first, at most 100"`
}

// OwnReply is one's automatic reply.
type OwnReply struct {
	Inside  string `json:"inside,omitempty" maxLength:"5000" doc:"For our own people"`
	Outside string `json:"outside,omitempty" maxLength:"5000" doc:"For everybody else; without it they get none"`
	From    string `json:"from,omitempty" doc:"First day, like 2026-12-01"`
	Until   string `json:"until,omitempty" doc:"Last day"`
}

// OwnChange is what somebody changes of his mailbox; what is not given stays.
type OwnChange struct {
	Reply     *OwnReply `json:"automatic_reply,omitempty" doc:"One without texts takes it away"`
	ForwardTo *[]string `json:"forward_to,omitempty" maxItems:"10"`
	KeepCopy  *bool     `json:"keep_copy,omitempty"`
}

// OwnHeld is a message that is held, as its recipient sees it.
type OwnHeld struct {
	ID         string       `json:"id"`
	ReceivedAt mail.OptTime `json:"received_at" nullable:"true"`
	Sender     string       `json:"sender"`
	Subject    string       `json:"subject"`
	Why        string       `json:"why"`
}
