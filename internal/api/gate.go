package api

import (
	"time"

	"gullroute/internal/core/config"
)

// ListState is a list that is in force.
type ListState struct {
	Name       string           `json:"name"`
	Kind       string           `json:"kind"`
	Entries    int              `json:"entries" doc:"In force"`
	FromSource int              `json:"from_source" doc:"Of these, read from the source"`
	Source     string           `json:"source,omitempty"`
	ReadAt     *time.Time       `json:"read_at,omitempty" doc:"When the copy in force was read"`
	LookedAt   *time.Time       `json:"looked_at,omitempty" doc:"When the source was looked at last"`
	Skipped    int              `json:"skipped,omitempty" doc:"Lines of the source that are no entries"`
	Trouble    string           `json:"trouble,omitempty" doc:"Why the last look brought nothing"`
	TroubleAt  *time.Time       `json:"trouble_at,omitempty" doc:"Since when"`
	Uses       []config.ListUse `json:"uses" doc:"What refers to it"`
}

// ListQuestion asks whether a list has something.
type ListQuestion struct {
	Value string `json:"value" doc:"An address, an IP address, a text, a file's name or a time"`
}

// ListAnswer is what it says.
type ListAnswer struct {
	Holds bool   `json:"holds"`
	Entry string `json:"entry,omitempty" doc:"The entry that matches"`
}

// ProposalChoice is a proposal to add to the draft.
type ProposalChoice struct {
	Answers map[string]string `json:"answers"`
	Name    string            `json:"name,omitempty" doc:"Of the gate; the proposal's own if not given"`
	Watch   bool              `json:"watch,omitempty" doc:"Let it only watch at first"`
	First   bool              `json:"first,omitempty" doc:"Put it before all other gates"`
}
