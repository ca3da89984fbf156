package config

import (
	"slices"

	"gullroute/internal/core/address"
)

// The return paths of what is passed on.
const (
	ReturnOurs   = "ours"
	ReturnSender = "sender"
)

// Forwards say how mail of others goes on that is passed to addresses elsewhere.
type Forwards struct {
	ReturnPath     string       `yaml:"return_path" enum:"ours,sender" default:"ours" doc:"ours: an address of our domain, signed and good for two weeks, through which notices go back to the sender; so SPF passes. sender: the sender's own address; SPF of strict domains fails behind us"`
	Seal           string       `yaml:"seal" enum:"on,off" default:"on" doc:"Whether what we found of the sender goes along under seal (ARC), by the DKIM key of the domain that passes it on"`
	TrustedSealers []DomainName `yaml:"trusted_sealers" doc:"Domains whose seals we believe: where DMARC fails because they passed a message on, and they saw it pass, it counts"`
}

// DomainForwards are a domain's own word on it.
type DomainForwards struct {
	ReturnPath string           `yaml:"return_path" enum:"ours,sender" doc:"The service's if not given"`
	Except     address.Patterns `yaml:"except" doc:"Its mailboxes and aliases for which the other one holds"`
}

// ReturnsToUs reports whether what an address of a domain passes on has a return path of ours.
func (f *Forwards) ReturnsToUs(d *Domain, by address.Address) bool {
	ours := f.ReturnPath != ReturnSender
	if d.Forwards.ReturnPath != "" {
		ours = d.Forwards.ReturnPath == ReturnOurs
	}
	if _, ok := d.Forwards.Except.Match(by); ok && len(d.Forwards.Except) > 0 {
		return !ours
	}
	return ours
}

// Heeds reports whether the seals of a domain are believed.
func (f *Forwards) Heeds(sealer string) bool {
	return slices.Contains(f.TrustedSealers, DomainName(sealer))
}
