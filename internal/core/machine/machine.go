// Package machine judges what a node runs on: memory, files, disks and how fast they fill, the
// clock, the database's state, name servers, ports. Each check says what was found and what to do.
package machine

import (
	"cmp"
	"slices"
	"time"
)

// State is how a check came out.
type State string

// The states, the worst first.
const (
	Bad     State = "bad"     // mail stops or will within days
	Look    State = "look"    // somebody should look at it
	Unknown State = "unknown" // it could not be found out
	Well    State = "well"
)

var order = map[State]int{Bad: 0, Look: 1, Unknown: 2, Well: 3}

// Examined is one thing that was looked at.
type Examined struct {
	Area  string `json:"area" doc:"machine, disks, clock, database, names, ports, programs"`
	What  string `json:"what"`
	Dir   string `json:"dir,omitempty" doc:"Of a disk: the directory"`
	State State  `json:"state" enum:"bad,look,unknown,well"`
	Found string `json:"found"`
	Fix   string `json:"fix,omitempty" doc:"What to do, if something is to be done"`
}

// Facts are what was seen. What could not be found out is nil or zero, and is said to be unknown
// or left out.
type Facts struct {
	Memory   Memory
	Files    Files
	Random   *bool // the kernel gives random octets
	Places   []Place
	Clock    Clock
	Database Database
	Servers  []Server
	Names    []Name
	Ports    []Port
	Programs []Program
	KeyFile  *KeyFile
}

// Memory is in octets.
type Memory struct {
	Total, Available int64 // of the machine
	Limit            int64 // of the service's control group; 0 for none
	Used             int64 // by the service
}

// Files are descriptors.
type Files struct{ Open, Limit int64 }

// Place is a directory that the service writes to, or where the database may lie.
type Place struct {
	What, Dir  string
	Size, Free int64   // octets
	Inodes     float64 // part that is used; 0 where a file system has none
	Fault      string  // it cannot be written
	Others     bool    // others may read what lies there
	Fills      *Forecast
}

// Clock is ours.
type Clock struct {
	Off  time.Duration // against the database's
	Kept *bool         // the kernel says that something sets it
}

// Database is what the database says of itself.
type Database struct {
	Wrong    string // why it takes no mail
	Version  int    // PostgreSQL's, like 150004
	Size     int64  // octets
	Grows    *Forecast
	Longest  time.Duration // the oldest open transaction
	LongestN string        // who has it
	Standbys []Standby
	Advice   []Advice
}

// Advice is what is to be set otherwise.
type Advice struct {
	What, Do string
	Loses    bool // mail, or it stops the service one day
}

// Standby is one that is connected.
type Standby struct {
	Name   string
	Behind *time.Duration // nil if the role may not see it
}

// Server is a name server that we ask.
type Server struct {
	At    string
	Took  time.Duration
	Fault string
}

// Name is a name of ours as DNS has it.
type Name struct{ Name, Fault string }

// Port is a listener, reached at an address that others use.
type Port struct{ Listener, At, Fault string }

// Program is what a node runs.
type Program struct{ Node, Version string }

// KeyFile is where keys are kept.
type KeyFile struct {
	Path  string
	Mode  uint32
	Fault string
}

// Judge says how each thing is, the worst first, what belongs together beside each other.
func Judge(f Facts) []Examined {
	j := &judge{}
	j.machine(&f)
	j.places(f.Places)
	j.clock(f.Clock, f.Database.Wrong == "")
	j.database(&f.Database)
	j.names(&f)
	j.ports(f.Ports)
	j.programs(&f)
	slices.SortStableFunc(
		j.out,
		func(a, b Examined) int { return cmp.Compare(order[a.State], order[b.State]) },
	)
	return j.out
}

// Worst is the worst state of checks.
func Worst(checks []Examined) State {
	worst := Well
	for _, c := range checks {
		if order[c.State] < order[worst] {
			worst = c.State
		}
	}
	return worst
}
