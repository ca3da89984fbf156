package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/search"
)

// Bounds of one page: a search for something rare goes on in steps that grow,
// and gives what it has when its time is up.
const (
	firstStep  = 30 * time.Minute
	stepGrowth = 4
	searchTime = 3 * time.Second
)

// narrow keeps [lower, upper) to what a query asks for, on its way from an id.
func narrow(q search.Query, lower, upper, after ident.ID) (ident.ID, ident.ID) {
	if !q.Until.IsZero() {
		upper = min(upper, ident.Floor(q.Until))
	}
	if !q.Since.IsZero() {
		lower = max(lower, ident.Floor(q.Since))
	}
	switch {
	case after == 0:
	case q.OldestFirst:
		lower = max(lower, after+1)
	default:
		upper = min(upper, after)
	}
	if id, ok := only(q); ok { // one look is enough
		lower, upper = max(lower, id), min(upper, id+1)
	}
	return lower, upper
}

// Search finds messages, and what was refused before it became one, after the id
// at which the page before ended. It counts nothing and never goes through more
// than a page needs, as far as an index knows where to look.
func (s Messages) Search(
	ctx context.Context,
	q search.Query,
	after ident.ID,
	limit int,
) (search.Page, error) {
	started := time.Now()
	lowest, err := s.oldest(ctx)
	if err != nil {
		return search.Page{}, err
	}
	lowest, upper := narrow(q, lowest, ident.Floor(started.Add(time.Hour)), after)
	page := search.Page{Items: []mail.Found{}}
	for step := firstStep; upper > lowest; step *= stepGrowth {
		from, to := max(lowest, ident.Floor(upper.Time().Add(-step))), upper
		if q.OldestFirst {
			from, to = lowest, min(upper, ident.Floor(lowest.Time().Add(step)))
		}
		found, err := s.searchBetween(ctx, q, from, to, limit-len(page.Items))
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, found...)
		if len(page.Items) >= limit {
			page.Next = page.Items[len(page.Items)-1].ID
			return page, nil
		}
		next := from
		if q.OldestFirst {
			lowest, next = to, to-1
		} else {
			upper = from
		}
		if upper > lowest && time.Since(started) > searchTime {
			page.Next, page.Back = next, next.Time()
			return page, nil
		}
	}
	return page, nil
}

// byAge compares two as a query wants them.
func byAge(q search.Query, a, b mail.Found) int {
	if q.OldestFirst {
		return cmp.Compare(a.ID, b.ID)
	}
	return cmp.Compare(b.ID, a.ID)
}

// order sorts a column of ids as a query wants them.
func order(q search.Query, column string) string {
	if q.OldestFirst {
		return " ORDER BY " + column + " LIMIT "
	}
	return " ORDER BY " + column + " DESC LIMIT "
}

// only is the id that a query asks for.
func only(q search.Query) (ident.ID, bool) {
	for _, t := range q.Terms {
		if t.Field == search.ID {
			id, err := ident.Parse(t.Value)
			return id, err == nil
		}
	}
	return 0, false
}

// oldest is an id before all that there is.
func (s Messages) oldest(ctx context.Context) (ident.ID, error) {
	var name *string
	err := s.pool.QueryRow(
		ctx,
		`SELECT min(right(c.relname, 8)) FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
			WHERE i.inhparent = 'message'::regclass`,
	).Scan(&name)
	if err != nil || name == nil {
		return 0, err
	}
	day, err := time.Parse(dayFormat, *name)
	return ident.Floor(day), err
}

// searchBetween finds what has an id in [lower, upper).
func (s Messages) searchBetween(
	ctx context.Context,
	q search.Query,
	lower, upper ident.ID,
	limit int,
) ([]mail.Found, error) {
	var found []mail.Found
	if sql, args, ok := messagesSQL(q, lower, upper, limit); ok {
		rows, err := s.pool.Query(ctx, sql, args...)
		if err != nil {
			return nil, err
		}
		list, err := pgx.CollectRows(rows, scanMessage)
		if err != nil {
			return nil, err
		}
		if err := s.addDeliveries(ctx, list); err != nil {
			return nil, err
		}
		for _, m := range list {
			found = append(found, mail.Found{Message: m})
		}
	}
	if sql, args, ok := refusalsSQL(q, lower, upper, limit); ok && !q.MessagesOnly {
		rows, err := s.pool.Query(ctx, sql, args...)
		if err != nil {
			return nil, err
		}
		list, err := pgx.CollectRows(rows, scanRefusal)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			found = append(found, mail.FoundRefusal(r))
		}
	}
	slices.SortFunc(found, func(a, b mail.Found) int { return byAge(q, a, b) })
	return found[:min(len(found), limit)], nil
}

