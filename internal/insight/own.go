package insight

import (
	"bytes"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/engine/queue"
	"gullroute/internal/store"
)

// OwnMail sends messages of our own: reports and alerts.
type OwnMail struct{ Queue *queue.Queue }

// compose makes a message of our own, from the null sender: if it does not arrive,
// nobody is to be told by mail.
func (s *OwnMail) compose(
	cfg *config.Compiled,
	to address.Address,
	subject, contentType string,
	body []byte,
	now time.Time,
) (*store.Entry, error) {
	return s.composeFrom(cfg, cfg.Service.Postmaster, to, subject, contentType, body, now, "")
}

// composeFrom is compose with another address in From, and further fields.
func (s *OwnMail) composeFrom(
	cfg *config.Compiled,
	from, to address.Address,
	subject, contentType string,
	body []byte,
	now time.Time,
	fields string,
) (*store.Entry, error) {
	id, host := s.Queue.IDs.Next(), cfg.Service.HostName
	head := fields + fmt.Sprintf(
		"From: Gull Route <%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
			"<%s@%s>\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\nContent-Type: "+
			"%s\r\n\r\n",
		from,
		to,
		mime.QEncoding.Encode("utf-8", subject),
		now.Format(message.DateFormat),
		id,
		host,
		contentType,
	)
	entry, fault := s.Queue.Own(cfg, id, to, append([]byte(head), body...), mail.KindReport, now)
	if fault != nil {
		return nil, fmt.Errorf("the address is refused here: %s", fault.Text())
	}
	return entry, nil
}

// quoted is a text in quoted-printable (RFC 2045).
func quoted(text string) ([]byte, error) {
	var b bytes.Buffer
	w := quotedprintable.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		return nil, err
	}
	err := w.Close()
	return b.Bytes(), err
}
