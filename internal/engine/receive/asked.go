package receive

import (
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// mayAsk refuses what a sender may not ask here: safe connections onward over one that is not
// (REQUIRETLS, RFC 8689 section 4.1).
func (se recipientTalk) mayAsk(m *smtp.Mail) *smtp.Reply {
	if !m.RequireTLS || se.tls != nil {
		return nil
	}
	r := smtp.NewReply(
		530,
		"5.7.0",
		"REQUIRETLS is asked under TLS only; say STARTTLS first (RFC 8689)",
	)
	se.refuse(refused{stage: diagnose.StageSender, cause: diagnose.Malformed, reply: r})
	r = se.fault(r)
	return &r
}

// asks is what the sender asks of everybody who passes the message on. Of strangers a priority
// above the usual is not believed (RFC 6710 section 8).
func (se contentTalk) asks(now time.Time) (a mail.Demands) {
	a.TLS, a.Priority = se.mail.RequireTLS, se.mail.Priority
	if !se.trusted() {
		a.Priority = min(a.Priority, 0)
	}
	if by := se.mail.By; by != nil {
		at := now.Add(by.Within).UTC().Truncate(time.Second)
		a.By, a.Tell = &at, !by.Return
	}
	return a
}

// aheadBy is how much earlier than others a delivery of the next higher priority has its turn.
const aheadBy = 15 * time.Minute

// inTime lets a delivery have its turn by its priority, and go back when its sender's time is over:
// those of low priority stand behind all others of their lane, as those of bulk senders do.
func inTime(m *mail.Message, d *mail.Delivery) {
	switch p := m.Asked.Priority; {
	case p < 0:
		d.Bulk = true
	case p > 0 && d.State == mail.Waiting && !d.NextAttemptAt.After(m.ReceivedAt):
		d.NextAttemptAt = mail.At(m.ReceivedAt.Add(-time.Duration(p) * aheadBy))
	}
	if by := m.Asked.By; by != nil && !m.Asked.Tell && by.Before(d.ExpiresAt.Time) {
		d.ExpiresAt = mail.At(*by)
	}
}
