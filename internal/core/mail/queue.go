package mail

import (
	"time"

	"gullroute/internal/core/ident"
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
	At     time.Time `json:"at"`
	Came   int       `json:"came"`
	Gone   int       `json:"gone" doc:"Delivered or given back to the sender"`
	Failed int       `json:"failed" doc:"Attempts that were deferred"`
}

// LaneDetail is a lane with its last hour.
type LaneDetail struct {
	Lane
	Ages    []Age    `json:"ages"`
	Minutes []Minute `json:"minutes" doc:"The last hour; minutes in which nothing happened are missing"`
	// Schedule is what counts for a message that came in now.
	Schedule ScheduleTerms `json:"schedule"`
}

// ScheduleTerms are when messages are tried again, warned of and expire.
type ScheduleTerms struct {
	Intervals   []float64 `json:"intervals" doc:"Seconds"`
	WarnAfter   float64   `json:"warn_after" doc:"Seconds; 0 tells nobody"`
	ExpireAfter float64   `json:"expire_after" doc:"Seconds"`
}

// LaneGroup sums up lanes that have something in common.
type LaneGroup struct {
	By       string  `json:"by" doc:"The route, host or cause"`
	Lanes    int     `json:"lanes"`
	Troubled int     `json:"troubled" doc:"Lanes that rest, are paused or stranded"`
	Messages int64   `json:"messages"`
	Bytes    int64   `json:"bytes"`
	OldestAt OptTime `json:"oldest_at" nullable:"true"`
}

// Verdict says whose trouble it looks like.
type Verdict struct {
	// Whose is theirs, ours or nobody's.
	Whose string `json:"whose" enum:"nobody,theirs,ours"`
	Title string `json:"title"`
	Next  string `json:"next" doc:"What to do"`
}

// The things that can be paused.
const (
	PauseLane     = "lane"
	PauseRoute    = "route"
	PauseListener = "listener"
	PauseNode     = "node"     // takes no mail and delivers none: it is drained
	PauseDelivery = "delivery" // of everything
)

// Pause is something that a person stopped.
type Pause struct {
	Kind  string    `json:"kind" enum:"lane,route,listener,node,delivery"`
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

// ActionRequest asks for something to be done with messages.
type ActionRequest struct {
	Verb      string    `json:"verb" enum:"hold,release,flush,reroute,expire,return,drop,change-domain"`
	Selection Selection `json:"filter"`
	All       bool      `json:"all,omitempty" doc:"Needed where no filter is given"`
	Why       string    `json:"why,omitempty" maxLength:"500" doc:"Kept on record"`
	// Of reroute.
	Route string `json:"route,omitempty" doc:"reroute: by this route"`
	Host  string `json:"host,omitempty" doc:"reroute: to this host or host:port"`
	Keep  bool   `json:"keep,omitempty" doc:"reroute: until they are gone; else for one attempt"`
	// Of expire.
	ExpireAfter string `json:"expire_after,omitempty" doc:"expire: so long from now (3d), so much later or earlier (+1d, -12h), or schedule for what the schedule says"`
	// Of return.
	Say string `json:"say,omitempty" maxLength:"500" doc:"return: the sentence that the sender reads"`
	// Of change-domain.
	Domain string `json:"domain,omitempty" doc:"change-domain: the right domain"`
	// Sure confirms a second time, for drop.
	Sure   bool `json:"sure,omitempty" doc:"drop: needed, after a dry run said how many"`
	DryRun bool `json:"dry_run,omitempty" doc:"Only say how many messages it would touch"`
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

// Done is what an action came to.
type Done struct {
	Action  int64  `json:"action" doc:"Its number on record; 0 after a dry run"`
	DryRun  bool   `json:"dry_run,omitempty"`
	Matched int64  `json:"matched" doc:"Deliveries that the filter selects"`
	Touched int64  `json:"touched"`
	Sending int64  `json:"sending" doc:"Deliveries left alone because they were being sent"`
	Text    string `json:"text" doc:"The outcome in a sentence"`
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
}

// ContentPart is a part of a message's content (RFC 2045).
type ContentPart struct {
	Path        string `json:"path" doc:"1.2 is the second part of the first"`
	Type        string `json:"type"`
	Charset     string `json:"charset,omitempty"`
	Encoding    string `json:"encoding,omitempty"`
	Name        string `json:"name,omitempty" doc:"File name"`
	Disposition string `json:"disposition,omitempty"`
	Size        int64  `json:"size" doc:"Octets as they are in the message"`
}

// HeaderField is a field of a header.
type HeaderField struct {
	Name  string `json:"name"`
	Value string `json:"value" doc:"Decoded"`
}

// Message is the content of a message, made safe to look at.
type ContentView struct {
	ID        ident.ID      `json:"id"`
	Fields    []HeaderField `json:"fields"`
	Header    string        `json:"header" doc:"As it came"`
	Parts     []ContentPart `json:"parts"`
	Text      string        `json:"text" doc:"What people read, as plain text: of HTML only its words"`
	TextType  string        `json:"text_type" doc:"What it was made of"`
	Truncated bool          `json:"truncated" doc:"There is more than is shown"`
}
