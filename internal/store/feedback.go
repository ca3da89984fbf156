package store

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/aggregate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// Feedback is what servers report to each other.
type Feedback struct{ *DB }

// Unread are the messages of a mailbox behind those that were read, in order.
func (s Feedback) Unread(
	ctx context.Context,
	mailbox string,
	limit int,
) ([]mail.MailboxItem, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT m.id, m.sender FROM mailbox_message m WHERE m.mailbox = $1
		AND m.id > coalesce((SELECT upto FROM feedback_read WHERE mailbox = $1), 0)
		ORDER BY m.id LIMIT $2`,
		mailbox,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m mail.MailboxItem, err error) {
		return m, row.Scan(&m.ID, &m.Sender)
	})
}

// upto notes how far a mailbox was read.
func upto(ctx context.Context, tx pgx.Tx, mailbox string, id ident.ID) error {
	_, err := tx.Exec(ctx, `INSERT INTO feedback_read (mailbox, upto) VALUES ($1, $2)
		ON CONFLICT (mailbox) DO UPDATE SET upto = greatest(feedback_read.upto, excluded.upto)`,
		mailbox, int64(id))
	return err
}

// Skip notes a message that was no report.
func (s Feedback) Skip(
	ctx context.Context,
	mailbox string,
	m mail.MailboxItem,
	fault string,
) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO feedback_unread (message, sender, fault)
			VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, int64(m.ID), m.Sender, fault); err != nil {
			return err
		}
		return upto(ctx, tx, mailbox, m.ID)
	})
}

// newReport keeps a report, and returns 0 if it is there already.
func newReport(ctx context.Context, tx pgx.Tx, r mail.FeedbackReport) (id int64, err error) {
	err = tx.QueryRow(ctx, `INSERT INTO feedback_report (kind, reporter, report, domain, from_at, until_at)
		VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING RETURNING id`, r.Kind, r.Reporter, r.Report,
		r.Domain, r.From, r.Until).
		Scan(&id)
	if err == pgx.ErrNoRows {
		return 0, nil
	}
	return id, err
}

// AddDMARC keeps a report from a message.
func (s Feedback) AddDMARC(
	ctx context.Context,
	mailbox string,
	m ident.ID,
	r *aggregate.DMARC,
) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		id, err := newReport(ctx, tx, mail.FeedbackReport{Kind: "dmarc", Reporter: r.Reporter,
			Report: r.ID, Domain: r.Domain, From: r.From, Until: r.Until})
		if err != nil {
			return err
		}
		if id != 0 {
			if _, err := tx.CopyFrom(ctx, pgx.Identifier{"feedback_sender"}, []string{"report", "domain", "at",
				"source", "messages", "disposition", "dkim", "spf", "proofs"},
				pgx.CopyFromSlice(len(r.Rows), func(i int) ([]any, error) {
					row := &r.Rows[i]
					proofs, err := json.Marshal(append(append([]aggregate.Proof{}, row.Signed...), row.Sent...))
					return []any{id, r.Domain, r.From, row.Source, row.Messages, row.Disposition, row.DKIM,
						row.SPF, proofs}, err
				})); err != nil {
				return err
			}
		}
		return upto(ctx, tx, mailbox, m)
	})
}

// AddTLS keeps a report from a message: one for each domain that it is about.
func (s Feedback) AddTLS(ctx context.Context, mailbox string, m ident.ID, r *aggregate.TLS) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		ids := map[string]int64{}
		for _, p := range r.Policies {
			id, known := ids[p.Policy.Domain]
			if !known {
				var err error
				if id, err = newReport(ctx, tx, mail.FeedbackReport{Kind: "tls", Reporter: r.Reporter,
					Report: r.ID, Domain: p.Policy.Domain, From: r.Range.From, Until: r.Range.Until}); err != nil {
					return err
				}
				ids[p.Policy.Domain] = id
			}
			if id == 0 {
				continue
			}
			rows := [][]any{
				{id, p.Policy.Domain, r.Range.From, p.Policy.Type, "", "", "", p.Summary.Good},
			}
			for _, f := range p.Failures {
				rows = append(
					rows,
					[]any{id, p.Policy.Domain, r.Range.From, p.Policy.Type, f.Result, f.Host,
						f.More, f.Sessions},
				)
			}
			if _, err := tx.CopyFrom(ctx, pgx.Identifier{"feedback_tls"}, []string{"report", "domain", "at",
				"policy", "result", "host", "more", "sessions"}, pgx.CopyFromRows(rows)); err != nil {
				return err
			}
		}
		return upto(ctx, tx, mailbox, m)
	})
}

// Senders are the addresses from which mail in a domain's name came since a time, those with most
// messages that did not pass first.
func (s Feedback) Senders(
	ctx context.Context,
	domain string,
	since time.Time,
	limit int,
) ([]mail.FeedbackSender, error) {
	rows, err := s.pool.Query(ctx, `WITH f AS MATERIALIZED (SELECT * FROM feedback_sender
			WHERE domain = $1 AND at >= $2), top AS (
			SELECT source, sum(messages)::bigint AS messages,
				coalesce(sum(messages) FILTER (WHERE dkim OR spf), 0)::bigint AS passed,
				coalesce(sum(messages) FILTER (WHERE spf), 0)::bigint AS by_spf,
				coalesce(sum(messages) FILTER (WHERE dkim), 0)::bigint AS by_dkim,
				coalesce(sum(messages) FILTER (WHERE disposition <> 'none'), 0)::bigint AS refused,
				min(at) AS first, max(at) AS last
			FROM f GROUP BY source ORDER BY sum(messages) FILTER (WHERE NOT dkim AND NOT spf) DESC NULLS LAST,
				2 DESC LIMIT $3),
		named AS (SELECT source, array_agg(DISTINCT p->>'domain') AS domains
			FROM f, jsonb_array_elements(proofs) p WHERE p->>'domain' <> '' GROUP BY source)
		SELECT source, messages, passed, by_spf, by_dkim, refused, first, last, coalesce(domains, '{}'),
			coalesce((SELECT name FROM feedback_source n WHERE top.source <<= n.network
				ORDER BY masklen(n.network) DESC LIMIT 1), '')
		FROM top LEFT JOIN named USING (source) ORDER BY messages - passed DESC, messages DESC, source`,
		domain, since, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackSender, err error) {
		var source netip.Prefix
		err = row.Scan(&source, &x.Messages, &x.Passed, &x.BySPF, &x.BySigned, &x.Refused, &x.First,
			&x.Last, &x.Of, &x.Name)
		x.Source, x.First, x.Last = source.Addr(), x.First.UTC(), x.Last.UTC()
		x.Known = x.Name != ""
		return x, err
	})
}

// Days are the days since a time.
func (s Feedback) Days(
	ctx context.Context,
	domain string,
	since time.Time,
) ([]mail.FeedbackDay, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT date_trunc('day', at AT TIME ZONE 'UTC'), sum(messages)::bigint,
			coalesce(sum(messages) FILTER (WHERE dkim OR spf), 0)::bigint
		FROM feedback_sender WHERE domain = $1 AND at >= $2 GROUP BY 1 ORDER BY 1`,
		domain,
		since,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (d mail.FeedbackDay, err error) {
		err = row.Scan(&d.Day, &d.Messages, &d.Passed)
		d.Day = d.Day.UTC()
		return d, err
	})
}

