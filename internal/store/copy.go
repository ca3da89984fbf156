package store

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
)

// table is what to copy into one table.
type table struct {
	name, columns string
	write         func(*rowWriter)
}

// copyIn copies rows into several tables in one round trip: one query of several
// COPY statements, all of their data sent right behind it. PostgreSQL takes the
// statements of one query for one transaction, unless one is open already. Three
// ordinary copies with a transaction around them take eight round trips, which
// for a group of 50 messages weighs twice as much as the rows.
//
// First stands before the copies: SQL that may end the transaction. After an error that
// is not PostgreSQL's own the connection is closed and the error is *Unclear: the rows may
// or may not be there.
func copyIn(ctx context.Context, conn *pgconn.PgConn, first string, tables []table) error {
	w := writers.Get().(*rowWriter)
	defer writers.Put(w)
	framed, err := w.frame(first, tables)
	if err != nil || w.rows == 0 {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	deadline, _ := ctx.Deadline()
	_ = conn.Conn().SetDeadline(deadline)
	err = exchange(conn, framed)
	var refused *pgconn.PgError
	if err != nil && !errors.As(err, &refused) {
		_ = conn.Conn().Close()
		_ = conn.Close(ctx)
		return unclear(conn, err)
	}
	_ = conn.Conn().SetDeadline(time.Time{})
	return over(err)
}

// exchange sends what was framed and reads the answers to the end.
func exchange(conn *pgconn.PgConn, framed []byte) error {
	if _, err := conn.Conn().Write(framed); err != nil {
		return err
	}
	var refused error
	for {
		msg, err := conn.Frontend().Receive()
		if err != nil {
			return err
		}
		switch msg := msg.(type) {
		case *pgproto3.ErrorResponse:
			refused = pgconn.ErrorResponseToPgError(msg)
		case *pgproto3.ReadyForQuery:
			return refused
		}
	}
}

// writers are kept: a group's rows take some hundred kilobytes.
var writers = sync.Pool{New: func() any { return new(rowWriter) }}

// frame writes the query and, for each table that has rows, its data, as the
// messages of PostgreSQL's protocol. The query names only those tables, so it is
// written last and put in front.
func (w *rowWriter) frame(first string, tables []table) ([]byte, error) {
	room := 2048 + len(first) // for the query
	w.buf, w.rows, w.err = append(w.buf[:0], make([]byte, room)...), 0, nil
	query := append([]byte{'Q', 0, 0, 0, 0}, first...)
	for _, t := range tables {
		start, before := len(w.buf), w.rows
		w.buf = append(append(w.buf, 'd', 0, 0, 0, 0), copyHeader...)
		t.write(w)
		if w.rows == before {
			w.buf = w.buf[:start]
			continue
		}
		w.buf = append(w.buf, copyTrailer...)
		binary.BigEndian.PutUint32(w.buf[start+1:], uint32(len(w.buf)-start-1))
		w.buf = append(w.buf, 'c', 0, 0, 0, 4)
		query = fmt.Appendf(query, "COPY %s (%s) FROM STDIN BINARY;", t.name, t.columns)
	}
	query = append(query, 0)
	binary.BigEndian.PutUint32(query[1:], uint32(len(query)-1))
	if len(query) > room {
		return nil, errors.New("copy: the query is too long")
	}
	copy(w.buf[room-len(query):], query)
	return w.buf[room-len(query):], w.err
}

var (
	copyHeader  = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	copyTrailer = []byte{0xff, 0xff}
)

// rowWriter writes rows in PostgreSQL's binary form for COPY.
type rowWriter struct {
	buf  []byte
	rows int
	err  error
}

func (w *rowWriter) row(fields int16) {
	w.rows++
	w.buf = binary.BigEndian.AppendUint16(w.buf, uint16(fields))
}

func (w *rowWriter) size(n int) { w.buf = binary.BigEndian.AppendUint32(w.buf, uint32(n)) }

func (w *rowWriter) null() { w.buf = append(w.buf, 0xff, 0xff, 0xff, 0xff) }

func (w *rowWriter) int2(v int16) {
	w.size(2)
	w.buf = binary.BigEndian.AppendUint16(w.buf, uint16(v))
}

func (w *rowWriter) int4(v int32) {
	w.size(4)
	w.buf = binary.BigEndian.AppendUint32(w.buf, uint32(v))
}

func (w *rowWriter) int8(v int64) {
	w.size(8)
	w.buf = binary.BigEndian.AppendUint64(w.buf, uint64(v))
}

func (w *rowWriter) bool(v bool) {
	w.size(1)
	if v {
		w.buf = append(w.buf, 1)
	} else {
		w.buf = append(w.buf, 0)
	}
}

func (w *rowWriter) bytes(v []byte) {
	w.size(len(v))
	w.buf = append(w.buf, v...)
}

// postgresEpoch is the zero of PostgreSQL's time stamps.
var postgresEpoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

func (w *rowWriter) time(t time.Time) { w.int8(t.Sub(postgresEpoch).Microseconds()) }

// int8s, int2s and times write arrays of one dimension.
func (w *rowWriter) int8s(v []int64) {
	w.array(20, len(v), 8)
	for _, x := range v {
		w.int8(x)
	}
}

func (w *rowWriter) int2s(v []int16) {
	w.array(21, len(v), 2)
	for _, x := range v {
		w.int2(x)
	}
}

func (w *rowWriter) times(v []time.Time) {
	w.array(1184, len(v), 8)
	for _, x := range v {
		w.time(x)
	}
}

// array begins an array of n values of a type and size.
func (w *rowWriter) array(oid uint32, n, size int) {
	if n == 0 {
		w.size(12)
		w.buf = binary.BigEndian.AppendUint64(w.buf, 0)
		w.buf = binary.BigEndian.AppendUint32(w.buf, oid)
		return
	}
	w.size(20 + n*(4+size))
	for _, x := range []uint32{1, 0, oid, uint32(n), 1} {
		w.buf = binary.BigEndian.AppendUint32(w.buf, x)
	}
}

// json writes a jsonb value, null for nil.
func (w *rowWriter) json(v map[string]any) {
	if v == nil {
		w.null()
		return
	}
	w.jsonOf(v)
}

func (w *rowWriter) jsonOf(v any) {
	text, err := json.Marshal(v)
	if err != nil {
		w.err = err
		return
	}
	text = inert.StoredJSON(text)
	w.size(len(text) + 1)
	w.buf = append(append(w.buf, 1), text...) // version 1 of jsonb's form
}

// texts writes a text[].
func (w *rowWriter) texts(v []string) {
	size := 20
	clean := make([]string, len(v))
	for i, t := range v {
		clean[i] = string(inert.Stored([]byte(t)))
		size += 4 + len(clean[i])
	}
	w.size(size)
	for _, x := range []uint32{1, 0, textOID, uint32(len(clean)), 1} {
		w.buf = binary.BigEndian.AppendUint32(w.buf, x)
	}
	for _, t := range clean {
		w.size(len(t))
		w.buf = append(w.buf, t...)
	}
}

// textOID is PostgreSQL's number of the type text.
const textOID = 25

// severity scans the rank of a severity.
type severity struct{ into *mail.Severity }

// asked reads what a sender asks, as it is kept.
type asked struct{ into *mail.Demands }

// ScanText takes its words.
func (a asked) ScanText(v pgtype.Text) (err error) {
	*a.into, err = mail.ParseAsked(v.String)
	return err
}

// ScanInt64 takes the rank.
func (s severity) ScanInt64(v pgtype.Int8) error {
	*s.into = mail.SeverityOf(int(v.Int64))
	return nil
}
