package test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/readiness"
)

// certificates lists how those that are kept stand, by name.
func (s *stack) certificates(t *testing.T) map[string]api.CertificateState {
	t.Helper()
	var list []api.CertificateState
	if err := json.Unmarshal([]byte(s.run(t, "certificate", "status", "-o", "json")), &list); err != nil {
		t.Fatal(err)
	}
	out := map[string]api.CertificateState{}
	for _, x := range list {
		out[x.Name] = x
	}
	return out
}

// shows is the certificate that a listener with TLS from the first octet shows.
func shows(t *testing.T, address string) *x509.Certificate {
	t.Helper()
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0]
}

// authority changes how the simulated authority does.
func (s *stack) authority(t *testing.T, how string) {
	t.Helper()
	req, _ := http.NewRequest(http.MethodPut, "http://"+s.control+"/authority", strings.NewReader(how))
	resp, err := http.DefaultClient.Do(req)
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatal(err, resp)
	}
	resp.Body.Close()
}

// byAuthority lets the demo's certificate be asked for, and shown by the listener for imap over TLS.
func byAuthority(c string) string {
	return strings.NewReplacer("    from: by_hand\n", "    from: authority\n",
		"    kind: imap\n    tls: implicit\n",
		"    kind: imap\n    tls: implicit\n    certificate: kept:mail\n").Replace(c)
}

// Certificates are asked for, shown, renewed in time, and pinned in step; what goes wrong is told
// long before the end.
func TestCertificatesAreAskedForAndRenewed(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "certificates", byAuthority)
	at := "127.0.0.1:" + s.dnsPort(t)
	var first *x509.Certificate
	s.until0(t, func() error {
		first = shows(t, s.imaps)
		if first.Issuer.CommonName != "Simulated internet" {
			return fmt.Errorf("it shows %s", first.Issuer)
		}
		return nil
	})
	x := s.certificates(t)["mail"]
	if x.State != "shown" || len(x.UsedBy) != 1 || !strings.Contains(x.Says, "It is renewed on") ||
		x.RenewAt == nil || time.Until(*x.RenewAt) < 59*24*time.Hour {
		t.Errorf("%+v", x)
	}
	if left := answers(t, at, "_acme-challenge.mail.skerryline.example", dns.TypeTXT); len(left) != 0 {
		t.Errorf("the proof stays in DNS: %v", left)
	}
	// Pinned: the next one's record is there before it is shown; the former one's goes afterwards.
	tlsa := "_" + s.mxPort(t) + "._tcp.mail.skerryline.example"
	s.run(t, "simnet", "publish", tlsa+". 2 IN TLSA 3 1 1 "+x.Shown.Pin)
	s.authority(t, `{"life": "45s"}`)
	s.run(t, "certificate", "renew", "mail")
	if got := answers(t, at, tlsa, dns.TypeTLSA); len(got) != 2 {
		t.Errorf("two certificates are pinned by %v", got)
	}
	if now := shows(t, s.imaps); now.SerialNumber.Cmp(first.SerialNumber) != 0 {
		t.Error("the new one is shown before others can know it")
	}
	var second *x509.Certificate
	s.until0(t, func() error {
		if second = shows(t, s.imaps); second.SerialNumber.Cmp(first.SerialNumber) == 0 {
			return fmt.Errorf("the first one is still shown")
		}
		if got := answers(t, at, tlsa, dns.TypeTLSA); len(got) != 1 {
			return fmt.Errorf("pinned: %v", got)
		}
		return nil
	})
	// It lives for 45 seconds: it is renewed by itself, before it ends, without a break.
	s.authority(t, `{}`)
	if err := eventually(60*time.Second, func() error {
		now := shows(t, s.imaps)
		if time.Now().After(now.NotAfter) {
			t.Errorf("one is shown that ended at %s", now.NotAfter)
		}
		if now.SerialNumber.Cmp(second.SerialNumber) == 0 {
			return fmt.Errorf("not renewed")
		}
		return nil
	}); err != nil {
		t.Error(err, s.certificates(t)["mail"].Says)
	}
	// An authority in trouble: what is shown stays, the text says what the authority said, and it
	// is asked again by itself.
	s.authority(t, `{"fault": "too many certificates for skerryline.example this week"}`)
	if _, says, code := s.gull(t, "certificate", "renew", "mail"); code == 0 ||
		!strings.Contains(says, "too many certificates for skerryline.example this week (rateLimited)") {
		t.Errorf("%d %s", code, says)
	}
	if x := s.certificates(t)["mail"]; x.State != "shown" || x.Try == nil || x.Try.Failures != 1 ||
		x.Try.NextAt.Before(time.Now()) {
		t.Errorf("after a failure: %+v", x)
	}
}

