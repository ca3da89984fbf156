package search

import (
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// now is a Monday.
var now = time.Date(2026, 11, 23, 14, 30, 0, 0, time.UTC)

func TestWhatPeopleTypeIsUnderstood(t *testing.T) {
	for line, want := range map[string]string{
		"ines.harrow@skerryline.example":        "address=ines.harrow@skerryline.example",
		"Ines.Harrow@BØLGEVIK.example":          "address=ines.harrow@xn--blgevik-q1a.example",
		"ines.harow":                            "dotted=ines.harow",
		"harrow":                                "text=harrow",
		"@saltmarsh.example bounced":            "domain=saltmarsh.example state=bounced",
		"mx.saltmarsh.example":                  "dotted=mx.saltmarsh.example",
		"night boat":                            "text=night boat",
		`"today 10:00" refused`:                 "text=today 10:00 state=refused",
		`subject:"night boat" from:tickets`:     "subject=night boat from_part=tickets",
		"from: ada@saltmarsh.example":           "from=ada@saltmarsh.example",
		"<>":                                    "from=",
		"127.20.1.0/24":                         "ip=127.20.1.0/24",
		"client:127.20.1.5":                     "client=127.20.1.5/32",
		"::1":                                   "ip=::1/128",
		"05A6QFZJT0800":                         "id=05A6QFZJT0800",
		"05a6qfzjt0800-2":                       "id=05A6QFZJT0800",
		"<demo.1@saltmarsh.example>":            "text=demo.1@saltmarsh.example",
		"id:<demo.1@saltmarsh.example>":         "message_id=<demo.1@saltmarsh.example>",
		"mailbox-full":                          "cause=mailbox-full",
		"greylisted state:deferred":             "cause=greylisted state=deferred",
		"to:@kelpworks.example host:mx.example": "to_domain=kelpworks.example host=mx.example",
		"invoice 2231":                          "text=invoice 2231",
		"skerryline.example invoice":            "dotted=skerryline.example text=invoice",
	} {
		q, err := Parse(line, now, time.UTC)
		var got []string
		for _, term := range q.Terms {
			got = append(got, string(term.Field)+"="+term.Value)
		}
		if err != nil || strings.Join(got, " ") != want || !q.Since.IsZero() || !q.Until.IsZero() ||
			len(q.Understood()) != len(q.Terms) {
			t.Errorf("%s: %q %v, %s to %s", line, got, err, q.Since, q.Until)
		}
	}
	for line, want := range map[string]string{`"night boat`: "a quotation mark has no partner", "state:lost": "there are waiting", "client:here": "neither an IP address", "since lunch": "since: this is not a time"} {
		if _, err := Parse(line, now, time.UTC); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", line, err)
		}
	}
}

func TestTimesAreUnderstood(t *testing.T) {
	oslo := time.FixedZone("Oslo", 3600)
	for line, want := range map[string]string{
		"today":                      "23 00:00 - 24 00:00",
		"yesterday":                  "22 00:00 - 23 00:00",
		"today 10:00":                "23 09:45 - 23 10:15",
		"yesterday at 9am":           "22 08:45 - 22 09:15",
		"22:00":                      "22 21:45 - 22 22:15", // has not come yet today
		"friday":                     "20 00:00 - 21 00:00",
		"since yesterday":            "22 00:00 - ",
		"since yesterday 10:00":      "22 10:00 - ",
		"since 2h":                   "23 13:30 - ",
		"since 2h ago":               "23 13:30 - ",
		"last 3 hours":               "23 12:30 - ",
		"last 30m":                   "23 15:00 - ",
		"last week":                  "16 15:30 - ",
		"until yesterday":            " - 23 00:00",
		"before 10:00":               " - 23 10:00",
		"after friday":               "21 00:00 - ",
		"between 9:00 and 11:00":     "23 09:00 - 23 11:00",
		"2026-11-20":                 "20 00:00 - 21 00:00",
		"on 20 nov":                  "20 00:00 - 21 00:00",
		"2026-11-20 10:30":           "20 10:15 - 20 10:45",
		"since 2026-11-20T10:00:00Z": "20 11:00 - ",
	} {
		q, err := Parse("harrow "+line, now, oslo)
		form := func(at time.Time) string {
			if at.IsZero() {
				return ""
			}
			return at.In(oslo).Format("02 15:04")
		}
		if got := form(
			q.Since,
		) + " - " + form(
			q.Until,
		); err != nil || got != want || len(q.Terms) != 1 ||
			q.When == "" {
			t.Errorf("%s: %q %v, %d terms, %q", line, got, err, len(q.Terms), q.When)
		}
	}
}

func TestAMessageMatchesByAllThatIsKnownOfIt(t *testing.T) {
	id := ident.Floor(now)
	f := &mail.Found{
		Message: mail.Message{
			ID:            id,
			ReceivedAt:    now,
			Sender:        "Ada@saltmarsh.example",
			Subject:       "The Night boat",
			MessageID:     "<x@y.example>",
			ClientAddress: "127.30.0.10",
			Listener:      "edge",
			Deliveries: []mail.Delivery{
				{
					N:         1,
					Recipient: "crew.north@skerryline.example",
					Original:  "crew@skerryline.example",
					State:     mail.Bounced,
					Cause:     diagnose.MailboxFull,
					Route:     "shelf",
					Last: &mail.LastReply{
						Stage:   diagnose.StageRecipient,
						Host:    "shelf.skerryline.example",
						Address: "127.30.0.52",
					},
				},
			},
		},
	}
	events := []mail.Event{
		{
			Kind:   mail.EventDeferred,
			Detail: map[string]any{"reply": map[string]any{"host": "old.skerryline.example", "stage": "connect"}},
		},
	}
	for line, want := range map[string]bool{
		"ada@saltmarsh.example": true, "from:ada@saltmarsh.example": true, "to:ada@saltmarsh.example": false, "crew@skerryline.example": true, "to:crew.north@skerryline.example": true, "to:north": true,
		"saltmarsh.example": true, "host:saltmarsh.example": false, "host:shelf.skerryline.example": true, "host:old.skerryline.example": true, "127.30.0.0/16": true, "127.30.0.52": true, "client:127.30.0.52": false,
		"night": true, "boat night": false, "subject:boat": true, "bounced": true, "refused": false, "mailbox-full": true, "listener:edge": true, "route:shelf": true, "route:mx": false, id.String(): true,
		"today": true, "yesterday": false, "id:x@y.example": true, "<>": false, "night bounced skerryline.example today": true, "night delivered": false,
	} {
		q, err := Parse(line, now, time.UTC)
		if err != nil || q.Match(f, events) != want {
			t.Errorf("%s: %v %v", line, !want, err)
		}
	}
	r := mail.FoundRefusal(
		mail.Refusal{
			ID:            id,
			At:            now,
			Sender:        "x@dunlin.example",
			Recipient:     "y@saltmarsh.example",
			ClientAddress: "127.20.9.9",
			Cause:         diagnose.RuleRefuses,
		},
	)
	for line, want := range map[string]bool{"refused": true, "y@saltmarsh.example": true, "rule-refuses": true, "127.20.9.0/24 refused": true, "bounced": false, "host:saltmarsh.example": false} {
		if q, err := Parse(line, now, time.UTC); err != nil || q.Match(&r, nil) != want {
			t.Errorf("refusal, %s: %v %v", line, !want, err)
		}
	}
}
