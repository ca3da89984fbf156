package wording

import (
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

func TestAHistoryIsTheRowsAndTheRecordInOrder(t *testing.T) {
	at := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	m := &mail.Message{
		ID:            42,
		ReceivedAt:    at,
		ClientAddress: "127.20.1.5",
		Helo:          "machine",
		Listener:      "inside",
		Deliveries: []mail.Delivery{
			{
				MessageID:  42,
				N:          1,
				Original:   "crew@skerryline.example",
				Recipient:  "x@saltmarsh.example",
				Via:        []string{"crew@skerryline.example"},
				Rule:       "ticket machines",
				Route:      "out",
				NextHop:    "saltmarsh.example",
				State:      mail.Delivered,
				FinishedAt: mail.At(at.Add(2 * time.Minute)),
				Attempts:   2,
				Last:       &mail.LastReply{Stage: diagnose.StageContent, Code: 250, Text: "taken"},
			},
			{MessageID: 42, N: 2, Original: "y@dunlin.example", Recipient: "y@dunlin.example", State: mail.Waiting},
		},
	}
	recorded := []mail.Event{{At: at.Add(time.Minute), Kind: mail.EventDeferred, N: 1,
		Text: "recipient: 451 4.7.1 later"}}
	var lines []string
	for _, e := range History(m, recorded, "shore") {
		lines = append(lines, string(e.Kind)+" "+e.Text)
	}
	want := []string{
		"received received from 127.20.1.5 (machine) by listener inside",
		"allowed crew@skerryline.example let in by rule ticket machines",
		"allowed y@dunlin.example let in by rule ",
		"expanded crew@skerryline.example → x@saltmarsh.example",
		"routed by route out to saltmarsh.example: ",
		"routed by route  to : ",
		"deferred recipient: 451 4.7.1 later",
		"delivered content: 250 taken",
	}
	if strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s", strings.Join(lines, "\n"))
	}
	notice := &mail.Message{
		ID:         43,
		ReceivedAt: at,
		NoticeOf:   42,
		Protocol:   "notice",
		Direction:  mail.Own,
		Deliveries: []mail.Delivery{{MessageID: 43, N: 1}},
	}
	if s := History(notice, nil, "shore"); s[0].Text != "made here as a notice about 000000000001A" ||
		s[1].Kind != mail.EventRouted {
		t.Errorf("%+v", s)
	}
}

func TestWhoAsksIsAnsweredWithoutOurInternals(t *testing.T) {
	at := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	base := mail.Delivery{Recipient: "x@saltmarsh.example", NextHop: "saltmarsh.example", N: 1,
		Route: "by provider", Rule: "ticket machines"}
	for name, c := range map[string]struct {
		change func(*mail.Message, *mail.Delivery)
		want   []string
	}{
		"in a mailbox of ours": {func(_ *mail.Message, d *mail.Delivery) {
			d.State, d.NextHop, d.FinishedAt = mail.Delivered, "local", mail.At(at)
		}, []string{"was put into the mailbox of x@saltmarsh.example", "look in other folders"}},
		"taken by a remote host": {func(_ *mail.Message, d *mail.Delivery) {
			d.State, d.FinishedAt = mail.Delivered, mail.At(at)
			d.Last = &mail.LastReply{Host: "mx.saltmarsh.example", Code: 250, Text: "taken"}
		}, []string{"mx.saltmarsh.example"}},
		"bounced": {func(_ *mail.Message, d *mail.Delivery) {
			d.State, d.Cause, d.FinishedAt = mail.Bounced, diagnose.NoSuchUser, mail.At(at)
		}, []string{"The sender was told by a notice."}},
		"a bounced notice": {func(m *mail.Message, d *mail.Delivery) {
			m.Sender = ""
			d.State, d.Cause, d.FinishedAt = mail.Bounced, diagnose.NoSuchUser, mail.At(at)
		}, []string{"a mail server (it is a notice)", "It is a notice itself, so nobody is told."}},
		"sent on": {func(_ *mail.Message, d *mail.Delivery) {
			d.Original, d.State = "crew@skerryline.example", mail.Deferred
			d.Cause = diagnose.Greylisted
		}, []string{"crew@skerryline.example, which is sent on to x@saltmarsh.example,"}},
	} {
		m := &mail.Message{ID: 42, ReceivedAt: at, Sender: "ines.harrow@skerryline.example",
			Subject: "Berth 4", Deliveries: []mail.Delivery{base}}
		c.change(m, &m.Deliveries[0])
		text := ForUser(m, at.Add(time.Hour))
		for _, want := range append(c.want, "“Berth 4”", "Monday 23 November 2026 at 05:00 UTC") {
			if !strings.Contains(text, want) {
				t.Errorf("%s: %q lacks %q", name, text, want)
			}
		}
		for _, inner := range []string{"by provider", "ticket machines", "000000000001A"} {
			if strings.Contains(text, inner) {
				t.Errorf("%s: %q names %q of ours", name, text, inner)
			}
		}
	}
}
