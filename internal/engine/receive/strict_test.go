package receive

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
)

func TestCommandsAreTakenAsTheStandardWritesThem(t *testing.T) {
	s := serve(t, newKeeper(), settings)
	for _, c := range []struct{ before, line, want string }{
		{"", "EHLO a b", "501 5.5.4 say one name"},
		{"", "EHLO [127.0.0.1", "501 5.5.4"},
		{"", "EHLO [127.0.0.1]", "250"},
		{"", "EHLO my_machine", "250"},
		{"", "EHLO", "501 5.5.4"},
		{"EHLO a", "RSET now", "501 5.5.4"},
		{"EHLO a", "QUIT now", "501 5.5.4"},
		{"EHLO a", "VRFY", "501 5.5.4"},
		{"EHLO a", "NOOP whatever", "250"},
		{"EHLO a", "MAIL FROM:<a@skerryline.example> ENVID=a+FFb", "501 5.5.4 ENVID"},
		{"EHLO a", "MAIL FROM:<a@skerryline.example> ENVID=a+0D+0AFinal-Recipient:", "501 5.5.4 ENVID"},
		{"EHLO a", "MAIL FROM:<a@skerryline.example> AUTH=a+4", "501 5.5.4 AUTH"},
		{"EHLO a", "MAIL FROM:<a@skerryline.example> AUTH=<>", "250"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<keeper@skerryline.example> ORCPT=rfc822;a+0D+0Ab",
			"501 5.5.4 ORCPT"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<keeper@skerryline.example> ORCPT=rfc822;a+FFb",
			"501 5.5.4 ORCPT"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<keeper@skerryline.example> ORCPT=rf:c;ab",
			"501 5.5.4 ORCPT"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<postmaster@mail.skerryline.example>", "250"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<Postmaster@MAIL.skerryline.example>", "250"},
		{"MAIL FROM:<a@skerryline.example>", "RCPT TO:<keeper@mail.skerryline.example>", "550"},
	} {
		d := dial(t, s)
		d.say("", "220")
		if strings.HasPrefix(c.before, "MAIL") {
			d.say("EHLO a\r\n", "250")
		}
		if c.before != "" {
			d.say(c.before+"\r\n", "250")
		}
		d.say(c.line+"\r\n", c.want)
	}
}

func TestByLMTPWithoutRecipientsDATAIsOutOfOrder(t *testing.T) {
	c := dial(t, with(t, newKeeper(), "kind: lmtp"))
	c.say("", "220")
	c.say("LHLO a\r\n", "250")
	c.say("MAIL FROM:<a@saltmarsh.example>\r\nRCPT TO:<nobody@skerryline.example>\r\nDATA\r\n",
		"250", "550", "503 5.5.1")
}

func TestASizeThatFitsNoMailboxIsRefusedInTheConversation(t *testing.T) {
	boxes := settings[:strings.Index(settings,
		"mailboxes:")] + "mailboxes:\n  - {address: keeper@skerryline.example}\n  - {address: " +
		"small@skerryline.example, quota: 1 KB}\n"
	long := "Subject: a\r\n\r\n" + strings.Repeat(strings.Repeat("x", 70)+"\r\n", 40) + ".\r\n"
	for _, c := range []struct {
		kind, hello string
		to          []string
		replies     []string
	}{
		{"inside", "EHLO", []string{"small"}, []string{"552 5.2.3"}},
		{"inside", "EHLO", []string{"small", "keeper"}, []string{"250"}},
		{"lmtp", "LHLO", []string{"small", "keeper"}, []string{"552 5.2.3", "250"}},
		{"lmtp", "LHLO", []string{"small", "small"}, []string{"552 5.2.3", "552 5.2.3"}},
	} {
		k := newKeeper()
		d := dial(t, serve(t, k, strings.Replace(boxes, "kind: inside", "kind: "+c.kind, 1)))
		d.say("", "220")
		d.say(c.hello+" a\r\n", "250")
		d.say("MAIL FROM:<ada@saltmarsh.example>\r\n", "250")
		for _, to := range c.to {
			d.say("RCPT TO:<"+to+"@skerryline.example>\r\n", "250")
		}
		d.say("DATA\r\n", "354")
		d.say(long, c.replies...)
		if c.kind == "lmtp" && c.replies[1] == "250" {
			if e := <-k.entries; len(e.Deliveries) != 1 ||
				e.Deliveries[0].Recipient != "keeper@skerryline.example" {
				t.Errorf("%+v", e.Deliveries)
			}
		}
	}
}

