package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
	"gullroute/internal/core/search"
	"gullroute/internal/core/transcript"
)

// needles are what a line must hold if it is to match.
func needles(q search.Query) [][]byte {
	var out [][]byte
	for _, t := range q.Terms {
		v := t.Value
		switch {
		case v == "",
			t.Field == search.State,
			t.Field == search.Client && !t.Network.IsSingleIP(),
			t.Field == search.IP && !t.Network.IsSingleIP():
			continue
		case t.Field == search.Client, t.Field == search.IP:
			v = t.Network.Addr().String()
		}
		text, err := archive.Write(strings.ToLower(v))
		if err == nil && len(text) > 3 {
			out = append(out,
				bytes.ToLower(text[1:len(text)-2])) // as it stands in JSON, without the quotes
		}
	}
	return out
}

// Search looks through an archive as Store.Search does.
func (o *Opened) Search(
	ctx context.Context,
	q search.Query,
	after ident.ID,
	limit int,
) (search.Page, error) {
	lower, upper := narrow(q, 0, 1<<63-1, after)
	started := time.Now()
	var page search.Page
	var back [2]ident.ID // how far each kind was looked through when time was up
	look := func(kind string, n int, read func(line []byte) (mail.Found, []mail.Event,
		bool)) error {
		found := 0
		return o.through(
			ctx,
			kind,
			lower,
			upper,
			q.OldestFirst,
			needles(q),
			func(line []byte) bool {
				f, events, ok := read(line)
				if !ok || f.ID >= upper || f.ID < lower || !q.Match(&f, events) {
					if time.Since(started) > searchTime && ok {
						back[n] = f.ID
						return false
					}
					return true
				}
				page.Items = append(page.Items, f)
				found++
				return found < limit
			},
		)
	}
	err := look(archive.Message, 0, func(line []byte) (mail.Found, []mail.Event, bool) {
		l, err := archive.ReadMessage(line)
		if err != nil {
			return mail.Found{}, nil, false
		}
		return l.Found, l.Events, true
	})
	if err == nil && !q.MessagesOnly {
		err = look(archive.Refusal, 1, func(line []byte) (mail.Found, []mail.Event, bool) {
			r, err := archive.ReadRefusal(line)
			return mail.FoundRefusal(r), nil, err == nil
		})
	}
	slices.SortFunc(page.Items, func(a, b mail.Found) int { return byAge(q, a, b) })
	upTo := max(back[0], back[1])
	if q.OldestFirst && back[0] != 0 && back[1] != 0 {
		upTo = min(back[0], back[1])
	}
	if upTo != 0 { // what is beyond was not looked through in both
		page.Items = slices.DeleteFunc(page.Items, func(f mail.Found) bool {
			return byAge(q, f,
				mail.Found{Message: mail.Message{ID: upTo}}) > 0
		})
		page.Next, page.Back = upTo, upTo.Time()
	}
	if len(page.Items) >= limit {
		page.Items = page.Items[:limit]
		page.Next, page.Back = page.Items[limit-1].ID, time.Time{}
	}
	page.Items = append([]mail.Found{}, page.Items...)
	return page, err
}

// Session reads a session with its transcript.
func (o *Opened) Session(ctx context.Context, id ident.ID) (rec mail.SessionRecord, err error) {
	fault := ErrNotFound
	err = o.each(ctx, archive.Session, id, id+1, nil, func(line []byte) bool {
		if first, ok := archive.FirstID(line); !ok || first != id {
			return true
		}
		var l archive.SessionLine
		l, fault = archive.ReadSession(line, true)
		rec.Session = l.Session
		if len(l.Transcript) > 0 {
			rec.Transcript = transcript.Again(l.Transcript)
		}
		return false
	})
	if err == nil {
		err = fault
	}
	return rec, err
}

