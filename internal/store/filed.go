package store

import (
	"context"
	"errors"
	"io"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
)

// Filed are the messages that lie in folders.
type Filed struct{ *DB }

const itemColumns = `m.uid, m.id, m.sender, m.subject, m.received_at, m.size, m.flags, m.keywords,
	coalesce(m.content, m.id), m.plain`

func scanItem(row pgx.CollectableRow) (folder.Item, error) {
	var i folder.Item
	var uid int64
	err := row.Scan(
		&uid,
		&i.ID,
		&i.Sender,
		&i.Subject,
		&i.Received,
		&i.Size,
		&i.Flags,
		&i.Keywords,
		&i.Content,
		&i.Plain,
	)
	i.UID, i.Received = uint32(uid), i.Received.UTC()
	return i, err
}

// UIDs are the numbers of a folder's messages as they were at one change number.
func (s Filed) UIDs(ctx context.Context, id int64) (uids []uint32, modSeq int64, err error) {
	b := &pgx.Batch{}
	b.Queue(`SELECT mod_seq FROM folder WHERE id = $1`, id)
	b.Queue(`SELECT uid FROM mailbox_message WHERE folder = $1 ORDER BY uid`, id)
	err = s.readOnly(ctx, func(tx pgx.Tx) error {
		r := tx.SendBatch(ctx, b)
		defer r.Close()
		if err := r.QueryRow().Scan(&modSeq); err != nil {
			return found(err)
		}
		rows, err := r.Query()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var uid int64
			if err := rows.Scan(&uid); err != nil {
				return err
			}
			uids = append(uids, uint32(uid))
		}
		return rows.Err()
	})
	return uids, modSeq, err
}

// readOnly runs f on one state of the database.
func (s *DB) readOnly(ctx context.Context, f func(pgx.Tx) error) error {
	return pgx.BeginTxFunc(
		ctx,
		s.pool,
		pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
		f,
	)
}

// Changes are what became of a folder after a change number.
type Changes struct {
	ModSeq  int64
	Gone    []uint32
	Changed []folder.Item // came, or have other flags
	// Lost says that the folder is not there any more.
	Lost bool
}

// ChangesSince are the changes after a change number, in the order of numbers.
func (s Filed) ChangesSince(ctx context.Context, id, since int64) (c Changes, err error) {
	err = s.readOnly(ctx, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `SELECT mod_seq FROM folder WHERE id = $1`, id).Scan(&c.ModSeq)
		if errors.Is(err, pgx.ErrNoRows) {
			c.Lost = true
			return nil
		}
		if err != nil || c.ModSeq == since {
			return err
		}
		rows, err := tx.Query(
			ctx,
			`SELECT uid FROM folder_gone WHERE folder = $1 AND mod_seq > $2 ORDER BY uid`,
			id,
			since,
		)
		if err != nil {
			return err
		}
		gone, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return err
		}
		for _, uid := range gone {
			c.Gone = append(c.Gone, uint32(uid))
		}
		rows, err = tx.Query(
			ctx,
			`SELECT `+itemColumns+` FROM mailbox_message m WHERE folder = $1 AND mod_seq > $2
			ORDER BY uid`,
			id,
			since,
		)
		if err != nil {
			return err
		}
		c.Changed, err = pgx.CollectRows(rows, scanItem)
		return err
	})
	return c, err
}

// Items are messages of a folder, in the order of their numbers.
func (s Filed) Items(ctx context.Context, id int64, r folder.Ranges) ([]folder.Item, error) {
	low, high := bounds(r)
	rows, err := s.pool.Query(ctx, `SELECT `+itemColumns+`
		FROM unnest($2::bigint[], $3::bigint[]) AS r(low, high)
		JOIN mailbox_message m ON m.folder = $1 AND m.uid BETWEEN r.low AND r.high ORDER BY m.uid`,
		id, low, high)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanItem)
}

