package api

import "gullroute/internal/core/form"

// Imported is what an import did, or would do.
type Imported struct {
	Rows      int            `json:"rows"`
	New       int            `json:"new"`
	Changed   int            `json:"changed"`
	Unchanged int            `json:"unchanged"`
	Problems  []form.Problem `json:"problems" doc:"Row by row; with any, nothing was changed"`
	Written   bool           `json:"written"`
}

// Entry is a mailbox or an alias as it is written.
type Entry struct {
	Fields    map[string]any `json:"fields"`
	Generated []string       `json:"generated" doc:"Addresses made from the name"`
	About     []form.Field   `json:"about" doc:"What the fields are"`
	Mark      string         `json:"mark" doc:"Changes with the fields; give it back to change only what you have seen"`
}

// Removal is what taking something out would do.
type Removal struct {
	Text string `json:"text"`
}

// AliasLine is an alias as it is listed.
type AliasLine struct {
	Address string   `json:"address"`
	To      []string `json:"to"`
	About   string   `json:"about"`
}
