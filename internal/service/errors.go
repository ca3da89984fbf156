package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/control"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/insight"
)

// storeError turns what the database says into an answer.
func (s *Service) storeError(err error, what string) error {
	if errors.Is(err, fault.ErrNotFound) {
		return huma.Error404NotFound("there is no such " + what)
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	if refused := (*fault.Refused)(nil); errors.As(err, &refused) {
		return huma.Error422UnprocessableEntity(refused.Text,
			&huma.ErrorDetail{Location: refused.Field, Message: refused.Text})
	}
	s.Log.Error("database", "error", err)
	if s.Insight != nil {
		if why := s.Insight.Nodes.Ready(); why != "" {
			return huma.Error503ServiceUnavailable(why + "; mail is answered with 451 until then")
		}
	}
	return errDatabase
}

func (s *Service) actionError(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound("there is no such action, lane or message")
	}
	return s.storeError(err, "delivery")
}

func (s *Service) records(ctx context.Context, f From) (insight.Records, error) {
	r, err := s.Insight.Trace.Records(ctx, f.Archive)
	if err != nil {
		return nil, s.storeError(err, "archive")
	}
	return r, nil
}

// pastOf is for what may be a few seconds behind: searches and reports.
func pastOf(ctx context.Context, s *Service, f From) (*insight.Past, error) {
	p, err := s.Insight.Trace.Past(ctx, f.Archive)
	if err != nil {
		return nil, s.storeError(err, "archive")
	}
	return p, nil
}

func (s *Service) storeOr(err error, what string) error {
	if errors.Is(err, fault.ErrNotFound) {
		return s.storeError(err, what)
	}
	return s.setupError(err, config.ServiceSection, "")
}

// setupError tells what is wrong with an edit. Fields of the item at place lose
// the path before them.
func (s *Service) setupError(err error, sec config.Section, name string, place ...int) error {
	var problems config.Problems
	var blocked *control.Blocked
	var beyond config.PositionError
	switch {
	case errors.As(err, &problems):
		own := sec.Key + "."
		if len(place) > 0 && sec.Key != config.ServiceSection.Key {
			own = fmt.Sprintf("%s[%d].", sec.Key, place[0]-1)
		}
		var details []error
		for _, p := range problems {
			details = append(details,
				&huma.ErrorDetail{Location: strings.TrimPrefix(p.Field, own), Message: p.Text})
		}
		return huma.Error422UnprocessableEntity(
			"this is not valid; nothing was changed",
			details...)
	case errors.Is(err, config.ErrNoItem):
		return huma.Error404NotFound(fmt.Sprintf("there is no %s %q", sec.Noun, name))
	case errors.As(err, &beyond):
		return huma.Error422UnprocessableEntity(err.Error(),
			&huma.ErrorDetail{Location: "position", Message: err.Error()})
	case errors.Is(err, config.ErrIsThere):
		return huma.Error409Conflict(fmt.Sprintf("there is a %s of that name already", sec.Noun))
	case errors.As(err, &blocked):
		var details []error
		for _, why := range blocked.Why {
			details = append(details, &huma.ErrorDetail{Message: why})
		}
		return huma.Error409Conflict(
			"this draft is applied only by force, with a reason",
			details...)
	case errors.Is(err, control.ErrMark),
		errors.Is(err, control.ErrStale),
		errors.Is(err, control.ErrNoWhy):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, control.ErrNoDraft), errors.Is(err, fault.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	}
	return s.storeError(err, sec.Noun)
}
