package store

import (
	"context"
	"errors"
	"time"

	"gullroute/internal/core/folder"
)

// looseFor is how long content that nothing refers to is left alone: whoever copies a message
// just now may be about to.
const looseFor = time.Hour

// DropLoose drops content that no mailbox refers to any more, at most limit messages of it,
// and reports how many it looked at.
func (s Filed) DropLoose(ctx context.Context, now time.Time, limit int) (int64, error) {
	tag, err := s.pool.Exec(ctx, `WITH loose AS (
			DELETE FROM content_loose WHERE ctid IN (SELECT ctid FROM content_loose WHERE at < $1 LIMIT $2)
			RETURNING message_id
		), gone AS (
			SELECT DISTINCT message_id FROM loose l
			WHERE NOT EXISTS (SELECT FROM mailbox_message m WHERE m.id = l.message_id)
				AND NOT EXISTS (SELECT FROM mailbox_message m WHERE m.content = l.message_id)
		), texts AS (DELETE FROM content_text t USING gone g WHERE t.content = g.message_id
		), kept AS (DELETE FROM kept_content k USING gone g WHERE k.message_id = g.message_id)
		SELECT FROM loose`, now.Add(-looseFor), limit)
	return tag.RowsAffected(), err
}

// goneFor is how long a folder knows which messages left it: sessions look far more often.
const goneFor = 7 * 24 * time.Hour

// ForgetGone forgets what left folders long ago.
func (s Filed) ForgetGone(ctx context.Context, now time.Time) error {
	_, err := s.pool.Exec(ctx, `DELETE FROM folder_gone WHERE at < $1`, now.Add(-goneFor))
	return err
}

// EmptyTrash removes what lies in trash folders since before a time, at most limit messages,
// and reports the mailboxes.
func (s Filed) EmptyTrash(ctx context.Context, before time.Time, limit int) ([]string, error) {
	type old struct {
		folder int64
		uid    int64
	}
	rows, err := s.pool.Query(
		ctx,
		`SELECT m.folder, m.uid FROM folder f JOIN mailbox_message m ON m.folder = f.id
		WHERE f.use = 'trash' AND coalesce(m.filed_at, m.received_at) < $1 ORDER BY m.folder, m.uid LIMIT $2`,
		before,
		limit,
	)
	if err != nil {
		return nil, err
	}
	byFolder := map[int64][]uint32{}
	defer rows.Close()
	for rows.Next() {
		var o old
		if err := rows.Scan(&o.folder, &o.uid); err != nil {
			return nil, err
		}
		byFolder[o.folder] = append(byFolder[o.folder], uint32(o.uid))
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var boxes []string
	for id, uids := range byFolder {
		f, err := Folders(s).OneFolder(ctx, id)
		if err != nil {
			return boxes, err
		}
		if err := s.Expunge(ctx, id, folder.RangesOf(uids), false); err != nil {
			return boxes, err
		}
		boxes = append(boxes, f.Mailbox)
	}
	return boxes, nil
}

// PurgeSetAside removes mailboxes that were set aside before a time, one at a time, and
// reports whether there was one.
func (s Filed) PurgeSetAside(ctx context.Context, before time.Time) (mailbox string, err error) {
	if _, err = s.pool.Exec(ctx, `DELETE FROM mailbox_gone WHERE at < $1`, before); err != nil {
		return "", err
	}
	// The name says until when it was somebody's: see setAside.
	err = s.pool.QueryRow(ctx, `SELECT mailbox FROM mailbox_use
		WHERE mailbox LIKE '% (until %' AND substring(mailbox FROM '\(until (.{19})') < $1 LIMIT 1`,
		before.UTC().Format("2006-01-02 15:04:05")).Scan(&mailbox)
	if err = found(err); errors.Is(err, ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	_, err = s.pool.Exec(
		ctx,
		`WITH gone AS (DELETE FROM mailbox_message WHERE mailbox = $1 RETURNING *),
		loose AS (INSERT INTO content_loose (message_id) SELECT coalesce(content, id) FROM gone),
		folders AS (DELETE FROM folder WHERE mailbox = $1),
		used AS (DELETE FROM mailbox_use WHERE mailbox = $1)
		DELETE FROM mailbox_delta WHERE mailbox = $1`,
		mailbox,
	)
	return mailbox, err
}