// TLS is how connections to a domain's hosts fared since a time, failures first.
func (s Feedback) TLS(
	ctx context.Context,
	domain string,
	since time.Time,
) ([]mail.FeedbackTLS, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT t.policy, t.result, t.host, max(t.more), sum(t.sessions)::bigint,
			max(t.at), array_agg(DISTINCT r.reporter)
		FROM feedback_tls t JOIN feedback_report r ON r.id = t.report WHERE t.domain = $1 AND t.at >= $2
		GROUP BY 1, 2, 3 ORDER BY t.result = '', sum(t.sessions) DESC LIMIT 500`,
		domain,
		since,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackTLS, err error) {
		err = row.Scan(&x.Policy, &x.Result, &x.Host, &x.More, &x.Sessions, &x.Last, &x.Tellers)
		x.Last = x.Last.UTC()
		return x, err
	})
}

// Reports are those that were received, the latest first; before is an id, 0 for the first page.
func (s Feedback) Reports(
	ctx context.Context,
	before int64,
	limit int,
) ([]mail.FeedbackReport, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT id, kind, reporter, report, domain, from_at, until_at, received_at
		FROM feedback_report WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2`,
		before,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r mail.FeedbackReport, err error) {
		err = row.Scan(
			&r.ID,
			&r.Kind,
			&r.Reporter,
			&r.Report,
			&r.Domain,
			&r.From,
			&r.Until,
			&r.ReceivedAt,
		)
		r.From, r.Until, r.ReceivedAt = r.From.UTC(), r.Until.UTC(), r.ReceivedAt.UTC()
		return r, err
	})
}

