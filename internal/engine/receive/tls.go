package receive

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"os"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/review"
)

// certificates keeps the certificates of listeners: from files, read again when
// they change, or self-made ones.
type certificates struct {
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

// of is the certificate of a listener.
func (c *certificates) of(l *config.Listener) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if l.Certificate == "" {
		return c.selfMade(string(l.GreetingName))
	}
	if c.files == nil {
		c.files = map[string]*certFile{}
	}
	key := l.Certificate + "\x00" + l.Key
	f := c.files[key]
	if f != nil && time.Since(f.looked) < lookEvery {
		return f.cert, nil
	}
	info, err := os.Stat(l.Certificate)
	if f != nil &&
		// a file that is gone for a moment: the old one serves on
		(err != nil || info.ModTime().Equal(f.changed)) {
		f.looked = time.Now()
		return f.cert, nil
	}
	if err != nil {
		return nil, err
	}
	cert, err := tls.LoadX509KeyPair(l.Certificate, l.Key)
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
func (c *certificates) selfMade(name string) (*tls.Certificate, error) {
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
func (s *Server) Shown() []review.Certificate {
	var out []review.Certificate
	for i := range s.cfg.Load().Listeners {
		l := &s.cfg.Load().Listeners[i]
		if l.TLS == config.TLSOff {
			continue
		}
		c, err := s.certs.of(l)
		if err != nil || len(c.Certificate) == 0 {
			continue
		}
		leaf, err := x509.ParseCertificate(c.Certificate[0])
		if err != nil {
			continue
		}
		out = append(out, review.Certificate{
			Listener: l.Name,
			Own:      l.Certificate == "",
			Until:    leaf.NotAfter,
			Names:    leaf.DNSNames,
			Fits:     leaf.VerifyHostname(string(l.GreetingName)) == nil,
		})
	}
	return out
}

// settings are the TLS settings of a listener.
func (c *certificates) settings(l *config.Listener) (*tls.Config, error) {
	cert, err := c.of(l)
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
func (c *certificates) check(l *config.Listener) error {
	if l.TLS == config.TLSOff {
		return nil
	}
	_, err := c.settings(l)
	return err
}

// handshakeTimeout bounds a TLS handshake.
const handshakeTimeout = 30 * time.Second

// secure goes over to TLS. What the client sent in the clear behind STARTTLS is
// dropped (RFC 3207 section 6).
func (se *session) secure() error {
	settings, err := se.server.certs.settings(se.conf)
	if err != nil {
		se.log.Error("no TLS: the certificate cannot be used", "error", err)
		return err
	}
	conn := tls.Server(se.conn, settings)
	_ = se.conn.SetDeadline(time.Now().Add(handshakeTimeout))
	if err := conn.Handshake(); err != nil {
		se.log.Info("TLS handshake failed", "error", err)
		se.why = "the TLS handshake failed: " + err.Error()
		se.record.Note("the TLS handshake failed: %v", err)
		return err
	}
	_ = se.conn.SetDeadline(time.Time{})
	se.conn, se.tls = conn, conn
	se.br.Reset(conn)
	se.bw.Reset(conn)
	se.helo, se.extended = "", false
	se.clear()
	state := conn.ConnectionState()
	se.certificates = nil
	about := tls.VersionName(state.Version) + " " + tls.CipherSuiteName(state.CipherSuite)
	if len(state.VerifiedChains) > 0 {
		about += ", client certificate " + state.PeerCertificates[0].Subject.CommonName
	}
	se.record.Change(func(s *mail.Session) { s.TLS = about })
	se.record.Note("TLS begins: %s", about)
	if len(state.VerifiedChains) > 0 {
		leaf := state.PeerCertificates[0]
		se.certificates = append(
			append(append(se.certificates, leaf.DNSNames...), leaf.EmailAddresses...),
			leaf.Subject.CommonName,
		)
	}
	return nil
}
