package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// authority vouches for certificates of the tests.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{}
	der, key := sign(
		t,
		&x509.Certificate{
			Subject:               pkix.Name{CommonName: "tests"},
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign,
		},
		nil,
	)
	a.key = key
	var err error
	if a.cert, err = x509.ParseCertificate(der); err != nil {
		t.Fatal(err)
	}
	return a
}

func sign(t *testing.T, c *x509.Certificate, by *authority) ([]byte, *ecdsa.PrivateKey) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c.SerialNumber, c.NotBefore, c.NotAfter = big.NewInt(
		time.Now().UnixNano(),
	), time.Now().Add(-time.Hour), time.Now().Add(90*24*time.Hour)
	parent, signer := c, key
	if by != nil {
		parent, signer = by.cert, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	return der, key
}

// write puts a certificate for a name and its key into files.
func (a *authority) write(t *testing.T, name, certFile, keyFile string) {
	t.Helper()
	der, key := sign(
		t,
		&x509.Certificate{
			Subject:     pkix.Name{CommonName: name},
			DNSNames:    []string{name},
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		},
		a,
	)
	secret, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{certFile: {Type: "CERTIFICATE", Bytes: der},
		keyFile: {Type: "EC PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

func TestCertificatesOfFilesAreShownReloadedAndAsked(t *testing.T) {
	takesLong(t)
	t.Parallel()
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	cert, key, roots := in("cert"), in("key"), in("ca")
	clientCert, clientKey := in("client"), in("client.key")
	ours, strangers := newAuthority(t), newAuthority(t)
	ours.write(t, "mail.skerryline.example", cert, key)
	if err := os.WriteFile(
		roots,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ours.cert.Raw}),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	address := loopback()
	own(t, "certificates", func(c string) string {
		c = strings.Replace(
			c,
			"listeners:\n",
			fmt.Sprintf(
				"listeners:\n  - {name: machines, address: \"%s\", kind: inside, tls: required, "+
					"certificate: %s, key: %s, client_certificates: %s}\n",
				address,
				cert,
				key,
				roots,
			),
			1,
		)
		return strings.Replace(
			c,
			"relay_rules:\n",
			"relay_rules:\n  - {name: bridge by certificate, certificates: [bridge.skerryline.example], "+
				"listeners: [machines], action: allow}\n",
			1,
		)
	})
	pool := x509.NewCertPool()
	pool.AddCert(ours.cert)
	// rcpt says the answer to a recipient outside, from a client with a certificate.
	rcpt := func(serverName string, certificates ...tls.Certificate) error {
		c, err := smtp.Dial(address)
		if err != nil {
			return err
		}
		defer c.Close()
		if err := c.StartTLS(
			&tls.Config{ServerName: serverName, RootCAs: pool, Certificates: certificates},
		); err != nil {
			return fmt.Errorf("tls: %w", err)
		}
		if err := c.Mail("bridge@skerryline.example"); err != nil {
			return err
		}
		return c.Rcpt("x@saltmarsh.example")
	}
	load := func(a *authority, name string) tls.Certificate {
		a.write(t, name, clientCert, clientKey)
		pair, err := tls.LoadX509KeyPair(clientCert, clientKey)
		if err != nil {
			t.Fatal(err)
		}
		return pair
	}
	for _, c := range []struct {
		name, want   string
		certificates []tls.Certificate
	}{
		{"the name of the rule", "", []tls.Certificate{load(ours, "bridge.skerryline.example")}},
		{"another name", "550", []tls.Certificate{load(ours, "tickets.skerryline.example")}},
		{"no certificate", "550", nil},
		{"somebody else's authority", "tls", []tls.Certificate{load(strangers, "bridge.skerryline.example")}},
	} {
		err := rcpt("mail.skerryline.example", c.certificates...)
		if c.want == "" && err != nil ||
			c.want == "550" && (err == nil || !strings.Contains(err.Error(), "no relay rule matches")) ||
			c.want == "tls" && (err == nil || strings.Contains(err.Error(), "550")) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	ours.write(t, "new.skerryline.example", cert, key)
	if err := eventually(
		15*time.Second,
		func() error { return rcpt("new.skerryline.example", load(ours, "bridge.skerryline.example")) },
	); err != nil {
		t.Errorf("a renewed certificate is not shown: %v", err)
	}
}

func TestARoutesOwnAddressNameAndSizesCount(t *testing.T) {
	t.Parallel()
	s := own(t, "routeown", nil)
	s.run(t, "route", "add", "by another door", "--position", "1", "--recipients", "barelock.example",
		"--next-hop", "mx", "--source-address", "127.20.7.7", "--ehlo-name",
		"door.skerryline.example", "--size-up-to", "2 KB")
	s.run(t, "route", "add", "not so large", "--position", "2", "--recipients", "barelock.example",
		"--next-hop", "mx", "--message-size", "4 KB")
	s.run(t, "draft", "apply")
	s.until(t, s.out(t, "small@barelock.example"), mail.Delivered)
	if l := s.messages(t, "mx.barelock.example",
		"small@barelock.example"); len(l) != 1 || l[0].Client != "127.20.7.7" ||
		l[0].Helo != "door.skerryline.example" {
		t.Errorf("%+v", l)
	}
	for size, want := range map[int]mail.State{30: mail.Delivered, 80: mail.Bounced} { // lines of 72 octets
		c := dial(t, s.inside, "127.0.0.1")
		c.hear()
		c.want("250", "EHLO a")
		c.want("250", "MAIL FROM:<"+inesAddress+">") // the size shows only when it is there
		c.want("250", "RCPT TO:<large@barelock.example>")
		c.want("354", "DATA")
		id := strings.Fields(c.want("250", message("large")+strings.Repeat(strings.Repeat("x", 70)+"\r\n",
			size)+"."))[4]
		if d := s.until(t, id, want); d.Route != "not so large" {
			t.Errorf("%d lines went by %s", size, d.Route)
		}
	}
}