// SessionsByID reads sessions without their transcripts.
func (o *Opened) SessionsByID(ctx context.Context, ids []ident.ID) ([]mail.Session, error) {
	var out []mail.Session
	seen := map[ident.ID]bool{0: true}
	for _, id := range ids {
		if seen[id] {
			continue
		}
		seen[id] = true
		err := o.each(ctx, archive.Session, id, id+1, nil, func(line []byte) bool {
			if first, ok := archive.FirstID(line); !ok || first != id {
				return true
			}
			if l, err := archive.ReadSession(line, false); err == nil {
				out = append(out, l.Session)
			}
			return false
		})
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

// List lists sessions, newest first or by what is asked.
func (o *Opened) ListSessions(ctx context.Context, f mail.SessionFilter) ([]mail.Session, error) {
	upper, lower := ident.ID(1<<63-1), ident.ID(0)
	if f.Before != 0 {
		upper = f.Before
	}
	if !f.Until.IsZero() {
		upper = min(upper, ident.Floor(f.Until))
	}
	if !f.Since.IsZero() {
		lower = ident.Floor(f.Since)
	}
	limit := f.Limit
	if f.Sort != "" {
		limit = sortedAtMost
	}
	out := []mail.Session{}
	err := o.each(ctx, archive.Session, lower, upper, nil, func(line []byte) bool {
		l, err := archive.ReadSession(line, false)
		if x := l.Session; err == nil && x.ID >= lower && x.ID < upper && f.Matches(x) {
			out = append(out, x)
		}
		return len(out) < limit
	})
	switch f.Sort {
	case "duration":
		slices.SortStableFunc(out,
			func(a, b mail.Session) int { return cmp.Compare(b.Seconds, a.Seconds) })
	case "bytes":
		slices.SortStableFunc(out, func(a, b mail.Session) int {
			return cmp.Compare(b.BytesIn+b.BytesOut,
				a.BytesIn+a.BytesOut)
		})
	case "messages":
		slices.SortStableFunc(out,
			func(a, b mail.Session) int { return cmp.Compare(b.MessageCount, a.MessageCount) })
	}
	return out[:min(len(out), f.Limit)], err
}

// eachSum goes through the counts of a dimension in a period.
func (o *Opened) eachSum(
	ctx context.Context,
	dim string,
	from, to time.Time,
	visit func(hour int64, s report.Sum),
) error {
	rows, err := o.db.pool.Query(ctx,
		`SELECT data FROM archive_sums WHERE archive = $1 AND dim = $2 AND day >= $3 AND day <= $4`,
		o.id, dim, from.UTC().Truncate(24*time.Hour), to.UTC())
	if err != nil {
		return err
	}
	var data []byte
	_, err = pgx.ForEachRow(rows, []any{&data}, func() error {
		text, err := unpackBlock.DecodeAll(data, nil)
		if err != nil {
			return err
		}
		return report.Unpack(text, func(hour int64, s report.Sum) {
			if hour >= from.Unix()/3600 && hour < to.Unix()/3600 {
				visit(hour, s)
			}
		})
	})
	return err
}

// Sums adds up counts by value, those with most first.
func (o *Opened) Sums(
	ctx context.Context,
	dim string,
	kinds []string,
	value string,
	spans []report.Span,
	limit int,
) ([]report.Sum, error) {
	if len(spans) == 0 {
		return nil, nil
	}
	from, to := spans[0].From, spans[len(spans)-1].To
	type key struct{ value, kind string }
	by, all := map[key]*report.Sum{}, map[string]int64{}
	err := o.eachSum(ctx, dim, from, to, func(_ int64, s report.Sum) {
		if value != "" && s.Value != value || !slices.Contains(kinds, s.Kind) {
			return
		}
		k := key{s.Value, s.Kind}
		if by[k] == nil {
			by[k] = &report.Sum{Value: s.Value, Kind: s.Kind}
		}
		x := by[k]
		x.N, x.Bytes, x.Delay, x.DelayMax = x.N+s.N, x.Bytes+s.Bytes, x.Delay+s.Delay, max(
			x.DelayMax,
			s.DelayMax,
		)
		all[s.Value] += s.N
	})
	values := make([]string, 0, len(all))
	for v := range all {
		values = append(values, v)
	}
	slices.SortFunc(values,
		func(a, b string) int { return cmp.Or(cmp.Compare(all[b], all[a]), cmp.Compare(a, b)) })
	if limit > 0 {
		values = values[:min(len(values), limit)]
	}
	var out []report.Sum
	for _, v := range values {
		for _, kind := range kinds {
			if s := by[key{v, kind}]; s != nil {
				out = append(out, *s)
			}
		}
	}
	return out, err
}

// Movers are the values whose counts changed most between two periods.
func (o *Opened) Movers(
	ctx context.Context,
	dim string,
	kinds []string,
	now, before []report.Span,
	limit int,
) ([]report.Mover, error) {
	a, err := o.Sums(ctx, dim, kinds, "", now, 0)
	if err != nil {
		return nil, err
	}
	b, err := o.Sums(ctx, dim, kinds, "", before, 0)
	return report.Movers(a, b, limit), err
}

// SumHours reads one value's counts hour by hour.
func (o *Opened) SumHours(
	ctx context.Context,
	dim, value string,
	from, to time.Time,
) ([]report.Hour, error) {
	type key struct {
		hour int64
		kind string
	}
	by := map[key]report.Hour{}
	err := o.eachSum(ctx, dim, from, to, func(hour int64, s report.Sum) {
		if s.Value == value {
			k := key{hour, s.Kind}
			h := by[k]
			by[k] = report.Hour{
				At:       time.Unix(hour*3600, 0).UTC(),
				Kind:     s.Kind,
				N:        h.N + s.N,
				Bytes:    h.Bytes + s.Bytes,
				Delay:    h.Delay + s.Delay,
				DelayMax: max(h.DelayMax, s.DelayMax),
			}
		}
	})
	out := make([]report.Hour, 0, len(by))
	for _, h := range by {
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b report.Hour) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Kind,
			b.Kind))
	})
	return out, err
}

