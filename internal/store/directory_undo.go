package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// What a revision brings into the directory is kept with it, entry by entry as it was
// and as it became, so that going back takes it out again. What was changed since is a
// person's later word and stays, and so does a mailbox that holds mail.

// entriesSQL are entries of the directory by their keys, whole.
const entriesSQL = `SELECT 'mailbox' AS kind, key, to_jsonb(m) AS row FROM mailbox m
	WHERE key = ANY($1) UNION ALL SELECT 'alias', key, to_jsonb(a) FROM alias a WHERE key = ANY($1)`

// writeWithRevision writes a change of the directory and notes what it changed.
func writeWithRevision(ctx context.Context, tx pgx.Tx, c *DirectoryChange, revision int) error {
	keys := append(append([]string{}, c.DropMailboxes...), c.DropAliases...)
	for _, m := range c.Mailboxes {
		keys = append(keys, m.Address.Key())
	}
	for _, a := range c.Aliases {
		keys = append(keys, a.Address.Key())
	}
	if _, err := tx.Exec(
		ctx,
		`CREATE TEMP TABLE entries_before (kind text, key text, row jsonb) ON COMMIT DROP`,
	); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `INSERT INTO entries_before `+entriesSQL, keys); err != nil {
		return err
	}
	if err := writeDirectory(ctx, tx, c); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `INSERT INTO directory_undo (revision, kind, key, before, after)
		SELECT $2, kind, key, b.row, a.row FROM entries_before b FULL
			JOIN (`+entriesSQL+`) a USING (kind, key) WHERE b.row IS DISTINCT
				FROM a.row`, keys, revision)
	return err
}

// undoDirectory takes out what revisions behind one brought, under the number of the
// revision that goes back. It tells what it did and what it left, in sentences.
func undoDirectory(
	ctx context.Context,
	tx pgx.Tx,
	who string,
	behind, revision int,
) ([]string, error) {
	if _, err := tx.Exec(
		ctx,
		`CREATE TEMP TABLE entries_back (kind text, key text, now jsonb, before jsonb,
			verdict text) ON COMMIT DROP`,
	); err != nil {
		return nil, err
	}
	if _, err := tx.Exec(
		ctx,
		`WITH first AS (SELECT DISTINCT ON (kind, key) kind, key, before FROM directory_undo
			WHERE revision > $1 ORDER BY kind, key, revision),
			last AS (SELECT DISTINCT ON (kind, key) kind, key, after FROM directory_undo
				WHERE revision > $1 ORDER BY kind, key, revision DESC),
			now AS (SELECT 'mailbox' AS kind, m.key, to_jsonb(m) AS row FROM mailbox m
				JOIN last l ON l.kind = 'mailbox' AND l.key = m.key
				UNION ALL SELECT 'alias', a.key, to_jsonb(a) FROM alias a
					JOIN last l ON l.kind = 'alias' AND l.key = a.key)
		INSERT INTO entries_back SELECT f.kind, f.key, n.row, f.before, CASE
			WHEN n.row IS NOT DISTINCT FROM f.before THEN 'same'
			WHEN n.row IS DISTINCT FROM l.after THEN 'changed'
			WHEN f.before IS NULL AND f.kind = 'mailbox' AND EXISTS (SELECT FROM mailbox_use u
				WHERE u.mailbox = n.row->>'address' AND u.messages > 0 UNION ALL SELECT
					FROM mailbox_delta u WHERE u.mailbox = n.row->>'address') THEN 'mail'
			ELSE 'back' END
		FROM first f JOIN last l USING (kind, key) LEFT JOIN now n USING (kind, key)`,
		behind,
	); err != nil {
		return nil, err
	}
	for _, sql := range []string{
		`DELETE FROM mailbox m USING entries_back b WHERE b.verdict = 'back' AND b.kind = 'mailbox'
			AND b.key = m.key`,
		`DELETE FROM alias a USING entries_back b WHERE b.verdict = 'back' AND b.kind = 'alias'
			AND b.key = a.key`,
		`INSERT INTO mailbox SELECT (jsonb_populate_record(NULL::mailbox, before)).*
			FROM entries_back WHERE verdict = 'back' AND kind = 'mailbox' AND before IS NOT NULL`,
		`INSERT INTO alias SELECT (jsonb_populate_record(NULL::alias, before)).* FROM entries_back
			WHERE verdict = 'back' AND kind = 'alias' AND before IS NOT NULL`,
	} {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	if _, err := tx.Exec(
		ctx,
		`INSERT INTO directory_undo (revision, kind, key, before, after) SELECT $1, kind, key, now,
			before FROM entries_back WHERE verdict = 'back'`,
		revision,
	); err != nil {
		return nil, err
	}
	var gone, back, changed, mail int
	if err := tx.QueryRow(
		ctx,
		`SELECT count(*) FILTER (WHERE verdict = 'back' AND before IS NULL),
			count(*) FILTER (WHERE verdict = 'back' AND before IS NOT NULL),
		count(*) FILTER (WHERE verdict = 'changed'), count(*) FILTER (WHERE verdict = 'mail')
			FROM entries_back`,
	).Scan(&gone, &back, &changed, &mail); err != nil {
		return nil, err
	}
	var says []string
	say := func(n int, text string) {
		if n > 0 {
			says = append(says, fmt.Sprintf("mailboxes and aliases %s: %d", text, n))
		}
	}
	say(gone, "taken out again, since a later revision brought them")
	say(back, "as they were before")
	say(changed, "left as they are, since somebody changed them later")
	say(mail, "left, since they hold mail")
	if gone+back == 0 {
		return says, nil
	}
	if err := addRecord(ctx, tx, who, Record{
		What:  "mailbox",
		Name:  "revert",
		After: map[string]any{"taken_out": gone, "as_before": back},
	}); err != nil {
		return nil, err
	}
	return says, notify(ctx, tx, "directory", nil)
}
