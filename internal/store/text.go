package store

import (
	"context"
	"encoding/binary"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"gullroute/internal/core/inert"
)

// Text goes into the database here, whatever statement carries it: what PostgreSQL
// would refuse (a NUL, octets that are no UTF-8) is replaced, so that one stranger's
// octet can't fail a statement that others' rows share. rowWriter does the same for
// COPY.

// database is the pool, with texts made clean on their way in, and with a time limit for
// each statement that has none.
type database struct{ *pgxpool.Pool }

// Exec, Query, QueryRow and SendBatch are the pool's.
func (d database) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return execIn(ctx, d.Pool, sql, args)
}

func (d database) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return queryIn(ctx, d.Pool, sql, args)
}

func (d database) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	ctx, cancel := limited(ctx)
	return limitedRow{d.Pool.QueryRow(ctx, sql, cleaned(args)...), cancel}
}

func (d database) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	ctx, cancel := limited(ctx)
	return limitedBatch{d.Pool.SendBatch(ctx, cleanedBatch(b)), cancel}
}

// transaction is the same of a transaction.
type transaction struct{ pgx.Tx }

// Exec, Query, QueryRow and SendBatch are the transaction's.
func (t transaction) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return execIn(ctx, t.Tx, sql, args)
}

func (t transaction) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return queryIn(ctx, t.Tx, sql, args)
}

func (t transaction) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	ctx, cancel := limited(ctx)
	return limitedRow{t.Tx.QueryRow(ctx, sql, cleaned(args)...), cancel}
}

func (t transaction) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	ctx, cancel := limited(ctx)
	return limitedBatch{t.Tx.SendBatch(ctx, cleanedBatch(b)), cancel}
}

type execer interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

func execIn(ctx context.Context, in execer, sql string, args []any) (pgconn.CommandTag, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	return in.Exec(ctx, sql, cleaned(args)...)
}

func queryIn(ctx context.Context, in querier, sql string, args []any) (pgx.Rows, error) {
	ctx, cancel := limited(ctx)
	rows, err := in.Query(ctx, sql, cleaned(args)...)
	if err != nil {
		cancel()
		return rows, err
	}
	return limitedRows{rows, cancel}, nil
}

// cleaned are arguments of which strings are clean. The driver sends a plain string as
// it is, past the codecs; all else goes through them.
func cleaned(args []any) []any {
	for i, a := range args {
		switch v := a.(type) {
		case string:
			if !inert.Storable([]byte(v)) {
				args[i] = string(inert.Stored([]byte(v)))
			}
		case *string:
			if v != nil && !inert.Storable([]byte(*v)) {
				clean := string(inert.Stored([]byte(*v)))
				args[i] = &clean
			}
		}
	}
	return args
}

func cleanedBatch(b *pgx.Batch) *pgx.Batch {
	for _, q := range b.QueuedQueries {
		q.Arguments = cleaned(q.Arguments)
	}
	return b
}

// cleanTexts puts the codecs in force on a new connection.
func cleanTexts(_ context.Context, conn *pgx.Conn) error {
	types := conn.TypeMap()
	for _, t := range []struct {
		name       string
		oid, array uint32
		codec      pgtype.Codec
		clean      func([]byte) []byte
	}{
		{"text", pgtype.TextOID, pgtype.TextArrayOID, pgtype.TextCodec{}, storedText},
		{"varchar", pgtype.VarcharOID, pgtype.VarcharArrayOID, pgtype.TextCodec{}, storedText},
		{"json", pgtype.JSONOID, pgtype.JSONArrayOID, codecOf(types, pgtype.JSONOID),
			inert.StoredJSON},
		{"jsonb", pgtype.JSONBOID, pgtype.JSONBArrayOID, codecOf(types, pgtype.JSONBOID),
			storedJSONB},
	} {
		one := &pgtype.Type{Name: t.name, OID: t.oid, Codec: cleanCodec{t.codec, t.clean}}
		types.RegisterType(one)
		types.RegisterType(&pgtype.Type{
			Name:  "_" + t.name,
			OID:   t.array,
			Codec: &pgtype.ArrayCodec{ElementType: one},
		})
	}
	return nil
}

func codecOf(types *pgtype.Map, oid uint32) pgtype.Codec {
	t, _ := types.TypeForOID(oid)
	return t.Codec
}

func storedText(b []byte) []byte {
	if inert.Storable(b) {
		return b
	}
	return inert.Stored(b)
}

// storedJSONB is jsonb in its binary form, a version before the text, or as text.
func storedJSONB(b []byte) []byte {
	if len(b) > 0 && b[0] == 1 {
		return append([]byte{1}, inert.StoredJSON(b[1:])...)
	}
	return inert.StoredJSON(b)
}

// cleanCodec is a codec whose values are clean when they go out.
type cleanCodec struct {
	pgtype.Codec
	clean func([]byte) []byte
}

// PlanEncode is pgtype.Codec's.
func (c cleanCodec) PlanEncode(
	m *pgtype.Map,
	oid uint32,
	format int16,
	value any,
) pgtype.EncodePlan {
	plan := c.Codec.PlanEncode(m, oid, format, value)
	if plan == nil {
		return nil
	}
	return cleanPlan{plan, c.clean}
}

type cleanPlan struct {
	plan  pgtype.EncodePlan
	clean func([]byte) []byte
}

// Encode is pgtype.EncodePlan's.
func (p cleanPlan) Encode(value any, buf []byte) ([]byte, error) {
	start := len(buf)
	buf, err := p.plan.Encode(value, buf)
	if err != nil || buf == nil {
		return buf, err
	}
	return append(buf[:start], p.clean(buf[start:])...), nil
}

// ErrData reports that PostgreSQL refused what was to be written, not that it could
// not write: the same again would be refused again.
var ErrData = errors.New("the database refuses this")

// data marks errors of SQLSTATE's classes 22 (data exception) and 23 (integrity). A
// missing partition has a code of class 23 too, and no constraint: it is our fault,
// and all that is to be written has it.
func data(err error) error {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || refused.Code == "23514" && refused.ConstraintName == "" {
		return err
	}
	if strings.HasPrefix(refused.Code, "22") || strings.HasPrefix(refused.Code, "23") {
		return dataError{err}
	}
	return err
}

type dataError struct{ error }

func (e dataError) Is(target error) bool { return target == ErrData }
func (e dataError) Unwrap() error        { return e.error }

// text writes a text, clean.
func (w *rowWriter) text(v string) {
	start := len(w.buf)
	w.size(len(v))
	w.buf = append(w.buf, v...)
	if b := w.buf[start+4:]; !inert.Storable(b) {
		w.buf = append(w.buf[:start+4], inert.Stored(b)...)
		binary.BigEndian.PutUint32(w.buf[start:], uint32(len(w.buf)-start-4))
	}
}
