package config

import (
	"strings"
	"testing"

	"gullroute/internal/core/directory"
)

// What is wrong with certificates, DNS servers, the authority, reports and proxies is named by its
// field, and what is right is taken.
func TestSettingsOfCertificatesDNSServersAndReports(t *testing.T) {
	const authority = "  certificate_authority: {directory: \"https://authority.example/dir\", agreed: true}\n"
	const customs = "dns_servers:\n  - {name: customs, address: \"192.0.2.53:53\", zones: [skerryline.example], " +
		"key_name: k.example, secret: s}\n"
	const edge = "listeners:\n  - {name: edge, address: \"0.0.0.0:25\", kind: edge, tls: starttls, "
	const route = "routes:\n  - {name: out, next_hop: mx, recipients: [\"*.example\"], "
	const mine = "certificates:\n  - {name: mail, names: [mail.skerryline.example]"
	for _, c := range []struct{ text, want string }{
		{head + authority + customs + mine + ", proof: dns}\n" + edge + "certificate: \"kept:mail\"}\n" + tail, ""},
		{head + mine + ", from: by_hand}\n" + route + "certificate: \"kept:mail\"}\n" + tail, ""},
		{head + mine + "}\n" + tail, "certificates[0].from: no authority is set"},
		{head + authority + mine + ", proof: dns}\n" + tail,
			"certificates[0].proof: no DNS server of ours takes changes of mail.skerryline.example"},
		{head + authority + "certificates:\n  - {name: a, names: [\"*.skerryline.example\"]}\n" + tail,
			"certificates[0].proof: a name with an asterisk is proved by dns only"},
		{head + authority + "certificates:\n  - {name: a, names: [Mail.example]}\n" + tail, "write one in lower case"},
		{head + authority + mine + "}\n  - {name: mail, names: [a.example]}\n" + tail, `certificates[1].name: "mail" stands already`},
		{head + edge + "certificate: \"kept:other\"}\n" + tail,
			"listeners[0].certificate: there is no certificate other among the certificates"},
		{head + mine + ", from: by_hand}\n" + edge + "certificate: \"kept:mail\", key: k.pem}\n" + tail,
			"listeners[0].certificate: the key of kept:mail is kept with it"},
		{head + route + "certificate: c.pem}\n" + tail, "routes[0].certificate: certificate and key go together"},
		{head + strings.Replace(authority, "https", "http", 1) + tail,
			"service.certificate_authority.directory: what goes there must not be read in transit"},
		{head + strings.Replace(authority, ", agreed: true", "", 1) + tail,
			"service.certificate_authority.agreed: read the authority's terms"},
		{head + strings.Replace(authority, "agreed", "key_id: us, agreed", 1) + tail,
			"service.certificate_authority.secret: key_id and secret go together"},
		{head + strings.Replace(customs, ":53\"", ":0\"", 1) + tail, "dns_servers[0].address: write the port, too"},
		{head + strings.Replace(customs, ", secret: s", "", 1) + tail, "dns_servers[0].secret: this field is missing"},
		{head + strings.Replace(customs, "[skerryline.example]", "[a.example, a.example]", 1) + tail,
			`dns_servers[0].zones: "a.example" stands already`},
		{head + "  feedback: {address: reports@saltmarsh.example}\n" + tail,
			"service.feedback.address: reports@saltmarsh.example is no address of a local or shared domain of ours"},
		{head + edge + "complete: true}\n" + tail, "listeners[0].complete: only a listener of kind inside has it"},
		{head + "domains:\n  - {name: skerryline.example, kind: local, verify: call}\n", "domains[0].verify: a local domain's"},
	} {
		_, err := Parse([]byte(c.text))
		switch {
		case err == nil && c.want == "":
		case err == nil || c.want == "" || !strings.Contains(err.Error(), c.want):
			t.Errorf("%s\n%v\nwant %q", c.text, err, c.want)
		}
	}
}

// The DNS server of a name is that of the longest zone around it; a name that only ends alike is in none.
func TestTheServerOfANameIsThatOfItsZone(t *testing.T) {
	c, err := Parse([]byte(head + "dns_servers:\n" +
		"  - {name: wide, address: \"192.0.2.1:53\", zones: [skerryline.example], key_name: k.example, secret: s}\n" +
		"  - {name: near, address: \"192.0.2.2:53\", zones: [mail.skerryline.example], key_name: k.example, secret: s}\n" + tail))
	if err != nil {
		t.Fatal(err)
	}
	k := Compile(c, 1, directory.New())
	for name, want := range map[string]string{
		"skerryline.example":               "wide skerryline.example",
		"_dmarc.Skerryline.example.":       "wide skerryline.example",
		"_25._tcp.mail.skerryline.example": "near mail.skerryline.example",
		"otherskerryline.example":          " ",
		"example":                          " ",
	} {
		server, zone := k.ServerOf(name)
		got := " "
		if server != nil {
			got = server.Name + " " + zone
		}
		if got != want {
			t.Errorf("%s: %q, not %q", name, got, want)
		}
	}
}
