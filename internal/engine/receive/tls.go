package receive

import (
	"crypto/tls"
	"time"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/review"
	"gullroute/internal/engine/door"
)

// Shown are the certificates that listeners with TLS show.
func (s *Server) Shown() []review.Certificate { return s.certs.Shown(s.cfg.Load().Listeners) }

// secure goes over to TLS. What the client sent in the clear behind STARTTLS is
// dropped (RFC 3207 section 6).
func (se *session) secure() error {
	settings, err := se.server.certs.Settings(se.conf)
	if err != nil {
		se.log.Error("no TLS: the certificate cannot be used", "error", err)
		return err
	}
	conn := tls.Server(se.conn, settings)
	_ = se.conn.SetDeadline(time.Now().Add(door.HandshakeTimeout))
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
