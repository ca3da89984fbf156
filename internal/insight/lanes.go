package insight

import (
	"cmp"
	"context"
	"sync"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/queue"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Lanes tells of lanes more than a list does.
type Lanes struct {
	Store   store.Lanes
	Waiting store.Queue
	Runs    store.Runs
	InForce *inforce.State
	Queue   *queue.Queue

	cache laneCache
}

// Forget lets the next list be read anew: something was changed.
func (s *Lanes) Forget() { s.cache.forget() }

// Deliveries lists deliveries that are not finished, oldest first.
func (s *Lanes) Deliveries(ctx context.Context, f mail.Filter) ([]mail.QueueItem, error) {
	return s.Waiting.List(ctx, f)
}

// One is one lane, also when nothing waits in it.
func (s *Lanes) One(ctx context.Context, id ident.ID) (api.LaneDetail, error) {
	lanes, err := s.List(ctx)
	if err != nil {
		return api.LaneDetail{}, err
	}
	for _, l := range lanes {
		if l.ID == id {
			return s.Detail(ctx, l)
		}
	}
	route, nextHop, err := s.Store.LaneName(ctx, id)
	if err != nil {
		return api.LaneDetail{}, err
	}
	l := mail.Lane{ID: id, Route: route, NextHop: nextHop, State: mail.LaneMoving}
	if p := s.pausesByName().of(&l); p != nil {
		l.State, l.Pause, l.Why, l.Until, l.Since = mail.LanePaused, p, whyPaused(
			p,
		), p.Until, mail.At(p.Since)
	}
	return s.Detail(ctx, l)
}

// laneAges are the bounds by which a lane's messages are counted.
var laneAges = []time.Duration{
	10 * time.Minute,
	time.Hour,
	4 * time.Hour,
	12 * time.Hour,
	24 * time.Hour,
	48 * time.Hour,
}

const (
	agesCounted = 20_000 // of one lane, for an age
	stripCounts = 2000   // of each of many lanes
)

// Ages are how long the messages of a lane have waited, counted as far as a strip needs.
func (s *Lanes) Ages(ctx context.Context, id ident.ID) ([]mail.Age, error) {
	return s.Store.LaneAges(ctx, id, time.Now(), laneAges, stripCounts)
}

// Detail adds to a lane its ages, its last hour and its schedule.
func (s *Lanes) Detail(ctx context.Context, l mail.Lane) (api.LaneDetail, error) {
	now := time.Now()
	out := api.LaneDetail{Lane: l}
	var err error
	if out.Ages, err = s.Store.LaneAges(ctx, l.ID, now, laneAges, agesCounted); err != nil {
		return out, err
	}
	day, err := s.Store.LaneFlow(ctx, l.ID, now.Add(-24*time.Hour))
	if err != nil {
		return out, err
	}
	out.Minutes, out.Tried = []mail.Minute{}, []mail.Minute{}
	for _, m := range day {
		if !m.At.Before(now.Add(-time.Hour).Truncate(time.Minute)) {
			out.Minutes = append(out.Minutes, m)
		}
		if m.Failed > 0 || m.Finished > 0 {
			out.Tried = append(out.Tried, m)
		}
	}
	cfg := s.InForce.Config()
	domain := l.NextHop
	if r := cfg.Route(l.Route); r != nil && r.NextHop != config.HopMX &&
		r.NextHop != config.HopDirect {
		domain = ""
	}
	if r := cfg.Route(l.Route); r != nil && l.Limit == 0 {
		out.Limit = route.TermsOf(cfg, r, l.NextHop).Connections
	}
	terms := cfg.ScheduleOf(cfg.Route(l.Route), domain, false)
	out.Schedule = api.ScheduleTerms{
		Intervals:   []float64{},
		WarnAfter:   terms.WarnAfter.Seconds(),
		ExpireAfter: terms.ExpireAfter.Seconds(),
	}
	for _, i := range terms.Intervals {
		out.Schedule.Intervals = append(out.Schedule.Intervals, i.Seconds())
	}
	return out, nil
}

// SchedulePreview plays a schedule through: the one of a route and a domain, with other
// terms over it.
func (s *Lanes) SchedulePreview(
	routeName, domain string,
	own config.OwnRetry,
) (retry.Preview, error) {
	cfg := s.InForce.Config()
	var r *config.Route
	if routeName != "" {
		if r = cfg.Route(routeName); r == nil {
			return retry.Preview{}, fault.Refuse("route", "there is no route %s that is on",
				routeName)
		}
	}
	return own.Over(cfg.ScheduleOf(r, domain, false)).Preview(), nil
}

// laneCache keeps the lanes for a moment: several pages, the metrics and every
// console that watches ask for the same. The longer they take to read, the
// longer they are kept.
type laneCache struct {
	mu    sync.Mutex
	until time.Time
	lanes []mail.Lane
}

// forget lets the next question be asked anew.
func (c *laneCache) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.until = time.Time{}
}

