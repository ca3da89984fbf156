package store

import (
	"fmt"
	"strings"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// conditions are those of a filter on delivery d, message m and lane l. Each has
// an index that gives it in order of ids, or is looked at while going through
// them.
func conditions(f mail.Filter, args []any) (string, []any) {
	q := query{args: args}
	if f.Lane != 0 {
		q.and("d.lane = %s", int64(f.Lane))
	}
	if f.Route != "" {
		q.and("l.route = %s", f.Route)
	}
	if f.Message != 0 {
		q.and("d.message_id = %s", int64(f.Message))
	}
	if len(f.Deliveries) > 0 {
		messages, ns := split(f.Deliveries)
		fmt.Fprintf(&q,
			" AND (d.message_id, d.n) IN (SELECT * FROM unnest(%s::bigint[], %s::smallint[]))",
			q.arg(messages), q.arg(ns))
		q.and("d.message_id = ANY(%s)", messages)
	}
	if f.State != "" {
		q.and("d.state = %s", string(f.State))
	}
	if f.Domain != "" {
		q.and("d.domain = %s", strings.ToLower(f.Domain))
	}
	if !f.Before.IsZero() {
		q.and("d.message_id < %s", int64(ident.Floor(f.Before)))
	}
	if !f.Since.IsZero() {
		q.and("d.message_id >= %s", int64(ident.Floor(f.Since)))
	}
	if f.Larger > 0 {
		q.and("d.size > %s", f.Larger)
	}
	if f.Smaller > 0 {
		q.and("d.size < %s", f.Smaller)
	}
	if f.Cause != "" {
		q.and("d.cause = %s", f.Cause)
	}
	if f.Attempts > 0 {
		q.and("d.attempts >= %s", f.Attempts)
	}
	if f.Action > 0 {
		q.and("d.action = %s", f.Action)
	}
	if f.NotAction > 0 {
		q.and("d.action <> %s", f.NotAction)
	}
	if len(f.Within) > 0 {
		of := q.arg(f.Within)
		q.WriteString(
			" AND (d.domain = ANY(" + of + ") OR " + domainSQL("m.sender") + " = ANY(" + of + "))",
		)
	}
	if f.Subject != "" {
		q.and("m.subject ILIKE %s", "%"+escapeLike(f.Subject)+"%")
	}
	if f.Client != "" {
		q.and("m.client_address = %s", f.Client)
	}
	if f.Account != "" {
		q.and("lower(m.account) = %s", strings.ToLower(f.Account))
	}
	if f.After.N != 0 {
		fmt.Fprintf(&q, " AND (d.message_id, d.n) > (%s, %s)", q.arg(int64(f.After.Message)),
			q.arg(f.After.N))
	}
	q.andSender(f.Sender, f.After.Message)
	q.andAddress("d.recipient", f.Recipient)
	return q.String(), q.args
}

// andSender asks for a whole address by the index of messages, from the oldest
// that still waits, or from where a step before ended.
func (q *query) andSender(text string, after ident.ID) {
	if !wholeAddress(text) {
		q.andAddress("m.sender", text)
		return
	}
	fmt.Fprintf(
		q,
		` AND %s AND m.id >= greatest(%s, (SELECT min(message_id) FROM delivery))`,
		sameAs("lower(m.sender)", q.arg(strings.ToLower(text))),
		q.arg(int64(after)),
	)
}

// ofMessage reports whether a filter asks for something of the message.
func ofMessage(f mail.Filter) bool {
	return len(f.Within) > 0 || f.Subject != "" || f.Client != "" || f.Account != "" ||
		f.Sender != ""
}

// from is the FROM clause that the conditions of a filter need.
func from(f mail.Filter) string {
	sql := "delivery d"
	if ofMessage(f) {
		sql += " JOIN message m ON m.id = d.message_id"
	}
	if f.Route != "" {
		sql += " JOIN lane l ON l.id = d.lane"
	}
	return sql
}
