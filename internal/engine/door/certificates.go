package door

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"os"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/review"
)

// Certificates keeps the certificates of listeners: from files, read again when
// they change, or self-made ones.
type Certificates struct {
	// Kept finds a certificate that the service keeps, by its name; nil if there is none yet.
	Kept func(name string) *tls.Certificate

	mu    sync.Mutex
	files map[string]*certFile // by certificate and key
	own   map[string]*tls.Certificate
}

type certFile struct {
	cert    *tls.Certificate
	changed time.Time
	looked  time.Time
}

// lookEvery is how often a certificate's file is looked at.
const lookEvery = 5 * time.Second

// Of is the certificate of a listener.
func (c *Certificates) Of(l *config.Listener) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if l.Certificate == "" {
		return c.selfMade(string(l.GreetingName))
	}
	cert, err := c.ours(l.Certificate, l.Key)
	if errors.Is(err, ErrNoneYet) {
		return c.selfMade(string(l.GreetingName))
	}
	return cert, err
}

// ErrNoneYet reports a certificate that is to be kept here, and was not had yet.
var ErrNoneYet = errors.New("there is none yet")

// Ours is a certificate by the name of its file and its key's, or by kept:NAME.
func (c *Certificates) Ours(certificate, key string) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ours(certificate, key)
}

func (c *Certificates) ours(certificate, keyFile string) (*tls.Certificate, error) {
	if name, kept := strings.CutPrefix(certificate, config.KeptPrefix); kept {
		if c.Kept != nil {
			if cert := c.Kept(name); cert != nil {
				return cert, nil
			}
		}
		return nil, fmt.Errorf("certificate %s: %w", name, ErrNoneYet)
	}
	if c.files == nil {
		c.files = map[string]*certFile{}
	}
	key := certificate + "\x00" + keyFile
	f := c.files[key]
	if f != nil && time.Since(f.looked) < lookEvery {
		return f.cert, nil
	}
	info, err := os.Stat(certificate)
	if f != nil &&
		// a file that is gone for a moment: the old one serves on
		(err != nil || info.ModTime().Equal(f.changed)) {
		f.looked = time.Now()
		return f.cert, nil
	}
	if err != nil {
		return nil, err
	}
	cert, err := tls.LoadX509KeyPair(certificate, keyFile)
	if err != nil {
		if f != nil { // half written; the next look will find it whole
			return f.cert, nil
		}
		return nil, err
	}
	c.files[key] = &certFile{&cert, info.ModTime(), time.Now()}
	return &cert, nil
}

// selfMade is a certificate nobody vouches for, made anew at each start. mu is
// held.
func (c *Certificates) selfMade(name string) (*tls.Certificate, error) {
	if c.own == nil {
		c.own = map[string]*tls.Certificate{}
	}
	if cert := c.own[name]; cert != nil {
		return cert, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		return nil, err
	}
	t := x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: name, Organization: []string{"self-made"}},
		DNSNames:     []string{name},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().AddDate(1, 0, 0),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, &t, &t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert := &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	c.own[name] = cert
	return cert, nil
}

// Shown are the certificates that listeners with TLS show.
func (c *Certificates) Shown(listeners []config.Listener) []review.Certificate {
	var out []review.Certificate
	for i := range listeners {
		l := &listeners[i]
		if l.TLS == config.TLSOff {
			continue
		}
		cert, err := c.Of(l)
		if err != nil || len(cert.Certificate) == 0 {
			continue
		}
		leaf, err := x509.ParseCertificate(cert.Certificate[0])
		if err != nil {
			continue
		}
		out = append(out, review.Certificate{
			Listener: l.Name,
			Own:      l.Certificate == "" || leaf.Issuer.String() == leaf.Subject.String(),
			Until:    leaf.NotAfter,
			Names:    leaf.DNSNames,
			Fits:     leaf.VerifyHostname(string(l.GreetingName)) == nil,
		})
	}
	return out
}

// Settings are the TLS settings of a listener.
func (c *Certificates) Settings(l *config.Listener) (*tls.Config, error) {
	cert, err := c.Of(l)
	if err != nil {
		return nil, err
	}
	s := &tls.Config{
		Certificates:           []tls.Certificate{*cert},
		MinVersion:             tls.VersionTLS12,
		SessionTicketsDisabled: true,
	}
	if l.ClientCertificates == "" {
		return s, nil
	}
	text, err := os.ReadFile(l.ClientCertificates)
	if err != nil {
		return nil, err
	}
	s.ClientCAs = x509.NewCertPool()
	if !s.ClientCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate", l.ClientCertificates)
	}
	s.ClientAuth = tls.VerifyClientCertIfGiven
	return s, nil
}

// Check reports what keeps a listener's TLS from working.
func (c *Certificates) Check(l *config.Listener) error {
	if l.TLS == config.TLSOff {
		return nil
	}
	_, err := c.Settings(l)
	return err
}
