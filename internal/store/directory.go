package store

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/address"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
)

// Directory are mailboxes and aliases.
type Directory struct{ *DB }

// DirectoryChange is mailboxes and aliases to write and to take out, in one
// transaction that is on record.
type DirectoryChange struct {
	Who           string
	Mailboxes     []*directory.Mailbox
	Aliases       []*directory.Alias
	DropMailboxes []string // keys
	DropAliases   []string
	// Records are what is put on record; many together are one record.
	Records []Record
}

// Record is one change by a person.
type Record struct {
	What   string         `json:"what"`
	Name   string         `json:"name"`
	Before map[string]any `json:"before"`
	After  map[string]any `json:"after"`
}

const mailboxColumns = "key, address, name, addresses, generated, quota, forward_to, keep_copy, " +
	"may_submit, send_as, reply, reading, password, scram"

// LoadDirectory reads every mailbox and alias.
func (s Directory) LoadDirectory(ctx context.Context) (*directory.Directory, error) {
	d := directory.New()
	rows, err := s.pool.Query(
		ctx,
		`SELECT address, name, addresses, generated, quota, forward_to, keep_copy, may_submit,
			send_as, reply, reading FROM mailbox`,
	)
	if err != nil {
		return nil, err
	}
	err = eachMailbox(rows, d.Put)
	if err != nil {
		return nil, err
	}
	rows, err = s.pool.Query(ctx, `SELECT address, targets, about FROM alias`)
	if err != nil {
		return nil, err
	}
	return d, eachAlias(rows, d.PutAlias)
}

