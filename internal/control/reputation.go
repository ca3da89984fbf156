package control

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/repute"
	"gullroute/internal/engine/weigh"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Reputation is what people see and say of strangers.
type Reputation struct {
	Store   store.Reputation
	Actions store.Actions
	InForce *inforce.State
	Weigher *weigh.Weigher
	Log     *slog.Logger
}

// seenFor is how far back it is told what we saw of a stranger.
const seenFor = 30 * 24 * time.Hour

// wellFormed is a header section that nothing speaks against.
var wellFormed = message.Header{{Name: "From"}, {Name: "Date", Value: "-"}}

// State is how strangers are weighed.
func (s *Reputation) State(ctx context.Context) (api.Weighing, error) {
	t := &s.InForce.Config().Service.Reputation
	x := api.Weighing{Score: t.Score, Greylisting: t.Greylisting, Thresholds: &t.Thresholds,
		Lists: s.Weigher.States()}
	var err error
	if x.Waiting, x.Known, err = s.Store.Greylist(ctx, ""); err != nil {
		return x, err
	}
	if x.Exceptions, err = s.Store.Standings(ctx); x.Exceptions == nil {
		x.Exceptions = []repute.Standing{}
	}
	return x, err
}

// Look says what is known of an address or a domain.
func (s *Reputation) Look(ctx context.Context, about string) (api.Reputation, error) {
	c := s.InForce.Config()
	t := &c.Service.Reputation
	x := api.Reputation{About: about, Kind: "address", Exceptions: []repute.Standing{}}
	all, err := s.Store.Standings(ctx)
	if err != nil {
		return x, err
	}
	var seen store.Seen
	since := time.Now().Add(-seenFor)
	ip, err := netip.ParseAddr(about)
	if err == nil {
		ip = ip.Unmap()
		x.About = ip.String()
		client := s.Weigher.Client(ctx, t, weigh.Facts{Client: ip})
		x.Name, x.NameState = client.Name, client.NameState
		x.Lists = s.Weigher.Everything(ctx, x.About)
		client.Listings, client.SPF, client.Greeting = x.Lists, "", ""
		score := t.Early(client)
		x.Points, x.Parts = score.Points, score.Parts
		r := s.InForce.Door().Ask(ip, address.Address{}, address.Address{}, "")
		x.Says, x.Why = r.Says, r.Why
		seen, err = s.Store.SeenOfClient(ctx, x.About, since)
	} else {
		domain, bad := address.ParseDomain(about)
		if bad != nil {
			return x, fault.Refuse("about", "%q is neither an IP address nor a domain", about)
		}
		x.About, x.Kind = domain, "domain"
		x.Lists = s.Weigher.Everything(ctx, domain)
		score := t.Late(&repute.Client{}, &repute.Message{Header: wellFormed, Listings: x.Lists})
		x.Points, x.Parts = score.Points, score.Parts
		r := s.InForce.Door().Ask(netip.Addr{}, address.Address{Local: "*", Domain: domain},
			address.Address{}, "")
		if x.Says, x.Why = r.Says, r.Why; r.Unproved {
			x.Says, x.Why = repute.Allow, r.Why+", where SPF or DMARC proves it"
		}
		seen, err = s.Store.SeenOfDomain(ctx, domain, since)
	}
	x.Messages, x.Refusals, x.LastAt = seen.Messages, seen.Refusals, seen.Last
	for _, one := range all {
		if concerns(one, x.About, ip) {
			x.Exceptions = append(x.Exceptions, one)
		}
	}
	return x, err
}

// concerns reports an exception that is about an address or a domain.
func concerns(x repute.Standing, about string, ip netip.Addr) bool {
	if x.Kind == repute.OfNetwork {
		p, err := netip.ParsePrefix(x.Value)
		return err == nil && ip.IsValid() && p.Contains(ip)
	}
	p, err := address.ParsePattern(x.Value)
	if err != nil || ip.IsValid() {
		return false
	}
	_, ok := address.Patterns{p}.Match(address.Address{Local: "*", Domain: about})
	return ok || strings.HasSuffix(x.Value, "@"+about)
}

// request reads what is asked for.
func request(who string, r api.ExceptionRequest) (repute.Standing, error) {
	x := repute.Standing{
		Kind:  r.Kind,
		Value: strings.TrimSpace(r.Value),
		Says:  r.Says,
		Who:   who,
		Why:   r.Why,
	}
	if _, err := form.ParseNetwork(x.Value); err == nil &&
		(x.Kind == "" || x.Kind == repute.OfNetwork) {
		x.Kind = repute.OfNetwork
	} else if x.Kind == "" {
		x.Kind = repute.OfSender
	}
	if err := x.Check(); err != nil {
		return x, fault.Refuse("value", "%v", err)
	}
	if p, err := netip.ParsePrefix(x.Value); err == nil && p.Bits() == 0 || x.Value == "*" {
		return x, fault.Refuse(
			"value",
			"%s is everybody; that belongs into the settings, where it is "+
				"rehearsed",
			x.Value,
		)
	}
	if r.For != "" {
		d, err := form.ParseDuration(r.For)
		if err != nil || d < time.Minute {
			return x, fault.Refuse("for", "%q is no length of time; write 12h or 7d", r.For)
		}
		until := time.Now().Add(d)
		x.Until = &until
	}
	return x, nil
}

// Except allows or denies somebody, for a time or for good.
func (s *Reputation) Except(
	ctx context.Context,
	who string,
	r api.ExceptionRequest,
) (api.Done, error) {
	x, err := request(who, r)
	if err != nil {
		return api.Done{}, err
	}
	if err := s.Store.SetStanding(ctx, x); err != nil {
		return api.Done{}, err
	}
	text := fmt.Sprintf("%s %s is allowed", x.Kind, x.Value)
	verb := mail.VerbAllow
	if x.Says == repute.Deny {
		text, verb = fmt.Sprintf("%s %s is denied", x.Kind, x.Value), mail.VerbDeny
	}
	if x.Until != nil {
		text += " until " + x.Until.UTC().Format("2006-01-02 15:04 UTC")
	}
	return s.done(ctx, verb, x, text)
}

// Forget takes an exception back.
func (s *Reputation) Forget(
	ctx context.Context,
	who string,
	r api.ExceptionRequest,
) (api.Done, error) {
	x, err := request(who, r)
	if err != nil {
		return api.Done{}, err
	}
	ended, err := s.Store.EndStanding(ctx, x.Kind, x.Value)
	if err != nil {
		return api.Done{}, err
	}
	if !ended {
		return api.Done{}, fault.Refuse("value", "there is no exception for %s %s", x.Kind, x.Value)
	}
	return s.done(
		ctx,
		mail.VerbForget,
		x,
		fmt.Sprintf("the exception for %s %s is taken back", x.Kind, x.Value),
	)
}

func (s *Reputation) done(
	ctx context.Context,
	verb string,
	x repute.Standing,
	text string,
) (api.Done, error) {
	on := x.Kind + " " + x.Value
	id, err := s.Actions.BeginAction(ctx, mail.Action{Who: x.Who, Verb: verb, On: on, Why: x.Why,
		Detail: map[string]any{"kind": x.Kind, "value": x.Value}})
	if err == nil {
		err = s.Actions.EndAction(ctx, id, 0, 0)
	}
	if err == nil {
		err = s.InForce.FollowStandings(ctx)
	}
	s.Log.Info("action", "id", id, "who", x.Who, "verb", verb, "on", on, "why", x.Why)
	return api.Done{Action: id, Text: text}, err
}
