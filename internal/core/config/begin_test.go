package config

import (
	"strings"
	"testing"
)

// What gull setup begins with is a configuration that may be used as it is, and never an open door.
func TestABeginningIsSafe(t *testing.T) {
	whole := Beginning{HostName: "mail.skerryline.example", Domain: "skerryline.example",
		Postmaster: "keeper@skerryline.example", Listen: "::"}
	with := func(f func(*Beginning)) *Beginning { b := whole; f(&b); return &b }
	for name, b := range map[string]*Beginning{
		"the least":     &whole,
		"with machines": with(func(b *Beginning) { b.Networks = []string{"192.0.2.0/24", "2001:db8::/32", "192.0.2.9"} }),
		"by a provider": with(func(b *Beginning) { b.Smarthost = "smtp.harbourlight.example:587" }),
		"certificates":  with(func(b *Beginning) { b.Authority, b.Agreed = "https://authority.example/directory", true }),
	} {
		if err := b.Check(); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		c, err := Parse([]byte(b.Text()))
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range c.RelayRules {
			if len(r.Networks) == 0 && len(r.Accounts) == 0 {
				t.Errorf("%s: rule %s lets everybody send", name, r.Name)
			}
		}
		for _, l := range c.Listeners {
			if l.Kind == Inside && len(l.Allow) == 0 || l.Kind != Inside && l.TLS == "off" {
				t.Errorf("%s: listener %s is open or in the clear", name, l.Name)
			}
		}
	}
	for say, b := range map[string]*Beginning{
		"host_name: \"mail\" is no full name":     with(func(b *Beginning) { b.HostName = "mail" }),
		"domain: \"\" is no domain":               with(func(b *Beginning) { b.Domain = "" }),
		"postmaster: \"a@b.example\" is no":       with(func(b *Beginning) { b.Postmaster = "a@b.example" }),
		"networks: 0.0.0.0/0 is everybody":        with(func(b *Beginning) { b.Networks = []string{"0.0.0.0/0"} }),
		"networks: \"x\" is no network":           with(func(b *Beginning) { b.Networks = []string{"x"} }),
		"agreed: read the terms of https://a.b/d": with(func(b *Beginning) { b.Authority = "https://a.b/d" }),
		"authority: \"ftp://a.b\" is no https":    with(func(b *Beginning) { b.Authority = "ftp://a.b" }),
		"listen: \"all\" is no address":           with(func(b *Beginning) { b.Listen = "all" }),
		"host_name: \"a b.example\" is no full":   with(func(b *Beginning) { b.HostName = "a b.example" }),
		"smarthost":                               with(func(b *Beginning) { b.Smarthost = "no such host" }),
	} {
		if err := b.Check(); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", say, err)
		}
	}
}