// fresh plans a statement for its very values: what is rare and what is common
// are found in different ways.
const fresh = pgx.QueryExecModeCacheDescribe

// window bounds a column of ids.
func (q *query) window(column string, lower, upper ident.ID) string {
	return fmt.Sprintf("%s >= %d AND %s < %d", column, int64(lower), column, int64(upper))
}

// messagesSQL asks for messages; false if nothing that is one can match.
func messagesSQL(sq search.Query, lower, upper ident.ID, limit int) (string, []any, bool) {
	q := &query{}
	q.args = append(q.args, fresh)
	for _, t := range sq.Terms {
		if t.Field == search.State && t.Value == search.Refused {
			return "", nil, false
		}
		q.WriteString(" AND " + messageTerm(q, t, lower, upper))
	}
	if len(sq.Within) > 0 {
		of, in := q.param(sq.Within), q.window("d.message_id", lower, upper)
		q.WriteString(" AND (" + domainSQL("m.sender") + " = ANY(" + of + ")" +
			" OR EXISTS (SELECT FROM delivery d WHERE " + in + " AND d.message_id = m.id AND d.domain = ANY(" + of +
			")) OR EXISTS (SELECT FROM delivery_done d WHERE " + in + " AND d.message_id = m.id AND " +
			domainSQL("d.recipient") + " = ANY(" + of + ")))")
	}
	sql := `SELECT ` + messageSelect + ` FROM message m WHERE ` + q.window("m.id", lower,
		upper) + q.String() + order(sq, "m.id") + q.param(limit)
	return sql, q.args, true
}

// param is an argument of a query whose first is the way to plan it.
func (q *query) param(v any) string {
	q.args = append(q.args, v)
	return fmt.Sprintf("$%d", len(q.args)-1)
}

// domainSQL is the domain of a column of addresses, as it stands in an index.
func domainSQL(column string) string { return "split_part(lower(" + column + "), '@', -1)" }

// sameAs asks for rows whose text is parameter p by an index of its hash: half as large as
// one of the text. Rows of another text with that hash are left out again; the CASE keeps
// the planner from taking that for a second condition that most rows fail.
func sameAs(text, p string) string {
	return fmt.Sprintf("hashtextextended(%[1]s, 0) = hashtextextended(%[2]s::text, 0) "+
		"AND CASE WHEN %[1]s = %[2]s THEN true ELSE false END", text, p)
}

