package service

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/form"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/retry"
)

// queueAPI serves lanes, deliveries that wait, actions and pauses.
type queueAPI struct{ *Service }

func (s queueAPI) register(api huma.API) {
	op := operation{}
	huma.Register(api,
		read("lanes", "/api/v1/lanes", "Lanes with mail waiting, those with most first"),
		s.listLanes)
	huma.Register(
		api,
		read("lane", "/api/v1/lanes/{id}",
			"One lane with its last hour, also when nothing waits in it"),
		s.showLane,
	)
	huma.Register(api,
		read("lane-ages", "/api/v1/lane-ages", "How long the messages of lanes have waited"),
		s.laneAges)
	huma.Register(api,
		read("queue", "/api/v1/queue", "Deliveries that are not finished, oldest first"),
		s.listQueue)
	huma.Register(
		api,
		read("lane-groups", "/api/v1/lane-groups",
			"The lanes summed up by route, host, cause or state"),
		s.groupLanes,
	)
	huma.Register(
		api,
		read("actions", "/api/v1/actions",
			"What people did with messages, lanes and nodes, newest first"),
		s.listActions,
	)
	huma.Register(api, read("pauses", "/api/v1/pauses", "What people have stopped"), s.listPauses)
	huma.Register(
		api,
		op.post("pause", "/api/v1/pauses",
			"Stop a lane, a route, a listener, a node or all delivery"),
		s.pause,
	)
	huma.Register(api, op.post("resume", "/api/v1/resume", "Let it go on"), s.resume)
	huma.Register(api, read("nodes", "/api/v1/nodes", "The services on this database"), s.listNodes)
	huma.Register(
		api,
		op.post(
			"node-restart",
			"/api/v1/nodes/{name}/restart",
			"Let a node end in order and begin anew, with the program that stands at its place now",
		),
		s.restartNode,
	)
	huma.Register(
		api,
		read("schedule-preview", "/api/v1/schedule/preview",
			"When a message would be tried, a delay notice sent, and when it expires"),
		s.previewSchedule,
	)
	s.app.Post("/api/v1/queue/act", s.streamAct)
	s.app.Post("/api/v1/actions/:id/undo", s.streamUndo)
}

type laneInput struct {
	Find  string         `query:"find" doc:"A part of the next hop, route, state or cause"`
	State mail.LaneState `query:"state" enum:"moving,paused,resting,stranded,parked"`
	Route string         `query:"route"`
	Cause string         `query:"cause"`
	Sort  string         `query:"sort" enum:"messages,bytes,oldest,next,host,state,trouble" default:"messages" doc:"trouble: what a person must fix first"`
	Order string         `query:"order" enum:"asc,desc" doc:"The sort's own if not given"`
	Limit int            `query:"limit" minimum:"1" maximum:"10000" default:"100"`
	After string         `query:"after" doc:"The next of the page before"`
}

func (in *laneInput) matches(l *mail.Lane) bool {
	if in.State != "" && l.State != in.State || in.Route != "" && l.Route != in.Route ||
		in.Cause != "" && l.Cause != in.Cause {
		return false
	}
	shown := strings.Join([]string{
		l.NextHop, address.DisplayDomain(l.NextHop), l.Route, string(l.State), l.Cause,
	}, " ")
	return strings.Contains(strings.ToLower(shown), strings.ToLower(in.Find))
}

func messages(l mail.Lane) int64 { return l.Waiting + l.Deferred + l.Held }

// laneOrders compare lanes; each is in the order one wants first.
var laneOrders = map[string]func(a, b mail.Lane) int{
	"messages": func(a, b mail.Lane) int { return cmp.Compare(messages(b), messages(a)) },
	"bytes":    func(a, b mail.Lane) int { return cmp.Compare(b.Bytes, a.Bytes) },
	"oldest":   func(a, b mail.Lane) int { return a.OldestAt.Compare(b.OldestAt.Time) },
	"next":     func(a, b mail.Lane) int { return a.NextAttemptAt.Compare(b.NextAttemptAt.Time) },
	"host":     func(a, b mail.Lane) int { return cmp.Compare(a.NextHop, b.NextHop) },
	"state":    func(a, b mail.Lane) int { return cmp.Compare(a.State, b.State) },
	"trouble": func(a, b mail.Lane) int {
		return cmp.Or(cmp.Compare(urgency(b.State), urgency(a.State)),
			cmp.Compare(messages(b), messages(a)))
	},
}

