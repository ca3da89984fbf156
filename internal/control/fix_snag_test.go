package control

import (
	"strings"
	"testing"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
)

// TestARouteTakesADomainFromThePlaceItNeeds leaves a route where it is unless
// another before it would take the domain.
func TestARouteTakesADomainFromThePlaceItNeeds(t *testing.T) {
	const old, world, provider = "  - {name: old, next_hop: smarthost, hosts: [o.example]}\n", "  - {name: world, recipients: [\"*.example\"], next_hop: mx}\n", "  - {name: provider, recipients: [b.example], next_hop: smarthost, hosts: [s.example]}\n"
	const bare = "  - {name: provider, next_hop: smarthost, hosts: [s.example]}\n"
	for _, c := range []struct{ routes, domain, order, recipients string }{
		{old + provider + world, "c.example", "old provider world", "b.example c.example"},
		{old + world + provider, "c.example", "old provider world", "b.example c.example"},
		{old + world + bare, "c.example", "old provider world", "c.example"},
		{old + world + provider, "c.elsewhere", "old world provider", "b.example c.elsewhere"},
	} {
		d, err := config.ParseDocument(
			"service: {host_name: a.example, postmaster: p@a.example}\nroutes:\n" + c.routes,
		)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := routeThrough(d, "provider", c.domain); err != nil {
			t.Fatal(err)
		}
		var order []string
		for _, r := range d.Items(section("routes")) {
			order = append(order, r.Name)
		}
		item, err := d.Item(section("routes"), "provider")
		if err != nil {
			t.Fatal(err)
		}
		var recipients []string
		for _, w := range words(item.Fields["recipients"]) {
			recipients = append(recipients, w.(string))
		}
		if strings.Join(order, " ") != c.order || strings.Join(recipients, " ") != c.recipients {
			t.Errorf("%s: %q, recipients %q", c.domain, order, recipients)
		}
		if _, err := routeThrough(d, "provider", c.domain); err == nil ||
			!strings.Contains(err.Error(),
				"already") {
			t.Errorf("the same again: %v", err)
		}
	}
}

func TestTermsAreAgreedWithThePeerThatThereIs(t *testing.T) {
	d, err := config.ParseDocument(
		"service: {host_name: a.example, postmaster: p@a.example}\npeers:\n  - {name: isles, domains: " +
			"[\"*.isles.example\"], tls: verified}\n",
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, domain := range []string{"north.isles.example", "c.example"} {
		if _, err := lessTLS(d, domain, diagnose.CertificateBad); err != nil {
			t.Fatal(err)
		}
	}
	list := d.Items(section("peers"))
	if len(list) != 2 || list[0].Name != "isles" || list[0].Fields["tls"] != "required" ||
		list[1].Name != "c.example" ||
		list[1].Fields["tls"] != "required" {
		t.Errorf("%+v", list)
	}
}