// messageTerm is one condition on message m.
func messageTerm(q *query, t search.Term, lower, upper ident.ID) string {
	in := func(selects ...string) string {
		return "m.id IN (" + strings.Join(selects,
			" UNION ALL ") + ")"
	}
	// Of deliveries, in the queue and finished.
	deliveries := func(waiting, done string) string {
		return in(
			"SELECT d.message_id FROM delivery d WHERE "+q.window("d.message_id", lower,
				upper)+" AND ("+waiting+")",
			"SELECT d.message_id FROM delivery_done d WHERE "+q.window("d.message_id", lower,
				upper)+" AND ("+done+")",
		)
	}
	recipient := func(v string) []string {
		a, w := q.param(v), q.window("d.message_id", lower, upper)
		meant := " AND lower(d.original) = " + a + " AND lower(d.original) <> lower(d.recipient)"
		return []string{
			"SELECT d.message_id FROM delivery d WHERE " + w + " AND lower(d.recipient) = " + a,
			"SELECT d.message_id FROM delivery d WHERE " + w + meant,
			"SELECT d.message_id FROM delivery_done d WHERE " + w + " AND " +
				sameAs("lower(d.recipient)", a),
			"SELECT d.message_id FROM delivery_done d WHERE " + w + meant,
		}
	}
	toDomain := func(v string) []string {
		a, w := q.param(v), q.window("d.message_id", lower, upper)
		meant := " AND " + domainSQL(
			"d.original",
		) + " = " + a + " AND lower(d.original) <> lower(d.recipient)"
		return []string{
			"SELECT d.message_id FROM delivery d WHERE " + w + " AND d.domain = " + a,
			"SELECT d.message_id FROM delivery d WHERE " + w + meant,
			"SELECT d.message_id FROM delivery_done d WHERE " + w + " AND " +
				sameAs(domainSQL("d.recipient"), a),
			"SELECT d.message_id FROM delivery_done d WHERE " + w + meant,
		}
	}
	sender := func(v string) string {
		return "SELECT x.id FROM message x WHERE " + q.window("x.id", lower,
			upper) + " AND " + sameAs("lower(x.sender)", q.param(v))
	}
	fromDomain := func(v string) string {
		return "SELECT x.id FROM message x WHERE " + q.window("x.id", lower,
			upper) + " AND x.sender <> '' AND " + sameAs(domainSQL("x.sender"), q.param(v))
	}
	client := func() string {
		return "SELECT x.id FROM message x WHERE " + q.window("x.id", lower,
			upper) + " AND " + q.inNetwork("x.client_address", t)
	}
	// A message's sessions begin after it: they are looked for without an end.
	sessions := func(condition string) string {
		return fmt.Sprintf(
			"SELECT unnest(s.messages) FROM session s WHERE s.id >= %d AND s.direction = 'out' "+
				"AND %s",
			int64(lower),
			condition,
		)
	}
	switch t.Field {
	case search.ID:
		return "true" // the window is the id
	case search.Header:
		trimmed := strings.Trim(t.Value, "<>")
		return "(" + sameAs("m.message_id", q.param(trimmed)) + " OR " +
			sameAs("m.message_id", q.param("<"+trimmed+">")) + ")"
	case search.Sender:
		return in(sender(t.Value))
	case search.SenderPart:
		return in(
			wordsSelect(q, t.Value, lower, upper),
		) + " AND lower(m.sender) LIKE " + q.param(part(t.Value))
	case search.SenderDomain:
		return in(fromDomain(t.Value))
	case search.Recipient:
		return in(recipient(t.Value)...)
	case search.RecipientPart:
		a := q.param(part(t.Value))
		return in(
			wordsSelect(q, t.Value, lower, upper),
		) + ` AND (EXISTS (SELECT FROM delivery d WHERE d.message_id = m.id
			AND (lower(d.recipient) LIKE ` + a + ` OR lower(d.original) LIKE ` + a + `))
			OR EXISTS (SELECT FROM delivery_done d WHERE d.message_id = m.id
				AND (lower(d.recipient) LIKE ` + a + ` OR lower(d.original) LIKE ` + a + `)))`
	case search.RecipientDomain:
		return in(toDomain(t.Value)...)
	case search.Address:
		return in(append(recipient(t.Value), sender(t.Value))...)
	case search.Domain:
		return in(
			append(toDomain(t.Value), fromDomain(t.Value),
				sessions("lower(s.name) = "+q.param(t.Value)))...)
	case search.Dotted:
		return in(
			append(toDomain(t.Value), fromDomain(t.Value),
				sessions("lower(s.name) = "+q.param(t.Value)),
				wordsSelect(q, t.Value, lower, upper))...)
	case search.Host:
		return in(sessions("lower(s.name) = " + q.param(t.Value)))
	case search.Client:
		return in(client())
	case search.IP:
		return in(client(), sessions(q.inNetwork("s.address", t)))
	case search.Text:
		return in(wordsSelect(q, t.Value, lower, upper))
	case search.Subject:
		return in(
			wordsSelect(q, t.Value, lower, upper),
		) + " AND lower(m.subject) LIKE " + q.param(part(t.Value))
	case search.Listener:
		return "m.listener = " + q.param(t.Value)
	case search.Account:
		return "lower(m.account) = " + q.param(t.Value)
	case search.State:
		v := t.Value
		if v == string(mail.Sending) { // the queue's word for it
			v = string(mail.Waiting)
		}
		a := q.param(v)
		if v == string(mail.Delivered) {
			return deliveries("false", "d.state = "+a)
		}
		return deliveries("d.state = "+a, "d.state <> 'delivered' AND d.state = "+a)
	case search.Cause:
		a := q.param(t.Value)
		return deliveries("d.cause = "+a, "d.cause <> '' AND d.cause = "+a)
	case search.Gate:
		return in("SELECT x.id FROM message x WHERE " + q.window("x.id", lower, upper) +
			" AND x.gates IS NOT NULL AND x.gates @> ARRAY[" + q.param(t.Value) + "::text]")
	case search.Severity:
		return in("SELECT x.id FROM message x WHERE " + q.window("x.id", lower, upper) +
			" AND x.severity > 0 AND x.severity >= " + q.param(mail.Severity(t.Value).Rank()))
	case search.Score:
		return in("SELECT x.id FROM message x WHERE " + q.window("x.id", lower, upper) +
			" AND x.score > 0 AND x.score >= " + q.param(t.Value) + "::smallint")
	case search.Route:
		a := "d.lane IN (SELECT id FROM lane WHERE route = " + q.param(t.Value) + ")"
		return deliveries(a, a)
	}
	return "false"
}