// DirectoryEntries reads the mailboxes and aliases with the given keys.
func (s Directory) DirectoryEntries(
	ctx context.Context,
	keys []string,
) (boxes []*directory.Mailbox, aliases []*directory.Alias, err error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT address, name, addresses, generated, quota, forward_to, keep_copy, may_submit,
			send_as, reply, reading FROM mailbox WHERE key = ANY($1)`,
		keys,
	)
	if err != nil {
		return nil, nil, err
	}
	if err := eachMailbox(
		rows,
		func(m *directory.Mailbox) { boxes = append(boxes, m) },
	); err != nil {
		return nil, nil, err
	}
	if rows, err = s.pool.Query(
		ctx,
		`SELECT address, targets, about FROM alias WHERE key = ANY($1)`,
		keys,
	); err != nil {
		return nil, nil, err
	}
	return boxes, aliases, eachAlias(rows,
		func(a *directory.Alias) { aliases = append(aliases, a) })
}

func eachMailbox(rows pgx.Rows, f func(*directory.Mailbox)) error {
	defer rows.Close()
	for rows.Next() {
		m := &directory.Mailbox{}
		var own string
		var addresses, generated, forward, sendAs []string
		var quota int64
		var reply, reading []byte
		if err := rows.Scan(
			&own,
			&m.Name,
			&addresses,
			&generated,
			&quota,
			&forward,
			&m.KeepCopy,
			&m.MaySubmit,
			&sendAs,
			&reply,
			&reading,
		); err != nil {
			return err
		}
		m.Quota = form.Size(quota)
		var err error
		if m.Address, err = address.Parse(own); err != nil {
			return err
		}
		m.Addresses, m.Generated, m.ForwardTo = parseAll(
			addresses,
		), parseAll(generated), parseAll(forward)
		for _, text := range sendAs {
			if p, err := address.ParsePattern(text); err == nil {
				m.SendAs = append(m.SendAs, p)
			}
		}
		if reply != nil {
			m.Reply = &directory.Reply{}
			if err := json.Unmarshal(reply, m.Reply); err != nil {
				return err
			}
		}
		if reading != nil {
			if err := json.Unmarshal(reading, &m.Reading); err != nil {
				return err
			}
		}
		f(m)
	}
	return rows.Err()
}

func eachAlias(rows pgx.Rows, f func(*directory.Alias)) error {
	defer rows.Close()
	for rows.Next() {
		a := &directory.Alias{}
		var own string
		var targets []string
		if err := rows.Scan(&own, &targets, &a.About); err != nil {
			return err
		}
		var err error
		if a.Address, err = address.Parse(own); err != nil {
			return err
		}
		a.To = parseAll(targets)
		f(a)
	}
	return rows.Err()
}

func parseAll(list []string) []address.Address {
	var out []address.Address
	for _, text := range list {
		if a, err := address.Parse(text); err == nil {
			out = append(out, a)
		}
	}
	return out
}

func wire(list []address.Address) []string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return out
}

// copyAtOnce is from how many rows on a change is copied in bulk.
const copyAtOnce = 100

// ChangeDirectory writes a change, and tells other nodes of it. A mailbox without
// new password keeps its old one.
func (s Directory) ChangeDirectory(ctx context.Context, c DirectoryChange) error {
	return s.inTx(ctx, func(tx pgx.Tx) error { return writeDirectory(ctx, tx, &c) })
}

func writeDirectory(ctx context.Context, tx pgx.Tx, c *DirectoryChange) error {
	if _, err := tx.Exec(
		ctx,
		`CREATE TEMP TABLE new_mailbox (LIKE mailbox) ON COMMIT DROP`,
	); err != nil {
		return err
	}
	_, err := tx.CopyFrom(
		ctx,
		pgx.Identifier{"new_mailbox"},
		strings.Split(mailboxColumns, ", "),
		pgx.CopyFromSlice(len(c.Mailboxes), func(i int) ([]any, error) {
			m := c.Mailboxes[i]
			sendAs := make([]string, len(m.SendAs))
			for j, p := range m.SendAs {
				sendAs[j] = p.String()
			}
			var reply, reading []byte
			if m.Reading.Given() {
				var err error
				if reading, err = json.Marshal(m.Reading); err != nil {
					return nil, err
				}
			}
			if m.Reply != nil {
				var err error
				if reply, err = json.Marshal(m.Reply); err != nil {
					return nil, err
				}
			}
			return []any{
				m.Address.Key(),
				m.Address.String(),
				m.Name,
				wire(m.Addresses),
				wire(m.Generated),
				int64(m.Quota),
				wire(m.ForwardTo),
				m.KeepCopy,
				m.MaySubmit,
				sendAs,
				reply,
				reading,
				m.Hash,
				m.Scram,
			}, nil
		}),
	)
	if err != nil {
		return err
	}
	if err := keepGone(ctx, tx, c.Who, c.DropMailboxes); err != nil {
		return err
	}
	if err := setAside(ctx, tx, c.DropMailboxes); err != nil {
		return err
	}
	if len(c.DropMailboxes) > 0 { // or who gets the address next could be signed in to
		if _, err := tx.Exec(ctx, `WITH a AS (DELETE FROM app_password WHERE mailbox = ANY($1))
			DELETE FROM mailbox_used WHERE mailbox = ANY($1)`, c.DropMailboxes); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(
		ctx,
		`INSERT INTO mailbox (`+mailboxColumns+`) SELECT `+mailboxColumns+` FROM new_mailbox
		ON CONFLICT (key) DO UPDATE SET address = excluded.address, name = excluded.name,
			addresses = excluded.addresses, generated = excluded.generated,
			quota = excluded.quota, forward_to = excluded.forward_to,
				keep_copy = excluded.keep_copy, may_submit = excluded.may_submit,
			send_as = excluded.send_as, reply = excluded.reply, reading = excluded.reading,
			password = CASE WHEN excluded.password = '' THEN mailbox.password
				ELSE excluded.password END,
			scram = CASE WHEN excluded.password = '' THEN mailbox.scram ELSE excluded.scram END`,
	); err != nil {
		return err
	}
	for _, a := range c.Aliases {
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO alias (key, address, targets, about) VALUES ($1, $2, $3, $4)
			ON CONFLICT (key) DO UPDATE SET address = excluded.address, targets = excluded.targets,
				about = excluded.about`,
			a.Address.Key(),
			a.Address.String(),
			wire(a.To),
			a.About,
		); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(
		ctx,
		`DELETE FROM mailbox WHERE key = ANY($1)`,
		c.DropMailboxes,
	); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `DELETE FROM alias WHERE key = ANY($1)`, c.DropAliases); err != nil {
		return err
	}
	for _, r := range c.Records {
		if err := addRecord(ctx, tx, c.Who, r); err != nil {
			return err
		}
	}
	if err := endSignIns(ctx, tx, c); err != nil {
		return err
	}
	return notify(ctx, tx, "directory", c.keys())
}

// setAside keeps the mail of mailboxes that go, and what is left of one that was there
// before a new one, under another name: whoever gets an address never sees the mail of
// its former owner.
func setAside(ctx context.Context, tx pgx.Tx, gone []string) error {
	rows, err := tx.Query(ctx, `WITH old AS (
			SELECT address FROM mailbox WHERE key = ANY($1)
			UNION SELECT n.address FROM new_mailbox n
				WHERE NOT EXISTS (SELECT FROM mailbox m WHERE m.key = n.key))
		SELECT address FROM old WHERE EXISTS (SELECT FROM mailbox_use u WHERE u.mailbox = address)
			OR EXISTS (SELECT FROM mailbox_delta d WHERE d.mailbox = address)`, gone)
	if err != nil {
		return err
	}
	boxes, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || len(boxes) == 0 {
		return err
	}
	const other = ` SET mailbox = mailbox || ` + asideSQL + ` WHERE mailbox = ANY($1)`
	for _, name := range []string{"mailbox_message", "mailbox_use", "mailbox_delta", "folder"} {
		if _, err := tx.Exec(ctx, `UPDATE `+name+other, boxes); err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, `DELETE FROM replied WHERE mailbox = ANY($1)`, boxes)
	return err
}