// Latest are messages of a folder, newest first, below a number if one is given.
func (s Filed) Latest(
	ctx context.Context,
	id int64,
	below uint32,
	limit int,
) ([]folder.Item, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+itemColumns+` FROM mailbox_message m WHERE folder = $1
		AND ($2::bigint = 0 OR uid < $2) ORDER BY uid DESC LIMIT $3`, id, int64(below), limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanItem)
}

// Oldest are messages of a folder, oldest first.
func (s Filed) Oldest(ctx context.Context, id int64, limit int) ([]folder.Item, error) {
	rows, err := s.pool.Query(ctx, `SELECT `+itemColumns+` FROM mailbox_message m WHERE folder = $1
		ORDER BY uid LIMIT $2`, id, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanItem)
}

// FirstUnseen is the number of the first message that was not read; 0 if all were.
func (s Filed) FirstUnseen(ctx context.Context, id int64) (uint32, error) {
	var uid int64
	err := s.pool.QueryRow(ctx, `SELECT uid FROM mailbox_message WHERE folder = $1 AND flags & 1 = 0 ORDER BY uid
		LIMIT 1`, id).
		Scan(&uid)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return uint32(uid), err
}

// Keywords are those that messages of a folder have, the first of them.
func (s Filed) Keywords(ctx context.Context, id int64, limit int) ([]string, error) {
	rows, err := s.pool.Query(ctx, `SELECT DISTINCT unnest(keywords) AS k FROM mailbox_message
		WHERE folder = $1 AND keywords <> '{}' ORDER BY k LIMIT $2`, id, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// Mark changes flags, and gives back the messages whose flags are others now.
func (s Filed) Mark(
	ctx context.Context,
	id int64,
	r folder.Ranges,
	how folder.Change,
	flags folder.Flags,
	keywords []string,
) (changed []folder.Item, err error) {
	low, high := bounds(r)
	if keywords == nil {
		keywords = []string{}
	}
	fresh := map[folder.Change][2]string{
		folder.Set: {`$4::int`, `$5::text[]`},
		folder.Add: {`flags | $4::int`, `keywords || array(SELECT k FROM unnest($5::text[]) AS k
			WHERE k <> ALL(keywords))`},
		folder.Remove: {`flags & ~$4::int`, `array(SELECT k FROM unnest(keywords) AS k WHERE k <> ALL($5::text[]))`},
	}[how]
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		f, err := lockFolder(ctx, tx, `id = $1`, id)
		if err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `WITH old AS (
				SELECT m.mailbox, m.id, m.flags AS was, m.keywords AS words, `+fresh[0]+` AS flags, `+fresh[1]+` AS keywords
				FROM unnest($2::bigint[], $3::bigint[]) AS r(low, high)
				JOIN mailbox_message m ON m.folder = $1 AND m.uid BETWEEN r.low AND r.high
			), fresh AS (
				UPDATE mailbox_message m SET flags = o.flags, keywords = o.keywords, mod_seq = $6
				FROM old o WHERE m.mailbox = o.mailbox AND m.id = o.id AND (o.flags <> o.was OR o.keywords <> o.words)
				RETURNING m.*, o.was
			), sums AS (
				UPDATE folder SET mod_seq = $6,
					unseen = unseen + (SELECT coalesce(sum((was & 1) - (flags & 1)), 0) FROM fresh),
					deleted = deleted + (SELECT coalesce(sum((flags & 8) - (was & 8)), 0) / 8 FROM fresh)
				WHERE id = $1 AND EXISTS (SELECT FROM fresh)
			)
			SELECT `+itemColumns+` FROM fresh m ORDER BY uid`, id, low, high, int(flags), keywords, f.ModSeq+1)
		if err != nil {
			return err
		}
		changed, err = pgx.CollectRows(rows, scanItem)
		return err
	})
	return changed, err
}

