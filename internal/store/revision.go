package store

import (
	"cmp"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Revisions are the configuration: its revisions and the draft.
type Revisions struct{ *DB }

// ErrMoved reports that something changed since it was read.
var ErrMoved = errors.New("it was changed meanwhile")

const revisionColumns = `number, applied_at, who, why, forced, reverts, confirm_by`

func scanRevision(row pgx.CollectableRow) (mail.Revision, error) {
	var r mail.Revision
	err := row.Scan(&r.Number, &r.AppliedAt, &r.Who, &r.Why, &r.Forced, &r.Reverts,
		optTime{&r.ConfirmBy}, &r.Text)
	r.AppliedAt = r.AppliedAt.UTC()
	return r, err
}

// LatestRevision is the configuration in force; ErrNotFound before the first.
func (s Revisions) LatestRevision(ctx context.Context) (mail.Revision, error) {
	return s.revision(ctx,
		`SELECT `+revisionColumns+`, text FROM config_revision ORDER BY number DESC LIMIT 1`)
}

// Revision is one by number.
func (s Revisions) Revision(ctx context.Context, number int) (mail.Revision, error) {
	return s.revision(ctx,
		`SELECT `+revisionColumns+`, text FROM config_revision WHERE number = $1`, number)
}

// InForceAt is the one that was in force at a time; ErrNotFound if none was.
func (s Revisions) InForceAt(ctx context.Context, at time.Time) (mail.Revision, error) {
	return s.revision(ctx, `SELECT `+revisionColumns+`, text FROM config_revision
		WHERE applied_at <= $1 ORDER BY number DESC LIMIT 1`, at)
}

func (s Revisions) revision(ctx context.Context, sql string, args ...any) (mail.Revision, error) {
	rows, err := s.pool.Query(ctx, sql, args...)
	if err != nil {
		return mail.Revision{}, err
	}
	r, err := pgx.CollectExactlyOneRow(rows, scanRevision)
	return r, found(err)
}

// List lists them without their texts, newest first, from before a number.
func (s Revisions) List(ctx context.Context, before, limit int) ([]mail.Revision, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+revisionColumns+`, '' FROM config_revision WHERE $1 = 0 OR number < $1
			ORDER BY number DESC LIMIT $2`,
		before,
		limit,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanRevision)
}

// NewRevision is a configuration to put on record.
type NewRevision struct {
	Who, Why, Text string
	Forced         bool
	Reverts        int
	ConfirmBy      *time.Time
	// Base is the revision it was made from; ErrMoved if another is in force. 0
	// does not ask.
	Base int
	// Unconfirmed asks that Base still waits to be confirmed; ErrMoved if not.
	Unconfirmed bool
	// Draft, if not 0, is the draft's version that is applied and gone with it.
	Draft int64
	// Directory, if any, is written with it.
	Directory *DirectoryChange
}

// AddRevision puts a configuration on record, tells all nodes and returns its
// number, and of a revision that goes back what became of the directory, in sentences.
// The same text as the latest makes no new revision.
func (s Revisions) AddRevision(ctx context.Context, n NewRevision) (int, []string, error) {
	var number int
	var says []string
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `LOCK TABLE config_revision IN EXCLUSIVE MODE`); err != nil {
			return err
		}
		var last string
		err := tx.QueryRow(
			ctx,
			`SELECT number, text FROM config_revision ORDER BY number DESC LIMIT 1`,
		).Scan(&number, &last)
		if err != nil && found(err) != ErrNotFound {
			return err
		}
		if n.Base != 0 && n.Base != number {
			return ErrMoved
		}
		if n.Unconfirmed {
			var waits bool
			if err := tx.QueryRow(ctx, `SELECT confirm_by IS NOT NULL FROM config_revision
				WHERE number = $1`, number).Scan(&waits); err != nil || !waits {
				return cmp.Or(err, error(ErrMoved))
			}
		}
		if n.Draft != 0 {
			tag, err := tx.Exec(ctx, `DELETE FROM config_draft WHERE version = $1`, n.Draft)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				return ErrMoved
			}
			if _, err := tx.Exec(ctx, `DELETE FROM config_draft_change`); err != nil {
				return err
			}
		}
		same, had := err == nil && last == n.Text, number
		if n.Directory != nil {
			if err := writeWithRevision(
				ctx,
				tx,
				n.Directory,
				number+map[bool]int{false: 1}[same],
			); err != nil {
				return err
			}
		}
		if n.Reverts > 0 {
			if says, err = undoDirectory(ctx, tx, n.Who, n.Reverts, had+1); err != nil {
				return err
			}
		}
		if same && len(says) == 0 {
			return nil
		}
		number++
		if _, err = tx.Exec(
			ctx,
			`INSERT INTO config_revision (number, who, why, forced, reverts, confirm_by, text)
				VALUES ($1, $2, $3, $4, $5, $6, $7)`,
			number,
			n.Who,
			n.Why,
			n.Forced,
			n.Reverts,
			n.ConfirmBy,
			n.Text,
		); err != nil {
			return err
		}
		return notify(ctx, tx, "config", nil)
	})
	return number, says, err
}

