package receive

import (
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
)

// recipient is one that was taken.
type recipient struct {
	rcpt     smtp.Rcpt
	decision relay.Decision
	legs     []route.Leg
	refusal  *smtp.Reply // after the content
	weighed  weighed
}

func (se recipientTalk) mailFrom(arg string) smtp.Reply {
	if se.mail == nil && !se.refresh() {
		se.closeFor("the listener was closed")
		return smtp.NewReply(421, "4.3.2", "this listener was closed; try again")
	}
	limits := se.conf.Limits
	switch {
	case se.helo == "":
		return se.fault(smtp.NewReply(503, "5.5.1", "say EHLO first"))
	case se.mail != nil:
		return se.fault(
			smtp.NewReply(503, "5.5.1", "a message is under way; send DATA or RSET first"),
		)
	case se.messages >= limits.MessagesPerConnection:
		se.closeFor("it had sent as many messages as one connection may")
		return smtp.NewReply(
			421,
			"4.7.0",
			"%d messages were sent by this connection; open a new one",
			limits.MessagesPerConnection,
		)
	case limits.SessionSize > 0 && se.octets >= int64(limits.SessionSize):
		se.closeFor("it had sent as many octets as one connection may")
		return smtp.NewReply(421, "4.7.0", "%d octets were sent by this connection; open a new one",
			se.octets)
	}
	completeWith := ""
	if se.trusted() {
		completeWith = string(se.cfg.Service.DefaultSenderDomain)
	}
	m, fault := smtp.ParseMail(arg, completeWith)
	if fault == nil {
		se.mail = &m // for the record
	}
	if r := se.mayBegin(); r != nil {
		se.mail = nil
		return *r
	}
	if fault != nil {
		se.refuse(refused{stage: diagnose.StageSender, cause: diagnose.Malformed, reply: *fault})
		return se.fault(*fault)
	}
	if r := se.mayHold(&m); r != nil {
		se.mail = nil
		return *r
	}
	if r := se.mayAsk(&m); r != nil {
		se.mail = nil
		return *r
	}
	if m.Size > int64(limits.MessageSize) {
		r := smtp.NewReply(552, "5.3.4", "the message has %d octets; %d are allowed here", m.Size,
			limits.MessageSize)
		se.refuse(refused{stage: diagnose.StageSender, cause: diagnose.TooLarge, reply: r})
		se.mail = nil
		return se.weigh(r, 1)
	}
	if se.trusted() {
		m.From = se.cfg.RewriteSender(m.From)
	}
	se.record.Touch(m.From.Domain)
	return smtp.NewReply(250, "2.1.0", "sender ok")
}

// mayBegin finds what this listener asks for before any message.
func (se recipientTalk) mayBegin() *smtp.Reply {
	var r smtp.Reply
	var cause diagnose.Cause
	switch {
	case se.conf.TLS == config.TLSRequired && se.tls == nil:
		r, cause = smtp.NewReply(530, "5.7.0",
			"say STARTTLS first; no mail is taken here in the clear"), diagnose.TLSNeeded
	case se.conf.Kind == config.Submission && se.account.IsNull():
		r, cause = smtp.NewReply(530, "5.7.0",
			"sign in first; this listener is for people with an account"), diagnose.SignInNeeded
	case !se.account.IsNull() && se.server.isStopped(se.account):
		r, cause = stoppedReply(se.account), diagnose.AccountStopped
		r.Code = 421
		se.closeFor("the account was stopped")
	case !se.account.IsNull() && !se.maySubmit():
		r, cause = smtp.NewReply(421, "4.7.0", "%s may not submit any more; closing",
			se.account.Display()), diagnose.RuleRefuses
		se.closeFor("the account may not submit any more")
	case se.server.Intake.Taking() != nil:
		r, cause = smtp.NewReply(451, "4.3.0",
			"no mail can be taken just now; try again later"), diagnose.OurTrouble
		se.refuse(refused{stage: diagnose.StageSender, cause: cause, reply: r})
		return &r
	default:
		return nil
	}
	se.refuse(refused{stage: diagnose.StageSender, cause: cause, reply: r})
	if r.Code != 421 {
		r = se.fault(r)
	}
	return &r
}

func (se recipientTalk) rcptTo(arg string) smtp.Reply {
	if se.mail == nil {
		return se.fault(smtp.NewReply(503, "5.5.1", "say MAIL first"))
	}
	if se.chunks != nil {
		return se.fault(smtp.NewReply(503, "5.5.1", "the message is on its way already"))
	}
	if len(se.rcpts) >= se.conf.Limits.Recipients {
		return se.weigh(
			smtp.NewReply(452, "4.5.3", "too many recipients; at most %d a message here",
				se.conf.Limits.Recipients),
			1,
		)
	}
	rcpt, fault := smtp.ParseRcpt(arg, se.mail.UTF8)
	if fault != nil {
		se.refuse(refused{stage: diagnose.StageRecipient, cause: diagnose.Malformed, reply: *fault})
		return se.fault(*fault)
	}
	if host := rcpt.To.Domain; strings.EqualFold(rcpt.To.Local, "postmaster") &&
		se.cfg.Domain(host) == nil &&
		slices.Contains(contentTalk(se).ownNames(), host) {
		rcpt.To.Domain = "" // RFC 5321 section 4.5.1: the postmaster of this very host
	}
	se.record.Touch(rcpt.To.Domain)
	e := se.envelope()
	decision := relay.Decide(se.cfg, e, rcpt.To)
	no := refused{stage: diagnose.StageRecipient, to: rcpt.To, rule: decision.Rule}
	if !decision.Allow {
		se.server.refused.add(e, rcpt.To)
		no.reply, no.cause = decision.Reply, diagnose.RuleRefuses
		if decision.Line == 0 {
			no.cause = diagnose.NoRuleAllows
		}
		se.refuse(no)
		return se.weigh(decision.Reply, 1)
	}
	target, bad := se.sentBack(rcpt.To)
	legs, refusal := route.Plan(se.cfg, e, target)
	if target != rcpt.To {
		for i := range legs {
			legs[i].Via = append([]address.Address{rcpt.To}, legs[i].Via...)
		}
	}
	var weight weighed
	if bad != nil {
		refusal = nil
	} else if refusal == nil && decision.Rule == config.RuleOurDomain {
		weight, bad = strangerTalk(se).refusedEarly(rcpt.To)
	}
	if refusal != nil {
		se.server.refused.add(e, rcpt.To)
		no.cause = diagnose.RouteRefuses
		if refusal.Enhanced == "5.1.1" {
			no.cause = diagnose.NoSuchUser
		}
	} else if bad != nil {
		refusal, no = &bad.reply, *bad
		no.stage, no.to, no.rule = diagnose.StageRecipient, rcpt.To, decision.Rule
	} else if gated := gateTalk(se).refusedEarly(rcpt.To, legs); gated != nil {
		refusal, no = &gated.reply, *gated
		no.rule = decision.Rule
	} else {
		refusal, no.cause = se.mayTake(e, decision, target, legs)
	}
	if refusal != nil {
		no.reply = *refusal
		se.refuse(no)
		return se.weigh(*refusal, 1)
	}
	se.rcpts = append(
		se.rcpts,
		recipient{rcpt: rcpt, decision: decision, legs: legs, weighed: weight},
	)
	return smtp.NewReply(250, "2.1.5", "recipient ok")
}
