package deliver

import (
	"encoding/base64"
	"slices"
	"strings"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/core/transcript"
)

// signInTalk is the part of a connection in which we sign in.
type signInTalk struct{ *Conn }

// signIn is AUTH (RFC 4954), only ever under TLS: by SCRAM-SHA-256 where the
// host has it, so that it never sees the password; else PLAIN or LOGIN.
func (c signInTalk) signIn(account, password string) *Failure {
	offered := strings.Fields(c.extensions["AUTH"])
	var r smtp.Reply
	var failure *Failure
	switch {
	case slices.Contains(offered, "SCRAM-SHA-256-PLUS"), slices.Contains(offered, "SCRAM-SHA-256"):
		r, failure = c.signInScram(account, password, offered)
	case slices.Contains(offered, "PLAIN"), len(offered) == 0:
		r, failure = c.auth("AUTH PLAIN " + b64("\x00"+account+"\x00"+password))
	case slices.Contains(offered, "LOGIN"):
		r, failure = c.signInLogin(account, password)
	default:
		return c.failure(
			diagnose.StageSignIn,
			"4.7.0",
			diagnose.SignInRefused,
			"the host offers none of SCRAM-SHA-256, PLAIN and LOGIN but "+strings.Join(offered,
				" "),
		)
	}
	if failure != nil {
		return failure
	}
	if r.Code == 235 {
		c.record.Change(func(s *mail.Session) { s.Account = account })
	} else {
		f := c.refusal(diagnose.StageSignIn, r)
		f.Permanent = false // a wrong password is fixed on our side
		return f
	}
	return nil
}

func b64(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }

// auth sends a line with credentials: they are not for the record.
func (c signInTalk) auth(line string) (smtp.Reply, *Failure) {
	shown := "(credentials left out)"
	if rest, ok := strings.CutPrefix(line, "AUTH "); ok {
		mechanism, _, has := strings.Cut(rest, " ")
		if shown = "AUTH " + mechanism; has {
			shown += " (credentials left out)"
		}
	}
	c.note(transcript.Client, shown)
	c.deadline(c.timeouts.Command)
	err := c.write(line)
	if err == nil {
		err = c.bw.Flush()
	}
	if err != nil {
		return smtp.Reply{}, c.ioFailure(diagnose.StageSignIn, err)
	}
	return c.reply(diagnose.StageSignIn)
}

// signInLogin answers the two questions of LOGIN, whatever their words.
func (c signInTalk) signInLogin(account, password string) (smtp.Reply, *Failure) {
	r, failure := c.auth("AUTH LOGIN")
	for _, answer := range []string{account, password} {
		if failure != nil || r.Code != 334 {
			return r, failure
		}
		r, failure = c.auth(b64(answer))
	}
	return r, failure
}

// signInScram is SCRAM-SHA-256 (RFC 7677), bound to the TLS connection where the
// host offers that (RFC 9266).
func (c signInTalk) signInScram(account, password string, offered []string) (smtp.Reply, *Failure) {
	client, err := c.scram(account, password)
	if err != nil {
		return smtp.Reply{}, c.failure(diagnose.StageSignIn, "4.7.0", diagnose.OurTrouble,
			"account or password cannot be used: "+err.Error())
	}
	name, conv := "SCRAM-SHA-256", client.NewConversation()
	if slices.Contains(offered, "SCRAM-SHA-256-PLUS") {
		state := c.tls.ConnectionState()
		if binding, err := scram.NewTLSExporterBinding(&state); err == nil {
			name, conv = "SCRAM-SHA-256-PLUS", client.NewConversationWithChannelBinding(binding)
		}
	}
	first, err := conv.Step("")
	if err != nil {
		return smtp.Reply{}, c.failure(diagnose.StageSignIn, "4.7.0", diagnose.OurTrouble,
			err.Error())
	}
	r, failure := c.auth("AUTH " + name + " " + b64(first))
	for failure == nil && r.Code == 334 {
		challenge, err := base64.StdEncoding.DecodeString(r.Text())
		answer := ""
		if err == nil {
			answer, err = conv.Step(string(challenge))
		}
		if err != nil {
			_, _ = c.auth("*")
			return r, c.failure(diagnose.StageSignIn, "4.7.0", diagnose.SignInRefused,
				"the host could not prove that it knows the password: "+err.Error())
		}
		r, failure = c.auth(b64(answer))
	}
	if failure == nil && r.Code == 235 && !conv.Valid() {
		return r, c.failure(diagnose.StageSignIn, "4.7.0", diagnose.SignInRefused,
			"the host could not prove that it knows the password")
	}
	return r, failure
}

// verify asks about a recipient: MAIL and RCPT, then RSET.
func (c transfer) verify(to address.Address) Result {
	result := func(r smtp.Reply, failure *Failure, stage diagnose.Stage) Result {
		if failure == nil && r.Code != 250 && r.Code != 251 {
			failure = c.refusal(stage, r)
		}
		if failure != nil {
			return Result{Reply: failure.Reply, Failure: failure}
		}
		return Result{Reply: c.lastReply(stage, r)}
	}
	from := "MAIL FROM:<>"
	if to.NeedsUTF8() {
		from += " SMTPUTF8"
	}
	r, failure := c.command(diagnose.StageSender, from, c.timeouts.Command)
	if res := result(r, failure, diagnose.StageSender); res.Failure != nil {
		return res
	}
	r, failure = c.command(diagnose.StageRecipient, "RCPT TO:<"+to.String()+">", c.timeouts.Command)
	res := result(r, failure, diagnose.StageRecipient)
	c.reset()
	return res
}
