package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gullroute/internal/core/folder"
)

// Folders are the folders of mailboxes. Every change of what lies in a folder locks its row
// first, and counts its change number up: so numbers are given in the order of commits, and a
// reader that knows one change number can ask for all that came after it.
type Folders struct{ *DB }

// ErrThere reports a folder whose name is taken, ErrMany a mailbox with too many of them.
var (
	ErrThere = errors.New("there is a folder of that name")
	ErrMany  = errors.New("the mailbox has too many folders")
)

const folderColumns = `id, mailbox, name, use, subscribed, messages, unseen, deleted, octets, uid_next, mod_seq`

func scanFolder(row pgx.CollectableRow) (folder.Folder, error) {
	var f folder.Folder
	var next int64
	err := row.Scan(
		&f.ID,
		&f.Mailbox,
		&f.Name,
		&f.Use,
		&f.Subscribed,
		&f.Messages,
		&f.Unseen,
		&f.Deleted,
		&f.Octets,
		&next,
		&f.ModSeq,
	)
	f.Next = uint32(next)
	return f, err
}

// furnish makes the usual folders of a mailbox that has none yet.
func (s Folders) furnish(ctx context.Context, mailbox string) error {
	names, uses := []string{folder.Inbox}, []string{""}
	for _, u := range folder.Usual {
		names, uses = append(names, u.Name), append(uses, u.Use)
	}
	_, err := s.pool.Exec(ctx, `INSERT INTO folder (mailbox, name, use)
		SELECT $1, n, u FROM unnest($2::text[], $3::text[]) AS x(n, u) ON CONFLICT DO NOTHING`,
		mailbox, names, uses)
	return err
}

// Folders are the folders of a mailbox, by name; what has just come is in the inbox.
func (s Folders) Folders(ctx context.Context, mailbox string) ([]folder.Folder, error) {
	if err := s.File(ctx, mailbox); err != nil {
		return nil, err
	}
	rows, err := s.pool.Query(ctx, `SELECT `+folderColumns+` FROM folder WHERE mailbox = $1
		ORDER BY name <> 'INBOX', name LIMIT $2`, mailbox, folder.MaxFolders+10)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanFolder)
}

// Folder is one folder of a mailbox; ErrNotFound if there is none.
func (s Folders) Folder(ctx context.Context, mailbox, name string) (folder.Folder, error) {
	if name == folder.Inbox {
		if err := s.File(ctx, mailbox); err != nil {
			return folder.Folder{}, err
		}
	}
	rows, err := s.pool.Query(
		ctx,
		`SELECT `+folderColumns+` FROM folder WHERE mailbox = $1 AND name = $2`,
		mailbox,
		name,
	)
	if err != nil {
		return folder.Folder{}, err
	}
	f, err := pgx.CollectExactlyOneRow(rows, scanFolder)
	return f, found(err)
}

// OneFolder is a folder by its number.
func (s Folders) OneFolder(ctx context.Context, id int64) (folder.Folder, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+folderColumns+` FROM folder WHERE id = $1`, id)
	if err != nil {
		return folder.Folder{}, err
	}
	f, err := pgx.CollectExactlyOneRow(rows, scanFolder)
	return f, found(err)
}

