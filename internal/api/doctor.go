package api

import (
	"time"

	"gullroute/internal/core/machine"
	"gullroute/internal/core/tuning"
)

// DatabaseCheck is what was found of the database server's settings and state.
type DatabaseCheck struct {
	Memory   int64           `json:"memory" doc:"Of the server in octets, which the advice is for; 0 if it is not known: then nothing that depends on it is said"`
	Here     bool            `json:"here" doc:"The server runs on the node's machine, whose memory was taken"`
	Findings []tuning.Advice `json:"findings" doc:"The worst first"`
}

// Doctor is what was found of what a node runs on.
type Doctor struct {
	Node   string             `json:"node"`
	At     time.Time          `json:"at"`
	Worst  machine.State      `json:"worst" enum:"bad,look,unknown,well"`
	Checks []machine.Examined `json:"checks" doc:"The worst first"`
}