func (s queueAPI) listLanes(ctx context.Context, in *laneInput) (*out[api.LanePage], error) {
	lanes, err := s.Insight.Lanes.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	body := api.LanePage{
		Items:  []mail.Lane{},
		Pauses: append([]mail.Pause{}, s.InForce.Paused()...),
	}
	if body.Verdict, err = s.Insight.Judge.On(ctx, lanes); err != nil {
		return nil, s.storeError(err, "success")
	}
	var matching []mail.Lane
	for i := range lanes {
		if in.matches(&lanes[i]) {
			matching = append(matching, lanes[i])
		}
	}
	compare := laneOrders[in.Sort]
	slices.SortStableFunc(matching, compare)
	if backwards := map[string]bool{
		"messages": in.Order == "asc",
		"bytes":    in.Order == "asc",
	}; backwards[in.Sort] ||
		in.Order == "desc" && in.Sort != "messages" && in.Sort != "bytes" && in.Sort != "trouble" {
		slices.Reverse(matching)
	}
	from := 0
	if in.After != "" {
		if from, err = strconv.Atoi(in.After); err != nil || from < 0 {
			return nil, huma.Error422UnprocessableEntity("after: write the next of the page before")
		}
	}
	body.Total = len(matching)
	from = min(from, len(matching))
	end := min(from+in.Limit, len(matching))
	body.Items = append(body.Items, matching[from:end]...)
	if end < len(matching) {
		body.Next = strconv.Itoa(end)
	}
	return &out[api.LanePage]{body}, nil
}

// maxAged is of how many lanes the ages are told at once.
const maxAged = 100

func (s queueAPI) laneAges(ctx context.Context, in *struct {
	Lanes []string `query:"lane" required:"true" doc:"Lanes, at most 100, with commas between them"`
}) (*out[api.Page[api.LaneAges]], error) {
	if len(in.Lanes) > maxAged {
		return nil, huma.Error422UnprocessableEntity("lane: at most 100 at once")
	}
	items := make([]api.LaneAges, 0, len(in.Lanes))
	for _, text := range in.Lanes {
		id, err := ident.Parse(text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("lane: " + err.Error())
		}
		ages, err := s.Insight.Lanes.Ages(ctx, id)
		if err != nil {
			return nil, s.storeError(err, "lane")
		}
		items = append(items, api.LaneAges{Lane: id, Ages: ages})
	}
	return &out[api.Page[api.LaneAges]]{api.Page[api.LaneAges]{Items: items}}, nil
}

// groupLanes sums up the lanes by route, host or cause.
func (s queueAPI) groupLanes(ctx context.Context, in *struct {
	By string `query:"by" enum:"route,host,cause,state" default:"route"`
}) (*out[api.Page[api.LaneGroup]], error) {
	lanes, err := s.Insight.Lanes.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	groups := map[string]*api.LaneGroup{}
	body := api.Page[api.LaneGroup]{Items: []api.LaneGroup{}}
	for _, l := range lanes {
		key := l.Route
		switch in.By {
		case "host":
			key = l.NextHop
			if l.Last != nil && l.Last.Host != "" {
				key = l.Last.Host
			}
		case "cause":
			key = l.Cause
		case "state":
			key = string(l.State)
		}
		g := groups[key]
		if g == nil {
			g = &api.LaneGroup{By: key}
			groups[key] = g
		}
		g.Lanes++
		g.Messages += messages(l)
		g.Bytes += l.Bytes
		if urgency(l.State) > 0 {
			g.Troubled++
		}
		if g.OldestAt.IsZero() || l.OldestAt.Before(g.OldestAt.Time) {
			g.OldestAt = l.OldestAt
		}
	}
	for _, g := range groups {
		body.Items = append(body.Items, *g)
	}
	slices.SortFunc(body.Items, func(a, b api.LaneGroup) int {
		return cmp.Or(cmp.Compare(b.Messages, a.Messages), cmp.Compare(a.By, b.By))
	})
	return &out[api.Page[api.LaneGroup]]{body}, nil
}

