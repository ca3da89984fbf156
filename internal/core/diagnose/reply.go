package diagnose

import (
	"strings"

	"gullroute/internal/core/smtp"
)

// Stage is the step of a delivery at which something was said or failed.
type Stage string

// The stages, in the order of a delivery.
const (
	StageRoute     Stage = "route"
	StageDNS       Stage = "dns"
	StageConnect   Stage = "connect"
	StageGreeting  Stage = "greeting"
	StageHello     Stage = "hello"
	StageTLS       Stage = "tls"
	StageSignIn    Stage = "sign-in"
	StageSender    Stage = "sender"
	StageRecipient Stage = "recipient"
	StageContent   Stage = "content"
	StageMailbox   Stage = "mailbox"
)

// OfHost reports whether a transient failure at this stage is the host's as a
// whole, so that its lane should rest and not try the next letter.
func (s Stage) OfHost() bool {
	switch s {
	case StageDNS, StageConnect, StageGreeting, StageHello, StageTLS, StageSignIn:
		return true
	}
	return false
}

// rule matches a reply; every condition that is set must hold.
type rule struct {
	cause    Cause
	class    int // 4, 5 or 0 for both
	enhanced string
	words    []string // one of them stands in the text, lower case
}

// rules are read in order; the text decides before the codes, since codes are
// often wrong for what is meant.
var rules = []rule{
	{cause: Greylisted, class: 4, words: []string{"greylist", "graylist", "grey-list"}},
	{cause: HomeLine, words: []string{"home line", "dynamic", "residential", "dial-up", "dialup"}},
	{cause: BlockListed, words: []string{"block list", "blocklist", "blacklist", "block-list", "denylist", "listed at", "listed by"}},
	{cause: Loop, words: []string{"loop", "too many hops", "hop count"}},
	{cause: Loop, enhanced: "x.4.6"},
	{cause: TLSRequired, words: []string{"starttls first", "tls required", "requires tls", "must issue a starttls"}},
	{cause: SignInRequired, enhanced: "x.7.0", words: []string{"sign in", "authenticat"}},
	{cause: SignInRequired, words: []string{"authentication required", "sign in first", "must authenticate"}},
	{cause: MailboxFull, words: []string{"mailbox full", "mailbox is full", "over quota", "quota exceeded", "out of storage", "shelf is full"}},
	{cause: MailboxFull, enhanced: "x.2.2"},
	{cause: TooManySessions, words: []string{"too many connections", "too many sessions", "concurrent connections"}},
	{cause: RateLimited, words: []string{"rate limit", "too fast", "too many messages", "slow down"}},
	{cause: RelayRefused, class: 5, words: []string{"relay"}},
	{cause: TooLarge, enhanced: "x.3.4"},
	{cause: TooLarge, enhanced: "x.2.3"},
	{cause: NeedsUTF8, enhanced: "x.6.7"},
	{cause: Needs8Bit, enhanced: "x.6.1"},
	{cause: NoSuchUser, class: 5, enhanced: "x.1.1"},
	{cause: NoSuchUser, class: 5, enhanced: "x.1.6"},
	{cause: NoSuchUser, class: 5, words: []string{"no such user", "user unknown", "unknown user", "no mailbox here", "does not exist", "nobody of that name"}},
	{cause: NoMail, enhanced: "x.1.10"},
	{cause: ContentRefused, class: 5, enhanced: "x.6.0"},
	{cause: ContentRefused, class: 5, words: []string{"spam", "virus", "content"}},
	{cause: HostBusy, enhanced: "x.3.2"},
}

// OfReply is the cause of a refusing reply at a stage.
func OfReply(stage Stage, r smtp.Reply) Cause {
	text := strings.ToLower(r.Text())
	for _, rule := range rules {
		if rule.matches(r, text) {
			return rule.cause
		}
	}
	switch {
	case r.Code == 421:
		return HostBusy
	case r.Code == 552 && stage != StageRecipient:
		return TooLarge
	case r.Code == 530:
		return SignInRequired
	case r.Code == 535:
		return SignInRequired
	case r.Code == 550 && stage == StageRecipient && r.Enhanced == "":
		return NoSuchUser
	case r.Code == 554 && stage == StageContent:
		return ContentRefused
	}
	return Unknown
}

func (ru rule) matches(r smtp.Reply, text string) bool {
	if ru.class != 0 && r.Code/100 != ru.class {
		return false
	}
	if ru.enhanced != "" && (len(r.Enhanced) < 5 || r.Enhanced[1:] != ru.enhanced[1:]) {
		return false
	}
	if len(ru.words) == 0 {
		return true
	}
	for _, w := range ru.words {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}
