package store

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
)

// Seeking is searching folders.
type Seeking struct{ *DB }

// Search finds the messages of a folder, in the order of their numbers. A search by text
// needs the words of its messages: see Wordless.
func (s Seeking) Search(ctx context.Context, id int64, what *folder.Search) ([]uint32, error) {
	var q query
	q.WriteString(`SELECT m.uid FROM mailbox_message m`)
	if what.ByText() {
		q.WriteString(` LEFT JOIN content_text t ON t.content = coalesce(m.content, m.id)`)
	}
	q.WriteString(` WHERE m.folder = ` + q.arg(id) + ` AND `)
	q.searched(what)
	q.WriteString(` ORDER BY m.uid`)
	rows, err := s.pool.Query(ctx, q.String(), q.args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []uint32
	for rows.Next() {
		var uid int64
		if err := rows.Scan(&uid); err != nil {
			return nil, err
		}
		out = append(out, uint32(uid))
	}
	return out, rows.Err()
}

// searched adds what must hold, in brackets.
func (q *query) searched(s *folder.Search) {
	var all []string
	add := func(condition string) { all = append(all, condition) }
	for _, r := range s.UIDs {
		low, high := bounds(r)
		add(`EXISTS (SELECT FROM unnest(` + q.arg(low) + `::bigint[], ` + q.arg(high) +
			`::bigint[]) AS r(low, high) WHERE m.uid BETWEEN r.low AND r.high)`)
	}
	if s.With != 0 {
		f := q.arg(int(s.With))
		add(`m.flags & ` + f + ` = ` + f)
	}
	if s.Without != 0 {
		add(`m.flags & ` + q.arg(int(s.Without)) + ` = 0`)
	}
	if len(s.Keywords) > 0 {
		add(`m.keywords @> ` + q.arg(s.Keywords))
	}
	if len(s.NotKeywords) > 0 {
		add(`NOT m.keywords && ` + q.arg(s.NotKeywords))
	}
	day := func(t time.Time) string { return q.arg(t.Format("2006-01-02")) + `::date` }
	arrived := `(m.received_at AT TIME ZONE 'UTC')::date`
	if !s.Since.IsZero() {
		add(arrived + ` >= ` + day(s.Since))
	}
	if !s.Before.IsZero() {
		add(arrived + ` < ` + day(s.Before))
	}
	if !s.SentSince.IsZero() {
		add(`coalesce(t.sent_on >= ` + day(s.SentSince) + `, false)`)
	}
	if !s.SentBefore.IsZero() {
		add(`coalesce(t.sent_on < ` + day(s.SentBefore) + `, false)`)
	}
	if s.Larger > 0 {
		add(`m.size > ` + q.arg(s.Larger))
	}
	if s.Smaller > 0 {
		add(`m.size < ` + q.arg(s.Smaller))
	}
	holds := func(column, text string) string {
		if text == "" {
			return `true`
		}
		return `coalesce(strpos(t.` + column + `, ` + q.arg(strings.ToLower(text)) + `) > 0, false)`
	}
	for _, f := range s.Fields {
		add(q.field(f, holds))
	}
	for _, text := range s.Body {
		add(holds("body", text))
	}
	for _, text := range s.Text {
		add(`(` + holds("body", text) + ` OR ` + holds("header", text) + `)`)
	}
	for i := range s.Not {
		add(`NOT ` + q.within(&s.Not[i]))
	}
	for i := range s.Or {
		add(`(` + q.within(&s.Or[i][0]) + ` OR ` + q.within(&s.Or[i][1]) + `)`)
	}
	if len(all) == 0 {
		all = []string{`true`}
	}
	q.WriteString(strings.Join(all, ` AND `))
}

// within is the condition of a search within another.
func (q *query) within(s *folder.Search) string {
	inner := query{args: q.args}
	inner.searched(s)
	q.args = inner.args
	return `(` + inner.String() + `)`
}

var ownColumns = map[string]string{"from": "from_", "to": "to_", "cc": "cc"}

// field asks for a header field; the subject is in the folder, three have columns of their own.
func (q *query) field(f folder.Field, holds func(column, text string) string) string {
	if f.Listed() {
		return `strpos(lower(m.subject), ` + q.arg(strings.ToLower(f.Value)) + `) > 0`
	}
	name := strings.ToLower(f.Name)
	if column := ownColumns[name]; column != "" && f.Value != "" {
		return holds(column, f.Value)
	}
	return `coalesce(t.header ~ ` + q.arg(`(?n)^`+regexp.QuoteMeta(name)+`:.*`+
		regexp.QuoteMeta(strings.ToLower(f.Value))) + `, false)`
}

// Wordless are messages of a folder whose words are not kept yet, and up to which number the
// folder is done with them.
func (s Seeking) Wordless(
	ctx context.Context,
	id int64,
	limit int,
) (contents []ident.ID, upTo uint32, err error) {
	rows, err := s.pool.Query(ctx, `SELECT m.uid, coalesce(m.content, m.id),
			EXISTS (SELECT FROM content_text t WHERE t.content = coalesce(m.content, m.id))
		FROM mailbox_message m WHERE folder = $1 AND uid > (SELECT words_to FROM folder WHERE id = $1)
		ORDER BY uid LIMIT $2`, id, limit)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var uid, content int64
		var has bool
		if err := rows.Scan(&uid, &content, &has); err != nil {
			return nil, 0, err
		}
		if !has {
			contents = append(contents, ident.ID(content))
		}
		upTo = uint32(uid)
	}
	return contents, upTo, rows.Err()
}

// KeepWords keeps the words of messages, and notes up to which number a folder has them.
func (s Seeking) KeepWords(
	ctx context.Context,
	id int64,
	upTo uint32,
	words map[ident.ID]folder.Words,
) error {
	n := len(words)
	ids := make([]int64, 0, n)
	var froms, tos, ccs, headers, bodies []string
	var sent []*time.Time
	var cut []bool
	for _, content := range slices.Sorted(maps.Keys(words)) { // two who write wait in order
		w := words[content]
		ids = append(ids, int64(content))
		froms, tos, ccs = append(froms, w.From), append(tos, w.To), append(ccs, w.Cc)
		headers, bodies = append(headers, w.Header), append(bodies, w.Body)
		var day *time.Time
		if !w.Sent.IsZero() {
			day = &w.Sent
		}
		sent, cut = append(sent, day), append(cut, w.Cut)
	}
	b := &pgx.Batch{}
	if n > 0 {
		b.Queue(`INSERT INTO content_text (content, from_, to_, cc, header, body, sent_on, cut)
			SELECT * FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[],
				$6::text[], $7::date[], $8::bool[]) ON CONFLICT DO NOTHING`, ids, froms, tos, ccs, headers,
			bodies, sent, cut)
	}
	b.Queue(`UPDATE folder SET words_to = $2 WHERE id = $1 AND words_to < $2`, id, int64(upTo))
	return s.pool.SendBatch(ctx, b).Close()
}

// Behind are folders that have messages without words, the first of them.
func (s Seeking) Behind(ctx context.Context, limit int) ([]int64, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id FROM folder WHERE opened AND words_to < uid_next - 1 AND messages > 0
		ORDER BY id LIMIT $1`,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}