// Who has no certificate yet and gets none is told by a snag.
func TestACertificateThatIsNotHadIsASnag(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "nocertificate", func(c string) string {
		return strings.Replace(byAuthority(c), "    proof: dns\n", "    proof: http\n", 1)
	})
	if err := eventually(40*time.Second, func() error {
		if out := s.run(t, "snag", "list", "-o", "json"); !strings.Contains(out, "certificate-not-had") ||
			!strings.Contains(out, "(unauthorized)") {
			return fmt.Errorf("snags: %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if x := s.certificates(t)["mail"]; x.State != "none" || !strings.Contains(x.Says, "(unauthorized)") {
		t.Errorf("%+v", x)
	}
}

// An authority that others wrote gives us certificates, by each of the three proofs.
func TestAnAuthorityThatOthersWroteGivesCertificates(t *testing.T) {
	takesLong(t)
	t.Parallel()
	pebble := filepath.Join(t.TempDir(), "authority")
	made := exec.Command("go", "build", "-o", pebble, "github.com/letsencrypt/pebble/v2/cmd/pebble")
	made.Dir = "authority"
	if out, err := made.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	directory, proofs, policies := freePort("127.0.0.1"), freePort("127.0.0.1"), freePort("127.0.0.1")
	s := own(t, "strictauthority", func(c string) string {
		c = strings.NewReplacer(`https://authority.example:`+s0(c)+`/acme/directory`,
			"https://strict-authority.example:"+directory+"/dir").Replace(byAuthority(c))
		return strings.Replace(c, "certificates:\n", `certificates:
  - {name: by http, names: [mail.skerryline.example], proof: http}
  - {name: by tls, names: [mail.skerryline.example], proof: tls, key: rsa-2048}
  - {name: by dns, names: [skerryline.example, "*.skerryline.example"], proof: dns}
`, 1)
	}, "--proofs", "127.0.0.1:"+proofs, "--policies", "127.0.0.1:"+policies, "--policies-cert", "kept:by tls")
	s.run(t, "simnet", "publish", "strict-authority.example. 60 IN A 127.0.0.1")
	s.run(t, "simnet", "publish", "--replace", "skerryline.example. 60 IN A 127.0.0.1")
	dir := t.TempDir()
	resp, err := http.Get("http://" + s.control + "/certificates/strict-authority.example")
	if err != nil {
		t.Fatal(err)
	}
	var pair bytes.Buffer
	_, _ = pair.ReadFrom(resp.Body)
	resp.Body.Close()
	conf, _ := json.Marshal(map[string]any{"pebble": map[string]any{
		"listenAddress": "127.0.0.1:" + directory, "managementListenAddress": "127.0.0.1:" + freePort("127.0.0.1"),
		"certificate": filepath.Join(dir, "pair.pem"), "privateKey": filepath.Join(dir, "pair.pem"),
		"httpPort": json.Number(proofs), "tlsPort": json.Number(policies)}})
	for name, text := range map[string][]byte{"pair.pem": pair.Bytes(), "config.json": conf} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	server := exec.Command(pebble, "-config", filepath.Join(dir, "config.json"), "-dnsserver",
		"127.0.0.1:"+s.dnsPort(t))
	server.Env = append(os.Environ(), "PEBBLE_VA_NOSLEEP=1", "PEBBLE_WFE_NONCEREJECT=20")
	log, _ := os.Create(filepath.Join(dir, "log"))
	server.Stdout, server.Stderr = log, log
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	if err := eventually(20*time.Second, func() error {
		_, err := tls.Dial("tcp", "127.0.0.1:"+directory,
			&tls.Config{InsecureSkipVerify: true})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"by http", "by tls", "by dns"} {
		if _, says, code := s.gull(t, "certificate", "renew", name); code != 0 {
			text, _ := os.ReadFile(log.Name())
			t.Errorf("%s: %s\n%.3000s", name, says, text)
			continue
		}
		if x := s.certificates(t)[name]; x.State != "shown" {
			t.Errorf("%s: %+v", name, x)
		}
	}
	if c := shows(t, "127.0.0.1:"+policies); !strings.Contains(strings.ToLower(c.Issuer.CommonName), "pebble") {
		t.Errorf("the policies are under %s", c.Issuer)
	}
	if c := s.certificates(t)["by dns"].Shown; c == nil || len(c.Names) != 2 {
		t.Errorf("with an asterisk: %+v", c)
	}
}

// s0 is the port of the simulated authority in a configuration.
func s0(c string) string {
	_, rest, _ := strings.Cut(c, "https://authority.example:")
	port, _, _ := strings.Cut(rest, "/")
	return port
}

// made is a certificate for names as files have it, by an authority of its own.
func made(t *testing.T, until time.Duration, names ...string) (chain, key string) {
	t.Helper()
	issue := func(template, parent *x509.Certificate, public any, signer *ecdsa.PrivateKey) string {
		der, err := x509.CreateCertificate(rand.Reader, template, parent, public, signer)
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	above, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	own, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tide authority"}, IsCA: true,
		BasicConstraintsValid: true, NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().Add(time.Hour * 9999)}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), DNSNames: names, NotBefore: time.Now().Add(-48 * time.Hour),
		NotAfter: time.Now().Add(until)}
	chain = issue(leaf, ca, &own.PublicKey, above) + issue(ca, ca, &above.PublicKey, above)
	der, _ := x509.MarshalPKCS8PrivateKey(own)
	return chain, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// By hand: what is uploaded is checked first, kept encrypted, and shown when its time has come.
func TestCertificatesAreUploadedByHand(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "uploads", func(c string) string {
		return strings.Replace(byAuthority(c), "    from: authority\n", "    from: by_hand\n", 1)
	})
	dir := t.TempDir()
	upload := func(chain, key string, more ...string) (string, string, int) {
		for name, text := range map[string]string{"chain": chain, "key": key} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		return s.gull(t, append([]string{"certificate", "upload", "mail", "--chain", filepath.Join(dir, "chain"),
			"--key", filepath.Join(dir, "key")}, more...)...)
	}
	good, key := made(t, 900*time.Hour, "mail.skerryline.example")
	_, otherKey := made(t, 900*time.Hour, "mail.skerryline.example")
	ended, endedKey := made(t, -time.Hour, "mail.skerryline.example")
	foreign, foreignKey := made(t, 900*time.Hour, "mail.kelpworks.example")
	halves := strings.SplitAfter(good, "-----END CERTIFICATE-----\n")
	for want, c := range map[string][2]string{
		"the key does not belong to the certificate": {good, otherKey},
		"it ended on": {ended, endedKey},
		"mail.skerryline.example is not among its names":      {foreign, foreignKey},
		"the first certificate of the chain must be that":     {halves[1] + halves[0], key},
		"there is no certificate in it":                       {"none", key},
		"key: there is no private key in it; write it in PEM": {good, good},
	} {
		if _, says, code := upload(c[0], c[1]); code == 0 || !strings.Contains(says, want) {
			t.Errorf("%s: %d %s", want, code, says)
		}
	}
	if x := s.certificates(t)["mail"]; len(x.Kept) != 0 || x.State != "none" {
		t.Errorf("something wrong was kept: %+v", x)
	}
	if out, says, code := upload(good, key, "--check"); code != 0 || !strings.Contains(out, "does not verify here") ||
		len(s.certificates(t)["mail"].Kept) != 0 {
		t.Errorf("a check: %s %s", out, says)
	}
	from := time.Now().Add(4 * time.Second).UTC().Truncate(time.Second)
	if _, says, code := upload(good, key, "--from", from.Format(time.RFC3339)); code != 0 {
		t.Fatal(says)
	}
	if c := shows(t, s.imaps); c.Issuer.CommonName == "Tide authority" {
		t.Error("it is shown before its time")
	}
	s.until0(t, func() error {
		if c := shows(t, s.imaps); c.Issuer.CommonName != "Tide authority" {
			return fmt.Errorf("it shows %s", c.Issuer)
		}
		return nil
	})
	if time.Now().Before(from) {
		t.Error("it was shown before its time")
	}
	if a := aspect(t, s.ready(t, "skerryline.example"), "tls"); a.Result == readiness.Fail {
		t.Errorf("TLS: %s", a.Says)
	}
	// The key is nowhere to be read.
	if s.number(t, `SELECT count(*) FROM certificate WHERE position('PRIVATE KEY'::bytea in key) > 0`) != 0 {
		t.Error("the key is kept in the clear")
	}
	if out := s.run(t, "certificate", "status", "mail", "-o", "json"); strings.Contains(out, "PRIVATE") {
		t.Error("the key is told")
	}
}

// Some hosts know us by our certificate alone: a route shows it, and without it mail waits or comes
// back as they say.
func TestARouteShowsOurCertificate(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "ourcertificate", func(c string) string {
		return strings.Replace(byAuthority(c), "  - name: to the world\n", `  - name: who knows us
    recipients: [brightbuoy.example]
    next_hop: mx
    certificate: kept:mail
  - name: to the world
`, 1)
	})
	s.until0(t, func() error {
		if x := s.certificates(t)["mail"]; x.State != "shown" || !slices.Contains(x.UsedBy, "route who knows us") {
			return fmt.Errorf("%+v", x)
		}
		return nil
	})
	for _, host := range []string{"mx.brightbuoy.example", "mx.saltmarsh.example"} {
		s.behave(t, host, `{"knows_by": "mail.skerryline.example"}`)
	}
	s.until(t, s.out(t, "a@brightbuoy.example"), mail.Delivered)
	// The other route shows none: what the host says is told.
	if d := s.until(t, s.out(t, "a@saltmarsh.example"), mail.Bounced); !strings.Contains(d.Last.Text,
		"show a certificate for mail.skerryline.example first") {
		t.Errorf("%+v", d.Last)
	}
	// A probe of the route shows it, too.
	if out := s.run(t, "probe", "brightbuoy.example"); strings.Contains(out, "530") {
		t.Errorf("%s", out)
	}
}
