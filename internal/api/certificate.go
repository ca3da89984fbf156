package api

import (
	"time"

	"gullroute/internal/core/certificate"
	"gullroute/internal/core/mail"
)

// CertificateState is a certificate of the configuration and how it stands.
type CertificateState struct {
	Name    string                 `json:"name"`
	Names   []string               `json:"names" doc:"Those that it is to have"`
	From    string                 `json:"from" enum:"authority,by_hand"`
	State   string                 `json:"state" enum:"shown,none,ends soon,ended,incomplete" doc:"incomplete: it lacks names"`
	Says    string                 `json:"says" doc:"How it stands and what comes next"`
	UsedBy  []string               `json:"used_by" doc:"Listeners and routes that show it"`
	Shown   *mail.KeptCertificate  `json:"shown,omitempty"`
	RenewAt *time.Time             `json:"renew_at,omitempty" doc:"When it is asked for again"`
	Try     *mail.CertificateTry   `json:"try,omitempty" doc:"How asking went last, if it failed"`
	Kept    []mail.KeptCertificate `json:"kept" doc:"All that are kept under the name, the latest first"`
}

// CertificateChecked is what an uploaded certificate is like.
type CertificateChecked struct {
	certificate.Info
	Faults   []string              `json:"faults" doc:"What keeps it from being used"`
	Warnings []string              `json:"warnings"`
	Kept     *mail.KeptCertificate `json:"kept,omitempty" doc:"As it is kept; not there if it was only checked"`
}
