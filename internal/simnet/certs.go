package simnet

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
	"os"
	"sync"
	"time"
)

// authority is the simulated internet's own certificate authority.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey

	mu     sync.Mutex
	issued map[string]*tls.Certificate
	serial int64
}

// newAuthority makes an authority, or takes up the one whose certificate and key are kept in files:
// what it issued counts on.
func newAuthority(file string) (*authority, error) {
	if pair, err := tls.LoadX509KeyPair(file, file+".key"); file != "" && err == nil {
		key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
		cert, err := x509.ParseCertificate(pair.Certificate[0])
		if ok && err == nil && time.Until(cert.NotAfter) > 100*24*time.Hour {
			return &authority{cert: cert, key: key, issued: map[string]*tls.Certificate{},
				serial: time.Now().Unix()}, nil
		}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "Simulated internet"},
		IsCA:                  true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().Add(-365 * 24 * time.Hour),
		NotAfter:              time.Now().Add(365 * 24 * time.Hour),
		KeyUsage:              x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err == nil && file != "" {
		err = keepKey(file+".key", key)
	}
	return &authority{cert: cert, key: key, issued: map[string]*tls.Certificate{}, serial: 1}, err
}

func keepKey(file string, key *ecdsa.PrivateKey) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return os.WriteFile(
		file,
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}),
		0o600,
	)
}

// pem is the authority's certificate, for those who are to trust it.
func (a *authority) pem() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw})
}

// issuedFor reports a certificate of this authority for a name.
func (a *authority) issuedFor(cert *x509.Certificate, name string) bool {
	return cert.CheckSignatureFrom(a.cert) == nil && cert.VerifyHostname(name) == nil
}

// issue makes a certificate of a kind for a host, once: valid, expired or crowded.
func (a *authority) issue(host, kind string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	name := host + " " + kind
	if c := a.issued[name]; c != nil {
		return c, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	a.serial++
	t := &x509.Certificate{
		SerialNumber: big.NewInt(a.serial),
		Subject:      pkix.Name{CommonName: host},
		DNSNames:     []string{host},
		NotBefore:    time.Now().Add(-90 * 24 * time.Hour),
		NotAfter:     time.Now().Add(90 * 24 * time.Hour),
	}
	switch kind {
	case "expired":
		t.NotAfter = time.Now().Add(-24 * time.Hour)
	case "crowded":
		for i := range 10_000 {
			t.DNSNames = append(t.DNSNames, fmt.Sprintf("n%d.example", i))
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, &key.PublicKey, a.key)
	if err != nil {
		return nil, err
	}
	c := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	a.issued[name] = c
	return c, nil
}