// MailboxCount is how many messages lie in a mailbox.
func (s Directory) MailboxCount(ctx context.Context, mailbox string) (n int64, err error) {
	err = s.pool.QueryRow(ctx, `SELECT coalesce(sum(messages), 0)::bigint FROM
		(SELECT mailbox, messages FROM mailbox_use
			UNION ALL SELECT mailbox, messages FROM mailbox_delta) u
		WHERE mailbox = $1`, mailbox).Scan(&n)
	return n, err
}

// endSignIns tells the nodes whose password is new, so that what is signed in with
// the old one ends; that somebody signed in from somewhere proves nothing any more.
func endSignIns(ctx context.Context, tx pgx.Tx, c *DirectoryChange) error {
	fresh := slices.Clone(c.DropMailboxes)
	for _, m := range c.Mailboxes {
		if m.Hash != "" {
			fresh = append(fresh, m.Address.Key())
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	if _, err := tx.Exec(
		ctx,
		`WITH pages AS (DELETE FROM box_sign_in WHERE mailbox = ANY($1))
		DELETE FROM signin_proof WHERE account = ANY($1)`,
		fresh,
	); err != nil {
		return err
	}
	if len(fresh) > copyAtOnce {
		fresh = nil // all are to sign in again
	}
	return notify(ctx, tx, "password", fresh)
}

// keys are what changed; nil stands for much.
func (c *DirectoryChange) keys() []string {
	if len(c.Mailboxes)+len(c.Aliases) > copyAtOnce {
		return nil
	}
	keys := append(append([]string{}, c.DropMailboxes...), c.DropAliases...)
	for _, m := range c.Mailboxes {
		keys = append(keys, m.Address.Key())
	}
	for _, a := range c.Aliases {
		keys = append(keys, a.Address.Key())
	}
	return keys
}

func addRecord(ctx context.Context, tx pgx.Tx, who string, r Record) error {
	audit.Note(ctx, audit.Record(r))
	_, err := tx.Exec(ctx,
		`INSERT INTO change (who, what, name, before, after) VALUES ($1, $2, $3, $4, $5)`, who,
		r.What, r.Name, r.Before, r.After)
	return err
}

// mailboxOrder is how each sort is done. Only that by address needs not look at
// every mailbox.
var mailboxOrder = map[string]string{
	"name": "lower(m.name), m.key",
	"used": "coalesce(u.octets, 0) DESC, m.key",
	"quota": "CASE WHEN m.quota = 0 THEN 0 ELSE coalesce(u.octets, 0)::float / m.quota END DESC, " +
		"m.key",
}

// ListMailboxes lists mailboxes by address, with how full they are. The first page
// of a hundred thousand costs no more than that of a hundred.
func (s Directory) ListMailboxes(
	ctx context.Context,
	l mail.MailboxList,
) ([]mail.MailboxLine, error) {
	const fields = `SELECT m.address, m.name, m.addresses, m.generated, m.quota, m.forward_to,
		m.keep_copy, m.may_submit, m.send_as, m.reply IS NOT NULL,
		m.password <> '', coalesce(m.reading->>'By', ''), coalesce((m.reading->>'Messages')::bigint, 0),
		coalesce(jsonb_array_length(nullif(m.reading->'Shared', 'null')), 0),
		coalesce(u.messages, 0), coalesce(u.octets, 0), m.key FROM `
	const match = `($2 = '' OR strpos(key, $2) > 0 OR strpos(lower(name), $2) > 0
		OR strpos(array_to_string(addresses || generated, ' '), $2) > 0)
		AND ($3 = '' OR key LIKE '%@' || $3)
		AND ($5::timestamptz IS NULL
			OR NOT EXISTS (SELECT FROM mailbox_used w WHERE w.mailbox = key AND w.at >= $5))
		AND (coalesce(cardinality($6::text[]), 0) = 0 OR split_part(key, '@', -1) = ANY($6))`
	sql := fields + `(SELECT * FROM mailbox WHERE key > $1 AND ` + match +
		` ORDER BY key LIMIT $4) m LEFT JOIN mailbox_use u ON u.mailbox = m.address ORDER BY m.key`
	if order, ok := mailboxOrder[l.Sort]; ok {
		sql = fields + `(SELECT * FROM mailbox WHERE ` + match +
			`) m LEFT JOIN mailbox_use u ON u.mailbox = m.address ORDER BY ` + order +
			` LIMIT $4 OFFSET coalesce(nullif($1, ''), '0')::int`
	}
	var since *time.Time
	if !l.UnusedSince.IsZero() {
		since = &l.UnusedSince
	}
	rows, err := s.pool.Query(
		ctx,
		sql,
		l.After,
		strings.ToLower(l.Search),
		l.Domain,
		l.Limit,
		since,
		l.Within,
	)
	if err != nil {
		return nil, err
	}
	var keys []string
	lines, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.MailboxLine, error) {
		var m mail.MailboxLine
		var key string
		err := row.Scan(
			&m.Address,
			&m.Name,
			&m.Addresses,
			&m.Generated,
			&m.Quota,
			&m.ForwardTo,
			&m.KeepCopy,
			&m.MaySubmit,
			&m.SendAs,
			&m.Replies,
			&m.HasPassword,
			&m.ReadBy,
			&m.MostMessages,
			&m.Shared,
			&m.Messages,
			&m.Octets,
			&key,
		)
		if m.ReadBy == "" {
			m.ReadBy = "all"
		}
		keys = append(keys, key)
		return m, err
	})
	if err != nil {
		return nil, err
	}
	uses, err := AppPasswords(s).Uses(ctx, keys)
	for i, key := range keys {
		if lines[i].LastUse = uses[key]; lines[i].LastUse == nil {
			lines[i].LastUse = []mail.LastUse{}
		}
	}
	return lines, err
}

