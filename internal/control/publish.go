package control

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
	"gullroute/internal/core/readiness"
	engine "gullroute/internal/engine/publish"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Looker looks at a domain as the world sees it.
type Looker interface {
	Check(ctx context.Context, domain string) (readiness.Readiness, error)
}

// Publisher puts records into DNS at the servers that take changes from us, and takes them back.
type Publisher struct {
	Store   store.DNSChanges
	InForce *inforce.State
	Secrets *inforce.Secrets
	Looker  Looker
	Log     *slog.Logger
}

// awaitSeen is how long a call waits for the servers of a zone to show a change.
const awaitSeen = 10 * time.Second

// Plan looks at a domain and says what would be published, for some points or for all.
func (p *Publisher) Plan(
	ctx context.Context,
	domain string,
	points []string,
) (api.PublishPlan, error) {
	r, err := p.Looker.Check(ctx, domain)
	if err != nil {
		return api.PublishPlan{}, err
	}
	plan := api.PublishPlan{Domain: domain, Score: r.Score, Steps: []api.PublishStep{}}
	for _, point := range points {
		if !slices.ContainsFunc(r.Points, func(a readiness.Aspect) bool { return a.Key == point }) {
			return plan, fault.Input("points: %q is no point of readiness", point)
		}
	}
	at := map[string]int{} // steps by name and type: several records become one change
	for _, a := range r.Points {
		if len(points) > 0 && !slices.Contains(points, a.Key) {
			continue
		}
		for _, rec := range a.Records {
			key := rec.Name + " " + rec.Type
			if i, ok := at[key]; ok && plan.Steps[i].Change != nil {
				c := plan.Steps[i].Change
				*c = publish.Diff(c.Name, c.Type, c.Before, publish.Merge(c.After, rec))
				continue
			}
			at[key] = len(plan.Steps)
			plan.Steps = append(plan.Steps, p.step(ctx, a.Key, rec))
		}
	}
	plan.Steps = slices.DeleteFunc(plan.Steps,
		func(s api.PublishStep) bool { return s.Change != nil && s.Change.Nothing() })
	text, _ := json.Marshal(plan.Steps)
	sum := sha256.Sum256(text)
	plan.Mark = hex.EncodeToString(sum[:6])
	return plan, nil
}

// step plans one record.
func (p *Publisher) step(ctx context.Context, point string, rec publish.DNSRecord) api.PublishStep {
	s := api.PublishStep{Point: point, Record: rec}
	server, zone := p.InForce.Config().ServerOf(rec.Name)
	if server == nil {
		s.ByHand = "no DNS server of ours takes changes of " + rec.Name
		return s
	}
	s.Server, s.Zone = server.Name, zone
	at := engine.Server{DNSServer: server, Zone: zone}
	before, ttl, err := at.Current(ctx, rec.Name, rec.Type)
	if err != nil {
		s.ByHand = err.Error()
		return s
	}
	if s.TTL = ttl; len(before) == 0 {
		s.TTL = uint32(rec.TTL)
	}
	if rec.Type == "CNAME" && len(before) == 0 {
		for _, other := range []string{"A", "AAAA", "TXT", "MX"} {
			if there, _, err := at.Current(ctx, rec.Name, other); err != nil || len(there) > 0 {
				s.ByHand = fmt.Sprintf(
					"an alias (CNAME) cannot stand beside the %s record of %s: take "+
						"that out first, or let it be if it leads to us",
					other,
					rec.Name,
				)
				return s
			}
		}
	}
	c := publish.Diff(rec.Name, rec.Type, before, publish.Merge(before, rec))
	s.Change = &c
	return s
}

// ErrPlanChanged reports a plan that is no longer the one that was seen.
var ErrPlanChanged = errors.New(
	"what is to be published is no longer what you have seen; look at it again",
)

// Publish makes the plan that was seen, and waits a while for the servers of the zones to show it.
func (p *Publisher) Publish(
	ctx context.Context,
	who, domain string,
	points []string,
	mark string,
) (api.PublishPlan, error) {
	plan, err := p.Plan(ctx, domain, points)
	if err != nil {
		return plan, err
	}
	if mark != plan.Mark {
		return plan, ErrPlanChanged
	}
	for i := range plan.Steps {
		if s := &plan.Steps[i]; s.Change != nil {
			s.ID, err = p.make(
				ctx,
				mail.DNSChange{Who: who, Domain: domain, Why: s.Point, Server: s.Server,
					Zone: s.Zone, Change: *s.Change, TTL: s.TTL},
			)
			if err != nil {
				s.Failed = err.Error()
			}
		}
	}
	for i := range plan.Steps {
		if s := &plan.Steps[i]; s.ID != 0 {
			s.Seen = p.await(ctx, s.Server, s.Zone, *s.Change)
		}
	}
	if r, err := p.Looker.Check(ctx, domain); err == nil {
		plan.Score = r.Score
	}
	return plan, nil
}