func TestFieldsThatAreNotForReadersGo(t *testing.T) {
	for _, x := range []struct {
		kind string
		bcc  int
	}{{config.Submission, 0}, {config.Inside, 1}} {
		se := contentTalk{
			&session{server: &Server{}, cfg: &config.Compiled{Config: &config.Config{}},
				conf: &config.Listener{Kind: x.kind, GreetingName: "mail.skerryline.example"}},
		}
		section, changed := se.fix(
			[]byte(
				"From: a@b.example\r\nDate: x\r\nMessage-ID: <1@x>\r\nBcc: "+
					"secret@b.example,\r\n\tother@b.example\r\nSubject: hi\r\n",
			),
			1,
			time.Now(),
		)
		if got := strings.Count(string(section), "secret"); got != x.bcc ||
			changed != (x.bcc == 0) {
			t.Errorf("%s: %q", x.kind, section)
		}
	}
}

func TestPeopleWriteAsThemselves(t *testing.T) {
	text := settings + "  - {address: all@skerryline.example, to: " +
		"[keeper@skerryline.example]}\nrelay_rules:\n  - {name: people, accounts: [\"*\"], action: allow, " +
		"own_sender: true, own_from: TERM}\n"
	for _, c := range []struct {
		name, term, header, want string
	}{
		{"their own address", "refuse", "From: Ines <ines@skerryline.example>", ""},
		{"one they may use", "refuse", "From: tickets@skerryline.example", ""},
		{"a colleague", "refuse", "From: Tomas <tomas@skerryline.example>",
			"550 5.7.1 From names <tomas@skerryline.example>, which does not belong to ines@skerryline.example"},
		{"a colleague beside them", "refuse", "From: ines@skerryline.example, tomas@skerryline.example",
			"550 5.7.1 From names <tomas@"},
		{"a colleague in a group", "refuse", "From: crew: tomas@skerryline.example;",
			"550 5.7.1 From names <tomas@"},
		{"two fields", "refuse", "From: ines@skerryline.example\r\nFrom: tomas@skerryline.example",
			"550 5.7.1 the message has 2 From fields"},
		{"two fields, with a Sender added", "add_sender",
			"From: ines@skerryline.example\r\nfrom: tomas@skerryline.example", "550 5.7.1 the message has " +
				"2 From fields"},
		{"a colleague as Sender", "refuse",
			"From: ines@skerryline.example\r\nSender: tomas@skerryline.example", "550 5.7.1 Sender names " +
				"<tomas@"},
		{"what nobody can read", "refuse", "From: tomas@skerryline.example tomas",
			"550 5.7.1 From names what cannot be read"},
		{"a colleague, named", "add_sender", "From: tomas@skerryline.example\r\nSender: x@y.example",
			"Sender: <ines@skerryline.example>\r\nFrom: tomas@skerryline.example\r\n"},
	} {
		parsed, err := config.Parse(
			[]byte(strings.NewReplacer(
				"TERM",
				c.term,
				"  - {address: keeper@skerryline.example}\n",
				"  - {address: keeper@skerryline.example}\n  - {address: ines@skerryline.example, "+
					"may_submit: true, send_as: [tickets@skerryline.example]}\n  - {address: "+
					"tomas@skerryline.example}\n",
			).Replace(text)),
		)
		if err != nil {
			t.Fatal(err)
		}
		cfg := config.Compile(parsed, 1, directory.Of(parsed.Mailboxes, parsed.Aliases))
		se := contentTalk{
			&session{cfg: cfg, introduced: introduced{account: parsed.Mailboxes[1].Address},
				transaction: transaction{rcpts: []recipient{{}}}},
		}
		se.rcpts[0].decision.OwnFrom = c.term
		section, changed, no := se.ownFrom([]byte(c.header + "\r\nSubject: hi\r\n"))
		got := ""
		if no != nil {
			got = no.String()
		} else if changed {
			got = string(section)
		}
		if !strings.HasPrefix(got, c.want) || (c.want == "") != (got == "") {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestSignInThatGoesWrongGetsAnAnswer(t *testing.T) {
	c := dial(
		t,
		with(
			t,
			newKeeper(),
			"kind: submission, tls: \"off\", sign_in: [plain, scram], sign_in_without_tls: true, limits: "+
				"{errors: 100}",
		),
	)
	c.say("", "220")
	c.say("EHLO a\r\n", "250")
	c.say("AUTH\r\n", "501 5.5.4 AUTH needs a mechanism; there are: PLAIN SCRAM-SHA-256")
	c.say("AUTH lantern-oil\r\n", "504 5.5.4 this mechanism is not offered")
	c.say("AUTH PLAIN\r\n", "334")
	c.say(strings.Repeat("x", 13_000)+"\r\n", "500 5.5.6 the line is too long")
	c.say("AUTH PLAIN\r\n", "334")
	c.say("*\r\n", "501 5.7.0")
	c.say(
		"AUTH SCRAM-SHA-256 "+base64.StdEncoding.EncodeToString(
			[]byte("p=tls-exporter,,n=ines,r=abc"),
		)+"\r\n",
		"501 5.5.2 channel binding goes with SCRAM-SHA-256-PLUS only",
	)
	c.say("AUTH SCRAM-SHA-256-PLUS\r\n", "504")
	c.say("NOOP\r\n", "250")
}
