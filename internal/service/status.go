package service

import (
	"context"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/config"
	"gullroute/internal/core/glossary"
	"gullroute/internal/core/mail"
	"gullroute/internal/insight"
)

// statusAPI serves the status, explanations and test messages.
type statusAPI struct{ *Service }

func (s statusAPI) register(api huma.API) {
	huma.Register(api, read("terms", "/api/v1/terms", "What our own terms mean"), s.terms)
	op := operation{}
	huma.Register(api,
		read("status", "/api/v1/status", "How the node does: what flows, waits and is in trouble"),
		s.status)
	huma.Register(
		api,
		operation{}.post("explain", "/api/v1/explain",
			"What would be decided for an envelope; nothing is sent"),
		s.explain,
	)
	huma.Register(api, op.post("send", "/api/v1/send", "Submit a test message at a listener"),
		s.send)
}

func (s statusAPI) terms(context.Context, *struct{}) (*out[api.Page[glossary.Term]], error) {
	return &out[api.Page[glossary.Term]]{api.Page[glossary.Term]{Items: glossary.Terms}}, nil
}

// maxTrouble is how many troubled lanes a status lists.
const maxTrouble = 20

func (s statusAPI) status(ctx context.Context, _ *struct{}) (*out[api.Status], error) {
	lanes, err := s.Insight.Lanes.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	cfg := s.InForce.Config()
	st := api.Status{
		Node:      s.InForce.Node,
		Version:   Version,
		HostName:  string(cfg.Service.HostName),
		StartedAt: s.Insight.Nodes.Started.UTC(),
		Revision:  cfg.Revision,
		Lanes:     len(lanes),
		Today:     map[string]int64{},
		Trouble:   []mail.Lane{},
		Hazards:   s.hazards(cfg),
		ConfirmBy: insight.OptAt(s.InForce.ConfirmBy()),
		Domains:   len(cfg.Domains),
		Routes:    len(cfg.Routes),
	}
	st.Mailboxes, _ = cfg.Directory.Counts()
	sessions := s.Insight.Nodes.Sessions()
	open := s.Insight.Nodes.Addresses()
	st.Listeners = []api.Listener{}
	for _, l := range cfg.Listeners {
		st.Listeners = append(st.Listeners, api.Listener{
			Name:     l.Name,
			Kind:     l.Kind,
			Address:  open[l.Name],
			Sessions: sessions[l.Name],
		})
	}
	addLanes(&st, lanes)
	if st.Verdict, err = s.Insight.Judge.On(ctx, lanes); err != nil {
		return nil, s.storeError(err, "success")
	}
	st.Stopped = s.Insight.Nodes.Stopped(ctx)
	st.Hours, err = s.Insight.Reporter.Since(ctx, time.Now().Add(-23*time.Hour).Truncate(time.Hour))
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	st.Hours = append([]mail.Count{}, st.Hours...)
	if st.Snags, err = s.Insight.Snags.Counts(ctx); err != nil {
		return nil, s.storeError(err, "snag")
	}
	for _, c := range st.Hours {
		st.Today[c.Kind] += c.N
	}
	return &out[api.Status]{st}, nil
}

// hazards are what is dangerous in the configuration in force, and what keeps it
// from being in force as it is written.
func (s statusAPI) hazards(cfg *config.Compiled) []config.Hazard {
	list := cfg.Hazards()
	if t := s.InForce.Trouble(); t != "" {
		list = append(list, config.Hazard{
			Kind:  "listener_trouble",
			Where: "listeners",
			Text:  t,
			Fix:   "free the address or fix the certificate, then apply again",
		})
	}
	for _, k := range s.Insight.Nodes.Signing.Locked() {
		what := "what it would sign waits"
		if cfg.Service.WithoutKey == config.SendUnsigned {
			what = "mail goes out unsigned"
		}
		list = append(list, config.Hazard{
			Kind:  "locked_key",
			Where: "signing",
			Text:  "signing key " + k + " is not opened by this node's key file: " + what,
			Fix: "put the former key file back and start the service anew, or rotate the key " +
				"(gull dkim rotate)",
		})
	}
	for _, at := range s.Insight.Nodes.FormerPrimaries() {
		list = append(list, config.Hazard{
			Kind:  "former_primary",
			Where: "database",
			Text: "database host " + at + " was the primary before another was promoted, and " +
				"still takes writes: what is written there is lost",
			Fix: "stop it, or make it a standby of the promoted one",
		})
	}
	return list
}

// addLanes sums up what waits and picks out what is in trouble: lanes that rest
// or are stranded, and those whose mail is all deferred.
func addLanes(st *api.Status, lanes []mail.Lane) {
	for _, l := range lanes {
		st.Waiting += l.Waiting
		st.Deferred += l.Deferred
		st.Held += l.Held
		st.Sending += l.Sending
		if st.OldestAt.IsZero() || l.OldestAt.Before(st.OldestAt.Time) {
			st.OldestAt = l.OldestAt
		}
		switch l.State {
		case mail.LaneResting:
			st.Resting++
		case mail.LaneStranded:
			st.Stranded++
		case mail.LanePaused:
			st.Paused++
		}
		if l.State != mail.LaneMoving && l.State != mail.LaneParked || l.Deferred > 0 {
			st.Trouble = append(st.Trouble, l)
		}
	}
	slices.SortStableFunc(st.Trouble,
		func(a, b mail.Lane) int { return urgency(b.State) - urgency(a.State) })
	st.Trouble = st.Trouble[:min(len(st.Trouble), maxTrouble)]
}

// urgency orders lanes by what only a person can fix.
func urgency(s mail.LaneState) int {
	switch s {
	case mail.LaneStranded:
		return 2
	case mail.LaneResting, mail.LanePaused:
		return 1
	}
	return 0
}

func (s statusAPI) explain(
	ctx context.Context,
	in *struct{ Body api.Question },
) (*out[api.Page[api.Answer]], error) {
	answers, err := s.Control.Explainer.Explain(ctx, in.Body)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &out[api.Page[api.Answer]]{api.Page[api.Answer]{Items: answers}}, nil
}

func (s statusAPI) send(
	ctx context.Context,
	in *struct{ Body api.TestMessage },
) (*out[api.Submitted], error) {
	handed, err := s.Control.Submitter.Submit(ctx, in.Body)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &out[api.Submitted]{handed}, nil
}
