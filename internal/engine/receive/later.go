package receive

import (
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// What is handed in ahead of its time (FUTURERELEASE, RFC 4865).

// mayHold refuses a message that is to leave later where that is not offered, or too far ahead.
func (se recipientTalk) mayHold(m *smtp.Mail) *smtp.Reply {
	now := time.Now()
	at := m.Release(now)
	if at.IsZero() {
		return nil
	}
	r := smtp.NewReply(555, "5.5.4",
		"mail that is to leave later is taken of our people and machines only (RFC 4865)")
	if se.trusted() {
		if at.Sub(now) <= smtp.LongestHold {
			return nil
		}
		r = smtp.NewReply(501, "5.5.4", "a message may be handed in %d days ahead at most",
			smtp.LongestHold/(24*time.Hour))
	}
	se.refuse(refused{stage: diagnose.StageSender, cause: diagnose.Malformed, reply: r})
	r = se.fault(r)
	return &r
}

// later keeps a delivery until its sender wants it to leave; until it goes back, it has as long as
// others behind that (RFC 4865 section 4).
func (se gateTalk) later(m *mail.Message, d *mail.Delivery) {
	at := se.mail.Release(m.ReceivedAt)
	if !at.After(m.ReceivedAt) {
		return
	}
	d.State, d.Cause, d.NextAttemptAt = mail.Deferred, diagnose.SenderDelays, mail.At(at)
	d.Last = &mail.LastReply{
		Stage: diagnose.StageRoute,
		Text:  "its sender asked that it leaves then",
	}
	d.ExpiresAt = mail.At(d.ExpiresAt.Add(at.Sub(m.ReceivedAt)))
}
