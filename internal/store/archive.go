package store

import (
	"bytes"
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/report"
)

// Archives are archives that were opened to be looked into.
type Archives struct{ *DB }

// ArchiveBlock is some lines of one kind.
type ArchiveBlock struct {
	Kind        string
	Seq         int
	First, Last ident.ID
	Data        []byte // lines
}

// BeginArchive makes room for an archive that is being opened.
func (s Archives) BeginArchive(ctx context.Context, name, who string) (id int64, err error) {
	err = s.pool.QueryRow(ctx,
		`INSERT INTO archive (hash, name, who) VALUES ('', $1, $2) RETURNING id`, name,
		who).Scan(&id)
	return id, err
}

// AddArchiveBlock keeps lines of an archive.
func (s Archives) AddArchiveBlock(ctx context.Context, id int64, b ArchiveBlock) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SET LOCAL synchronous_commit = off`); err != nil {
			return err
		}
		_, err := tx.Exec(
			ctx,
			`INSERT INTO archive_block (archive, seq, kind, first_id, last_id, data) VALUES ($1, $2,
				$3, $4, $5, $6)`,
			id,
			b.Seq,
			b.Kind,
			int64(b.First),
			int64(b.Last),
			pack.EncodeAll(b.Data, nil),
		)
		return err
	})
}

// AddArchiveSums keeps counts of an archive.
func (s Archives) AddArchiveSums(ctx context.Context, id int64, c *report.Count) error {
	b := &pgx.Batch{}
	for day, data := range c.Pack() {
		b.Queue(`INSERT INTO archive_sums (archive, dim, day, data) VALUES ($1, $2, $3, $4)`, id,
			day.Dim, day.Time(), pack.EncodeAll(data, nil))
	}
	return s.pool.SendBatch(ctx, b).Close()
}

// EndArchive makes an archive ready, or, if the same was opened before, forgets
// it and gives the one there was.
func (s Archives) EndArchive(
	ctx context.Context,
	a archive.Info,
	hash []byte,
) (archive.Info, error) {
	if known, err := s.ArchiveByHash(ctx, hash); err == nil {
		return known, s.CloseArchive(ctx, a.ID)
	}
	faults, _ := json.Marshal(a.Faults)
	about, _ := json.Marshal(a.About)
	_, err := s.pool.Exec(
		ctx,
		`UPDATE archive SET hash = $2, ready = true, octets = $3, lines = $4, damaged = $5,
			faults = $6, about = $7 WHERE id = $1`,
		a.ID,
		hash,
		a.Bytes,
		a.Lines,
		a.Damaged,
		faults,
		about,
	)
	if err != nil {
		return a, err
	}
	out, err := s.ArchiveByHash(ctx, hash)
	out.Known = false
	return out, err
}

// CloseArchive forgets an archive.
func (s Archives) CloseArchive(ctx context.Context, id int64) error {
	tag, err := s.pool.Exec(ctx, `DELETE FROM archive WHERE id = $1`, id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return err
}

// ForgetArchives forgets those that nobody has looked into since a time, and
// what is left of openings that broke off.
func (s Archives) ForgetArchives(ctx context.Context, before time.Time) error {
	_, err := s.pool.Exec(
		ctx,
		`DELETE FROM archive WHERE used_at < $1 OR NOT ready
			AND opened_at < now() - interval '1 day'`,
		before,
	)
	return err
}

const archiveColumns = `id, encode(hash, 'hex'), name, who, opened_at, octets, lines, damaged,
	faults, about`

func scanArchive(row pgx.CollectableRow) (archive.Info, error) {
	var a archive.Info
	err := row.Scan(&a.ID, &a.Hash, &a.Name, &a.Who, &a.OpenedAt, &a.Bytes, &a.Lines, &a.Damaged,
		&a.Faults, &a.About)
	a.OpenedAt = a.OpenedAt.UTC()
	return a, err
}

// ArchiveByHash is an archive that was opened before.
func (s Archives) ArchiveByHash(ctx context.Context, hash []byte) (archive.Info, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT `+archiveColumns+` FROM archive WHERE ready AND hash = $1`, hash)
	if err != nil {
		return archive.Info{}, err
	}
	a, err := pgx.CollectExactlyOneRow(rows, scanArchive)
	a.Known = true
	return a, found(err)
}

