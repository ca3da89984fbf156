package insight

import (
	"bytes"
	"context"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/core/review"
	"gullroute/internal/core/snag"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// nearFull is from what part of its quota on a mailbox is named in a report.
const nearFull = 0.9

// Reporter makes reports, and sends the daily one.
type Reporter struct {
	Counts    store.Counts
	Lanes     store.Lanes
	Mailboxes store.Mailboxes
	Snags     store.Snags
	Reviewer  *Reviewer
	InForce   *inforce.State
	Own       *OwnMail
}

// Daily sends the report of the day before, when its hour has come and no
// node has sent it.
func (s *Reporter) Daily(ctx context.Context, now time.Time) error {
	cfg := s.InForce.Config()
	d := cfg.Service.DailyReport
	if len(d.To) == 0 {
		return nil
	}
	hour, minute, zone, err := d.Time()
	if err != nil {
		return err
	}
	local := now.In(zone)
	midnight := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, zone)
	if local.Before(
		midnight.Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute),
	) {
		return nil
	}
	day := midnight.AddDate(0, 0, -1)
	mine, err := s.Counts.ClaimReport(ctx, day)
	if err != nil || !mine {
		return err
	}
	page, err := s.DayPage(ctx, day, midnight, zone)
	if err != nil {
		return err
	}
	for _, to := range d.To {
		if err := s.mailReport(ctx, cfg, to, page, now); err != nil {
			return fmt.Errorf("to %s: %w", to, err)
		}
	}
	return s.Counts.ReportSent(ctx, day)
}

// DayPage is the report of a day against the week's usual, with what somebody
// should look at now.
func (s *Reporter) DayPage(
	ctx context.Context,
	from, to time.Time,
	zone *time.Location,
) (*report.Page, error) {
	p, err := s.ReportPage(ctx, s.Counts, from, to, zone, "hour", 5)
	if err != nil {
		return nil, err
	}
	p.Title = "Mail on " + from.In(zone).Format("Monday, 2 January 2006")
	week, err := s.Counts.SumHours(ctx, "total", "", from.AddDate(0, 0, -7), from)
	if err != nil {
		return nil, err
	}
	if len(week) > 0 {
		p.Usual, p.UsualIs = map[string]float64{}, "the mean of the seven days before"
		for _, h := range week {
			p.Usual[h.Kind] += float64(h.N) / 7
		}
	}
	return p, s.addNotes(ctx, p)
}

// addNotes says what somebody should look at: hazards, lanes in trouble, mailboxes
// that are nearly full.
func (s *Reporter) addNotes(ctx context.Context, p *report.Page) error {
	cfg := s.InForce.Config()
	note := func(heading string, lines []string) {
		if len(lines) > 0 {
			p.Notes = append(p.Notes, report.Notes{Heading: heading, Lines: lines})
		}
	}
	weak, err := s.Reviewer.Review(ctx, cfg)
	if err != nil {
		return err
	}
	var dangers []string
	for _, w := range weak {
		if w.Accepted == nil && w.Severity != review.Minor {
			dangers = append(dangers,
				fmt.Sprintf("%s (%s): %s. %s", w.Title, w.Where, w.Text, w.Why))
		}
	}
	note("Weak settings", dangers)
	open, err := s.Snags.List(ctx, snag.Filter{Limit: 8})
	if err != nil {
		return err
	}
	var troubles []string
	for i := range open {
		x := &open[i]
		if x.Severity == snag.Minor {
			break
		}
		x.Explain()
		troubles = append(
			troubles,
			fmt.Sprintf("%s at %s since %s: %d waiting, %d failed; %s", x.Title, x.Place.Where(),
				x.Since.In(p.Zone).Format("Mon 2 Jan 15:04"), x.Waiting, x.Failed, x.Advice),
		)
	}
	note("Snags, worst first", troubles)
	lanes, err := s.Lanes.List(ctx)
	if err != nil {
		return err
	}
	var worst []string
	for _, l := range lanes {
		if len(worst) < 5 && l.Deferred > 0 {
			worst = append(
				worst,
				fmt.Sprintf("%s by route %s: %d wait, the oldest since %s; %s", l.NextHop, l.Route,
					l.Waiting+l.Deferred+l.Held, l.OldestAt.In(p.Zone).Format("Mon 2 Jan 15:04"),
					diagnose.Explain(diagnose.Cause(l.Cause)).Title),
			)
		}
	}
	note("Lanes with trouble now", worst)
	full, err := s.fullMailboxes(ctx)
	note("Mailboxes that are nearly full", full)
	return err
}

