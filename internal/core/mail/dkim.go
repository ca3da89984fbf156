package mail

import (
	"time"

	"gullroute/internal/core/publish"
)

// The states of a key that signs.
const (
	KeyMade      = "made"      // its record was not seen in DNS yet
	KeyPublished = "published" // seen in DNS; it does not sign yet
	KeySigning   = "signing"
	KeyRetired   = "retired" // it signs no more; its record verifies what is under way
)

// RetiredFor is how long the record of a retired key should stay: messages wait in
// queues for days, and are verified when they are read.
const RetiredFor = 7 * 24 * time.Hour

// DKIMKey is a key that signs messages of a domain. The private key is kept encrypted
// and is never shown.
type DKIMKey struct {
	Domain    string            `json:"domain"`
	Selector  string            `json:"selector"`
	Algorithm string            `json:"algorithm" enum:"rsa-2048,rsa-3072,ed25519" doc:"Imported RSA keys may have another length"`
	State     string            `json:"state" enum:"made,published,signing,retired"`
	Record    publish.DNSRecord `json:"record" doc:"What publishes it"`
	TakesOver bool              `json:"takes_over" doc:"It begins to sign by itself once its record has been seen for the overlap; then the keys before it retire"`
	Overlap   int64             `json:"overlap" doc:"Seconds"`
	Fault     string            `json:"fault,omitempty" doc:"What DNS shows in its place"`
	Locked    bool              `json:"locked,omitempty" doc:"The key file of the node that answers does not open it: nothing is signed with it there"`
	Who       string            `json:"who" doc:"Who made it"`
	MadeAt    time.Time         `json:"made_at"`
	CheckedAt OptTime           `json:"checked_at" nullable:"true" doc:"When DNS was last asked"`
	SeenAt    OptTime           `json:"seen_at" nullable:"true" doc:"Since when DNS has it without a break"`
	SigningAt OptTime           `json:"signing_at" nullable:"true"`
	RetiredAt OptTime           `json:"retired_at" nullable:"true"`
	Next      string            `json:"next" doc:"What to do next, or what happens by itself"`
}

// Explain fills in the record and what comes next.
func (k *DKIMKey) Explain(now time.Time) {
	k.Record = publish.New(k.Domain, k.Selector+"._domainkey."+k.Domain, "TXT", k.Record.Value)
	takes := "gull dkim use " + k.Domain + " " + k.Selector
	switch {
	case k.State == KeySigning && k.Locked:
		k.Next = "put the former key file of this node back and start it anew, or rotate the key " +
			"(gull dkim rotate " + k.Domain + "): nothing is signed with it here"
	case k.State == KeySigning && k.Fault != "":
		k.Next = "publish its record again immediately: messages are signed and nobody can verify " +
			"them"
	case k.State == KeySigning:
		k.Next = "nothing: messages are signed with it"
	case k.State == KeyRetired && (k.Fault != "" || k.SeenAt.IsZero()):
		k.Next = "its record is not in DNS; forget it: gull dkim remove " + k.Domain + " " +
			k.Selector
	case k.State == KeyRetired && now.After(k.RetiredAt.Add(RetiredFor)):
		k.Next = "take its record out of DNS, then: gull dkim remove " + k.Domain + " " + k.Selector
	case k.State == KeyRetired:
		k.Next = "leave its record in DNS until " + k.RetiredAt.Add(
			RetiredFor,
		).UTC().Format("2006-01-02 15:04 UTC") + ": messages under way are verified by it"
	case k.State == KeyMade && k.TakesOver && k.Overlap == 0:
		k.Next = "publish its record; it signs by itself as soon as DNS shows it"
	case k.State == KeyMade && k.TakesOver:
		k.Next = "publish its record; it signs by itself when DNS has shown it for " +
			(time.Duration(k.Overlap) * time.Second).String()
	case k.State == KeyMade:
		k.Next = "publish its record, then: " + takes
	case k.TakesOver:
		k.Next = "nothing: it signs from " + k.SeenAt.Add(
			time.Duration(k.Overlap)*time.Second,
		).UTC().Format("2006-01-02 15:04 UTC") + " by itself"
	default:
		k.Next = "its record is in DNS; let it sign: " + takes
	}
}
