package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/ident"
)

// Of the whole life of a message for a mailbox of ours.
const (
	lived  = 40_000  // messages of a round
	inBox  = 200_000 // that lie in the mailbox before
	before = 1_000_000
)

// life is what the whole life of messages took.
type life struct {
	rate   float64 // messages a second, from the first connection to the last one findable
	log    float64 // octets of the write-ahead log for each
	server float64 // microseconds of the database's processes for each
}

// whole measures messages as users have them: the real service in its own process, with
// transcripts, identity, counts and words, on the machine that it shares with PostgreSQL
// and the client. A message's life ends when it is in the mailbox, counted and findable.
func (b *bench) whole() ([]result, error) {
	var rates, accepted, files, logs, servers []float64
	for range b.rounds {
		a, err := b.acceptDurable(lived)
		if err != nil {
			return nil, err
		}
		f, err := b.files(lived)
		if err != nil {
			return nil, err
		}
		l, err := b.earlyLife()
		if err != nil {
			return nil, err
		}
		accepted, files, rates = append(accepted, a), append(files, f), append(rates, l.rate)
		logs, servers = append(logs, l.log/1000), append(servers, l.server)
	}
	late, err := b.lateLife()
	if err != nil {
		return nil, err
	}
	v, base, ratios := median(rates, accepted)
	results := []result{
		{"whole life: accepted, in the mailbox, counted, findable", "accept", v, base,
			"messages/s", v / base, ratios, ">= 0.6", v/base >= 0.6},
	}
	v, base, ratios = median(rates, files)
	log, server := middle(logs), middle(servers)
	filled, none, lates := median(late, rates)
	return append(
		results,
		result{
			"whole life, 1,000,000 messages in history, 200,000 in the mailbox",
			"with none",
			filled,
			none,
			"messages/s",
			filled / none,
			lates,
			">= 0.95",
			filled/none >= 0.95,
		},
		result{"whole life", "50 workers, each a file and fdatasync a message", v, base,
			"messages/s", v / base, ratios, ">= 0.8", v/base >= 0.8},
		one("whole life: log written for a 4 KB message", "6 KB", log, 6, "KB", "<= 1", log <= 6),
		one("whole life: time of PostgreSQL for a message", "300 µs", server, 300, "µs", "<= 1",
			server <= 300),
	), nil
}

// earlyLife is a round with an empty database.
func (b *bench) earlyLife() (life, error) {
	h, err := b.newHarbour()
	if err != nil {
		return life{}, err
	}
	defer h.close()
	return h.life()
}

// lateLife are the rates of all rounds with a full one.
func (b *bench) lateLife() (rates []float64, err error) {
	h, err := b.newHarbour()
	if err != nil {
		return nil, err
	}
	defer h.close()
	if err := h.fillMailbox(before); err != nil {
		return nil, err
	}
	for range b.rounds {
		l, err := h.life()
		if err != nil {
			return nil, err
		}
		rates = append(rates, l.rate)
	}
	return rates, nil
}

// life sends messages and waits for the end of their lives. It begins when what was written
// before is on the disk.
func (h *harbour) life() (life, error) {
	if _, err := h.db.Exec(h.b.ctx, `CHECKPOINT`); err != nil {
		return life{}, err
	}
	syscall.Sync()
	lsn, there := "", 0
	if err := h.db.QueryRow(h.b.ctx, `SELECT pg_current_wal_lsn()::text,
		(SELECT count(*) FROM mailbox_message)`).Scan(&lsn, &there); err != nil {
		return life{}, err
	}
	busy, began := databaseTime(), time.Now()
	_, err := load{address: h.inside, connections: connections, messages: lived,
		content: messageOf(4096), from: "tickets@skerryline.example",
		to: "keeper@skerryline.example"}.run()
	if err != nil {
		return life{}, err
	}
	if err := h.lived(lived, there, began); err != nil {
		return life{}, err
	}
	took := time.Since(began)
	var written float64
	if err := h.db.QueryRow(h.b.ctx, `SELECT pg_current_wal_lsn() - $1::text::pg_lsn`,
		lsn).Scan(&written); err != nil {
		return life{}, err
	}
	return life{
		rate:   lived / took.Seconds(),
		log:    written / lived,
		server: (databaseTime() - busy) * 1e6 / lived,
	}, nil
}

// fillMailbox puts messages of an earlier time into the mailbox, and into history.
func (h *harbour) fillMailbox(n int) error {
	if err := h.past(n); err != nil {
		return err
	}
	_, err := h.db.Exec(
		h.b.ctx,
		`INSERT INTO mailbox_message SELECT 'keeper@skerryline.example', id,
		sender, subject, received_at, size FROM message ORDER BY id LIMIT $1`,
		inBox,
	)
	if err == nil {
		_, err = h.db.Exec(h.b.ctx, `INSERT INTO mailbox_use SELECT 'keeper@skerryline.example',
			count(*), sum(size) FROM mailbox_message`)
	}
	if err == nil {
		_, err = h.db.Exec(h.b.ctx, `VACUUM ANALYZE mailbox_message`)
	}
	return err
}

// lived waits until all messages since a time are in the mailbox, which held some, counted
// and findable.
func (h *harbour) lived(n, there int, since time.Time) error {
	var in, uncounted, words int
	for range 6000 {
		err := h.db.QueryRow(h.b.ctx, `SELECT (SELECT count(*) FROM count_log),
			(SELECT messages FROM mailbox_use WHERE mailbox = 'keeper@skerryline.example')`).Scan(&uncounted, &in)
		if err != nil && err != pgx.ErrNoRows {
			return err
		}
		if uncounted == 0 && in == n+there {
			err := h.db.QueryRow(h.b.ctx, `SELECT (SELECT count(*) FROM find_text WHERE id >= $1),
				(SELECT count(*) FROM mailbox_message)`, int64(ident.Floor(since))).Scan(&words, &in)
			if err != nil {
				return err
			}
			if words == n && in == n+there {
				return nil
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("of %d messages %d are in the mailbox, %d findable, %d commits to be counted",
		n, in-there, words, uncounted)
}

// databaseTime is the processor time of all processes of PostgreSQL, in seconds: of those
// that are there, and of those that their parent saw end.
func databaseTime() (sum float64) {
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil || !strings.Contains(string(text), "(postgres)") {
			continue
		}
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		for _, f := range fields[11:15] {
			ticks, _ := strconv.ParseFloat(f, 64)
			sum += ticks / 100
		}
	}
	return sum
}