// inNetwork asks for a column of addresses by its index: one address, or a network.
func (q *query) inNetwork(column string, t search.Term) string {
	if t.Network.IsSingleIP() {
		return column + " <> '' AND nullif(" + column + ", '')::inet = " + q.param(
			t.Network.Addr().String(),
		) + "::text::inet"
	}
	return column + " <> '' AND nullif(" + column + ", '')::inet <<= " + q.param(
		t.Value,
	) + "::text::inet"
}

// part is a pattern for a part of a text.
func part(v string) string { return "%" + escapeLike(v) + "%" }

// wordsSelect looks for a part among the words of messages and refusals.
func wordsSelect(q *query, v string, lower, upper ident.ID) string {
	return "SELECT t.id FROM find_text t WHERE " + q.window("t.id", lower, upper) +
		" AND t.words LIKE " + q.param(part(v))
}

// refusalsSQL asks for refusals; false if none can match.
func refusalsSQL(sq search.Query, lower, upper ident.ID, limit int) (string, []any, bool) {
	q := &query{}
	q.args = append(q.args, fresh)
	for _, t := range sq.Terms {
		condition := refusalTerm(q, t, lower, upper)
		if condition == "" {
			return "", nil, false
		}
		q.WriteString(" AND " + condition)
	}
	if len(sq.Within) > 0 {
		of := q.param(sq.Within)
		q.WriteString(
			" AND (" + domainSQL("r.sender") + " = ANY(" + of + ") OR " + domainSQL("r.recipient") +
				" = ANY(" + of + "))",
		)
	}
	return `SELECT ` + refusalColumns + ` FROM refusal r WHERE ` + q.window("r.id", lower,
		upper) + q.String() + order(sq, "r.id") + q.param(limit), q.args, true
}

func refusalTerm(q *query, t search.Term, lower, upper ident.ID) string {
	in := func(selects ...string) string {
		return "r.id IN (" + strings.Join(selects,
			" UNION ALL ") + ")"
	}
	by := func(column string, v any) string {
		return "SELECT x.id FROM refusal x WHERE " + q.window("x.id", lower,
			upper) + " AND " + column + " = " + q.param(v)
	}
	words := func() string { return in(wordsSelect(q, t.Value, lower, upper)) }
	switch t.Field {
	case search.ID:
		return "true"
	case search.Header:
		trimmed := strings.Trim(t.Value, "<>")
		return "r.message_id IN (" + q.param(trimmed) + ", " + q.param("<"+trimmed+">") + ")"
	case search.Sender:
		return in(
			by("lower(x.sender)", t.Value),
		) + " AND r.stage IN ('sender', 'recipient', 'content')"
	case search.SenderPart:
		return words() + " AND lower(r.sender) LIKE " + q.param(part(t.Value))
	case search.SenderDomain:
		return in(by(domainSQL("x.sender"), t.Value))
	case search.Recipient:
		return in(by("lower(x.recipient)", t.Value))
	case search.RecipientPart:
		return words() + " AND lower(r.recipient) LIKE " + q.param(part(t.Value))
	case search.RecipientDomain:
		return in(by(domainSQL("x.recipient"), t.Value))
	case search.Address:
		return in(by("lower(x.sender)", t.Value), by("lower(x.recipient)", t.Value))
	case search.Domain:
		return in(by(domainSQL("x.sender"), t.Value), by(domainSQL("x.recipient"), t.Value))
	case search.Dotted:
		return in(by(domainSQL("x.sender"), t.Value), by(domainSQL("x.recipient"), t.Value),
			wordsSelect(q, t.Value, lower, upper))
	case search.Client, search.IP:
		return q.inNetwork("r.client_address", t)
	case search.Text:
		return words()
	case search.Subject:
		return words() + " AND lower(r.subject) LIKE " + q.param(part(t.Value))
	case search.Listener:
		return "r.listener = " + q.param(t.Value)
	case search.Account:
		return "lower(r.account) = " + q.param(t.Value)
	case search.State:
		if t.Value == search.Refused {
			return "true"
		}
	case search.Cause:
		return "r.cause = " + q.param(t.Value)
	case search.Gate:
		return "r.gate <> '' AND r.gate = " + q.param(t.Value)
	case search.Severity:
		return "r.severity > 0 AND r.severity >= " + q.param(mail.Severity(t.Value).Rank())
	}
	return ""
}
