package receive

import (
	"context"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/smtp"
)

// askTalk is the part of a session in which a site asks for its mail (ETRN, RFC 1985).
type askTalk struct{ *session }

// askTimeout bounds one request.
const askTimeout = 20 * time.Second

// mayAsk reports whether whoever is there may ask for the mail of a route.
func (se askTalk) mayAsk(r *config.Route) bool {
	if r.Asks == nil || r.Off {
		return false
	}
	if !se.account.IsNull() && len(r.Asks.Accounts) > 0 {
		if _, ok := r.Asks.Accounts.Match(se.account); ok {
			return true
		}
	}
	for _, n := range r.Asks.Networks {
		if n.Contains(se.client) {
			return true
		}
	}
	return false
}

// offered reports whether the client may ask for anything.
func (se askTalk) offered() bool {
	return se.server.Asked != nil && slices.ContainsFunc(se.cfg.Routes,
		func(r config.Route) bool { return se.mayAsk(&r) })
}

// etrn is ETRN: "domain"; "@domain" or "#route" for all of the route.
func (se askTalk) etrn(arg string) smtp.Reply {
	se.refresh()
	domain, all := strings.CutPrefix(strings.TrimSpace(arg), "@")
	route, byName := strings.CutPrefix(domain, "#")
	switch {
	case !se.anyAsks():
		return se.fault(smtp.NewReply(502, "5.5.1", "ETRN is not offered here"))
	case !se.extended:
		return se.fault(smtp.NewReply(503, "5.5.1", "say EHLO first"))
	case se.mail != nil:
		return se.fault(smtp.NewReply(503, "5.5.1", "not while a message is under way"))
	case domain == "":
		return se.fault(smtp.NewReply(501, "5.5.4", "say for which domain: ETRN domain (RFC 1985)"))
	}
	if !byName {
		parsed, err := address.ParseDomain(domain)
		if err != nil {
			return se.fault(smtp.NewReply(501, "5.5.4", "%v", err))
		}
		domain = parsed
	}
	for i := range se.cfg.Routes {
		r := &se.cfg.Routes[i]
		if !se.mayAsk(r) {
			continue
		}
		if byName && r.Name != route {
			continue
		}
		if _, ok := r.Recipients.Match(address.Address{Local: "postmaster", Domain: domain}); !byName &&
			!ok {
			continue
		}
		only := domain
		if byName || all {
			only = ""
		}
		return se.asked(r, only)
	}
	return se.fault(smtp.NewReply(459, "5.7.1",
		"you may not ask for that here; ask your administrator (route asks)"))
}

// anyAsks reports whether sites may ask at all.
func (se askTalk) anyAsks() bool {
	return se.server.Asked != nil && slices.ContainsFunc(se.cfg.Routes,
		func(r config.Route) bool { return r.Asks != nil })
}

// asked sets the mail of a route moving.
func (se askTalk) asked(r *config.Route, domain string) smtp.Reply {
	ctx, cancel := context.WithTimeout(context.Background(), askTimeout)
	defer cancel()
	who := se.account.Display()
	if se.account.IsNull() {
		who = se.client.String()
	}
	n, err := se.server.Asked(ctx, who, r.Name, domain)
	switch {
	case err != nil:
		se.log.Error(
			"mail that was asked for could not be set moving",
			"route",
			r.Name,
			"error",
			err,
		)
		return smtp.NewReply(458, "4.3.0", "this cannot be done just now; try again soon")
	case n == 0:
		return smtp.NewReply(251, "2.0.0", "no message waits")
	case n == 1:
		return smtp.NewReply(253, "2.0.0", "1 delivery set moving")
	}
	return smtp.NewReply(253, "2.0.0", "%d deliveries set moving", n)
}
