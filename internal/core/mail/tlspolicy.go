package mail

import (
	"time"

	"gullroute/internal/core/tlsterms"
)

// TLSPolicy is what a domain says of mail to it (MTA-STS), and how asking for it went.
type TLSPolicy struct {
	Domain    string           `json:"domain"`
	Policy    *tlsterms.Policy `json:"policy,omitempty" doc:"The last that was had; none if there never was one"`
	FetchedAt OptTime          `json:"fetched_at" nullable:"true"`
	EndsAt    OptTime          `json:"ends_at" nullable:"true" doc:"Until then it counts, whatever becomes of its server"`
	AskedAt   time.Time        `json:"asked_at" doc:"When it was last asked for"`
	Fault     string           `json:"fault,omitempty" doc:"What went wrong the last time"`
}

// InForce reports a policy that counts at a time.
func (p TLSPolicy) InForce(at time.Time) *tlsterms.Policy {
	if p.Policy == nil || !at.Before(p.EndsAt.Time) {
		return nil
	}
	return p.Policy
}
