package api

import (
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/whose"
)

// Listener is an open listener.
type Listener struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Address  string `json:"address"`
	Sessions int    `json:"sessions"`
}

// Status is how a node does.
type Status struct {
	Node      string       `json:"node"`
	Version   string       `json:"version"`
	HostName  string       `json:"host_name"`
	StartedAt time.Time    `json:"started_at"`
	Revision  int          `json:"revision"`
	Listeners []Listener   `json:"listeners"`
	Waiting   int64        `json:"waiting"`
	Deferred  int64        `json:"deferred"`
	Held      int64        `json:"held"`
	Sending   int64        `json:"sending"`
	Lanes     int          `json:"lanes"`
	Resting   int          `json:"resting"`
	Stranded  int          `json:"stranded"`
	Paused    int          `json:"paused" doc:"Lanes that a person has stopped"`
	Stopped   string       `json:"stopped" doc:"Why no mail leaves at all and what to do, in a sentence; empty if it does"`
	OldestAt  mail.OptTime `json:"oldest_at" nullable:"true"`
	// Today are the counts of the last 24 hours by kind.
	Today map[string]int64 `json:"today" doc:"Counts of the last 24 hours by kind"`
	// Trouble are the lanes in trouble: the stranded ones first, then
	// the resting ones, each with most mail first.
	Trouble []mail.Lane     `json:"trouble"`
	Snags   map[string]int  `json:"snags" doc:"Open troubles by severity"`
	Hazards []config.Hazard `json:"hazards" doc:"What is dangerous in the configuration in force"`
	Verdict whose.Verdict   `json:"verdict" doc:"Whose trouble it looks like, of all lanes"`
	// ConfirmBy is set while a revision would go back by itself.
	ConfirmBy mail.OptTime `json:"confirm_by" nullable:"true" doc:"The revision in force goes back by itself unless confirmed before"`
	Mailboxes int          `json:"mailboxes"`
	Domains   int          `json:"domains"`
	Routes    int          `json:"routes"`
	Hours     []mail.Count `json:"hours" doc:"Counts by hour, of the last 24"`
}
