package api

import (
	"time"

	"gullroute/internal/core/repute"
)

// Weighing is how strangers are weighed.
type Weighing struct {
	Score       string             `json:"score" enum:"off,watch,on"`
	Greylisting string             `json:"greylisting" enum:"off,by_score,all"`
	Waiting     int                `json:"waiting" doc:"Who was asked to come again and has not"`
	Known       int                `json:"known" doc:"Who has passed greylisting"`
	Lists       []repute.Health    `json:"lists" doc:"Lists that are asked by DNS, as this node knows them"`
	Exceptions  []repute.Standing  `json:"exceptions" doc:"Whom people allow or deny, besides the settings"`
	Thresholds  *repute.Thresholds `json:"thresholds"`
}

// Reputation is what is known of an address or a domain.
type Reputation struct {
	About      string            `json:"about"`
	Kind       string            `json:"kind" enum:"address,domain"`
	Says       string            `json:"says,omitempty" enum:"allow,deny" doc:"An exception spares or refuses it"`
	Why        string            `json:"why,omitempty"`
	Name       string            `json:"name,omitempty" doc:"Its reverse name"`
	NameState  string            `json:"name_state,omitempty" enum:"good,none,forged"`
	Lists      []repute.Listing  `json:"lists"`
	Points     int               `json:"points" doc:"What that makes, before any message"`
	Parts      []repute.Part     `json:"parts"`
	Messages   int               `json:"messages" doc:"That we took from it, within 30 days; at most 1,000 are counted"`
	Refusals   int               `json:"refusals" doc:"That we refused, within 30 days; at most 1,000 are counted"`
	LastAt     *time.Time        `json:"last_at,omitempty" doc:"When it came last"`
	Exceptions []repute.Standing `json:"exceptions" doc:"What people said of it"`
}

// ExceptionRequest allows or denies somebody, or takes that back.
type ExceptionRequest struct {
	Value string `json:"value" required:"true" doc:"A network or an IP address; an address, a domain or a pattern"`
	Kind  string `json:"kind,omitempty" enum:"network,sender,recipient" doc:"What a domain or an address is meant as; sender if not given"`
	Says  string `json:"says" enum:"allow,deny"`
	For   string `json:"for,omitempty" doc:"How long, like 7d; for good if not given"`
	Why   string `json:"why,omitempty"`
}
