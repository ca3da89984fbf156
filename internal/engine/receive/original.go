package receive

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Messages are those on record.
type Messages interface {
	Message(ctx context.Context, id ident.ID) (mail.Message, error)
	LatestTo(ctx context.Context, recipient string, since time.Time) (ident.ID, error)
}

// Reported finds the messages that notifications from elsewhere are about.
type Reported struct {
	Messages Messages
	Node     string
}

// Original finds the message that a notification from elsewhere is about: by the
// envelope id that we gave it, our id in what came back of it, its Message-ID if
// we made that, and last by the recipient, for whom the latest message counts.
func (o Reported) Original(
	ctx context.Context,
	hostName string,
	r dsn.Report,
	notice ident.ID,
) (ident.ID, []mail.Event) {
	var candidates []string
	candidates = append(candidates, r.EnvID)
	candidates = append(candidates, r.OurIDs...)
	if local, host, ok := strings.Cut(strings.Trim(r.MessageID, "<>"), "@"); ok &&
		strings.EqualFold(host, hostName) {
		candidates = append(candidates, local)
	}
	for _, text := range candidates {
		id, err := ident.Parse(text)
		if err != nil {
			continue
		}
		if m, err := o.Messages.Message(ctx, id); err == nil {
			return id, reportEvents(m, r, notice, o.Node)
		}
	}
	for _, one := range r.Recipients {
		a, err := address.Parse(one.Final)
		if err != nil {
			continue
		}
		id, err := o.Messages.LatestTo(ctx, a.String(), time.Now().Add(-10*24*time.Hour))
		if err != nil {
			continue
		}
		if m, err := o.Messages.Message(ctx, id); err == nil {
			return id, reportEvents(m, r, notice, o.Node)
		}
	}
	return 0, nil
}

// reportEvents put on record at the original what was reported of it.
func reportEvents(m mail.Message, r dsn.Report, notice ident.ID, node string) []mail.Event {
	var out []mail.Event
	for _, one := range r.Recipients {
		ev := mail.Event{
			At:        time.Now().UTC(),
			Kind:      mail.EventReport,
			MessageID: m.ID,
			Node:      node,
			Detail: map[string]any{
				"notice":    notice,
				"action":    one.Action,
				"status":    one.Status,
				"host":      one.RemoteHost,
				"recipient": one.Final,
			},
		}
		for i := range m.Deliveries {
			if d := &m.Deliveries[i]; strings.EqualFold(d.Recipient, one.Final) ||
				strings.EqualFold(d.Original, one.Original) && one.Original != "" {
				ev.N = d.N
				break
			}
		}
		who := r.ReportingHost
		if who == "" {
			who = "a server beyond"
		}
		ev.Text = strings.TrimSpace(
			fmt.Sprintf("%s reports: %s %s %s", who, one.Action, one.Status, one.Diagnostic),
		)
		out = append(out, ev)
	}
	return out
}
