package wording

import (
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// ForUser tells whoever asks what became of a message, in plain sentences and
// without our internals.
func ForUser(m *mail.Message, now time.Time) string {
	const form = "Monday 2 January 2006 at 15:04 MST"
	subject := "without a subject"
	if m.Subject != "" {
		subject = "“" + m.Subject + "”"
	}
	first := fmt.Sprintf("The message %s from %s was taken by our server on %s.", subject,
		userAddress(m.Sender), m.ReceivedAt.UTC().Format(form))
	if len(m.Deliveries) == 1 {
		return first + " " + userDelivery(m, &m.Deliveries[0], now)
	}
	lines := []string{first}
	for i := range m.Deliveries {
		lines = append(lines,
			"To "+m.Deliveries[i].Recipient+": "+userDelivery(m, &m.Deliveries[i], now))
	}
	return strings.Join(lines, "\n")
}

func userAddress(a string) string {
	if a == "" {
		return "a mail server (it is a notice)"
	}
	return a
}

func userDelivery(m *mail.Message, d *mail.Delivery, now time.Time) string {
	const form = "Monday 2 January at 15:04 MST"
	to := d.Recipient
	if d.Original != "" && !strings.EqualFold(d.Original, d.Recipient) {
		to = d.Original + ", which is sent on to " + d.Recipient + ","
	}
	means := diagnose.ForSender(d.Cause)
	switch d.State {
	case mail.Delivered:
		at := d.FinishedAt.UTC().Format(form)
		if d.NextHop == "local" {
			return fmt.Sprintf(
				"It was put into the mailbox of %s on %s. If it is not seen there, look in other "+
					"folders and filters of the mail program.",
				to,
				at,
			)
		}
		host := "the next server"
		if d.Last != nil && d.Last.Host != "" {
			host = d.Last.Host
		}
		return fmt.Sprintf(
			"The server of the recipient %s, %s, took it on %s. What happened to it after that "+
				"only the administrators of that server can see.",
			to,
			host,
			at,
		)
	case mail.Bounced, mail.Expired:
		tail := " The sender was told by a notice."
		switch {
		case m.Sender == "":
			tail = " It is a notice itself, so nobody is told."
		case d.Notify != 0 && d.Notify&int16(smtp.NotifyFailure) == 0:
			tail = " The sender had asked not to be told."
		}
		return fmt.Sprintf("It could not be delivered to %s: %s %s%s", to, lowerFirst(means.Why),
			means.Do, tail)
	case mail.Discarded:
		return fmt.Sprintf(
			"It was taken out by an administrator on %s and did not go to %s. Ask the "+
				"administrators why.",
			d.FinishedAt.UTC().Format(form),
			to,
		)
	case mail.Held:
		return fmt.Sprintf(
			"It has not gone to %s yet: an administrator holds it. Ask the administrators to let "+
				"it go.",
			to,
		)
	case mail.Sending:
		return fmt.Sprintf(
			"It is being delivered to the server of %s at this moment. Ask again in a minute.",
			to,
		)
	}
	if d.Attempts == 0 {
		return fmt.Sprintf(
			"It waits for its turn to be sent to %s. Nothing needs to be done; we try until %s.",
			to,
			d.ExpiresAt.UTC().Format(form),
		)
	}
	next := "soon"
	if d.NextAttemptAt.After(now) {
		next = "on " + d.NextAttemptAt.UTC().Format(form)
	}
	return fmt.Sprintf(
		"It has not arrived at %s yet: %s We try again %s and the message expires on %s; the "+
			"sender is told then.",
		to,
		lowerFirst(means.Why),
		next,
		d.ExpiresAt.UTC().Format(form),
	)
}

func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// RefusalForUser is the same of what was refused.
func RefusalForUser(r *mail.Refusal) string {
	what := "A message from " + userAddress(r.Sender)
	if r.Recipient != "" {
		what += " to " + r.Recipient
	}
	return fmt.Sprintf(
		"%s was not taken by our server on %s. The program or server that tried to send it was "+
			"told why: %s. %s",
		what,
		r.At.UTC().Format("Monday 2 January 2006 at 15:04 MST"),
		strings.TrimSuffix(r.Text, "."),
		diagnose.Explain(r.Cause).Fix,
	)
}

// ForRemote is what the remote administrator needs to find a message in
// their own records: times in UTC, addresses, ids, answers.
func ForRemote(m *mail.Message, sessions []mail.Session, hostName string) string {
	const form = "2006-01-02 15:04:05.000 UTC"
	var b strings.Builder
	fmt.Fprintf(&b, "Our server: %s\nOur id: %s\n", hostName, m.ID)
	if m.MessageID != "" {
		fmt.Fprintf(&b, "Message-ID: %s\n", m.MessageID)
	}
	fmt.Fprintf(&b, "Envelope sender: <%s>\nSize: %d octets\nReceived here: %s from %s (%s)\n",
		m.Sender, m.Size, m.ReceivedAt.UTC().Format(form), m.ClientAddress, m.Helo)
	for i := range m.Deliveries {
		d := &m.Deliveries[i]
		fmt.Fprintf(&b, "\nRecipient: <%s>\nState: %s after %d attempts\n", d.Recipient, d.State,
			d.Attempts)
		if d.Last == nil {
			continue
		}
		if !d.LastAttemptAt.IsZero() {
			fmt.Fprintf(&b, "Last attempt: %s\n", d.LastAttemptAt.UTC().Format(form))
		}
		if d.Last.Host != "" {
			fmt.Fprintf(&b, "At: %s [%s]%s\n", d.Last.Host, d.Last.Address, at(sessions, d.Last))
		}
		if d.Last.TLS != "" {
			fmt.Fprintf(&b, "TLS: %s\n", d.Last.TLS)
		}
		fmt.Fprintf(&b, "Reply at stage %s: %s\n", d.Last.Stage, d.Last)
	}
	return b.String()
}

// at is our side of the connection.
func at(sessions []mail.Session, r *mail.LastReply) string {
	for _, s := range sessions {
		if s.ID == r.SessionID {
			return fmt.Sprintf(", port %d, session %s begun %s", s.Port, s.ID,
				s.StartedAt.UTC().Format("15:04:05.000"))
		}
	}
	return ""
}