// Server is a DNS server with its key, for records of a name.
func (p *Publisher) Server(ctx context.Context, name string) (engine.Server, error) {
	server, zone := p.InForce.Config().ServerOf(name)
	if server == nil {
		return engine.Server{}, fault.Input("no DNS server of ours takes changes of %s", name)
	}
	return p.server(ctx, server, zone)
}

func (p *Publisher) server(
	ctx context.Context,
	server *config.DNSServer,
	zone string,
) (engine.Server, error) {
	key, err := p.Secrets.Secret(ctx, server.Secret)
	if err != nil {
		return engine.Server{}, fmt.Errorf(
			"the key of DNS server %s cannot be used: secret %s: %w "+
				"(gull secret set %s)",
			server.Name,
			server.Secret,
			err,
			server.Secret,
		)
	}
	return engine.Server{DNSServer: server, Zone: zone, Key: strings.TrimSpace(key)}, nil
}

// named finds a server by its name in the configuration.
func (p *Publisher) named(ctx context.Context, name, zone string) (engine.Server, error) {
	cfg := p.InForce.Config()
	for i := range cfg.DNSServers {
		if cfg.DNSServers[i].Name == name {
			return p.server(ctx, &cfg.DNSServers[i], zone)
		}
	}
	return engine.Server{}, fault.Refuse("server", "there is no DNS server %s any more", name)
}

// make puts a change on record and makes it; what is not made is not on record.
func (p *Publisher) make(ctx context.Context, c mail.DNSChange) (int64, error) {
	s, err := p.named(ctx, c.Server, c.Zone)
	if err != nil {
		return 0, err
	}
	c, err = p.Store.Add(ctx, c)
	if err != nil {
		return 0, err
	}
	err = s.Update(ctx, c.Change, cmp.Or(c.TTL, publish.TTL))
	if err != nil && (errors.Is(err, engine.ErrChanged) || !stands(ctx, s, c.Change)) {
		return 0, errors.Join(err, p.Store.Drop(context.WithoutCancel(ctx), c.ID))
	}
	p.Log.Info("a record was published", "name", c.Change.Name, "type", c.Change.Type, "server",
		c.Server, "who", c.Who)
	return c.ID, nil
}

// stands reports a change that the server made although its answer was lost.
func stands(ctx context.Context, s engine.Server, c publish.RecordChange) bool {
	now, _, err := s.Current(ctx, c.Name, c.Type)
	return err == nil && slices.Equal(now, slices.Sorted(slices.Values(c.After)))
}

// await says which servers show a change.
func (p *Publisher) await(ctx context.Context, name, zone string, c publish.RecordChange) string {
	s, err := p.named(ctx, name, zone)
	if err != nil {
		return err.Error()
	}
	seen := s.Await(ctx, p.InForce.FreshResolver(), c, awaitSeen)
	if len(seen.Missing) == 0 {
		if seen.Asked == 1 {
			return "the zone's server shows it"
		}
		return fmt.Sprintf("all %d servers of the zone show it", seen.Asked)
	}
	return fmt.Sprintf("%d of %d servers of the zone show it: %s", seen.Show, seen.Asked,
		strings.Join(seen.Missing, "; "))
}

// TakeBack puts back what stood there before a change, unless others changed it since.
func (p *Publisher) TakeBack(ctx context.Context, who string, id int64) (mail.DNSChange, error) {
	c, err := p.Store.Get(ctx, id)
	if err != nil {
		return c, err
	}
	if !c.BackAt.IsZero() {
		return c, fault.Refuse("id", "it was taken back already, by %s", c.BackWho)
	}
	s, err := p.named(ctx, c.Server, c.Zone)
	if err != nil {
		return c, err
	}
	back := publish.Diff(c.Change.Name, c.Change.Type, c.Change.After, c.Change.Before)
	if err := s.Update(ctx, back, cmp.Or(c.TTL, publish.TTL)); err != nil {
		if errors.Is(err, engine.ErrChanged) {
			return c, fault.Refuse(
				"id",
				"%s %s was changed by somebody else since: put it in order by hand",
				c.Change.Name,
				c.Change.Type,
			)
		}
		return c, fault.Refuse("id", "%v", err)
	}
	if err := p.Store.Back(ctx, who, id); err != nil {
		return c, err
	}
	p.await(ctx, c.Server, c.Zone, back)
	return p.Store.Get(ctx, id)
}
