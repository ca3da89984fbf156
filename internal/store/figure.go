package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// longestLife is how long before its end a message may have come in.
const longestLife = 60 * 24 * time.Hour

// Figure lists the things behind a figure, newest messages first, and where to go
// on.
func (s Counts) Figure(ctx context.Context, f report.Question) ([]report.Behind, string, error) {
	from, to := report.Hours(f.From, f.To)
	q := &query{}
	q.args = append(q.args, fresh)
	var sql string
	low, high := int64(ident.Floor(from.Add(-longestLife))), int64(ident.Floor(to))
	if low < 0 {
		low = 0
	}
	period := func(column string) string {
		return column + " >= " + q.param(from) + " AND " + column + " < " + q.param(to)
	}
	switch f.Kind {
	case "received":
		low = int64(ident.Floor(from))
		cond := messageFigure(q, f)
		if f.Dim == "recipient" || f.Dim == "recipient_domain" {
			col := map[string]string{"recipient": "lower(d.original)",
				"recipient_domain": domainSQL("d.original")}[f.Dim] + " = " + q.param(
				f.Value,
			)
			cond = "(EXISTS (SELECT FROM delivery d WHERE d.message_id = m.id AND " + col +
				") OR EXISTS (SELECT FROM delivery_done d WHERE d.message_id = m.id AND " + col +
				"))"
		}
		sql = `SELECT m.received_at, m.id, 0::smallint, 0::bigint, m.session_id, m.sender,
				coalesce((SELECT min(original) FROM delivery_done d WHERE d.message_id = m.id),
					(SELECT min(original) FROM delivery d WHERE d.message_id = m.id), ''),
						m.subject, m.size, '', ''
			FROM message m WHERE m.id >= ` + q.param(low) + ` AND m.id < ` + q.param(high+1) + `
				AND ` + period("m.received_at") + ` AND ` + cond
	case "rejected":
		low = int64(ident.Floor(from.Add(-time.Minute)))
		sql = `SELECT m.at, 0::bigint, 0::smallint, m.id, m.session_id, m.sender, m.recipient,
			m.subject, m.size, m.code || ' ' || m.enhanced || ' ' || m.text, m.cause
			FROM refusal m WHERE m.id >= ` + q.param(
			low,
		) + ` AND m.id < ` + q.param(
			int64(ident.Floor(to.Add(time.Minute))),
		) + ` AND ` + period("m.at") + ` AND ` + refusalFigure(q, f)
	case "deferred":
		sql = `SELECT e.at, m.id, e.n, 0::bigint, 0::bigint, m.sender, d.recipient, m.subject,
			m.size, e.text, coalesce(d.cause, '')
			FROM event e JOIN message m ON m.id = e.message_id
			CROSS JOIN LATERAL (SELECT coalesce(e.detail->>'recipient', (SELECT recipient
				FROM delivery WHERE message_id = e.message_id AND n = e.n), (SELECT recipient
					FROM delivery_done WHERE message_id = e.message_id AND n = e.n)) AS recipient,
				e.detail->'reply' AS reply, e.detail->>'route' AS route,
					e.detail->>'cause' AS cause) d
			WHERE e.kind = 'deferred' AND e.message_id >= ` + q.param(
			low,
		) + ` AND e.message_id < ` + q.param(
			high,
		) + ` AND ` + period("e.at") + ` AND ` + deliveryFigure(q, f, "d.route")
	default:
		var state string
		switch f.Kind {
		case "delivered":
			state = "d.state = 'delivered' AND NOT (" + forwardedSQL + ")"
		case "forwarded":
			state = "d.state = 'delivered' AND " + forwardedSQL
		default:
			state = "d.state <> 'delivered' AND d.state = " + q.param(f.Kind)
		}
		sql = `SELECT d.finished_at, m.id, d.n, 0::bigint, 0::bigint, m.sender, d.recipient,
			m.subject, m.size, CASE WHEN d.reply->>'stage' = 'mailbox' AND NOT d.reply ? 'code'
				THEN ` + briefSQL + ` ELSE concat_ws(' ', nullif(d.reply->>'code', '0'),
					d.reply->>'enhanced', d.reply->>'text') END, d.cause
			FROM delivery_done d JOIN message m ON m.id = d.message_id JOIN lane l ON l.id = d.lane
			WHERE d.message_id >= ` + q.param(
			low,
		) + ` AND d.message_id < ` + q.param(
			high,
		) + ` AND ` + state + ` AND ` + period(
			"d.finished_at",
		) + ` AND ` + deliveryFigure(q, f, "l.route")
	}
	var offset int
	if f.After != "" {
		if _, err := fmt.Sscanf(f.After, "%d", &offset); err != nil || offset < 0 {
			return nil, "", fmt.Errorf("after: %q is no place in this list", f.After)
		}
	}
	sql += ` ORDER BY 2 DESC, 4 DESC, 3, 1 LIMIT ` + q.param(
		f.Limit+1,
	) + ` OFFSET ` + q.param(offset)
	rows, err := s.pool.Query(ctx, sql, q.args...)
	if err != nil {
		return nil, "", err
	}
	items, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (report.Behind, error) {
		x := report.Behind{Kind: f.Kind}
		var message, refusal, session ident.ID
		var n int16
		var cause string
		err := row.Scan(&x.At, &message, &n, &refusal, &session, &x.Sender, &x.Recipient,
			&x.Subject, &x.Size, &x.Text, &cause)
		x.At, x.Cause = x.At.UTC(), diagnose.Cause(cause)
		if message != 0 {
			x.MessageID = message.String()
			if n > 0 {
				x.Delivery = mail.DeliveryID{Message: message, N: n}.String()
			}
		}
		if refusal != 0 {
			x.RefusalID = refusal.String()
		}
		if session != 0 {
			x.SessionID = session.String()
		}
		return x, err
	})
	next := ""
	if len(items) > f.Limit {
		items, next = items[:f.Limit], fmt.Sprint(offset+f.Limit)
	}
	return items, next, err
}

