package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// laneCache keeps the counts of lanes for a moment: several pages, the metrics
// and every console that watches ask for the same.
type laneCache struct {
	mu    sync.Mutex
	at    time.Time
	lanes []mail.Lane
}

// forget lets the next question be asked anew.
func (c *laneCache) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = time.Time{}
}

const laneCacheTime = 500 * time.Millisecond

// laneList is what waits by lane, with how each lane goes.
func (s *Service) laneList(ctx context.Context) ([]mail.Lane, error) {
	s.lanes.mu.Lock()
	defer s.lanes.mu.Unlock()
	if time.Since(s.lanes.at) < laneCacheTime {
		return s.lanes.lanes, nil
	}
	lanes, err := s.Store.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	view := s.Engine.Queue.View()
	for i := range lanes {
		l := &lanes[i]
		l.State = mail.LaneMoving
		if v, ok := view[l.ID]; ok {
			l.State, l.Since, l.Until, l.Why = v.State, mail.At(v.Since), optAt(v.Until), v.Why
			l.Sending, l.Connections = v.Sending, v.Connections
			if v.State == mail.LaneResting && v.Until.After(l.NextTryAt.Time) {
				l.NextTryAt = l.Until
			}
			if v.Last != nil {
				l.Last, l.Cause = v.Last, v.Cause
			}
		}
		if l.Route == config.RouteNone {
			l.State, l.Since = mail.LaneStranded, l.OldestAt
			l.Why = "no route leads to " + address.DisplayDomain(l.NextHop)
		}
	}
	s.lanes.lanes, s.lanes.at = lanes, time.Now()
	return lanes, nil
}

func optAt(t time.Time) mail.OptTime {
	if t.IsZero() {
		return mail.OptTime{}
	}
	return mail.At(t)
}

func (s *Service) listLanes(ctx context.Context, _ *struct{}) (*out[page[mail.Lane]], error) {
	lanes, err := s.laneList(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	return &out[page[mail.Lane]]{page[mail.Lane]{Items: append([]mail.Lane{}, lanes...)}}, nil
}

func (s *Service) showLane(ctx context.Context, in *struct {
	ID ident.ID `path:"id"`
}) (*out[mail.Lane], error) {
	lanes, err := s.laneList(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	for _, l := range lanes {
		if l.ID == in.ID {
			return &out[mail.Lane]{l}, nil
		}
	}
	return nil, huma.Error404NotFound("nothing waits in a lane " + in.ID.String())
}

// QueueFilter holds the words by which deliveries in the queue are selected.
type QueueFilter struct {
	Lane      string     `query:"lane" json:"lane,omitempty" doc:"A lane's id"`
	Route     string     `query:"route" json:"route,omitempty"`
	Message   string     `query:"message" json:"message,omitempty" doc:"A message's id"`
	Delivery  string     `query:"delivery" json:"delivery,omitempty" doc:"A delivery's id"`
	State     mail.State `query:"state" json:"state,omitempty" enum:"waiting,deferred,held"`
	Sender    string     `query:"sender" json:"sender,omitempty" doc:"An address or a part of one"`
	Recipient string     `query:"recipient" json:"recipient,omitempty" doc:"An address or a part of one"`
}

func (f QueueFilter) filter() (store.QueueFilter, error) {
	out := store.QueueFilter{Route: f.Route, State: f.State, Sender: searchForm(f.Sender), Recipient: searchForm(f.Recipient)}
	var errs []error
	parse := func(field, text string, into func(string) error) {
		if text == "" {
			return
		}
		if err := into(text); err != nil {
			errs = append(errs, &huma.ErrorDetail{Location: field, Message: err.Error(), Value: text})
		}
	}
	parse("lane", f.Lane, func(s string) error { return out.Lane.UnmarshalText([]byte(s)) })
	parse("message", f.Message, func(s string) error { return out.Message.UnmarshalText([]byte(s)) })
	parse("delivery", f.Delivery, func(s string) error { return out.Delivery.UnmarshalText([]byte(s)) })
	if len(errs) > 0 {
		return out, huma.Error422UnprocessableEntity("the filter cannot be read", errs...)
	}
	return out, nil
}

// searchForm writes an address as it is stored, its domain in A-labels.
func searchForm(text string) string {
	if a, err := address.Parse(text); err == nil {
		return a.String()
	}
	return text
}

// Paging is where a page of a list begins and how long it is.
type Paging struct {
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	After string `query:"after" doc:"The next of the page before"`
}

func (s *Service) listQueue(ctx context.Context, in *struct {
	QueueFilter
	Paging
}) (*out[page[mail.QueueItem]], error) {
	f, err := in.filter()
	if err != nil {
		return nil, err
	}
	if in.After != "" {
		if err := f.After.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	f.Limit = in.Limit
	items, err := s.Store.Queue(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "delivery")
	}
	for i := range items {
		s.markNow(&items[i].Delivery)
	}
	body := page[mail.QueueItem]{Items: items}
	if len(items) == in.Limit {
		body.Next = items[len(items)-1].Delivery.ID().String()
	}
	return &out[page[mail.QueueItem]]{body}, nil
}

// flush tries deliveries now. Where their lane rests, one connection tries its
// host at once.
func (s *Service) flush(ctx context.Context, in *struct {
	Body struct {
		QueueFilter
		All bool `json:"all,omitempty" doc:"Needed where no filter is given"`
	}
}) (*out[mail.Flushed], error) {
	f, err := in.Body.filter()
	if err != nil {
		return nil, err
	}
	if f == (store.QueueFilter{}) && !in.Body.All {
		return nil, huma.Error422UnprocessableEntity("say what to flush: a lane, message, delivery, sender, recipient or state; or all")
	}
	lanes, err := s.Store.Flush(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "delivery")
	}
	n := int64(0)
	for lane, deliveries := range lanes {
		s.Engine.Queue.EndRest(lane)
		n += deliveries
	}
	s.Log.Info("flushed", "who", signedIn(ctx).Name, "deliveries", n, "filter", in.Body.QueueFilter)
	s.Engine.Queue.Wake()
	return &out[mail.Flushed]{mail.Flushed{Deliveries: n}}, nil
}

// storeError turns what the database says into an answer.
func (s *Service) storeError(err error, what string) error {
	if errors.Is(err, store.ErrNotFound) {
		return huma.Error404NotFound("there is no such " + what)
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	s.Log.Error("database", "error", err)
	return errDatabase
}
