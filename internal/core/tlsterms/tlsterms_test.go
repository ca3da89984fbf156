package tlsterms

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"strings"
	"testing"
	"time"
)

func enforced(mx ...string) *Policy { return policyOf(ModeEnforce, mx...) }

func policyOf(mode string, mx ...string) *Policy { return &Policy{ID: "1", Mode: mode, MX: mx} }

// Which of the four counts, for each way in which they can meet.
func TestTheStrongestPromiseCounts(t *testing.T) {
	key := TLSA{usageHost, 1, 1, make([]byte, 32)}
	odd := TLSA{0, 1, 1, make([]byte, 32)} // PKIX-TA: not for mail
	pin, no, plain := DANE{Secure: true, Records: []TLSA{key}}, DANE{}, Demand{TLS: Offered}
	const domain, host = "saltmarsh.example", "mx.saltmarsh.example"
	for name, x := range map[string]struct {
		demand Demand
		policy *Policy
		dane   DANE
		tls    string
		by     string
		names  string
		unfit  string
	}{
		"the route's alone":                 {plain, nil, no, Offered, ByRoute, host, ""},
		"the peer's":                        {Demand{TLS: Required, Peer: "salt"}, nil, no, Required, ByPeer, host, ""},
		"a policy in force":                 {plain, enforced(host), no, Verified, BySTS, host, ""},
		"a policy, TLS off here":            {Demand{TLS: Off}, enforced(host), no, Verified, BySTS, host, ""},
		"a policy by a star":                {plain, enforced("*." + domain), no, Verified, BySTS, host, ""},
		"a host that it does not name":      {plain, enforced("mx2." + domain), no, Verified, BySTS, host, "names no host"},
		"a star for two labels":             {plain, enforced("*.example"), no, Verified, BySTS, host, "names no host"},
		"a policy being tried out":          {plain, policyOf(ModeTesting, host), no, Offered, ByRoute, host, ""},
		"a policy taken back":               {plain, policyOf(ModeNone), no, Offered, ByRoute, host, ""},
		"a name agreed, and a policy":       {Demand{TLS: Verified, Peer: "salt", Name: "a.example"}, enforced(host), no, Verified, BySTS, "a.example", ""},
		"records in signed DNS":             {plain, nil, pin, Pinned, ByDANE, host + " " + domain, ""},
		"both: DANE comes first":            {plain, enforced("mx2." + domain), pin, Pinned, ByDANE, host + " " + domain, ""},
		"records that nobody signed":        {plain, nil, DANE{Records: []TLSA{key}}, Offered, ByRoute, host, ""},
		"records of no use to mail":         {plain, nil, DANE{Secure: true, Records: []TLSA{odd}}, Required, ByDANE, host, ""},
		"of no use, and more is asked":      {Demand{TLS: Verified}, nil, DANE{Secure: true, Records: []TLSA{odd}}, Verified, ByRoute, host, ""},
		"records that cannot be had":        {plain, nil, DANE{Fault: "SERVFAIL"}, Offered, ByDANE, host, "cannot be told"},
		"theirs are broken, and we know it": {Demand{TLS: Offered, Ignore: true}, enforced("mx2." + domain), DANE{Fault: "x"}, Offered, ByRoute, host, ""},
	} {
		got := Of(x.demand, "to the world", domain, host, x.policy, x.dane)
		if got.TLS != x.tls || got.By != x.by || strings.Join(got.Names, " ") != x.names ||
			(x.unfit == "") != (got.Unfit == "") || !strings.Contains(got.Unfit, x.unfit) {
			t.Errorf("%s: %+v", name, got)
		}
	}
	tried := Of(plain, "r", domain, host, policyOf(ModeTesting, "other.example"), no)
	if tried.Testing == nil ||
		tried.Testing.Unfit == "" || tried.Unfit != "" ||
		!strings.Contains(tried.Words(), "were in force: gets no mail") {
		t.Errorf("a policy being tried out: %+v", tried)
	}
}

