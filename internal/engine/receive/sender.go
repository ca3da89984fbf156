package receive

import (
	"net/mail"
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/message"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/smtp"
)

// endsHere reports that the message may come to its end in a mailbox of ours.
func (se contentTalk) endsHere() bool {
	return slices.ContainsFunc(se.rcpts, func(r recipient) bool {
		for _, leg := range r.legs {
			if d := se.cfg.Domain(leg.Recipient.Domain); leg.Route.NextHop == config.HopMailbox ||
				d != nil && d.Kind != config.Relay {
				return true
			}
		}
		return false
	})
}

// ownFrom sees that people write as themselves where a rule demands it: From and
// Sender are what a reader sees, the envelope is not. A message that names somebody
// else is refused, or gets a Sender field that names the account, as the rule says.
func (se contentTalk) ownFrom(section []byte) (fixed []byte, changed bool, no *smtp.Reply) {
	term := ""
	for _, r := range se.rcpts {
		if t := r.decision.OwnFrom; t == config.OwnFromRefuse || t != "" && term == "" {
			term = t
		}
	}
	if term == "" {
		return section, false, nil
	}
	refuse := func(format string, args ...any) *smtp.Reply {
		r := smtp.NewReply(550, "5.7.1", format, args...)
		return &r
	}
	h := message.ParseHeader(section)
	if n := h.Count("From"); n > 1 {
		return section, false, refuse("the message has %d From fields; it may have one", n)
	}
	foreign, field := "", ""
	for _, name := range []string{"From", "Sender"} {
		for _, f := range h {
			if !strings.EqualFold(f.Name, name) || foreign != "" {
				continue
			}
			if foreign = se.foreign(f.Value); foreign != "" {
				field = name
			}
		}
	}
	switch {
	case foreign == "":
		return section, false, nil
	case term == config.OwnFromRefuse:
		return section, false, refuse(
			"%s names %s, which does not belong to %s; write as one of your own addresses",
			field,
			foreign,
			se.account.Display(),
		)
	}
	section, _ = message.DropFields(section, "Sender")
	return append([]byte("Sender: <"+se.account.String()+">\r\n"), section...), true, nil
}

// foreign is the first address of a field that is not the account's, "" if all are.
func (se contentTalk) foreign(value string) string {
	list, err := mail.ParseAddressList(value)
	if err != nil {
		return "what cannot be read as addresses"
	}
	for _, a := range list {
		who, err := address.Parse(a.Address)
		if err != nil || !relay.Belongs(se.cfg, config.Envelope{Account: se.account, Sender: who}) {
			return "<" + strings.Map(printable, a.Address) + ">"
		}
	}
	return ""
}

func printable(r rune) rune {
	if r < ' ' || r >= 0x7f {
		return '?'
	}
	return r
}