// Archives are the open ones, newest first.
func (s Archives) List(ctx context.Context) ([]archive.Info, error) {
	rows, err := s.pool.Query(ctx,
		`SELECT `+archiveColumns+` FROM archive WHERE ready ORDER BY id DESC`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanArchive)
}

// Opened is an archive to look into as one looks into the service's records.
type Opened struct {
	db *DB
	id int64
}

// OpenedArchive finds an archive and notes that it is used.
func (s Archives) OpenedArchive(ctx context.Context, id int64) (*Opened, error) {
	tag, err := s.pool.Exec(ctx, `UPDATE archive SET used_at = now() WHERE id = $1 AND ready`, id)
	if err != nil {
		return nil, err
	}
	if tag.RowsAffected() == 0 {
		return nil, ErrNotFound
	}
	return &Opened{s.DB, id}, nil
}

// blocksAhead is how many blocks are read together.
const blocksAhead = 4

// each goes through the lines of a kind, the newest first.
func (o *Opened) each(
	ctx context.Context,
	kind string,
	lower, upper ident.ID,
	needles [][]byte,
	visit func(line []byte) bool,
) error {
	return o.through(ctx, kind, lower, upper, false, needles, visit)
}

// through goes through the lines of a kind with ids in [lower, upper): the newest
// block first and each block's lines from its end, or the other way round. Only
// lines that hold all needles, whatever their case, are visited, until visit
// returns false.
func (o *Opened) through(
	ctx context.Context,
	kind string,
	lower, upper ident.ID,
	oldestFirst bool,
	needles [][]byte,
	visit func(line []byte) bool,
) error {
	last, beyond, lines := int64(1<<31-1), "seq < $5 ORDER BY seq DESC", linesBack
	if oldestFirst {
		last, beyond, lines = -1, "seq > $5 ORDER BY seq", linesOn
	}
	for {
		rows, err := o.db.pool.Query(
			ctx,
			`SELECT seq, data FROM archive_block WHERE archive = $1 AND kind = $2 AND last_id >= $3
				AND first_id < $4 AND `+beyond+` LIMIT $6`,
			o.id,
			kind,
			int64(lower),
			int64(upper),
			last,
			blocksAhead,
		)
		if err != nil {
			return err
		}
		type block struct {
			Seq  int64
			Data []byte
		}
		blocks, err := pgx.CollectRows(rows, pgx.RowToStructByPos[block])
		if err != nil || len(blocks) == 0 {
			return err
		}
		for _, b := range blocks {
			last = b.Seq
			text, err := unpackBlock.DecodeAll(b.Data, nil)
			if err != nil {
				return err
			}
			wanted, low := needles, text
			if len(needles) > 0 {
				low = bytes.ToLower(text)
			}
			if len(low) != len(text) { // messages whose other case is longer: look at all
				wanted, low = nil, text
			}
			if holdsAll(low, wanted) && !lines(text, low, wanted, visit) {
				return nil
			}
		}
	}
}

// linesBack visits the lines of a text that can match from its end.
func linesBack(text, lower []byte, needles [][]byte, visit func([]byte) bool) bool {
	for end := len(text); end > 0; {
		start := bytes.LastIndexByte(text[:end-1], '\n') + 1
		line, low := text[start:end], lower[start:end]
		end = start
		if holdsAll(low, needles) && !visit(bytes.TrimRight(line, "\n")) {
			return false
		}
		if len(needles) > 0 && end > 0 { // go on at the next line back that can match
			i := bytes.LastIndex(lower[:end], needles[0])
			if i < 0 {
				return true
			}
			if n := bytes.IndexByte(lower[i:end], '\n'); n >= 0 {
				end = i + n + 1
			}
		}
	}
	return true
}