// messageFigure is the condition of a dimension on message m.
func messageFigure(q *query, f report.Question) string {
	switch f.Dim {
	case "total":
		return "true"
	case "direction":
		return "m.direction = " + q.param(f.Value)
	case "sender":
		if f.Value == "<>" {
			return "m.sender = ''"
		}
		return sameAs("lower(m.sender)", q.param(f.Value))
	case "sender_domain":
		if f.Value == "<>" {
			return "m.sender = ''"
		}
		return "m.sender <> '' AND " + sameAs(domainSQL("m.sender"), q.param(f.Value))
	case "client":
		return "m.client_address <> '' AND nullif(m.client_address, '')::inet = " + q.param(
			f.Value,
		) + "::text::inet"
	case "listener":
		return "m.listener = " + q.param(f.Value)
	case "account":
		return "lower(m.account) = " + q.param(f.Value)
	case "gate":
		return "m.gates IS NOT NULL AND m.gates @> ARRAY[" + q.param(f.Value) + "::text]"
	}
	return "false"
}

// deliveryFigure is the condition of a dimension on delivery d of message m.
func deliveryFigure(q *query, f report.Question, route string) string {
	switch f.Dim {
	case "recipient":
		return sameAs("lower(d.recipient)", q.param(f.Value))
	case "recipient_domain":
		return sameAs(domainSQL("d.recipient"), q.param(f.Value))
	case "host":
		return "d.reply->>'stage' NOT IN ('mailbox', 'route') AND d.reply->>'host' = " + q.param(
			f.Value,
		)
	case "route":
		return route + " = " + q.param(f.Value)
	case "cause":
		return "d.cause = " + q.param(f.Value)
	}
	return messageFigure(q, f)
}

func refusalFigure(q *query, f report.Question) string {
	switch f.Dim {
	case "direction":
		return q.param(f.Value) + "::text = 'in'"
	case "sender", "sender_domain":
		if f.Value == "<>" {
			return "m.sender = '' AND m.stage IN ('sender', 'recipient', 'content')"
		}
	case "recipient":
		return "lower(m.recipient) = " + q.param(f.Value)
	case "recipient_domain":
		return domainSQL("m.recipient") + " = " + q.param(f.Value)
	case "cause":
		return "m.cause = " + q.param(f.Value)
	case "gate":
		return "m.gate = " + q.param(f.Value)
	}
	return messageFigure(q, f)
}
