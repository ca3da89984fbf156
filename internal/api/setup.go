package api

import (
	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// Draft is the changes that are not applied yet.
type Draft struct {
	Exists    bool               `json:"exists"`
	Base      int                `json:"base" doc:"The revision it was begun from"`
	InForce   int                `json:"in_force"`
	Stale     bool               `json:"stale" doc:"Another revision came into force since; rebase it"`
	Version   int64              `json:"version"`
	ChangedAt mail.OptTime       `json:"changed_at" nullable:"true"`
	Changes   []config.Change    `json:"changes" doc:"What differs from the configuration in force"`
	Log       []mail.DraftChange `json:"log" doc:"Who changed what, oldest first"`
	Hazards   []config.Hazard    `json:"hazards"`
	YAML      string             `json:"yaml,omitempty" doc:"The difference as a unified diff"`
}

// SectionItems are the items of a section as they stand in the draft, or in
// force if there is none.
type SectionItems struct {
	Items   []config.Item `json:"items"`
	Fields  []form.Field  `json:"fields" doc:"What the fields are"`
	Ordered bool          `json:"ordered" doc:"The first that matches decides"`
	Draft   bool          `json:"draft" doc:"These are the draft's"`
}

// Applied is what an apply or a revert did.
type Applied struct {
	Revision int   `json:"revision"`
	Rerouted int64 `json:"rerouted" doc:"Waiting deliveries that were without a route and have one now"`
	// Directory says what a revert did with what later revisions had brought.
	Directory []string `json:"directory" doc:"What became of mailboxes and aliases, in sentences"`
	Trouble   []string `json:"trouble" doc:"What did not work on this node, such as an address that is in use"`
}

// Edited is what an edit of the draft did.
type Edited struct {
	Text string      `json:"text" doc:"What was done, in words"`
	Dry  bool        `json:"dry_run" doc:"Nothing was changed"`
	Item config.Item `json:"item" doc:"As it is now"`
}

// Rebased is what a rebase met.
type Rebased struct {
	Met []string `json:"met" doc:"Where somebody else changed the same, in words"`
}

// RevisionView is a revision with what it changed.
type RevisionView struct {
	Revision mail.Revision   `json:"revision"`
	Changes  []config.Change `json:"changes" doc:"Against the revision it is compared with"`
	Against  int             `json:"against" doc:"0 if there is none before it"`
	YAML     string          `json:"yaml" doc:"The difference as a unified diff"`
}

// ConfigText is a configuration as text, and its revision.
type ConfigText struct {
	Revision int    `json:"revision"`
	Text     string `json:"text" doc:"YAML"`
}

// GivenBack is a mailbox that was given back.
type GivenBack struct {
	Address string   `json:"address"`
	Left    []string `json:"left" doc:"Further addresses that it had and that are others' now"`
}
