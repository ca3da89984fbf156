package insight

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/report"
	"gullroute/internal/core/search"
	"gullroute/internal/store"
)

// Past is where searches and reports look: a standby while there is one that is fresh
// enough, else the database itself, or an archive.
type Past struct {
	Records
	reader  *store.Reader
	standby Records // nil if there is none
	asOf    time.Time
}

// Past is the service's own past, or that of an opened archive.
func (t *Trace) Past(ctx context.Context, archive int64) (*Past, error) {
	r, err := t.Records(ctx, archive)
	if err != nil {
		return nil, err
	}
	p := &Past{Records: r, reader: t.Reader}
	if db, asOf := t.Reader.Fresh(); archive == 0 && db != nil {
		p.asOf = asOf
		p.standby = own{store.Messages{DB: db}, store.Sessions{DB: db}, store.Counts{DB: db}}
	}
	return p, nil
}

// AsOf is until when what was written is in the answers; zero if they are of now.
func (p *Past) AsOf() time.Time {
	if p.standby == nil {
		return time.Time{}
	}
	return p.asOf
}

// past asks the standby, and where that fails the database itself.
func past[T any](ctx context.Context, p *Past, ask func(Records) (T, error)) (T, error) {
	if p.standby != nil {
		v, err := ask(p.standby)
		if err == nil || errors.Is(err, fault.ErrNotFound) || ctx.Err() != nil {
			return v, err
		}
		p.reader.Distrust(err)
		p.standby = nil
	}
	return ask(p.Records)
}

// Search is Records'.
func (p *Past) Search(
	ctx context.Context,
	q search.Query,
	after ident.ID,
	limit int,
) (search.Page, error) {
	return past(
		ctx,
		p,
		func(r Records) (search.Page, error) { return r.Search(ctx, q, after, limit) },
	)
}

// Sums is Records'.
func (p *Past) Sums(
	ctx context.Context,
	dim string,
	kinds []string,
	value string,
	spans []report.Span,
	limit int,
) ([]report.Sum, error) {
	return past(
		ctx,
		p,
		func(r Records) ([]report.Sum, error) { return r.Sums(ctx, dim, kinds, value, spans, limit) },
	)
}

// Movers is Records'.
func (p *Past) Movers(
	ctx context.Context,
	dim string,
	kinds []string,
	now, before []report.Span,
	limit int,
) ([]report.Mover, error) {
	return past(ctx, p, func(r Records) ([]report.Mover, error) {
		return r.Movers(ctx, dim, kinds, now, before, limit)
	})
}

// SumHours is Records'.
func (p *Past) SumHours(
	ctx context.Context,
	dim, value string,
	from, to time.Time,
) ([]report.Hour, error) {
	return past(
		ctx,
		p,
		func(r Records) ([]report.Hour, error) { return r.SumHours(ctx, dim, value, from, to) },
	)
}

// Figure is Records'.
func (p *Past) Figure(ctx context.Context, q report.Question) ([]report.Behind, string, error) {
	type page struct {
		items []report.Behind
		next  string
	}
	v, err := past(ctx, p, func(r Records) (page, error) {
		items, next, err := r.Figure(ctx, q)
		return page{items, next}, err
	})
	return v.items, v.next, err
}

// StandbyAsOf is until when the standby has what was written; zero while none is read from.
func (t *Trace) StandbyAsOf() time.Time {
	_, asOf := t.Reader.Fresh()
	return asOf
}
