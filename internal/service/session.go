package service

import (
	"cmp"
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// sessionAPI serves sessions.
type sessionAPI struct{ *Service }

func (s sessionAPI) register(api huma.API) {
	op := operation{}
	huma.Register(
		api,
		read("sessions", "/api/v1/sessions",
			"SMTP and LMTP sessions in and out, newest first; open ones on top"),
		s.listSessions,
	)
	huma.Register(api,
		read("session", "/api/v1/sessions/{id}", "A session with its exact transcript"),
		s.showSession)
	huma.Register(api,
		read("watches", "/api/v1/watches", "Whose sessions are recorded in full for now"),
		s.listWatches)
	huma.Register(
		api,
		op.post("watch", "/api/v1/watches",
			"Record sessions of a client or domain in full for a while"),
		s.watch,
	)
}

type sessionsInput struct {
	Direction string    `query:"direction" enum:"in,out"`
	Protocol  string    `query:"protocol" enum:"SMTP,LMTP"`
	Listener  string    `query:"listener"`
	Route     string    `query:"route"`
	Peer      string    `query:"peer" doc:"IP address, network, or a part of the name"`
	Account   string    `query:"account"`
	Outcome   string    `query:"outcome" enum:"passed,partly,refused,idle,broken,open,trouble" doc:"trouble is all but passed and idle"`
	Longer    string    `query:"longer" doc:"Lasted at least so long, like 30s"`
	Since     time.Time `query:"since"`
	Until     time.Time `query:"until"`
	Sort      string    `query:"sort" enum:"time,duration,bytes,messages" doc:"By something else than time: among the newest 50,000 that match, and one page only"`
	From
	Paging
}

func (s sessionAPI) listSessions(
	ctx context.Context,
	in *sessionsInput,
) (*out[api.Page[mail.Session]], error) {
	f := mail.SessionFilter{
		Direction: in.Direction,
		Protocol:  in.Protocol,
		Listener:  in.Listener,
		Route:     in.Route,
		Account:   in.Account,
		Outcome:   in.Outcome,
		Since:     in.Since,
		Until:     in.Until,
		Sort:      in.Sort,
		Limit:     in.Limit,
	}
	if f.Sort == "time" {
		f.Sort = ""
	}
	if p, err := netip.ParsePrefix(in.Peer); err == nil {
		f.Address = p.Masked().String()
	} else if a, err := netip.ParseAddr(in.Peer); err == nil {
		f.Address = a.Unmap().String()
	} else {
		f.Name = in.Peer
	}
	if in.Longer != "" {
		d, err := form.ParseDuration(in.Longer)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("longer: " + err.Error())
		}
		f.Longer = d
	}
	if in.After != "" {
		if err := f.Before.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	r, err := s.records(ctx, in.From)
	if err != nil {
		return nil, err
	}
	body := api.Page[mail.Session]{Items: []mail.Session{}}
	if in.Archive == 0 && in.After == "" && (f.Sort == "" || f.Sort == "duration") {
		body.Items = s.Insight.Trace.OpenSessions(f)
	}
	if f.Outcome != mail.Open {
		list, err := r.ListSessions(ctx, f)
		if err != nil {
			return nil, s.storeError(err, "session")
		}
		body.Items = append(body.Items, list...)
		if len(list) == in.Limit && f.Sort == "" {
			body.Next = list[len(list)-1].ID.String()
		}
	}
	return &out[api.Page[mail.Session]]{body}, nil
}

func (s sessionAPI) showSession(
	ctx context.Context,
	in *oneOf,
) (*out[api.SessionView], error) {
	id, err := in.id()
	if err != nil {
		return nil, err
	}
	v, err := s.Insight.Trace.Session(ctx, in.Archive, id)
	if err != nil {
		return nil, s.storeError(err,
			"session; it may still be open on another node, or past the retention time")
	}
	return &out[api.SessionView]{v}, nil
}

func (s sessionAPI) listWatches(ctx context.Context, _ *struct{}) (*out[api.Page[mail.Watch]], error) {
	list, err := s.Insight.Trace.Watches(ctx)
	if err != nil {
		return nil, s.storeError(err, "watch")
	}
	return &out[api.Page[mail.Watch]]{api.Page[mail.Watch]{Items: append([]mail.Watch{}, list...)}}, nil
}

// longestWatch bounds a watch: whoever watches is there.
const longestWatch = 24 * time.Hour

type watchRequest struct {
	What string `json:"what" doc:"An IP address, a network, or a domain" minLength:"1" maxLength:"255"`
	For  string `json:"for,omitempty" doc:"How long, at most a day; 0s ends it" default:"1h"`
}

func (s sessionAPI) watch(
	ctx context.Context,
	in *struct{ Body watchRequest },
) (*out[mail.Watch], error) {
	d, err := form.ParseDuration(cmp.Or(in.Body.For, "1h"))
	if err != nil || d < 0 || d > longestWatch {
		return nil, huma.Error422UnprocessableEntity("for: write a time up to 24h, like 1h")
	}
	w := mail.Watch{
		Kind:  "client",
		What:  in.Body.What,
		Who:   signedIn(ctx).Name,
		Until: time.Now().Add(d).UTC(),
	}
	if p, err := netip.ParsePrefix(in.Body.What); err == nil {
		w.What = p.Masked().String()
	} else if a, err := netip.ParseAddr(in.Body.What); err == nil {
		w.What = a.Unmap().String()
	} else if dom, err := address.ParseDomain(strings.TrimPrefix(in.Body.What, "@")); err == nil {
		w.Kind, w.What = "domain", string(dom)
	} else {
		return nil, huma.Error422UnprocessableEntity(
			"what: write an IP address, a network like 127.20.1.0/24, or a domain",
		)
	}
	if err := s.Insight.Trace.SetWatch(ctx, w); err != nil {
		return nil, s.storeError(err, "watch")
	}
	return &out[mail.Watch]{w}, nil
}
