package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Sessions are sessions with their transcripts, and refusals.
type Sessions struct{ *DB }

// Transcripts compress well, and are small: one coder serves all.
var (
	pack, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10))
	unpack, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderMaxMemory(16<<20))
	// Blocks of archives are larger.
	unpackBlock, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2),
		zstd.WithDecoderMaxMemory(64<<20))
)

const sessionColumns = `id, node, direction, protocol, place, address, port, name, account, tls,
	started_at, ended_at, message_count, recipients, refused, bytes_in, bytes_out, outcome, ended,
		messages, transcript_kept`

const refusalColumns = `id, at, session_id, node, listener, client_address, helo, account, sender,
	recipient, stage, code, enhanced, text, cause, rule, revision, size, subject, header_from,
		message_id, gate, severity`

// Record keeps sessions with their transcript, and refusals.
func (s Sessions) Record(
	ctx context.Context,
	sessions []mail.SessionRecord,
	refusals []mail.Refusal,
) error {
	refused := keys{kind: countRefused}
	for _, r := range refusals {
		if !r.Probe {
			refused.ids = append(refused.ids, int64(r.ID))
		}
	}
	return data(s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		return copyIn(ctx, tx.Conn().PgConn(), "",
			append(recordTables(sessions, refusals), (&increments{keys: []keys{refused}}).table()))
	}))
}

func recordTables(sessions []mail.SessionRecord, refusals []mail.Refusal) []table {
	return []table{
		{"session", sessionColumns, func(w *rowWriter) {
			for i := range sessions {
				writeSession(w, &sessions[i].Session)
			}
		}},
		{"transcript", "session_id, data", func(w *rowWriter) {
			for i := range sessions {
				if t := sessions[i].Transcript; t != nil {
					w.row(2)
					w.int8(int64(sessions[i].ID))
					w.bytes(pack.EncodeAll(t, make([]byte, 0, len(t)/2)))
				}
			}
		}},
		{"refusal", refusalColumns, func(w *rowWriter) {
			for i := range refusals {
				writeRefusal(w, &refusals[i])
			}
		}},
		wordsOfRefusals(refusals),
	}
}

func writeSession(w *rowWriter, s *mail.Session) {
	w.row(21)
	w.int8(int64(s.ID))
	w.text(s.Node)
	w.text(s.Direction)
	w.text(s.Protocol)
	w.text(s.Listener + s.Route) // it has one of them
	w.text(s.Address)
	w.int4(int32(s.Port))
	w.text(s.Name)
	w.text(s.Account)
	w.text(s.TLS)
	w.time(s.StartedAt)
	w.time(s.EndedAt.Time)
	w.int4(int32(s.MessageCount))
	w.int4(int32(s.Recipients))
	w.int4(int32(s.Refused))
	w.int8(s.BytesIn)
	w.int8(s.BytesOut)
	w.text(s.Outcome)
	w.text(s.Ended)
	messages := make([]int64, len(s.Messages))
	for i, id := range s.Messages {
		messages[i] = int64(id)
	}
	w.int8s(messages)
	w.bool(s.TranscriptKept)
}

func writeRefusal(w *rowWriter, r *mail.Refusal) {
	w.row(23)
	w.int8(int64(r.ID))
	w.time(r.At)
	w.int8(int64(r.SessionID))
	for _, text := range []string{r.Node, r.Listener, r.ClientAddress, r.Helo, r.Account, r.Sender,
		r.Recipient, string(r.Stage)} {
		w.text(text)
	}
	w.int4(int32(r.Code))
	for _, text := range []string{r.Enhanced, r.Text, string(r.Cause), r.Rule} {
		w.text(text)
	}
	w.int4(int32(r.Revision))
	w.int8(r.Size)
	for _, text := range []string{r.Subject, r.HeaderFrom, r.MessageID, r.Gate} {
		w.text(text)
	}
	w.int2(int16(r.Severity.Rank()))
}

func scanSession(row pgx.CollectableRow) (mail.Session, error) {
	var s mail.Session
	var place string
	err := row.Scan(&s.ID, &s.Node, &s.Direction, &s.Protocol, &place, &s.Address, &s.Port, &s.Name,
		&s.Account, &s.TLS, &s.StartedAt, optTime{&s.EndedAt}, &s.MessageCount, &s.Recipients,
		&s.Refused, &s.BytesIn, &s.BytesOut, &s.Outcome, &s.Ended, &s.Messages, &s.TranscriptKept)
	if s.Listener = place; s.Direction == mail.Out {
		s.Listener, s.Route = "", place
	}
	s.StartedAt = s.StartedAt.UTC()
	s.Seconds = s.EndedAt.Sub(s.StartedAt).Seconds()
	return s, err
}

func scanRefusal(row pgx.CollectableRow) (mail.Refusal, error) {
	var r mail.Refusal
	var stage, cause string
	err := row.Scan(&r.ID, &r.At, &r.SessionID, &r.Node, &r.Listener, &r.ClientAddress, &r.Helo,
		&r.Account, &r.Sender, &r.Recipient, &stage, &r.Code, &r.Enhanced, &r.Text, &cause, &r.Rule,
		&r.Revision, &r.Size, &r.Subject, &r.HeaderFrom, &r.MessageID, &r.Gate,
		severity{&r.Severity})
	r.Stage, r.Cause, r.At = diagnose.Stage(stage), diagnose.Cause(cause), r.At.UTC()
	return r, err
}

