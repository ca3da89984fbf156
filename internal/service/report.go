package service

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/report"
	"gullroute/internal/core/rights"
	"gullroute/internal/insight"
)

// reportAPI serves reports.
type reportAPI struct{ *Service }

func (s reportAPI) register(api huma.API) {
	huma.Register(api, read("report", "/api/v1/report", "What the traffic looks like in a period"),
		s.report)
	huma.Register(api,
		read("report-messages", "/api/v1/report/messages", "The messages behind a figure"),
		s.figure)
	huma.Register(
		api,
		read("report-table", "/api/v1/report/tables/{dim}",
			"Counts by value of a dimension, those with most first"),
		s.reportTable,
	)
	huma.Register(api,
		read("report-movers", "/api/v1/report/movers",
			"What changed most, by value of a dimension, against the same time before"),
		s.movers)
	s.app.Get("/api/v1/report.html", s.reportPage)
}

type reportInput struct {
	Since   time.Time `query:"since" doc:"Beginning; a day ago if not given. Taken to a whole hour"`
	Until   time.Time `query:"until" doc:"End; now if not given"`
	Before  time.Time `query:"before" doc:"Beginning of a period as long to compare with"`
	Step    string    `query:"step" enum:"hour,day,week" doc:"Of the series; chosen by the period if not given"`
	Dim     string    `query:"dim" enum:"total,direction,sender_domain,sender,client,listener,account,recipient_domain,recipient,host,route,cause,gate" default:"total" doc:"Only what counts for a value of this"`
	Value   string    `query:"value"`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"8" doc:"Of each table"`
	Without bool      `query:"without_tables" doc:"Totals and series only"`
	From
	Zone
}

// archiveNote says of which messages an archive's figures are.
const archiveNote = "An archive holds the messages received in its period, with all that became " +
	"of them: what happened in it to messages received before is not in these figures."

// longestReport bounds a period.
const longestReport = 2 * 366 * 24 * time.Hour

func (in *reportInput) resolve(now time.Time) (*time.Location, error) {
	zone, err := in.location()
	if err != nil {
		return nil, err
	}
	if in.Until.IsZero() {
		in.Until = now
	}
	if in.Since.IsZero() {
		in.Since = in.Until.Add(-24 * time.Hour)
	}
	if !in.Since.Before(in.Until) || in.Until.Sub(in.Since) > longestReport {
		return nil, huma.Error422UnprocessableEntity(
			"since must be before until, and at most two years",
		)
	}
	in.Since, in.Until = report.Hours(in.Since, in.Until)
	if in.Step == "" {
		switch d := in.Until.Sub(in.Since); {
		case d <= 4*24*time.Hour:
			in.Step = "hour"
		case d <= 120*24*time.Hour:
			in.Step = "day"
		default:
			in.Step = "week"
		}
	}
	return zone, nil
}

// within keeps the figures of whoever is bounded to domains to one of them: of the mail to it, or
// from it. Who does not say which gets those of the mail to the first.
func within(b rights.Bounds, dim, value *string) error {
	if b.None() {
		return nil
	}
	if *dim == "total" {
		*dim = "recipient_domain"
	}
	if *value == "" {
		*value = b[0]
	}
	if *dim != "recipient_domain" && *dim != "sender_domain" || !b.Has(*value) {
		return huma.Error403Forbidden("you see figures by recipient_domain or sender_domain, of " +
			strings.Join(b, ", "))
	}
	return nil
}

func (s reportAPI) report(ctx context.Context, in *reportInput) (*out[api.TrafficReport], error) {
	zone, err := in.resolve(time.Now())
	if err == nil {
		err = within(boundsOf(ctx), &in.Dim, &in.Value)
	}
	if err != nil {
		return nil, err
	}
	r, err := pastOf(ctx, s.Service, in.From)
	if err != nil {
		return nil, err
	}
	shown := api.TrafficReport{
		Since:   in.Since,
		Until:   in.Until,
		Zone:    in.Zone.Zone,
		Step:    in.Step,
		Dim:     in.Dim,
		Value:   in.Value,
		Tables:  map[string][]report.Row{},
		Reasons: map[string][]report.Row{},
	}
	if in.Archive != 0 {
		shown.Note = archiveNote
	}
	hours, err := r.SumHours(ctx, in.Dim, in.Value, in.Since, in.Until)
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	shown.Totals, shown.Delay = totals(hours)
	shown.Series = report.Series(hours, in.Since, in.Until, in.Step, zone)
	shown.HourOfDay, shown.Weekdays = report.ByHourOfDay(hours, in.Since, in.Until,
		zone), report.ByWeekday(hours, in.Since, in.Until, zone)
	shown.WeekHours = report.ByWeekHour(hours, in.Since, in.Until, zone)
	if shown.Delay != nil && in.Dim == "total" {
		buckets, err := r.Sums(ctx, "delay", []string{"delivered", "forwarded"}, "",
			report.Spans(in.Since, in.Until), 0)
		if err != nil {
			return nil, s.storeError(err, "count")
		}
		shown.Delay.Quantiles(buckets)
	}
	var then []report.Span
	if !in.Before.IsZero() {
		from, to := report.Hours(in.Before, in.Before.Add(in.Until.Sub(in.Since)))
		before, err := r.SumHours(ctx, in.Dim, in.Value, from, to)
		if err != nil {
			return nil, s.storeError(err, "count")
		}
		shown.Before, shown.DelayThen = totals(before)
		shown.Then = report.Series(before, from, to, in.Step, zone)
		then = report.Spans(from, to)
	}
	if !in.Without && in.Dim == "total" {
		if err := s.addTables(ctx, r, in, &shown, then); err != nil {
			return nil, err
		}
	}
	shown.AsOf = insight.OptAt(r.AsOf())
	return &out[api.TrafficReport]{shown}, nil
}

func totals(hours []report.Hour) (map[string]report.Figure, *report.Delay) {
	sums := make([]report.Sum, len(hours))
	for i, h := range hours {
		sums[i] = report.Sum{
			Kind:     h.Kind,
			N:        h.N,
			Bytes:    h.Bytes,
			Delay:    h.Delay,
			DelayMax: h.DelayMax,
		}
	}
	return report.Totals(sums)
}

// tablesOfAll is up to which period a report has all tables. For a longer one those
// by single sender, recipient, client and account are asked for one by one.
const tablesOfAll = 31 * 24 * time.Hour

func (s reportAPI) addTables(
	ctx context.Context,
	r insight.Records,
	in *reportInput,
	shown *api.TrafficReport,
	then []report.Span,
) error {
	spans, long := report.Spans(in.Since, in.Until), in.Until.Sub(in.Since) > tablesOfAll
	for _, dim := range report.Dims {
		if dim == "total" || dim == "delay" || dim == "cause" ||
			long && slices.Contains(report.Fine, dim) {
			continue
		}
		rows, err := s.table(ctx, r, dim, report.Kinds, spans, then, in.Limit)
		if err != nil {
			return err
		}
		shown.Tables[dim] = rows
	}
	for name, kinds := range report.Reasons {
		rows, err := s.table(ctx, r, "cause", kinds, spans, then, in.Limit)
		if err != nil {
			return err
		}
		for i := range rows {
			rows[i].Title = diagnose.Explain(diagnose.Cause(rows[i].Value)).Title
		}
		shown.Reasons[name] = rows
	}
	return nil
}

func (s reportAPI) table(
	ctx context.Context,
	r insight.Records,
	dim string,
	kinds []string,
	spans, then []report.Span,
	limit int,
) ([]report.Row, error) {
	sums, err := r.Sums(ctx, dim, kinds, "", spans, limit)
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	rows := report.Rows(sums, limit)
	for i := range rows {
		if then == nil {
			break
		}
		before, err := r.Sums(ctx, dim, kinds, rows[i].Value, then, 0)
		if err != nil {
			return nil, s.storeError(err, "count")
		}
		rows[i].Before, _ = report.Totals(before)
	}
	return rows, nil
}

type tableInput struct {
	Dim   string    `path:"dim" enum:"direction,sender_domain,sender,client,listener,account,recipient_domain,recipient,host,route,cause,gate"`
	Kind  []string  `query:"kind" doc:"Only these kinds"`
	Since time.Time `query:"since"`
	Until time.Time `query:"until"`
	Limit int       `query:"limit" minimum:"1" maximum:"10000" default:"100"`
	From
}

func (s reportAPI) reportTable(
	ctx context.Context,
	in *tableInput,
) (*out[api.Page[report.Row]], error) {
	period := reportInput{Since: in.Since, Until: in.Until, Zone: Zone{"UTC"}}
	if _, err := period.resolve(time.Now()); err != nil {
		return nil, err
	}
	kinds := in.Kind
	if len(kinds) == 0 {
		kinds = report.Kinds
	}
	for _, k := range kinds {
		if !slices.Contains(report.Kinds, k) {
			return nil, huma.Error422UnprocessableEntity("kind: " + k + " is not counted")
		}
	}
	r, err := pastOf(ctx, s.Service, in.From)
	if err != nil {
		return nil, err
	}
	rows, err := s.table(ctx, r, in.Dim, kinds, report.Spans(period.Since, period.Until), nil,
		in.Limit)
	if err != nil {
		return nil, err
	}
	if in.Dim == "cause" {
		for i := range rows {
			rows[i].Title = diagnose.Explain(diagnose.Cause(rows[i].Value)).Title
		}
	}
	return &out[api.Page[report.Row]]{api.Page[report.Row]{Items: rows}}, nil
}

// past is a period in whole hours, and the records to look for it in.
func (s reportAPI) past(
	ctx context.Context,
	since, until time.Time,
	from From,
) (reportInput, *insight.Past, error) {
	period := reportInput{Since: since, Until: until, Zone: Zone{"UTC"}}
	if _, err := period.resolve(time.Now()); err != nil {
		return period, nil, err
	}
	r, err := pastOf(ctx, s.Service, from)
	return period, r, err
}

type moversInput struct {
	Dim   string    `query:"dim" enum:"direction,sender_domain,sender,client,listener,account,recipient_domain,recipient,host,route,cause,gate" default:"recipient_domain"`
	Kind  string    `query:"kind" enum:"received,delivered,forwarded,deferred,bounced,expired,rejected,discarded" default:"delivered"`
	Since time.Time `query:"since"`
	Until time.Time `query:"until"`
	Limit int       `query:"limit" minimum:"1" maximum:"100" default:"10"`
	From
}

const week = 7 * 24 * time.Hour

// movers compares with the same hours of as many weeks before as the period needs: of a
// Monday with the Monday before.
func (s reportAPI) movers(ctx context.Context, in *moversInput) (*out[api.Movers], error) {
	period, r, err := s.past(ctx, in.Since, in.Until, in.From)
	if err != nil {
		return nil, err
	}
	back := (period.Until.Sub(period.Since) + week - 1) / week * week
	shown := api.Movers{
		Since:       period.Since,
		Until:       period.Until,
		BeforeSince: period.Since.Add(-back),
		BeforeUntil: period.Until.Add(-back),
		Items:       []report.Mover{},
	}
	list, err := r.Movers(ctx, in.Dim, []string{in.Kind}, report.Spans(period.Since, period.Until),
		report.Spans(shown.BeforeSince, shown.BeforeUntil), in.Limit)
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	for i := range list {
		if in.Dim == "cause" {
			list[i].Title = diagnose.Explain(diagnose.Cause(list[i].Value)).Title
		}
	}
	shown.Items = append(shown.Items, list...)
	return &out[api.Movers]{shown}, nil
}

type figureInput struct {
	Kind  string    `query:"kind" required:"true" enum:"received,delivered,forwarded,deferred,bounced,expired,rejected,discarded"`
	Dim   string    `query:"dim" enum:"total,direction,sender_domain,sender,client,listener,account,recipient_domain,recipient,host,route,cause,gate" default:"total"`
	Value string    `query:"value"`
	Since time.Time `query:"since"`
	Until time.Time `query:"until"`
	From
	Paging
}

func (s reportAPI) figure(
	ctx context.Context,
	in *figureInput,
) (*out[api.Page[report.Behind]], error) {
	if err := within(boundsOf(ctx), &in.Dim, &in.Value); err != nil {
		return nil, err
	}
	period, r, err := s.past(ctx, in.Since, in.Until, in.From)
	if err != nil {
		return nil, err
	}
	items, next, err := r.Figure(ctx, report.Question{
		Kind:  in.Kind,
		Dim:   in.Dim,
		Value: in.Value,
		From:  period.Since,
		To:    period.Until,
		After: in.After,
		Limit: in.Limit,
	})
	if err != nil {
		return nil, s.storeError(err, "count")
	}
	return &out[api.Page[report.Behind]]{
		api.Page[report.Behind]{Items: append([]report.Behind{}, items...), Next: next},
	}, nil
}

// reportPage is a report as a page to read or print.
func (s reportAPI) reportPage(c fiber.Ctx) error {
	w, err := s.require(c, "report-page")
	if err != nil {
		return err
	}
	in := reportInput{Zone: Zone{cmp.Or(c.Query("zone"), "UTC")}}
	for name, t := range map[string]*time.Time{"since": &in.Since, "until": &in.Until} {
		if text := c.Query(name); text != "" {
			if *t, err = time.Parse(time.RFC3339, text); err != nil {
				return fiber.NewError(fiber.StatusUnprocessableEntity,
					name+": write a time like 2026-11-23T10:00:00Z")
			}
		}
	}
	zone, err := in.resolve(time.Now())
	if err != nil {
		return err
	}
	if text := c.Query("archive"); text != "" {
		if in.Archive, err = strconv.ParseInt(text, 10, 64); err != nil {
			return fiber.NewError(fiber.StatusUnprocessableEntity,
				"archive: write the number of an opened archive")
		}
	}
	r, err := pastOf(c.Context(), s.Service, in.From)
	if err != nil {
		return err
	}
	p, err := s.Insight.Reporter.ReportPage(c.Context(), r, in.Since, in.Until, zone, in.Step, 10)
	if err != nil {
		return s.storeError(err, "count")
	}
	html, err := p.HTML()
	if err != nil {
		return err
	}
	c.Set("Content-Type", "text/html; charset=utf-8")
	return c.SendString(s.maskFor(w).text(html))
}