// Faults are the latest messages that were no reports.
func (s Feedback) Faults(ctx context.Context) ([]mail.FeedbackUnread, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT at, sender, fault FROM feedback_unread ORDER BY at DESC LIMIT 20`,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (u mail.FeedbackUnread, err error) {
		err = row.Scan(&u.At, &u.Sender, &u.Fault)
		u.At = u.At.UTC()
		return u, err
	})
}

// Sources are the senders that somebody named.
func (s Feedback) Sources(ctx context.Context) ([]mail.FeedbackSource, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT network, name, who, at FROM feedback_source ORDER BY network`,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackSource, err error) {
		err = row.Scan(&x.Network, &x.Name, &x.Who, &x.At)
		x.At = x.At.UTC()
		return x, err
	})
}

// Name names a sender; "" takes its name away.
func (s Feedback) Name(ctx context.Context, who string, network netip.Prefix, name string) error {
	if name == "" {
		_, err := s.pool.Exec(ctx, `DELETE FROM feedback_source WHERE network = $1`, network)
		return err
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO feedback_source (network, name, who) VALUES ($1, $2, $3)
		ON CONFLICT (network) DO UPDATE SET name = excluded.name, who = excluded.who, at = now()`,
		network, name, who)
	return err
}

// AddSeen adds what we saw to what is to be reported.
func (s Feedback) AddSeen(ctx context.Context, seen []mail.FeedbackSeen) error {
	b := &pgx.Batch{}
	for _, x := range seen {
		hash := sha256.Sum256(x.What)
		b.Queue(
			`INSERT INTO feedback_seen (kind, day, domain, what, hash, n) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (kind, day, domain, hash) DO UPDATE SET n = feedback_seen.n + excluded.n`,
			x.Kind,
			x.Day,
			x.Domain,
			x.What,
			hash[:16],
			x.N,
		)
	}
	return s.pool.SendBatch(ctx, b).Close()
}

// Due are domains of which something is to be reported, of days that are over; in any order, so that
// those that cannot be reported yet keep no others waiting.
func (s Feedback) Due(
	ctx context.Context,
	today time.Time,
	limit int,
) ([]mail.FeedbackSeen, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT kind, day, domain FROM (SELECT DISTINCT kind, day, domain FROM feedback_seen
			WHERE day < $1) x ORDER BY random() LIMIT $2`,
		today,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackSeen, err error) {
		return x, row.Scan(&x.Kind, &x.Day, &x.Domain)
	})
}

// Seen is what we saw of one domain on a day.
func (s Feedback) Seen(
	ctx context.Context,
	kind string,
	day time.Time,
	domain string,
) ([]mail.FeedbackSeen, error) {
	rows, err := s.pool.Query(ctx, `SELECT what, n FROM feedback_seen WHERE kind = $1 AND day = $2
		AND domain = $3 ORDER BY n DESC LIMIT 20000`, kind, day, domain)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackSeen, err error) {
		return x, row.Scan(&x.What, &x.N)
	})
}

// Reported notes what became of a report of ours, and forgets what it was made of.
func (s Feedback) Reported(ctx context.Context, x mail.FeedbackSent) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `DELETE FROM feedback_seen WHERE kind = $1 AND day = $2 AND domain = $3`,
			x.Kind, x.Day, x.Domain); err != nil {
			return err
		}
		_, err := tx.Exec(
			ctx,
			`INSERT INTO feedback_sent (kind, day, domain, result) VALUES ($1, $2, $3, $4)
			ON CONFLICT (kind, day, domain) DO UPDATE SET result = excluded.result, at = now()`,
			x.Kind,
			x.Day,
			x.Domain,
			x.Result,
		)
		return err
	})
}

// Sent are the latest of our reports.
func (s Feedback) Sent(ctx context.Context) ([]mail.FeedbackSent, error) {
	rows, err := s.pool.Query(ctx, `SELECT kind, day, domain, at, result FROM feedback_sent
		ORDER BY at DESC LIMIT 100`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (x mail.FeedbackSent, err error) {
		err = row.Scan(&x.Kind, &x.Day, &x.Domain, &x.At, &x.Result)
		x.At = x.At.UTC()
		return x, err
	})
}

// ForgetFeedback drops what was reported before a time.
func (s Feedback) ForgetFeedback(ctx context.Context, before time.Time) error {
	for _, sql := range []string{`DELETE FROM feedback_report WHERE from_at < $1`,
		`DELETE FROM feedback_unread WHERE at < $1`, `DELETE FROM feedback_sent WHERE at < $1`} {
		if _, err := s.pool.Exec(ctx, sql, before); err != nil {
			return err
		}
	}
	return nil
}