func TestPoliciesAreReadStrictly(t *testing.T) {
	p, err := ParsePolicy("version: STSv1\r\nmode: enforce\nmx: MX.Saltmarsh.example\nmx: *.tern.example\n" +
		"new: thing\nmax_age: 604800\nmode: none\n")
	if err != nil || p.Mode != ModeEnforce || p.MX[0] != "mx.saltmarsh.example" || p.MaxAge != 604800 {
		t.Errorf("%+v %v", p, err)
	}
	if again, err := ParsePolicy(p.Text()); err != nil || strings.Join(again.MX, " ") != strings.Join(p.MX, " ") {
		t.Errorf("what we serve is not what we read: %+v %v", again, err)
	}
	for text, says := range map[string]string{
		"": "no mode",
		"mode: enforce\nversion: STSv1\nmx: a.example\nmax_age: 1":         "begin with version",
		"version: STSv2\nmode: none\nmax_age: 1":                           "begin with version",
		"version: STSv1\nmode: strict\nmx: a.example\nmax_age: 1":          "none of enforce",
		"version: STSv1\nmode: enforce\nmax_age: 1":                        "names no mx",
		"version: STSv1\nmode: enforce\nmx: a.example":                     "no max_age",
		"version: STSv1\nmode: enforce\nmx: a..b\nmax_age: 1":              "no host name",
		"version: STSv1\nmode: enforce\nmx: a.example\nmax_age: 999999999": "up to",
		"version: STSv1\n<html>":                                           "no field",
	} {
		if _, err := ParsePolicy(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, not %s", text, err, says)
		}
	}
	for texts, want := range map[string]string{"v=STSv1; id=20261130T01;": "20261130T01", "v=spf1 -all": "",
		"v=STSv1;id=a|v=STSv1;id=b": "two", "v=STSv1; id=a-b": "letters and digits", "v=STSv1;": "letters and digits"} {
		id, err := ParseRecord(strings.Split(texts, "|"))
		if err == nil && id != want || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %s %v", texts, id, err)
		}
	}
}

func TestRecordsNameCertificates(t *testing.T) {
	make := func(name string, ca *x509.Certificate, by *ecdsa.PrivateKey, ends time.Time) (*x509.Certificate, *ecdsa.PrivateKey) {
		key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		c := &x509.Certificate{
			SerialNumber:          big.NewInt(1),
			Subject:               pkix.Name{CommonName: name},
			DNSNames:              []string{name},
			NotBefore:             time.Now().Add(-48 * time.Hour),
			NotAfter:              ends,
			BasicConstraintsValid: true,
			IsCA:                  ca == nil,
		}
		if ca == nil {
			ca, by = c, key
		}
		der, err := x509.CreateCertificate(rand.Reader, c, ca, key.Public(), by)
		if err != nil {
			t.Fatal(err)
		}
		made, _ := x509.ParseCertificate(der)
		return made, key
	}
	later := time.Now().Add(time.Hour)
	ca, caKey := make("authority", nil, nil, later)
	leaf, _ := make("mx.saltmarsh.example", ca, caKey, later)
	old, _ := make("elsewhere.example", ca, caKey, time.Now().Add(-time.Hour))
	strange, _ := make("mx.saltmarsh.example", nil, nil, later)
	of := func(usage uint8, c *x509.Certificate) TLSA {
		sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
		return TLSA{usage, 1, 1, sum[:]}
	}
	names := []string{"mx.saltmarsh.example"}
	for name, x := range map[string]struct {
		records []TLSA
		shown   []*x509.Certificate
		says    string
	}{
		"its own key":               {[]TLSA{of(3, leaf)}, []*x509.Certificate{leaf}, ""},
		"its own key, of old date":  {[]TLSA{of(3, old)}, []*x509.Certificate{old}, ""},
		"one of two":                {[]TLSA{of(3, strange), of(3, leaf)}, []*x509.Certificate{leaf, ca}, ""},
		"another key":               {[]TLSA{of(3, leaf)}, []*x509.Certificate{strange}, "none of 1 records"},
		"its authority":             {[]TLSA{of(2, ca)}, []*x509.Certificate{leaf, ca}, ""},
		"its authority, not shown":  {[]TLSA{of(2, ca)}, []*x509.Certificate{leaf}, "none of 1 records"},
		"its authority, other name": {[]TLSA{of(2, ca)}, []*x509.Certificate{old, ca}, "expired"},
		"a strange authority":       {[]TLSA{of(2, strange)}, []*x509.Certificate{leaf, ca}, "none of 1 records"},
		"nothing":                   {[]TLSA{of(3, leaf)}, nil, "no certificate"},
	} {
		err := VerifyPinned(x.records, x.shown, names)
		if (err == nil) != (x.says == "") || err != nil && !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
