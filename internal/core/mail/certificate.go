package mail

import (
	"time"

	"gullroute/internal/core/certificate"
)

// KeptCertificate is a certificate as it was made or uploaded once.
type KeptCertificate struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	MadeAt   time.Time `json:"made_at"`
	Who      string    `json:"who"`
	ActiveAt time.Time `json:"active_at" doc:"From when it is shown"`
	certificate.Info
	Chain string `json:"-"` // PEM
	Key   []byte `json:"-"` // PEM, encrypted
}

// CertificateTry is how asking for a certificate went last.
type CertificateTry struct {
	Name     string    `json:"-"`
	TriedAt  time.Time `json:"tried_at"`
	NextAt   time.Time `json:"next_at" doc:"When it is asked for again"`
	Failures int       `json:"failures" doc:"In a row"`
	Fault    string    `json:"fault"`
}