// Expunge removes messages: those of the ranges that are marked as deleted, or all of them.
func (s Filed) Expunge(ctx context.Context, id int64, r folder.Ranges, marked bool) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		f, err := lockFolder(ctx, tx, `id = $1`, id)
		if err != nil {
			return err
		}
		return dropMessages(ctx, tx, f, r, marked)
	})
}

// dropMessages removes messages of a folder that is locked.
func dropMessages(
	ctx context.Context,
	tx pgx.Tx,
	f folder.Folder,
	r folder.Ranges,
	marked bool,
) error {
	low, high := bounds(r)
	_, err := tx.Exec(ctx, `WITH gone AS (
			DELETE FROM mailbox_message m USING unnest($2::bigint[], $3::bigint[]) AS r(low, high)
			WHERE m.folder = $1 AND m.uid BETWEEN r.low AND r.high AND (NOT $4 OR m.flags & 8 <> 0) RETURNING m.*
		), told AS (INSERT INTO folder_gone (folder, mod_seq, uid) SELECT $1, $5, uid FROM gone
		), loose AS (INSERT INTO content_loose (message_id) SELECT coalesce(content, id) FROM gone
		), used AS (INSERT INTO mailbox_delta SELECT mailbox, -count(*), -sum(size) FROM gone GROUP BY mailbox
		)
		UPDATE folder SET mod_seq = $5, messages = messages - n, octets = folder.octets - s.octets,
			unseen = folder.unseen - s.unseen, deleted = folder.deleted - s.deleted
		FROM (SELECT count(*) AS n, coalesce(sum(size), 0) AS octets, count(*) FILTER (WHERE flags & 1 = 0) AS unseen,
			count(*) FILTER (WHERE flags & 8 <> 0) AS deleted FROM gone) s WHERE folder.id = $1 AND n > 0`,
		f.ID, low, high, marked, f.ModSeq+1)
	return err
}

// Moved says which numbers messages had and have now.
type Moved struct{ From, To []uint32 }

// lockBoth locks two folders in the order of their ids, so that two who move against each
// other do not wait for each other.
func lockBoth(ctx context.Context, tx pgx.Tx, a, b int64) (x, y folder.Folder, err error) {
	rows, err := tx.Query(
		ctx,
		`SELECT `+folderColumns+` FROM folder WHERE id = ANY($1) ORDER BY id FOR UPDATE`,
		[]int64{a, b},
	)
	if err != nil {
		return x, y, err
	}
	list, err := pgx.CollectRows(rows, scanFolder)
	if err != nil {
		return x, y, err
	}
	for _, f := range list {
		if f.ID == a {
			x = f
		}
		if f.ID == b {
			y = f
		}
	}
	if x.ID == 0 || y.ID == 0 {
		return x, y, ErrNotFound
	}
	return x, y, nil
}

func collectMoved(rows pgx.Rows, err error) (m Moved, _ error) {
	if err != nil {
		return m, err
	}
	defer rows.Close()
	for rows.Next() {
		var from, to int64
		if err := rows.Scan(&from, &to); err != nil {
			return m, err
		}
		m.From, m.To = append(m.From, uint32(from)), append(m.To, uint32(to))
	}
	return m, rows.Err()
}

// enteredSQL counts messages that came into a folder: $2 is the folder, put the rows.
const enteredSQL = ` UPDATE folder SET uid_next = uid_next + s.n, mod_seq = mod_seq + 1, messages = messages + s.n,
		octets = folder.octets + s.octets, unseen = folder.unseen + s.unseen, deleted = folder.deleted + s.deleted
	FROM (SELECT count(*) AS n, coalesce(sum(size), 0) AS octets, count(*) FILTER (WHERE flags & 1 = 0) AS unseen,
		count(*) FILTER (WHERE flags & 8 <> 0) AS deleted FROM put) s WHERE folder.id = $2 AND s.n > 0`