// Figure lists the things behind a figure.
func (o *Opened) Figure(ctx context.Context, f report.Question) ([]report.Behind, string, error) {
	from, to := report.Hours(f.From, f.To)
	skip := 0
	if f.After != "" {
		if _, err := fmt.Sscanf(f.After, "%d", &skip); err != nil || skip < 0 {
			return nil, "", fmt.Errorf("after: %q is no place in this list", f.After)
		}
	}
	items := []report.Behind{}
	add := func(found *mail.Found, events []mail.Event) bool {
		for _, fact := range report.Of(found, events) {
			if fact.Kind != f.Kind || fact.At.Before(from) || !fact.At.Before(to) ||
				!fact.Is(f.Dim, f.Value) {
				continue
			}
			if skip > 0 {
				skip--
				continue
			}
			items = append(items, itemOf(found, fact))
		}
		return len(items) <= f.Limit
	}
	lower, upper := ident.Floor(from.Add(-longestLife)), ident.Floor(to)
	var holds [][]byte
	if text, err := json.Marshal(f.Value); err == nil && f.Value != "" && f.Value != "<>" &&
		f.Dim != "total" {
		holds = append(holds, bytes.ToLower(text[1:len(text)-1]))
	}
	var err error
	if f.Kind == "rejected" {
		err = o.each(
			ctx,
			archive.Refusal,
			ident.Floor(from.Add(-time.Minute)),
			ident.Floor(to.Add(time.Minute)),
			holds,
			func(line []byte) bool {
				r, err := archive.ReadRefusal(line)
				x := mail.FoundRefusal(r)
				return err != nil || add(&x, nil)
			},
		)
	} else {
		err = o.each(ctx, archive.Message, max(lower, 0), upper, holds, func(line []byte) bool {
			l, err := archive.ReadMessage(line)
			return err != nil || add(&l.Found, l.Events)
		})
	}
	next := ""
	if len(items) > f.Limit {
		done := 0
		_, _ = fmt.Sscanf(f.After, "%d", &done)
		items, next = items[:f.Limit], fmt.Sprint(done+f.Limit)
	}
	return items, next, err
}

func itemOf(f *mail.Found, fact report.Fact) report.Behind {
	x := report.Behind{
		At:        fact.At.UTC(),
		Kind:      fact.Kind,
		Sender:    f.Sender,
		Subject:   f.Subject,
		Size:      fact.Bytes,
		SessionID: f.SessionID.String(),
	}
	if r := f.Refused; r != nil {
		x.RefusalID, x.Recipient, x.Text, x.Cause = r.ID.String(), r.Recipient, r.Reply(), r.Cause
		return x
	}
	x.MessageID = f.ID.String()
	for i := range f.Deliveries {
		d := &f.Deliveries[i]
		if fact.N == 0 && (x.Recipient == "" || d.Original < x.Recipient) {
			x.Recipient = d.Original
		}
		if d.N == fact.N {
			x.Delivery, x.Recipient, x.Cause = d.ID().String(), d.Recipient, d.Cause
			if d.Last != nil {
				x.Text = d.Last.String()
			}
		}
	}
	return x
}