// showLane is one lane, also when nothing waits in it.
func (s queueAPI) showLane(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*out[api.LaneDetail], error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	detail, err := s.Insight.Lanes.One(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "lane")
	}
	return &out[api.LaneDetail]{detail}, nil
}

// Paging is where a page of a list begins and how long it is.
type Paging struct {
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	After string `query:"after" doc:"The next of the page before"`
}

func (s queueAPI) listQueue(ctx context.Context, in *struct {
	mail.Selection
	Paging
}) (*out[api.Page[mail.QueueItem]], error) {
	in.Within = boundsOf(ctx)
	f, err := filterOf(in.Selection)
	if err != nil {
		return nil, err
	}
	if in.After != "" {
		if err := f.After.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	f.Limit = in.Limit
	items, err := s.Insight.Lanes.Deliveries(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "delivery")
	}
	for i := range items {
		s.Insight.Trace.MarkOne(&items[i].Delivery)
	}
	body := api.Page[mail.QueueItem]{Items: items}
	if len(items) == in.Limit {
		body.Next = items[len(items)-1].Delivery.ID().String()
	}
	return &out[api.Page[mail.QueueItem]]{body}, nil
}

func filterOf(sel mail.Selection) (mail.Filter, error) {
	f, wrong := sel.Filter(time.Now())
	if len(wrong) == 0 {
		return f, nil
	}
	var errs []error
	for _, w := range wrong {
		errs = append(errs, &huma.ErrorDetail{Location: w.Word, Message: w.Text, Value: w.Value})
	}
	return f, huma.Error422UnprocessableEntity("the filter cannot be read", errs...)
}

// searchForm writes an address as it is stored, its domain in A-labels.
func searchForm(text string) string {
	if a, err := address.Parse(text); err == nil {
		return a.String()
	}
	return text
}

// streamAct does something with messages and tells how far it is.
func (s queueAPI) streamAct(c fiber.Ctx) error {
	w, err := s.require(c, "act")
	if err != nil {
		return err
	}
	var r api.ActionRequest
	if err := decodeStrict(c.Body(), &r); err != nil {
		return fiber.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	if !slices.Contains(mail.Verbs, r.Verb) {
		return fiber.NewError(http.StatusUnprocessableEntity,
			"verb: "+strconv.Quote(r.Verb)+" is none; write "+strings.Join(mail.Verbs, ", "))
	}
	r.Selection.Within = w.Domains
	if !w.Domains.None() && (r.Verb == mail.VerbReroute || r.Verb == mail.VerbChangeDomain) {
		return fiber.NewError(http.StatusForbidden,
			"where messages go is for those who look after the whole server")
	}
	return s.stream(c, w, func(ctx context.Context, tell func(line)) (any, error) {
		done, err := s.Control.Actions.Act(context.WithoutCancel(ctx), w.Name, r,
			progress(tell)) // whoever asked may leave
		s.Insight.Lanes.Forget()
		return done, s.actionError(err)
	})
}

// streamUndo takes an action back.
func (s queueAPI) streamUndo(c fiber.Ctx) error {
	w, err := s.require(c, "undo")
	if err != nil {
		return err
	}
	id, err := strconv.ParseInt(c.Params("id"), 10, 64)
	if err != nil {
		return fiber.NewError(http.StatusUnprocessableEntity,
			"an action's number is a number; see gull queue actions")
	}
	var body struct {
		Why string `json:"why"`
	}
	if len(c.Body()) > 0 {
		if err := decodeStrict(c.Body(), &body); err != nil {
			return fiber.NewError(http.StatusUnprocessableEntity, err.Error())
		}
	}
	return s.stream(c, w, func(ctx context.Context, tell func(line)) (any, error) {
		done, err := s.Control.Actions.Undo(context.WithoutCancel(ctx), w.Name, id, body.Why,
			progress(tell))
		s.Insight.Lanes.Forget()
		return done, s.actionError(err)
	})
}

func progress(tell func(line)) func(done, total int64) {
	return func(done, total int64) {
		tell(line{Progress: min(0.99, float64(done)/float64(max(total, 1))), Done: int(done)})
	}
}

func (s queueAPI) listActions(
	ctx context.Context,
	in *Paging,
) (*out[api.Page[mail.Action]], error) {
	before := int64(0)
	if in.After != "" {
		var err error
		if before, err = strconv.ParseInt(in.After, 10, 64); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: write the next of the page before")
		}
	}
	list, err := s.Control.Actions.List(ctx, before, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "action")
	}
	body := api.Page[mail.Action]{Items: append([]mail.Action{}, list...)}
	if len(list) == in.Limit {
		body.Next = strconv.FormatInt(list[len(list)-1].ID, 10)
	}
	return &out[api.Page[mail.Action]]{body}, nil
}

