package api

import "gullroute/internal/core/review"

// ReviewPage is a review with how much was looked for.
type ReviewPage struct {
	Items []review.Finding `json:"items"`
	Rules int              `json:"rules" doc:"How many findings are looked for"`
}
