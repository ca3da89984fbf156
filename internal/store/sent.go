package store

import (
	"context"
	"time"
)

// Limits are counts of what senders have sent, for the limits of rules.
type Limits struct{ *DB }

// Sent is what a holder sent under a rule.
type Sent struct {
	Rule, Holder string
	Hour         time.Time
	Messages     int64
	Recipients   int64
	Fresh        int64 // recipients with whom it had not exchanged mail before
	// Under no rule: recipients whose deliveries ended, and of them those that bounced.
	Ended, Bounced int64
}

// AddSent adds to the counts and returns the holder's sums of the last hour and
// day, as all nodes have counted them.
func (s Limits) AddSent(ctx context.Context, list []Sent) error {
	if len(list) == 0 {
		return nil
	}
	var rules, holders []string
	var hours []time.Time
	var messages, recipients, fresh, ended, bounced []int64
	for _, c := range list {
		rules, holders, hours = append(rules,
			c.Rule), append(holders, c.Holder), append(hours, c.Hour)
		messages, recipients = append(messages, c.Messages), append(recipients, c.Recipients)
		fresh, ended, bounced = append(fresh, c.Fresh), append(ended, c.Ended), append(bounced, c.Bounced)
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO sent_hour (rule, holder, hour, messages, recipients, fresh, ended, bounced)
		SELECT * FROM unnest($1::text[], $2::text[], $3::timestamptz[], $4::bigint[], $5::bigint[],
			$6::bigint[], $7::bigint[], $8::bigint[])
		ON CONFLICT (rule, holder, hour) DO UPDATE
			SET messages = sent_hour.messages + excluded.messages,
				recipients = sent_hour.recipients + excluded.recipients,
				fresh = sent_hour.fresh + excluded.fresh,
				ended = sent_hour.ended + excluded.ended,
				bounced = sent_hour.bounced + excluded.bounced`,
		rules, holders, hours, messages, recipients, fresh, ended, bounced)
	return err
}

// SentSince reads a holder's counts under a rule.
func (s Limits) SentSince(
	ctx context.Context,
	rule, holder string,
	since time.Time,
) ([]Sent, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT hour, messages, recipients, fresh, ended, bounced FROM sent_hour WHERE rule = $1 AND holder = $2
			AND hour >= $3`,
		rule,
		holder,
		since,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Sent
	for rows.Next() {
		c := Sent{Rule: rule, Holder: holder}
		if err := rows.Scan(&c.Hour, &c.Messages, &c.Recipients, &c.Fresh, &c.Ended, &c.Bounced); err != nil {
			return nil, err
		}
		c.Hour = c.Hour.UTC()
		out = append(out, c)
	}
	return out, rows.Err()
}

// ForgetHolder drops what an account sent: it begins anew.
func (s Limits) ForgetHolder(ctx context.Context, holder string) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM sent_hour WHERE holder = $1`, holder)
	return err
}

// ForgetSent drops counts and automatic replies that count no longer.
func (s Limits) ForgetSent(ctx context.Context, now time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM sent_hour WHERE hour < $1`, now.Add(-48*time.Hour))
	if err == nil {
		_, err = s.pool.Exec(ctx, `DELETE FROM replied WHERE at < $1`, now.Add(-30*24*time.Hour))
	}
	return err
}