// File puts what has come into a mailbox since the last time into its inbox: each message
// gets its number. It costs one look at an index if nothing came.
func (s Folders) File(ctx context.Context, mailbox string) error {
	var there, fresh bool
	err := s.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM folder WHERE mailbox = $1 AND name = 'INBOX'),
		EXISTS (SELECT FROM mailbox_message WHERE mailbox = $1 AND folder IS NULL)`, mailbox).
		Scan(&there, &fresh)
	if err != nil {
		return err
	}
	if !there {
		if err := s.furnish(ctx, mailbox); err != nil {
			return err
		}
	}
	if !fresh {
		return nil
	}
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, `SELECT id FROM folder WHERE mailbox = $1 AND name = 'INBOX' FOR UPDATE`,
			mailbox).
			Scan(&id)
		if err != nil {
			return found(err)
		}
		// A message that is withdrawn was never ours.
		_, err = tx.Exec(
			ctx,
			`WITH f AS (SELECT uid_next, mod_seq FROM folder WHERE id = $2), fresh AS (
				SELECT id, row_number() OVER (ORDER BY id) - 1 AS n FROM mailbox_message m
				WHERE mailbox = $1 AND folder IS NULL
					AND NOT EXISTS (SELECT FROM withdrawn w WHERE w.message_id = m.id)
			), filed AS (
				UPDATE mailbox_message m SET folder = $2, uid = f.uid_next + fresh.n, mod_seq = f.mod_seq + 1
				FROM fresh, f WHERE m.mailbox = $1 AND m.id = fresh.id RETURNING m.size
			), sums AS (SELECT count(*) AS n, coalesce(sum(size), 0) AS octets FROM filed)
			UPDATE folder SET uid_next = uid_next + n, mod_seq = mod_seq + 1, messages = messages + n,
				unseen = unseen + n, octets = folder.octets + sums.octets FROM sums WHERE id = $2 AND n > 0`,
			mailbox,
			id,
		)
		return err
	})
}

// Opened notes that a program has a folder open, so that it will be searched.
func (s Folders) Opened(ctx context.Context, id int64) error {
	_, err := s.pool.Exec(ctx, `UPDATE folder SET opened = true WHERE id = $1 AND NOT opened`, id)
	return err
}

// Fresh are the mailboxes of some into which something came that lies in no folder yet.
func (s Folders) Fresh(ctx context.Context, mailboxes []string) ([]string, error) {
	rows, err := s.pool.Query(ctx, `SELECT DISTINCT mailbox FROM mailbox_message
		WHERE folder IS NULL AND mailbox = ANY($1)`, mailboxes)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Create makes a folder, and those above it that are not there.
func (s Folders) Create(ctx context.Context, mailbox, name, use string) error {
	names := append(folder.Parents(name), name)
	return s.inTx(ctx, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, `SELECT count(*) FROM folder WHERE mailbox = $1`, mailbox).Scan(&n); err != nil {
			return err
		}
		if n+len(names) > folder.MaxFolders {
			return ErrMany
		}
		tag, err := tx.Exec(ctx, `INSERT INTO folder (mailbox, name, use)
			SELECT $1, n, CASE WHEN n = $3 THEN $4 ELSE '' END FROM unnest($2::text[]) AS n
			ON CONFLICT DO NOTHING`, mailbox, names, name, use)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrThere
		}
		return nil
	})
}

// Rename gives a folder, and those under it, another name. What lies in the inbox moves into
// a new folder instead, and the inbox stays (RFC 9051 section 6.3.6).
func (s Folders) Rename(ctx context.Context, mailbox, from, to string) error {
	if from == folder.Inbox {
		if err := s.Create(ctx, mailbox, to, ""); err != nil {
			return err
		}
		return s.moveAll(ctx, mailbox, from, to)
	}
	err := s.inTx(ctx, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, `SELECT id FROM folder WHERE mailbox = $1 AND name = $2 FOR UPDATE`, mailbox,
			from).
			Scan(&id)
		if err != nil {
			return found(err)
		}
		if parents := folder.Parents(to); len(parents) > 0 {
			if _, err := tx.Exec(ctx, `INSERT INTO folder (mailbox, name) SELECT $1, n FROM unnest($2::text[]) AS n
				ON CONFLICT DO NOTHING`, mailbox, parents); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, `UPDATE folder SET name = $3 || substr(name, length($2) + 1)
			WHERE mailbox = $1 AND (name = $2 OR starts_with(name, $2 || '/'))`, mailbox, from, to)
		return err
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return ErrThere
	}
	return err
}

func (s Folders) moveAll(ctx context.Context, mailbox, from, to string) error {
	source, err := s.Folder(ctx, mailbox, from)
	if err != nil {
		return err
	}
	target, err := s.Folder(ctx, mailbox, to)
	if err != nil || source.Messages == 0 {
		return err
	}
	_, err = Filed(s).Move(ctx, source, target, folder.Ranges{{Low: 1, High: source.Next}}, nil)
	return err
}

// Delete removes a folder with what lies in it; those under it stay.
func (s Folders) Delete(ctx context.Context, mailbox, name string) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		f, err := lockFolder(ctx, tx, `mailbox = $1 AND name = $2`, mailbox, name)
		if err != nil {
			return err
		}
		if err := dropMessages(ctx, tx, f, folder.Ranges{{Low: 1, High: f.Next}}, false); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `WITH a AS (DELETE FROM folder_gone WHERE folder = $1)
			DELETE FROM folder WHERE id = $1`, f.ID)
		return err
	})
}

// Subscribe says whether a folder is among those that mail programs show.
func (s Folders) Subscribe(ctx context.Context, mailbox, name string, on bool) error {
	tag, err := s.pool.Exec(
		ctx,
		`UPDATE folder SET subscribed = $3 WHERE mailbox = $1 AND name = $2`,
		mailbox,
		name,
		on,
	)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// lockFolder locks a folder's row and reads it.
func lockFolder(ctx context.Context, tx pgx.Tx, where string, args ...any) (folder.Folder, error) {
	rows, err := tx.Query(
		ctx,
		`SELECT `+folderColumns+` FROM folder WHERE `+where+` FOR UPDATE`,
		args...)
	if err != nil {
		return folder.Folder{}, err
	}
	f, err := pgx.CollectExactlyOneRow(rows, scanFolder)
	return f, found(err)
}

// bounds are ranges as arguments of unnest.
func bounds(r folder.Ranges) (low, high []int64) {
	low, high = make([]int64, len(r)), make([]int64, len(r))
	for i := range r {
		low[i], high[i] = int64(r[i].Low), int64(r[i].High)
	}
	return low, high
}

// unfile tells folders of messages that were taken back by their ids; their rows are there
// still.
func unfile(ctx context.Context, tx pgx.Tx, ids []int64, least, most int64) error {
	rows, err := tx.Query(
		ctx,
		`SELECT id FROM folder WHERE id IN (SELECT folder FROM mailbox_message
		WHERE id = ANY($1) AND id BETWEEN $2 AND $3) ORDER BY id FOR UPDATE`,
		ids,
		least,
		most,
	)
	if err != nil {
		return err
	}
	folders, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil || len(folders) == 0 {
		return err
	}
	_, err = tx.Exec(ctx, `WITH gone AS (SELECT folder, uid, size, flags FROM mailbox_message
			WHERE id = ANY($1) AND id BETWEEN $2 AND $3 AND folder IS NOT NULL
		), told AS (INSERT INTO folder_gone (folder, mod_seq, uid)
			SELECT g.folder, f.mod_seq + 1, g.uid FROM gone g JOIN folder f ON f.id = g.folder
		)
		UPDATE folder f SET mod_seq = mod_seq + 1, messages = messages - n, octets = f.octets - s.octets,
			unseen = f.unseen - s.unseen, deleted = f.deleted - s.deleted
		FROM (SELECT folder, count(*) AS n, sum(size) AS octets, count(*) FILTER (WHERE flags & 1 = 0) AS unseen,
			count(*) FILTER (WHERE flags & 8 <> 0) AS deleted FROM gone GROUP BY folder) s WHERE s.folder = f.id`,
		ids, least, most)
	return err
}