// linesOn visits the lines of a text that can match from its beginning.
func linesOn(text, lower []byte, needles [][]byte, visit func([]byte) bool) bool {
	for start := 0; start < len(text); {
		if len(needles) > 0 { // go on at the next line that can match
			i := bytes.Index(lower[start:], needles[0])
			if i < 0 {
				return true
			}
			start += bytes.LastIndexByte(lower[start:start+i], '\n') + 1
		}
		end := len(text)
		if n := bytes.IndexByte(text[start:], '\n'); n >= 0 {
			end = start + n
		}
		if holdsAll(lower[start:end], needles) && !visit(text[start:end]) {
			return false
		}
		start = end + 1
	}
	return true
}

func holdsAll(line []byte, needles [][]byte) bool {
	for _, n := range needles {
		if !bytes.Contains(line, n) {
			return false
		}
	}
	return true
}

// Message reads a message of the archive.
func (o *Opened) Message(ctx context.Context, id ident.ID) (mail.Message, error) {
	l, err := o.message(ctx, id)
	if err != nil {
		return mail.Message{}, err
	}
	return l.Message, nil
}

func (o *Opened) message(ctx context.Context, id ident.ID) (*archive.MessageLine, error) {
	var l *archive.MessageLine
	var fault error
	err := o.each(ctx, archive.Message, id, id+1, nil, func(line []byte) bool {
		if first, ok := archive.FirstID(line); !ok || first != id {
			return true
		}
		l, fault = archive.ReadMessage(line)
		return false
	})
	if err == nil {
		err = fault
	}
	if err == nil && l == nil {
		err = ErrNotFound
	}
	return l, err
}

// Events reads what happened to a message.
func (o *Opened) Events(ctx context.Context, id ident.ID) ([]mail.Event, error) {
	l, err := o.message(ctx, id)
	if err != nil {
		return nil, err
	}
	return l.Events, nil
}

// Generated are the messages that a message generated.
func (o *Opened) Generated(ctx context.Context, id ident.ID) ([]mail.Message, error) {
	out := []mail.Message{}
	needle := bytes.ToLower([]byte(`"notice_of":"` + id.String() + `"`))
	err := o.each(ctx, archive.Message, id+1, 1<<63-1, [][]byte{needle}, func(line []byte) bool {
		if l, err := archive.ReadMessage(line); err == nil && l.Message.NoticeOf == id {
			out = append([]mail.Message{l.Message}, out...)
		}
		return true
	})
	return out[:min(len(out), maxGenerated)], err
}

// Refusal reads a refusal.
func (o *Opened) Refusal(ctx context.Context, id ident.ID) (r mail.Refusal, err error) {
	fault := ErrNotFound
	err = o.each(ctx, archive.Refusal, id, id+1, nil, func(line []byte) bool {
		if first, ok := archive.FirstID(line); !ok || first != id {
			return true
		}
		r, fault = archive.ReadRefusal(line)
		return false
	})
	if err == nil {
		err = fault
	}
	return r, err
}

// RefusalsOf are the refusals of a session.
func (o *Opened) RefusalsOf(
	ctx context.Context,
	session ident.ID,
	_ string,
	ended time.Time,
) ([]mail.Refusal, error) {
	var out []mail.Refusal
	needle := bytes.ToLower([]byte(`"session_id":"` + session.String() + `"`))
	err := o.each(
		ctx,
		archive.Refusal,
		session,
		ident.Floor(ended.Add(time.Minute)),
		[][]byte{needle},
		func(line []byte) bool {
			if r, err := archive.ReadRefusal(line); err == nil && r.SessionID == session {
				out = append([]mail.Refusal{r}, out...)
			}
			return true
		},
	)
	return out, err
}
