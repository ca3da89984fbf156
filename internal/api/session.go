package api

import (
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
)

// SessionView is a session as it is shown.
type SessionView struct {
	mail.Session
	Lines    []transcript.Line `json:"transcript"`
	Missing  string            `json:"missing,omitempty" doc:"Why there is no transcript"`
	Refusals []mail.Refusal    `json:"refusals"`
	Subjects []MessageLink     `json:"subjects" doc:"Its first messages"`
}

// MessageLink leads to a message of a session.
type MessageLink struct {
	ID      ident.ID   `json:"id"`
	Sender  string     `json:"sender"`
	Subject string     `json:"subject"`
	State   mail.State `json:"state"`
}