// Confirm keeps a revision that would go back by itself.
func (s Revisions) Confirm(ctx context.Context, number int) (bool, error) {
	tag, err := s.pool.Exec(
		ctx,
		`UPDATE config_revision SET confirm_by = NULL WHERE number = $1 AND confirm_by IS NOT NULL
		AND number = (SELECT max(number) FROM config_revision)`,
		number,
	)
	return tag.RowsAffected() > 0, err
}

// Draft is the changes that are not applied yet.
type Draft struct {
	Base      int
	Text      string
	Version   int64
	ChangedAt time.Time
}

// Draft reads the draft; ErrNotFound if there is none.
func (s Revisions) Draft(ctx context.Context) (Draft, error) {
	var d Draft
	err := s.pool.QueryRow(
		ctx,
		`SELECT base, text, version, changed_at FROM config_draft`,
	).Scan(&d.Base, &d.Text, &d.Version, &d.ChangedAt)
	return d, found(err)
}

// SaveDraft writes the draft if it still has the version that was read, 0 for
// none; else ErrMoved. It returns the new version.
func (s Revisions) SaveDraft(ctx context.Context, d Draft, who, what string) (int64, error) {
	var version int64
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `LOCK TABLE config_draft IN EXCLUSIVE MODE`); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `SELECT version FROM config_draft`).Scan(&version)
		if err != nil && found(err) != ErrNotFound {
			return err
		}
		if version != d.Version {
			return ErrMoved
		}
		version = time.Now().UnixMicro()
		if _, err := tx.Exec(
			ctx,
			`INSERT INTO config_draft (base, text, version) VALUES ($1, $2, $3)
			ON CONFLICT (one) DO UPDATE SET base = excluded.base, text = excluded.text,
				version = excluded.version, changed_at = now()`,
			d.Base,
			d.Text,
			version,
		); err != nil {
			return err
		}
		if _, err = tx.Exec(
			ctx,
			`INSERT INTO config_draft_change (who, text) VALUES ($1, $2)`,
			who,
			what,
		); err != nil {
			return err
		}
		return notify(ctx, tx, "draft", nil)
	})
	return version, err
}

// DiscardDraft sets the draft aside, if it still has the version that was seen, 0 for any.
func (s Revisions) DiscardDraft(ctx context.Context, who string, version int64) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `WITH gone AS (DELETE FROM config_draft
				WHERE $1::bigint = 0 OR version = $1::bigint RETURNING base, text)
			INSERT INTO config_draft_discarded (base, text, who) SELECT base, text, $2 FROM gone
			ON CONFLICT (one) DO UPDATE SET base = excluded.base, text = excluded.text,
				who = excluded.who, at = now()`, version, who)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrMoved
		}
		if _, err := tx.Exec(ctx, `DELETE FROM config_draft_change`); err != nil {
			return err
		}
		return notify(ctx, tx, "draft", nil)
	})
}

// Discarded reads the draft that was discarded last; ErrNotFound if none was.
func (s Revisions) Discarded(ctx context.Context) (Draft, error) {
	var d Draft
	err := s.pool.QueryRow(ctx, `SELECT base, text, at FROM config_draft_discarded`).
		Scan(&d.Base, &d.Text, &d.ChangedAt)
	return d, found(err)
}

// DraftChanges lists who changed what in the draft, the last 200, oldest first.
func (s Revisions) DraftChanges(ctx context.Context) ([]mail.DraftChange, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT at, who, text FROM (SELECT * FROM config_draft_change ORDER BY id DESC LIMIT 200) c
			ORDER BY id`,
	)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (mail.DraftChange, error) {
		var c mail.DraftChange
		err := row.Scan(&c.At, &c.Who, &c.Text)
		c.At = c.At.UTC()
		return c, err
	})
}