// Session reads a session with its transcript, as far as it is kept.
func (s Sessions) Session(ctx context.Context, id ident.ID) (mail.SessionRecord, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+sessionColumns+` FROM session WHERE id = $1`,
		int64(id))
	if err != nil {
		return mail.SessionRecord{}, err
	}
	one, err := pgx.CollectExactlyOneRow(rows, scanSession)
	if err != nil {
		return mail.SessionRecord{}, found(err)
	}
	rec := mail.SessionRecord{Session: one}
	var data []byte
	err = found(
		s.pool.QueryRow(ctx, `SELECT data FROM transcript WHERE session_id = $1`,
			int64(id)).Scan(&data),
	)
	if err == ErrNotFound {
		return rec, nil
	}
	if err == nil {
		rec.Transcript, err = unpack.DecodeAll(data, nil)
	}
	return rec, err
}

// SessionsByID reads sessions without their transcripts.
func (s Sessions) SessionsByID(ctx context.Context, ids []ident.ID) ([]mail.Session, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	rows, err := s.pool.Query(ctx,
		`SELECT `+sessionColumns+` FROM session WHERE id = ANY($1) ORDER BY id`, int64s(ids))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSession)
}

// RefusalsOf are the refusals of a session, in order.
func (s Sessions) RefusalsOf(
	ctx context.Context,
	session ident.ID,
	address string,
	ended time.Time,
) ([]mail.Refusal, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+refusalColumns+` FROM refusal WHERE session_id = $1 AND id >= $1 AND id < $2
			AND client_address <> '' AND nullif(client_address, '')::inet = $3::text::inet
				ORDER BY id LIMIT 200`,
		int64(session),
		int64(ident.Floor(ended.Add(time.Minute))),
		address,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRefusal)
}

// Refusal reads one refusal.
func (s Sessions) Refusal(ctx context.Context, id ident.ID) (mail.Refusal, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+refusalColumns+` FROM refusal WHERE id = $1`,
		int64(id))
	if err != nil {
		return mail.Refusal{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, scanRefusal)
	return r, found(err)
}

// sortedAtMost bounds how many sessions are looked at to order them by something
// else than time.
const sortedAtMost = 50_000

// ListSessions lists sessions that have ended, newest first, or by what is asked
// among the newest that match.
func (s Sessions) ListSessions(ctx context.Context, f mail.SessionFilter) ([]mail.Session, error) {
	q := query{}
	for _, c := range []struct{ column, value string }{{"direction", f.Direction}, {"protocol",
		f.Protocol}} {
		if c.value != "" {
			q.and(c.column+" = %s", c.value)
		}
	}
	switch f.Outcome {
	case "":
	case "trouble":
		q.WriteString(" AND outcome NOT IN ('passed', 'idle')")
	default:
		q.and("outcome = %s", f.Outcome)
	}
	switch {
	case f.Listener != "":
		fmt.Fprintf(&q, " AND direction = 'in' AND place = %s", q.arg(f.Listener))
	case f.Route != "":
		fmt.Fprintf(&q, " AND direction = 'out' AND place = %s", q.arg(f.Route))
	}
	if f.Address != "" {
		q.and("nullif(address, '')::inet <<= %s::text::inet AND address <> ''", f.Address)
	}
	if f.Name != "" {
		q.and("lower(name) LIKE %s", "%"+escapeLike(strings.ToLower(f.Name))+"%")
	}
	if f.Account != "" {
		q.and("lower(account) = %s", strings.ToLower(f.Account))
	}
	if !f.Since.IsZero() {
		q.and("id >= %s", int64(ident.Floor(f.Since)))
	}
	if !f.Until.IsZero() {
		q.and("id < %s", int64(ident.Floor(f.Until)))
	}
	if f.Longer > 0 {
		q.and("ended_at - started_at >= %s::interval", f.Longer)
	}
	if f.Before != 0 {
		q.and("id < %s", int64(f.Before))
	}
	sql := `SELECT ` + sessionColumns + ` FROM session WHERE true` + q.String() +
		` ORDER BY id DESC LIMIT `
	order := map[string]string{"duration": "ended_at - started_at", "bytes": "bytes_in + bytes_out",
		"messages": "message_count"}[f.Sort]
	if order == "" {
		sql += q.arg(f.Limit)
	} else {
		sql = `SELECT * FROM (` + sql + q.arg(
			sortedAtMost,
		) + `) x ORDER BY ` + order + ` DESC, id DESC LIMIT ` + q.arg(f.Limit)
	}
	rows, err := s.pool.Query(ctx, sql, q.args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanSession)
}

// Watches are those that are not over.
func (s Sessions) Watches(ctx context.Context) ([]mail.Watch, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT kind, what, who, until FROM watch WHERE until > now() ORDER BY until DESC`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Watch, error) {
		var w mail.Watch
		err := row.Scan(&w.Kind, &w.What, &w.Who, &w.Until)
		w.Until = w.Until.UTC()
		return w, err
	})
}

// SetWatch begins, lengthens or (with a time that is over) ends a watch, and
// tells all nodes.
func (s Sessions) SetWatch(ctx context.Context, w mail.Watch) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `DELETE FROM watch WHERE until < now()`); err != nil {
			return err
		}
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO watch (kind, what, who, until) VALUES ($1, $2, $3, $4) ON CONFLICT (kind,
				what) DO UPDATE SET who = excluded.who, until = excluded.until`,
			w.Kind,
			w.What,
			w.Who,
			w.Until,
		); err != nil {
			return err
		}
		return notify(ctx, tx, "watch", nil)
	})
}