func (s *Reporter) fullMailboxes(ctx context.Context) ([]string, error) {
	uses, err := s.Mailboxes.MailboxUses(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, u := range uses {
		a, err := address.Parse(u.Address)
		if err != nil {
			continue
		}
		if box := s.InForce.Config().Mailbox(a); box != nil && box.Quota > 0 &&
			float64(u.Used) >= nearFull*float64(box.Quota) {
			out = append(
				out,
				fmt.Sprintf("%s: %s of %s", u.Address, report.Octets(u.Used),
					report.Octets(int64(box.Quota))),
			)
		}
	}
	return out, nil
}

// Counts are what a report is made of: the service's own, or an archive's.
type Counts interface {
	Sums(ctx context.Context, dim string, kinds []string, value string, spans []report.Span,
		limit int) ([]report.Sum, error)
	SumHours(ctx context.Context, dim, value string, from, to time.Time) ([]report.Hour, error)
}

// ReportPage is the report of a period, to be read away from the console.
func (s *Reporter) ReportPage(
	ctx context.Context,
	counts Counts,
	from, to time.Time,
	zone *time.Location,
	step string,
	limit int,
) (*report.Page, error) {
	p := &report.Page{
		HostName: string(s.InForce.Config().Service.HostName),
		Title:    "What the traffic looked like",
		Since:    from,
		Until:    to,
		Zone:     zone,
		Reasons:  map[string][]report.Row{},
		Tables:   map[string][]report.Row{},
	}
	hours, err := counts.SumHours(ctx, "total", "", from, to)
	if err != nil {
		return nil, err
	}
	var sums []report.Sum
	for _, h := range hours {
		sums = append(sums,
			report.Sum{Kind: h.Kind, N: h.N, Bytes: h.Bytes, Delay: h.Delay, DelayMax: h.DelayMax})
	}
	p.Totals, p.Delay = report.Totals(sums)
	p.Series = report.Series(hours, from, to, step, zone)
	spans := report.Spans(from, to)
	if p.Delay != nil {
		buckets, err := counts.Sums(ctx, "delay", []string{"delivered", "forwarded"}, "", spans, 0)
		if err != nil {
			return nil, err
		}
		p.Delay.Quantiles(buckets)
	}
	for name, kinds := range report.Reasons {
		list, err := counts.Sums(ctx, "cause", kinds, "", spans, limit)
		if err != nil {
			return nil, err
		}
		rows := report.Rows(list, limit)
		for i := range rows {
			rows[i].Title = diagnose.Explain(diagnose.Cause(rows[i].Value)).Title
		}
		p.Reasons[name] = rows
	}
	for _, dim := range []string{"recipient_domain", "sender_domain", "sender", "route"} {
		list, err := counts.Sums(ctx, dim, report.Kinds, "", spans, limit)
		if err != nil {
			return nil, err
		}
		p.Tables[dim] = report.Rows(list, limit)
	}
	return p, nil
}

// mailReport sends a report by our own queue.
func (s *Reporter) mailReport(
	ctx context.Context,
	cfg *config.Compiled,
	to address.Address,
	p *report.Page,
	now time.Time,
) error {
	page, err := p.HTML()
	if err != nil {
		return err
	}
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	for _, part := range []struct{ kind, text string }{{"text/plain; charset=utf-8", p.Text()},
		{"text/html; charset=utf-8", page}} {
		out, err := w.CreatePart(textproto.MIMEHeader{
			"Content-Type":              {part.kind},
			"Content-Transfer-Encoding": {"quoted-printable"},
		})
		if err != nil {
			return err
		}
		text, err := quoted(part.text)
		if err == nil {
			_, err = out.Write(text)
		}
		if err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	entry, err := s.Own.compose(cfg, to, p.Title+", "+string(cfg.Service.HostName),
		"multipart/alternative; boundary=\""+w.Boundary()+"\"", body.Bytes(), now)
	if err != nil {
		return err
	}
	return s.Own.Queue.Enter(ctx, entry)
}

// Since are the figures by hour and kind since an hour.
func (s *Reporter) Since(ctx context.Context, since time.Time) ([]mail.Count, error) {
	return s.Counts.Since(ctx, since)
}
