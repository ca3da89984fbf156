package api

import "gullroute/internal/core/mail"

// TLSPolicyChecked is what a domain says of TLS for mail to it, and what that means for each of
// its hosts.
type TLSPolicyChecked struct {
	mail.TLSPolicy
	Route string         `json:"route" doc:"By which mail to the domain leaves"`
	Hosts []TLSHostTerms `json:"hosts"`
	Fails string         `json:"fails,omitempty" doc:"Why its hosts are not known"`
}

// TLSHostTerms are the terms of TLS towards one host.
type TLSHostTerms struct {
	Host string `json:"host"`
	TLS  string `json:"tls" enum:"off,offered,required,verified,pinned"`
	By   string `json:"by" enum:"route,peer,MTA-STS,DANE" doc:"Who decided"`
	Says string `json:"says" doc:"The same in words"`
	May  bool   `json:"may" doc:"It gets mail"`
}
