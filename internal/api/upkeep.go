package api

import "time"

// Upkeep is what ends or fills up by itself, and needs a person in time.
type Upkeep struct {
	Endings []Ending `json:"endings" doc:"Those that end first, first"`
	Rooms   []Room   `json:"rooms"`
}

// Ending is something that is good until a time.
type Ending struct {
	Kind  string    `json:"kind" enum:"certificate,signing-key"`
	What  string    `json:"what" doc:"What it is of: a listener, or a domain with its selector"`
	Until time.Time `json:"until" doc:"Of a signing key: when it is a year old"`
	Soon  bool      `json:"soon" doc:"It needs somebody now"`
	Note  string    `json:"note,omitempty" doc:"What else is wrong with it"`
	Fix   string    `json:"fix" doc:"What to do, as a command where there is one"`
}

// Room is where something is written.
type Room struct {
	What string  `json:"what"`
	Size int64   `json:"size" doc:"Octets that are used"`
	Free int64   `json:"free,omitempty" doc:"Octets that are left, where that is known"`
	Used float64 `json:"used,omitempty" doc:"A part of one, where it is known"`
	Soon bool    `json:"soon" doc:"It is nearly full"`
	// What is foretold by how it was used within three weeks.
	PerDay   int64 `json:"per_day,omitempty" doc:"By which it grows a day, in octets; 0 while that is not known"`
	FullDays int   `json:"full_days,omitempty" doc:"In so many days it is full, if it goes on like that; 0 if that is far or not known"`
}
