package api

import (
	"time"

	"gullroute/internal/core/mail"
)

// Feedback is what others report of mail in the name of a domain of ours, and of connections to it.
type Feedback struct {
	Domain   string                `json:"domain"`
	Since    time.Time             `json:"since"`
	Messages int64                 `json:"messages"`
	Passed   int64                 `json:"passed"`
	Says     string                `json:"says" doc:"What it means and what to do"`
	Senders  []mail.FeedbackSender `json:"senders" doc:"Those whose messages did not pass first"`
	Days     []mail.FeedbackDay    `json:"days"`
	TLS      []mail.FeedbackTLS    `json:"tls"`
}

// FeedbackState is how reading and sending reports goes.
type FeedbackState struct {
	Address string                `json:"address" doc:"Where reports are read; empty if nowhere"`
	Says    string                `json:"says"`
	Sends   bool                  `json:"sends" doc:"Whether we report to others"`
	Unread  []mail.FeedbackUnread `json:"unread" doc:"The latest messages there that were no reports"`
	Sent    []mail.FeedbackSent   `json:"sent" doc:"The latest of our own reports"`
	Sources []mail.FeedbackSource `json:"sources" doc:"Senders that somebody named"`
}