func (s queueAPI) pause(
	ctx context.Context,
	in *struct{ Body api.StopRequest },
) (*out[api.Done], error) {
	p := mail.Pause{
		Kind: in.Body.Kind,
		Name: in.Body.Name,
		Who:  signedIn(ctx).Name,
		Why:  in.Body.Why,
	}
	if in.Body.For != "" {
		d, err := form.ParseDuration(in.Body.For)
		if err != nil || d <= 0 {
			return nil, huma.Error422UnprocessableEntity(
				"for: " + strconv.Quote(in.Body.For) + " is no length of time; write 30m or 2h",
			)
		}
		p.Until = mail.At(time.Now().Add(d))
	}
	done, err := s.Control.Pauses.Pause(ctx, p)
	s.Insight.Lanes.Forget()
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Done]{done}, nil
}

func (s queueAPI) resume(
	ctx context.Context,
	in *struct{ Body api.StopRequest },
) (*out[api.Done], error) {
	done, err := s.Control.Pauses.Resume(ctx, mail.Pause{
		Kind: in.Body.Kind,
		Name: in.Body.Name,
		Who:  signedIn(ctx).Name,
		Why:  in.Body.Why,
	})
	s.Insight.Lanes.Forget()
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[api.Done]{done}, nil
}

func (s queueAPI) listPauses(context.Context, *struct{}) (*out[api.Page[mail.Pause]], error) {
	return &out[api.Page[mail.Pause]]{
		api.Page[mail.Pause]{Items: append([]mail.Pause{}, s.InForce.Paused()...)},
	}, nil
}

func (s queueAPI) listNodes(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Node]], error) {
	nodes, err := s.Insight.Nodes.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "node")
	}
	return &out[api.Page[mail.Node]]{
		api.Page[mail.Node]{Items: append([]mail.Node{}, nodes...)},
	}, nil
}

func (s queueAPI) restartNode(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body api.Restart
}) (*out[api.Restarting], error) {
	if err := s.Insight.Nodes.Runs.BeginAnew(ctx, in.Name); err != nil {
		return nil, s.storeError(err, "running node")
	}
	return &out[api.Restarting]{api.Restarting{Node: in.Name,
		Text: in.Name + " finishes what is under way and begins anew within seconds"}}, nil
}

// previewSchedule plays a schedule through: one in force, or with other terms.
func (s queueAPI) previewSchedule(_ context.Context, in *struct {
	Route       string   `query:"route" doc:"A route whose schedule counts"`
	Domain      string   `query:"domain" doc:"A domain whose peer's schedule counts"`
	Intervals   []string `query:"intervals" doc:"In place of those in force: 5m,15m,1h"`
	WarnAfter   string   `query:"warn_after"`
	ExpireAfter string   `query:"expire_after"`
}) (*out[retry.Preview], error) {
	var own config.OwnRetry
	var errs []error
	read := func(field, text string) time.Duration {
		if text == "" {
			return 0
		}
		d, err := form.ParseDuration(text)
		if err == nil && d <= 0 {
			err = errors.New("write more than nothing")
		}
		if err != nil {
			errs = append(errs,
				&huma.ErrorDetail{Location: field, Message: err.Error(), Value: text})
		}
		return d
	}
	for _, text := range in.Intervals {
		own.Intervals = append(own.Intervals, read("intervals", text))
	}
	own.WarnAfter, own.ExpireAfter = read("warn_after",
		in.WarnAfter), read("expire_after", in.ExpireAfter)
	if len(errs) > 0 {
		return nil, huma.Error422UnprocessableEntity("the schedule cannot be read", errs...)
	}
	p, err := s.Insight.Lanes.SchedulePreview(in.Route, strings.ToLower(in.Domain), own)
	if err != nil {
		return nil, s.actionError(err)
	}
	return &out[retry.Preview]{p}, nil
}
