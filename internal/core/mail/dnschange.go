package mail

import (
	"time"

	"gullroute/internal/core/publish"
)

// DNSChange is a change of records that we made at a DNS server.
type DNSChange struct {
	ID      int64                `json:"id"`
	At      time.Time            `json:"at"`
	Who     string               `json:"who"`
	Domain  string               `json:"domain" doc:"Of ours, for which it was made"`
	Why     string               `json:"why" doc:"What it was for"`
	Server  string               `json:"server" doc:"The DNS server, as it is named here"`
	Zone    string               `json:"zone"`
	Change  publish.RecordChange `json:"change"`
	TTL     uint32               `json:"ttl" doc:"Seconds"`
	BackAt  OptTime              `json:"back_at" nullable:"true" doc:"When it was taken back"`
	BackWho string               `json:"back_who,omitempty"`
}
