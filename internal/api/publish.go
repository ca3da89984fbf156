package api

import "gullroute/internal/core/publish"

// PublishStep is one change that is planned, or why it is to be made by hand.
type PublishStep struct {
	Point  string                `json:"point" doc:"Of readiness, that it is for"`
	Record publish.DNSRecord     `json:"record"`
	Server string                `json:"server,omitempty" doc:"The DNS server that takes it; empty if it is put in by hand"`
	Zone   string                `json:"zone,omitempty"`
	Change *publish.RecordChange `json:"change,omitempty"`
	TTL    uint32                `json:"ttl" doc:"Seconds"`
	ByHand string                `json:"by_hand,omitempty" doc:"Why it is put in by hand"`
	ID     int64                 `json:"id,omitempty" doc:"Of the change, once it is made: gull dns-change take-back"`
	Seen   string                `json:"seen,omitempty" doc:"Which of the zone's servers show it"`
	Failed string                `json:"failed,omitempty" doc:"Why it was not made"`
}

// PublishPlan is what would be published for a domain.
type PublishPlan struct {
	Domain string        `json:"domain"`
	Mark   string        `json:"mark" doc:"Changes with the plan; give it back to make only what you have seen"`
	Steps  []PublishStep `json:"steps"`
	Score  float64       `json:"score" doc:"Of ten: at the look before, and after it was published"`
}
