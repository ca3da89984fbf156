package service

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// feedbackAPI serves what other servers report of us.
type feedbackAPI struct{ *Service }

func (s feedbackAPI) register(h huma.API) {
	op := operation{}
	const at = "/api/v1/feedback"
	huma.Register(h, read("feedback-state", at,
		"Where reports of others are read, and how reading and sending them goes"), s.state)
	huma.Register(h, read(
		"feedback",
		at+"/domains/{domain}",
		"What others report of a domain: who sends in its name, what was proved, how TLS fares",
	), s.of)
	huma.Register(h, read("feedback-reports", at+"/reports",
		"Reports that were received, the latest first"), s.reports)
	huma.Register(h, op.put("feedback-name", at+"/sources/{source}",
		"Name a sender in our name, so that it is known; an empty name takes it away"), s.name)
}

func (s feedbackAPI) state(ctx context.Context, _ *struct{}) (*out[api.FeedbackState], error) {
	x, err := s.Insight.Feedback.State(ctx)
	if err != nil {
		return nil, s.storeError(err, "report")
	}
	return &out[api.FeedbackState]{x}, nil
}

func (s feedbackAPI) of(ctx context.Context, in *struct {
	Domain string `path:"domain" maxLength:"255"`
	Days   int    `query:"days" minimum:"1" maximum:"400" default:"30"`
}) (*out[api.Feedback], error) {
	domain, err := readinessAPI(s).ownDomain(in.Domain)
	if err != nil {
		return nil, err
	}
	since := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, -in.Days)
	x, err := s.Insight.Feedback.Of(ctx, domain, since)
	if err != nil {
		return nil, s.storeError(err, "report")
	}
	return &out[api.Feedback]{x}, nil
}

func (s feedbackAPI) reports(
	ctx context.Context,
	in *struct{ Paging },
) (*out[api.Page[mail.FeedbackReport]], error) {
	before, err := strconv.ParseInt("0"+in.After, 10, 64)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("after: write the id of a report")
	}
	items, err := s.Insight.Feedback.Store.Reports(ctx, before, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "report")
	}
	page := api.Page[mail.FeedbackReport]{Items: append([]mail.FeedbackReport{}, items...)}
	if len(items) == in.Limit {
		page.Next = fmt.Sprint(items[len(items)-1].ID)
	}
	return &out[api.Page[mail.FeedbackReport]]{page}, nil
}

func (s feedbackAPI) name(ctx context.Context, in *struct {
	Source string `path:"source" maxLength:"64" doc:"An address, or a network like 192.0.2.0-24 for 192.0.2.0/24"`
	Body   struct {
		Name string `json:"name" maxLength:"200"`
	}
}) (*struct{}, error) {
	network, err := networkOf(in.Source)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("source: " + err.Error())
	}
	if err := s.Insight.Feedback.Store.Name(ctx, signedIn(ctx).Name, network, in.Body.Name); err != nil {
		return nil, s.storeError(err, "sender")
	}
	return nil, nil
}

// networkOf reads an address or a network; in a path a hyphen stands for the slash.
func networkOf(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
	}
	for i := len(text) - 1; i > 0; i-- {
		if text[i] == '-' {
			text = text[:i] + "/" + text[i+1:]
			break
		}
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, fmt.Errorf(
			"%q is no address and no network; write 192.0.2.7 or 192.0.2.0/24",
			text,
		)
	}
	return p.Masked(), nil
}
