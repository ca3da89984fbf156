package api

import (
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/whose"
)

// LaneDetail is a lane with its last hour.
type LaneDetail struct {
	mail.Lane
	Ages    []mail.Age    `json:"ages"`
	Minutes []mail.Minute `json:"minutes" doc:"The last hour; minutes in which nothing happened are missing"`
	Tried   []mail.Minute `json:"tried" doc:"Minutes of the last day in which deliveries were tried. Those in which all went well are kept for two hours"`
	// Schedule is what counts for a message that came in now.
	Schedule ScheduleTerms `json:"schedule"`
}

// LaneAges are how long the messages of a lane have waited.
type LaneAges struct {
	Lane ident.ID   `json:"lane"`
	Ages []mail.Age `json:"ages" doc:"The youngest first"`
}

// ScheduleTerms are when messages are tried again, warned of and expire.
type ScheduleTerms struct {
	Intervals   []float64 `json:"intervals" doc:"Seconds"`
	WarnAfter   float64   `json:"warn_after" doc:"Seconds; 0 tells nobody"`
	ExpireAfter float64   `json:"expire_after" doc:"Seconds"`
}

// LaneGroup sums up lanes that have something in common.
type LaneGroup struct {
	By       string       `json:"by" doc:"The route, host or cause"`
	Lanes    int          `json:"lanes"`
	Troubled int          `json:"troubled" doc:"Lanes that rest, are paused or stranded"`
	Messages int64        `json:"messages"`
	Bytes    int64        `json:"bytes"`
	OldestAt mail.OptTime `json:"oldest_at" nullable:"true"`
}

// LanePage is a page of lanes with what one wants to know of all of them.
type LanePage struct {
	Items   []mail.Lane   `json:"items"`
	Next    string        `json:"next" doc:"Give this as after to go on; empty at the end"`
	Total   int           `json:"total" doc:"Lanes that match"`
	Verdict whose.Verdict `json:"verdict" doc:"Whose trouble it looks like, of all lanes"`
	Pauses  []mail.Pause  `json:"pauses"`
}
