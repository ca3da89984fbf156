package store

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Words are what messages and refusals are found by a part of (table find_text). They are
// written with what they belong to. A day's words are looked through as they lie until the
// day is over; then they are indexed once, in bulk: adding the trigrams of each message to
// an index cost a sixth of all that the database wrote for it.
type Words struct{ *DB }

// maxWords bounds the words of a message, in characters.
const maxWords = 4000

// wordsOf are the words of a message to those addresses.
func wordsOf(m *mail.Message, addresses iter.Seq[string]) string {
	var w words
	w.add(m.HeaderFrom, m.Subject, m.MessageID, m.Sender)
	for a := range addresses {
		w.add(a)
	}
	return w.text()
}

// words are put together of texts: one that is a part of another is found with it.
type words struct {
	strings.Builder
	n int // characters
}

func (w *words) add(texts ...string) {
	for _, t := range texts {
		t = strings.ToLower(t)
		if w.n >= maxWords || strings.Contains(w.String(), t) {
			continue
		}
		if w.Len() > 0 {
			w.WriteByte('\n')
		}
		w.WriteString(t)
		w.n += utf8.RuneCountInString(t) + 1
	}
}

func (w *words) text() string {
	if w.n <= maxWords {
		return w.String()
	}
	list := []rune(w.String())
	return string(list[:min(maxWords, len(list))])
}

// recipientsOf are the addresses of an entry's deliveries, the finished ones of a past that
// is loaded among them.
func recipientsOf(e *Entry) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, d := range e.Deliveries {
			if !yield(d.Recipient) || !yield(d.Original) {
				return
			}
		}
		for i := range e.Message.Deliveries {
			d := &e.Message.Deliveries[i]
			if !yield(d.Recipient) || !yield(d.Original) {
				return
			}
		}
	}
}

func writeWords(w *rowWriter, id ident.ID, words string) {
	w.row(2)
	w.int8(int64(id))
	w.text(words)
}

// wordsOfEntries are the words of messages that are entered.
func wordsOfEntries(entries []*Entry) table {
	return table{"find_text", "id, words", func(w *rowWriter) {
		for _, e := range entries {
			writeWords(w, e.Message.ID, wordsOf(e.Message, recipientsOf(e)))
		}
	}}
}

// wordsOfRefusals are the words of what was refused.
func wordsOfRefusals(refusals []mail.Refusal) table {
	return table{"find_text", "id, words", func(w *rowWriter) {
		for i := range refusals {
			r := &refusals[i]
			var words words
			words.add(r.HeaderFrom, r.Subject, r.MessageID, r.Sender, r.Recipient)
			writeWords(w, r.ID, words.text())
		}
	}}
}

// closedAfter is how long after its end a day is taken for over: what is recorded of it
// later is found as well, through its index.
const closedAfter = time.Hour

// IndexClosed makes the index of each day that is over and has none, the latest first.
// Mail and searches go on meanwhile. One node at a time does it.
func (s Words) IndexClosed(ctx context.Context, now time.Time) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var mine bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtext('gull words'))`).
		Scan(&mine); err != nil ||
		!mine {
		return err
	}
	defer func() {
		ctx, cancel := limited(context.WithoutCancel(ctx))
		defer cancel()
		_, _ = conn.Exec(ctx, `SELECT pg_advisory_unlock(hashtext('gull words'))`)
	}()
	rows, err := conn.Query(ctx, `SELECT p.relname::text, coalesce(x.relname::text, '')
		FROM pg_inherits h JOIN pg_class p ON p.oid = h.inhrelid
		LEFT JOIN LATERAL (SELECT c.relname, i.indisvalid FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
			WHERE i.indrelid = p.oid AND c.relname = p.relname || '_words') x ON true
		WHERE h.inhparent = 'find_text'::regclass AND right(p.relname, 8) < $1 AND x.indisvalid IS NOT TRUE
		ORDER BY p.relname DESC`, now.Add(-closedAfter).UTC().Format(dayFormat))
	if err != nil {
		return err
	}
	type day struct{ Name, Broken string }
	days, err := pgx.CollectRows(rows, pgx.RowToStructByPos[day])
	for _, d := range days {
		if d.Broken != "" { // its making was stopped
			if _, e := conn.Exec(ctx, `DROP INDEX `+pgx.Identifier{d.Broken}.Sanitize()); e != nil {
				err = errors.Join(err, e)
				continue
			}
		}
		if _, e := conn.Exec(
			ctx,
			`CREATE INDEX CONCURRENTLY `+pgx.Identifier{d.Name + "_words"}.Sanitize()+
				` ON `+pgx.Identifier{d.Name}.Sanitize()+` USING gin (words gin_trgm_ops)`,
		); e != nil {
			err = errors.Join(err, fmt.Errorf("the words of %s are not indexed: %w", d.Name, e))
		}
	}
	return err
}