const (
	laneCacheTime  = 400 * time.Millisecond
	laneCacheShare = 5 // times what reading them took
)

// List is what waits by lane, with how each lane goes.
func (s *Lanes) List(ctx context.Context) ([]mail.Lane, error) {
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	if time.Now().Before(s.cache.until) {
		return s.cache.lanes, nil
	}
	began := time.Now()
	lanes, err := s.Store.List(ctx)
	if err != nil {
		return nil, err
	}
	running, err := s.Runs.RunningNodes(ctx)
	if err != nil {
		return nil, err
	}
	view, pauses, cfg := s.Queue.View(), s.pausesByName(), s.InForce.Config()
	for i := range lanes {
		l := &lanes[i]
		l.State = mail.LaneMoving
		if v, ok := view[l.ID]; ok {
			l.State, l.Since, l.Until, l.Why = v.State, mail.At(v.Since), OptAt(v.Until), v.Why
			l.Sending, l.Connections, l.Limit = v.Sending, v.Connections, v.Limit
			if v.State == mail.LaneResting && v.Until.After(l.NextAttemptAt.Time) {
				l.NextAttemptAt = l.Until
			}
			if v.Last != nil {
				l.Last, l.Cause = v.Last, v.Cause
			}
		}
		if l.State == mail.LaneMoving && l.Waiting+l.Sending == 0 && l.Deferred > 0 &&
			l.Last != nil &&
			l.Last.Stage.OfHost() {
			// Nothing is known in memory of a lane whose host was in trouble long ago, or of an
			// earlier run; all that it has waits for the next attempt.
			l.State, l.Until, l.Why = mail.LaneResting, l.NextAttemptAt, "its host could not be "+
				"used at the last attempt"
			if l.Since.IsZero() {
				l.Since = l.LastAt
			}
		}
		if r := cfg.Route(l.Route); r != nil && r.Kept() > 0 && l.State == mail.LaneMoving &&
			l.Waiting > 0 && l.Sending == 0 && l.NextAttemptAt.After(began) {
			l.State, l.Since, l.Until = mail.LaneParked, l.OldestAt, l.NextAttemptAt
			l.Why = "until its site asks for it (ETRN), or the next attempt is due"
		}
		if r := cfg.Route(l.Route); r != nil && r.Unserved(running) {
			l.State, l.Since, l.Why, l.NextAttemptAt = mail.LaneStranded, l.OldestAt,
				r.UnservedText(), mail.OptTime{}
		}
		if l.Route == config.RouteNone {
			l.State, l.Since = mail.LaneStranded, l.OldestAt
			l.Why = "no route leads to " + address.DisplayDomain(l.NextHop)
		}
		if p := pauses.of(l); p != nil {
			l.State, l.Since, l.Until, l.Pause = mail.LanePaused, mail.At(p.Since), p.Until, p
			l.Why, l.NextAttemptAt = whyPaused(p), mail.OptTime{}
		}
	}
	s.cache.lanes, s.cache.until = lanes, time.Now().Add(
		max(laneCacheTime, laneCacheShare*time.Since(began)),
	)
	return lanes, nil
}

type pauseNames map[[2]string]*mail.Pause

func (s *Lanes) pausesByName() pauseNames {
	out := pauseNames{}
	list := s.InForce.Paused()
	for i := range list {
		out[[2]string{list[i].Kind, list[i].Name}] = &list[i]
	}
	return out
}

func (p pauseNames) of(l *mail.Lane) *mail.Pause {
	return cmp.Or(p[[2]string{mail.PauseDelivery, ""}], p[[2]string{mail.PauseRoute, l.Route}],
		p[[2]string{mail.PauseLane, l.ID.String()}])
}

func whyPaused(p *mail.Pause) string {
	text := map[string]string{mail.PauseDelivery: "all delivery is paused",
		mail.PauseRoute: "route " + p.Name + " is paused", mail.PauseLane: "paused"}[p.Kind] +
		" by " + p.Who
	if p.Why != "" {
		text += ": " + p.Why
	}
	return text
}

func OptAt(t time.Time) mail.OptTime {
	if t.Unix() <= 1 {
		return mail.OptTime{}
	}
	return mail.At(t)
}

// Stored are the lanes as the database has them, without what memory knows.
func (s *Lanes) Stored(ctx context.Context) ([]mail.Lane, error) { return s.Store.List(ctx) }