// Copy puts copies of messages into a folder. ids give each its id.
func (s Filed) Copy(
	ctx context.Context,
	from, to folder.Folder,
	r folder.Ranges,
	ids *ident.Maker,
) (m Moved,
	err error) {
	low, high := bounds(r)
	fresh := make([]int64, r.Count())
	for i := range fresh {
		fresh[i] = int64(ids.Next())
	}
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		_, target, err := lockBoth(ctx, tx, from.ID, to.ID)
		if err != nil {
			return err
		}
		m, err = collectMoved(tx.Query(ctx, `WITH old AS (
				SELECT m.*, row_number() OVER (ORDER BY m.uid) AS n FROM unnest($3::bigint[], $4::bigint[]) AS r(low, high)
				JOIN mailbox_message m ON m.folder = $1 AND m.uid BETWEEN r.low AND r.high
			), put AS (
				INSERT INTO mailbox_message (mailbox, id, sender, subject, received_at, size, folder, uid, mod_seq, flags,
					keywords, content, plain, filed_at)
				SELECT $5, ($6::bigint[])[n], sender, subject, received_at, size, $2, $7 + n - 1, $8, flags, keywords,
					coalesce(content, id), plain, now() FROM old RETURNING *
			), used AS (INSERT INTO mailbox_delta SELECT $5, count(*), sum(size) FROM put HAVING count(*) > 0
			), counted AS (`+enteredSQL+`)
			SELECT uid, $7 + n - 1 FROM old ORDER BY uid`, from.ID, to.ID, low, high, to.Mailbox, fresh,
			int64(target.Next), target.ModSeq+1))
		return err
	})
	return m, err
}

// Move puts messages into another folder of the same mailbox or, with ids, of another.
func (s Filed) Move(
	ctx context.Context,
	from, to folder.Folder,
	r folder.Ranges,
	ids *ident.Maker,
) (m Moved,
	err error) {
	low, high := bounds(r)
	var fresh []int64
	if from.Mailbox != to.Mailbox {
		for range r.Count() {
			fresh = append(fresh, int64(ids.Next()))
		}
	}
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		source, target, err := lockBoth(ctx, tx, from.ID, to.ID)
		if err != nil {
			return err
		}
		m, err = collectMoved(tx.Query(ctx, `WITH old AS (
				SELECT m.mailbox, m.id, m.uid, m.size, m.flags, row_number() OVER (ORDER BY m.uid) AS n
				FROM unnest($3::bigint[], $4::bigint[]) AS r(low, high)
				JOIN mailbox_message m ON m.folder = $1 AND m.uid BETWEEN r.low AND r.high
			), put AS (
				UPDATE mailbox_message m SET folder = $2, uid = $7 + o.n - 1, mod_seq = $8, filed_at = now(),
					mailbox = $5, id = coalesce(($6::bigint[])[o.n], m.id),
					content = CASE WHEN $6::bigint[] IS NULL THEN m.content ELSE coalesce(m.content, m.id) END
				FROM old o WHERE m.mailbox = o.mailbox AND m.id = o.id RETURNING m.*
			), told AS (INSERT INTO folder_gone (folder, mod_seq, uid) SELECT $1, $9, uid FROM old
			), used AS (INSERT INTO mailbox_delta
				SELECT mailbox, -count(*), -sum(size) FROM old WHERE mailbox <> $5 GROUP BY mailbox
				UNION ALL SELECT $5, count(*), sum(size) FROM old WHERE mailbox <> $5 HAVING count(*) > 0
			), left_ AS (
				UPDATE folder SET mod_seq = $9, messages = messages - s.n, octets = folder.octets - s.octets,
					unseen = folder.unseen - s.unseen, deleted = folder.deleted - s.deleted
				FROM (SELECT count(*) AS n, coalesce(sum(size), 0) AS octets,
					count(*) FILTER (WHERE flags & 1 = 0) AS unseen, count(*) FILTER (WHERE flags & 8 <> 0) AS deleted
					FROM old) s WHERE folder.id = $1 AND s.n > 0
			), counted AS (`+enteredSQL+`)
			SELECT uid, $7 + n - 1 FROM old ORDER BY uid`, from.ID, to.ID, low, high, to.Mailbox, fresh,
			int64(target.Next), target.ModSeq+1, source.ModSeq+1))
		return err
	})
	return m, err
}

