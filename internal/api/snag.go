package api

import "gullroute/internal/core/snag"

// SnagPage is a page of troubles with how many are open.
type SnagPage struct {
	Items  []snag.Snag    `json:"items"`
	Next   string         `json:"next" doc:"Give this as after to go on; empty at the end"`
	Counts map[string]int `json:"counts" doc:"How many are open, by severity; muted ones and parts left out"`
}
