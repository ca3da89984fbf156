package mail

import (
	"time"
)

// Age is how many messages of a lane are of an age, in seconds.
type Age struct {
	From     float64 `json:"from" doc:"Seconds"`
	To       float64 `json:"to" doc:"Seconds; 0 is without end"`
	Messages int64   `json:"messages"`
	More     bool    `json:"more,omitempty" doc:"There are more than were counted"`
}

// Minute is what came into a lane and left it in a minute.
type Minute struct {
	At       time.Time `json:"at"`
	Received int       `json:"received"`
	Finished int       `json:"finished" doc:"Delivered or given back to the sender"`
	Failed   int       `json:"failed" doc:"Attempts that were deferred"`
}

// The things that can be paused.
const (
	PauseLane     = "lane"
	PauseRoute    = "route"
	PauseListener = "listener"
	PauseNode     = "node"     // takes no mail and delivers none: it is drained
	PauseDelivery = "delivery" // of everything
	PauseAccount  = "account"  // sends nothing
)

// Pause is something that a person stopped.
type Pause struct {
	Kind  string    `json:"kind" enum:"lane,route,listener,node,delivery,account"`
	Name  string    `json:"name"`
	Who   string    `json:"who"`
	Why   string    `json:"why"`
	Since time.Time `json:"since"`
	Until OptTime   `json:"until" nullable:"true" doc:"When it ends by itself"`
}

// The things a person does with messages.
const (
	VerbHold         = "hold"
	VerbRelease      = "release"
	VerbFlush        = "flush"
	VerbReroute      = "reroute"
	VerbExpire       = "expire"
	VerbReturn       = "return"
	VerbDrop         = "drop"
	VerbRestore      = "restore"
	VerbChangeDomain = "change-domain"
	VerbPause        = "pause"
	VerbAllow        = "allow"
	VerbDeny         = "deny"
	VerbForget       = "forget"
	VerbResume       = "resume"
	VerbUndo         = "undo"
)

// Verbs are those on messages of the queue.
var Verbs = []string{
	VerbHold,
	VerbRelease,
	VerbFlush,
	VerbReroute,
	VerbExpire,
	VerbReturn,
	VerbDrop,
	VerbChangeDomain,
}

// Action is something that a person did, as it is on record.
type Action struct {
	ID       int64          `json:"id"`
	At       time.Time      `json:"at"`
	Who      string         `json:"who"`
	Verb     string         `json:"verb"`
	On       string         `json:"on" doc:"What it was done with, in words"`
	Filter   *Selection     `json:"filter,omitempty"`
	Detail   map[string]any `json:"detail,omitempty"`
	Told     string         `json:"-"` // in the story of each message
	Node     string         `json:"-"`
	Why      string         `json:"why"`
	Touched  int64          `json:"touched" doc:"Deliveries"`
	Sending  int64          `json:"sending" doc:"Deliveries left alone because they were being sent"`
	DoneAt   OptTime        `json:"done_at" nullable:"true"`
	Undoes   int64          `json:"undoes,omitempty" doc:"The action that this one took back"`
	UndoneBy int64          `json:"undone_by,omitempty"`
	// CanUndo says whether it can be taken back now, and Undo what that does.
	CanUndo bool   `json:"can_undo"`
	Undo    string `json:"undo,omitempty"`
}

// Node is a running service.
type Node struct {
	Name      string    `json:"name"`
	Number    int       `json:"number"`
	StartedAt time.Time `json:"started_at"`
	SeenAt    time.Time `json:"seen_at"`
	Leased    int64     `json:"leased" doc:"Deliveries it works on"`
	State     string    `json:"state" enum:"running,draining,drained,silent" doc:"silent: it has not been heard of; what it held goes on elsewhere"`
	Pause     *Pause    `json:"pause,omitempty"`
	Here      bool      `json:"here" doc:"The node that answers"`
	// BeginsAnew is set from when somebody asks for it until the service ends.
	BeginsAnew bool       `json:"begins_anew,omitempty" doc:"It was asked to restart and has not ended yet"`
	Facts      *NodeFacts `json:"facts,omitempty" doc:"What it said of itself with its last sign of life"`
}

// NodeFacts are what a node says of itself with each sign of life.
type NodeFacts struct {
	Version   string            `json:"version" doc:"Of the program"`
	Schema    int64             `json:"schema" doc:"The latest of the database that the program knows"`
	Revision  int               `json:"revision" doc:"In force there"`
	Role      string            `json:"role" enum:"takes and delivers,takes,delivers,nothing" doc:"By the listeners and routes that belong to it"`
	Listeners map[string]string `json:"listeners" doc:"The addresses that are open, by listener"`
	Sessions  int               `json:"sessions" doc:"Open, of clients"`
	Outward   int               `json:"outward" doc:"Connections to other hosts"`
	Load      float64           `json:"load" doc:"Share of the machine's processors that the service used since the sign of life before, 0 to 1"`
	Memory    int64             `json:"memory" doc:"Octets that the service holds"`
	Write     float64           `json:"write_seconds" doc:"How long its last small durable write took"`
	Behind    float64           `json:"behind_seconds,omitempty" doc:"How far the standby that it reads history from is behind; negative if it does not read from it"`
	NotReady  string            `json:"not_ready,omitempty" doc:"Why no mail is taken there"`
}
