package config

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// Operators is how people who administer sign in.
type Operators struct {
	Link         string       `yaml:"link" doc:"How people reach the console, like https://mail.skerryline.example: passkeys belong to its host name, and single sign-on comes back to it"`
	SecondFactor string       `yaml:"second_factor" enum:"free,administrators,everybody" default:"free" doc:"Who must use a second factor or a passkey: whoever has none sets one up before anything else"`
	SingleSignOn SingleSignOn `yaml:"single_sign_on" doc:"An OpenID Connect provider that says who somebody is"`
}

// Who must use a second factor.
const (
	SecondOfAdministrators = "administrators"
	SecondOfEverybody      = "everybody"
)

// NeedsSecond reports whether somebody with a role must use a second factor.
func (s Operators) NeedsSecond(role mail.Role) bool {
	return s.SecondFactor == SecondOfEverybody ||
		s.SecondFactor == SecondOfAdministrators && role == mail.Administrator
}

// SingleSignOn is an OpenID Connect provider, and what it may say.
type SingleSignOn struct {
	Issuer    string   `yaml:"issuer" doc:"The provider, like https://id.skerryline.example; none if not given"`
	Name      string   `yaml:"name" default:"single sign-on" doc:"What people know it by"`
	Client    string   `yaml:"client" doc:"Our name there; it sends people back to LINK/api/v1/single-sign-on/back"`
	Secret    string   `yaml:"secret" doc:"Name of the secret that it gave us (gull secret set); none for a public client"`
	NameClaim string   `yaml:"name_claim" default:"preferred_username" doc:"The claim that is somebody's name here"`
	RoleClaim string   `yaml:"role_claim" default:"groups" doc:"The claim from which the role is taken"`
	Roles     []string `yaml:"roles" doc:"Which role its values give, like administrator: mail-keepers, or operator of skerryline.example: wardens; the first that fits counts, and whoever fits none is not let in"`
	Mailboxes string   `yaml:"mailboxes" enum:"no,yes" default:"no" doc:"Whether it opens people's own mailbox page, by the address that it has verified"`
}

// RoleTerm gives a role by the value of a claim: those who have it see and do only what is about
// the domains, where there are any.
type RoleTerm struct {
	Value   string
	Role    mail.Role
	Domains []string
}

// parseRoleTerm reads a term like "operator of skerryline.example: wardens".
func parseRoleTerm(text string) (t RoleTerm, err error) {
	left, value, ok := strings.Cut(text, ":")
	role, domains, bounded := strings.Cut(strings.TrimSpace(left), " of ")
	t = RoleTerm{
		Value:   strings.TrimSpace(value),
		Role:    mail.Role(role),
		Domains: strings.Fields(domains),
	}
	if !ok || t.Value == "" || !rights.Known(t.Role) || bounded && len(t.Domains) == 0 {
		return t, fmt.Errorf(
			"%q gives nobody a role: write a role (administrator, operator, auditor or "+
				"viewer) and a value, like administrator: mail-keepers, or operator of "+
				"skerryline.example: wardens",
			text,
		)
	}
	for i, d := range t.Domains {
		if t.Domains[i], err = address.ParseDomain(d); err != nil {
			return t, err
		}
	}
	return t, nil
}

// Offered reports that there is a provider.
func (s SingleSignOn) Offered() bool { return s.Issuer != "" }

// Fits is the first term that values of the claim fit.
func (s SingleSignOn) Fits(values []string) (RoleTerm, bool) {
	for _, text := range s.Roles {
		if t, err := parseRoleTerm(text); err == nil && slices.Contains(values, t.Value) {
			return t, true
		}
	}
	return RoleTerm{}, false
}

// webAddress says what is wrong with a URL to which secrets go.
func webAddress(text string) string {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return "write a URL like https://mail.skerryline.example"
	case u.Scheme != "https" && !(u.Scheme == "http" && loopback(u)):
		return "what goes there must not be read in transit: write https (http only on loopback)"
	}
	return ""
}

func (s Operators) check() (field, fault string) {
	if s.Link != "" {
		if fault := webAddress(s.Link); fault != "" {
			return "link", fault
		}
		if u, _ := url.Parse(s.Link); strings.Trim(u.Path, "/") != "" {
			return "link", "write it without a path: the console stands at the root"
		}
	}
	const at = "single_sign_on."
	one := s.SingleSignOn
	if !one.Offered() {
		return "", ""
	}
	if fault := webAddress(one.Issuer); fault != "" {
		return at + "issuer", fault
	}
	switch {
	case s.Link == "":
		return "link", "single sign-on comes back to it: say how people reach the console, like " +
			"https://mail.skerryline.example"
	case one.Client == "":
		return at + "client", "write the name under which the provider knows us"
	case len(one.Roles) == 0 && one.Mailboxes != "yes":
		return at + "roles", "nobody would be let in: say which values of " + one.RoleClaim +
			" give which role, like administrator: mail-keepers"
	}
	for i, text := range one.Roles {
		if _, err := parseRoleTerm(text); err != nil {
			return fmt.Sprintf("%sroles[%d]", at, i), err.Error()
		}
	}
	return "", ""
}