// MailboxesUse is how full mailboxes are, in octets; those in which nothing lies are
// left out.
func (s Mailboxes) MailboxesUse(ctx context.Context, mailboxes []string) (map[string]int64, error) {
	rows, err := s.pool.Query(ctx, `SELECT mailbox, sum(octets)::bigint FROM (SELECT mailbox, octets
		FROM mailbox_use WHERE mailbox = ANY($1) UNION ALL SELECT mailbox, octets FROM mailbox_delta
			WHERE mailbox = ANY($1)) u GROUP BY mailbox`, mailboxes)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var box string
	var octets int64
	_, err = pgx.ForEachRow(
		rows,
		[]any{&box, &octets},
		func() error { out[box] = octets; return nil },
	)
	return out, err
}

// MailboxUse is how full a mailbox is.
func (s Mailboxes) MailboxUse(
	ctx context.Context,
	mailbox string,
) (messages, octets int64, err error) {
	err = s.pool.QueryRow(ctx, `SELECT coalesce(sum(messages), 0)::bigint, coalesce(sum(octets),
		0)::bigint FROM (SELECT messages, octets FROM mailbox_use WHERE mailbox = $1
			UNION ALL SELECT messages, octets FROM mailbox_delta WHERE mailbox = $1) u`,
		mailbox).Scan(&messages, &octets)
	return messages, octets, err
}

// Credentials are what a mailbox's sign-in is checked against.
func (s Directory) Credentials(ctx context.Context, key string) (hash, scram string, err error) {
	err = s.pool.QueryRow(ctx, `SELECT password, scram FROM mailbox WHERE key = $1`,
		key).Scan(&hash, &scram)
	return hash, scram, found(err)
}

// AllCredentials reads the hashes of every mailbox that has a password.
func (s Directory) AllCredentials(ctx context.Context) (map[string][2]string, error) {
	rows, err := s.pool.Query(ctx, `SELECT key, password, scram FROM mailbox WHERE password <> ''`)
	if err != nil {
		return nil, err
	}
	out := map[string][2]string{}
	var key, hash, scram string
	_, err = pgx.ForEachRow(rows, []any{&key, &hash, &scram},
		func() error { out[key] = [2]string{hash, scram}; return nil })
	return out, err
}

// Records lists what was changed, newest first.
func (s Directory) Records(
	ctx context.Context,
	what, name string,
	before int64,
	limit int,
) ([]mail.Record, error) {
	rows, err := s.pool.Query(ctx, `SELECT id, at, who, what, name, before, after FROM change
		WHERE ($1 = '' OR what = $1) AND ($2 = '' OR name = $2) AND ($3 = 0 OR id < $3)
			ORDER BY id DESC LIMIT $4`, what, name, before, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.Record, error) {
		var r mail.Record
		err := row.Scan(&r.ID, &r.At, &r.Who, &r.What, &r.Name, &r.Before, &r.After)
		r.At = r.At.UTC()
		return r, err
	})
}