// Append puts a message into a folder whose content StoreKept has stored, and gives its number.
func (s Filed) Append(
	ctx context.Context,
	to folder.Folder,
	i folder.Item,
) (uid uint32, err error) {
	if i.Keywords == nil {
		i.Keywords = []string{}
	}
	err = s.inTx(ctx, func(tx pgx.Tx) error {
		target, err := lockFolder(ctx, tx, `id = $1`, to.ID)
		if err != nil {
			return err
		}
		uid = target.Next
		_, err = tx.Exec(
			ctx,
			`WITH put AS (
				INSERT INTO mailbox_message (mailbox, id, sender, subject, received_at, size, folder, uid, mod_seq, flags,
					keywords, plain, filed_at)
				VALUES ($1, $3, '', $4, $5, $6, $2, $7, $8, $9, $10, true, now()) RETURNING *
			), used AS (INSERT INTO mailbox_delta SELECT mailbox, 1, size FROM put)`+enteredSQL,
			to.Mailbox,
			to.ID,
			int64(i.ID),
			i.Subject,
			i.Received,
			i.Size,
			int64(uid),
			target.ModSeq+1,
			int(i.Flags),
			i.Keywords,
		)
		return err
	})
	return uid, err
}

// StoreKept stores content that a reader puts into a mailbox. It is loose until a message
// refers to it. The error of content that ends early is its reader's.
func (s Filed) StoreKept(
	ctx context.Context,
	id ident.ID,
	content io.Reader,
) (size int64, err error) {
	if _, err := s.pool.Exec(ctx, `INSERT INTO content_loose (message_id) VALUES ($1)`, int64(id)); err != nil {
		return 0, err
	}
	piece := make([]byte, PieceSize)
	for seq := 0; ; seq++ {
		n, err := io.ReadFull(content, piece)
		if n > 0 || seq == 0 {
			if _, err := s.pool.Exec(ctx, `INSERT INTO kept_content (message_id, seq, data) VALUES ($1, $2, $3)`,
				int64(id), seq, piece[:n]); err != nil {
				return size, err
			}
			size += int64(n)
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return size, nil
		case err != nil:
			return size, err
		}
	}
}

// Head is what stands before the content of an item.
func Head(i *folder.Item) []byte {
	if i.Plain {
		return nil
	}
	return returnPath(i.Sender)
}

// Piece is a piece of a message's content; ErrNotFound behind the last.
func (s Filed) Piece(ctx context.Context, content ident.ID, seq int) ([]byte, error) {
	var data []byte
	err := s.pool.QueryRow(ctx, `SELECT data FROM content WHERE message_id = $1 AND seq = $2
		UNION ALL SELECT data FROM kept_content WHERE message_id = $1 AND seq = $2 LIMIT 1`, int64(content),
		seq).Scan(&data)
	return data, found(err)
}

// FirstPieces are the first pieces of some messages' contents, by message.
func (s Filed) FirstPieces(ctx context.Context, contents []ident.ID) (map[ident.ID][]byte, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT message_id, data FROM content WHERE message_id = ANY($1) AND seq = 0
		UNION ALL SELECT message_id, data FROM kept_content WHERE message_id = ANY($1) AND seq = 0`,
		int64s(contents),
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make(map[ident.ID][]byte, len(contents))
	for rows.Next() {
		var id int64
		var data []byte
		if err := rows.Scan(&id, &data); err != nil {
			return nil, err
		}
		out[ident.ID(id)] = data
	}
	return out, rows.Err()
}
