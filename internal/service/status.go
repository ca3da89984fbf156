package service

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
)

// maxTrouble is how many troubled lanes a status lists.
const maxTrouble = 20

func (s *Service) status(ctx context.Context, _ *struct{}) (*out[mail.Status], error) {
	lanes, err := s.laneList(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	cfg := s.Engine.Config()
	st := mail.Status{Node: s.Engine.Name, Version: Version, HostName: string(cfg.Service.HostName), StartedAt: s.Engine.Started.UTC(),
		Revision: cfg.Revision, Lanes: len(lanes), Today: map[string]int64{}, Trouble: []mail.Lane{}}
	sessions := s.Engine.Receive.Sessions()
	open := s.Engine.Receive.Addresses()
	st.Listeners = []mail.Listener{}
	for _, l := range cfg.Listeners {
		st.Listeners = append(st.Listeners, mail.Listener{Name: l.Name, Kind: l.Kind, Address: open[l.Name], Sessions: sessions[l.Name]})
	}
	addLanes(&st, lanes)
	st.Hours, err = s.Store.Counts(ctx, time.Now().Add(-23*time.Hour).Truncate(time.Hour))
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	st.Hours = append([]mail.Count{}, st.Hours...)
	for _, c := range st.Hours {
		st.Today[c.Kind] += c.N
	}
	return &out[mail.Status]{st}, nil
}

// addLanes sums up what waits and picks out what is in trouble: lanes that rest
// or are stranded, and those whose mail is all deferred.
func addLanes(st *mail.Status, lanes []mail.Lane) {
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
		}
		if l.State != mail.LaneMoving || l.Deferred > 0 {
			st.Trouble = append(st.Trouble, l)
		}
	}
	slices.SortStableFunc(st.Trouble, func(a, b mail.Lane) int { return urgency(b.State) - urgency(a.State) })
	st.Trouble = st.Trouble[:min(len(st.Trouble), maxTrouble)]
}

// urgency orders lanes by what only a person can mend.
func urgency(s mail.LaneState) int {
	switch s {
	case mail.LaneStranded:
		return 2
	case mail.LaneResting, mail.LanePaused:
		return 1
	}
	return 0
}

func (s *Service) explain(_ context.Context, in *struct{ Body mail.Question }) (*out[page[mail.Answer]], error) {
	answers, err := s.Engine.Explain(in.Body)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &out[page[mail.Answer]]{page[mail.Answer]{Items: answers}}, nil
}

func (s *Service) send(ctx context.Context, in *struct{ Body mail.TestLetter }) (*out[mail.HandedIn], error) {
	handed, err := s.Engine.HandIn(ctx, in.Body)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &out[mail.HandedIn]{handed}, nil
}

// configText is a configuration as text, and its revision.
type configText struct {
	Revision int    `json:"revision"`
	Text     string `json:"text" doc:"YAML"`
}

func (s *Service) showConfig(ctx context.Context, _ *struct{}) (*out[configText], error) {
	rev, err := s.Store.LatestRevision(ctx)
	if err != nil {
		return nil, s.storeError(err, "configuration")
	}
	return &out[configText]{configText{rev.Number, rev.Text}}, nil
}

type configInput struct {
	Body struct {
		Text string `json:"text" doc:"YAML" maxLength:"16000000"`
	}
}

func (s *Service) checkConfig(_ context.Context, in *configInput) (*out[configText], error) {
	if _, err := config.Parse([]byte(in.Body.Text)); err != nil {
		return nil, configProblem(err)
	}
	return &out[configText]{configText{s.Engine.Config().Revision, in.Body.Text}}, nil
}

func (s *Service) importConfig(ctx context.Context, in *configInput) (*out[configText], error) {
	number, err := s.Engine.Apply(ctx, signedIn(ctx).Name, in.Body.Text)
	var problems config.Problems
	switch {
	case errors.As(err, &problems):
		return nil, configProblem(err)
	case err != nil && number > 0:
		return nil, huma.Error409Conflict("revision " + strconv.Itoa(number) + " is in force, but not all of it: " + err.Error())
	case err != nil:
		return nil, s.storeError(err, "configuration")
	}
	return &out[configText]{configText{number, in.Body.Text}}, nil
}

// configProblem lists what is wrong, each with its line and field.
func configProblem(err error) error {
	var problems config.Problems
	errors.As(err, &problems)
	var details []error
	for _, p := range problems {
		details = append(details, &huma.ErrorDetail{Location: p.Field, Message: p.Text, Value: p.Line})
	}
	return huma.Error422UnprocessableEntity("the configuration is not valid; nothing was changed", details...)
}

// openAPI serves the document that describes this interface.
func (s *Service) openAPI(c fiber.Ctx) error { return c.JSON(s.api.OpenAPI()) }
