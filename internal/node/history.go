package node

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/counters"
	"gullroute/internal/insight/snags"
	"gullroute/internal/store"
)

// historyStep is how many records are put in together.
const historyStep = 500

// troubles are what failed and what got through in the last days of a history, for
// the snags that are open at its end.
type troubles []trouble

type trouble struct {
	at       time.Time
	delivery *mail.Delivery
	sender   string
	refusal  *mail.Refusal
}

// troubleDays is how far back snags are made from.
const troubleDays = 2

func (t *troubles) message(m *mail.Message) {
	for i := range m.Deliveries {
		d := &m.Deliveries[i]
		at := d.FinishedAt.Time
		if !d.State.Final() {
			at = d.LastAttemptAt.Time
		}
		if time.Since(at) < troubleDays*24*time.Hour {
			*t = append(*t, trouble{at: at, delivery: d, sender: m.Sender})
		}
	}
}

func (t *troubles) refusal(r mail.Refusal) {
	if time.Since(r.At) < troubleDays*24*time.Hour {
		*t = append(*t, trouble{at: r.At, refusal: &r})
	}
}

// keep makes the snags.
func (t troubles) keep(ctx context.Context, db *store.DB) error {
	slices.SortStableFunc(t, func(a, b trouble) int { return a.at.Compare(b.at) })
	k := snags.New(store.Snags{DB: db}, ident.NewMaker(0, time.Now), counters.New(),
		slog.New(slog.DiscardHandler))
	for _, x := range t {
		if x.refusal != nil {
			k.Refusal(x.refusal)
		} else {
			k.Delivery(x.delivery, x.sender, x.at)
		}
	}
	return k.UpToDate(ctx, time.Now())
}

// LoadHistory puts an archive with the messages' contents into a database, beside what is
// there, with the snags that are open at its end. Do it before the service starts.
func LoadHistory(ctx context.Context, url string, r io.Reader) error {
	db, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer db.Close()
	s := store.Histories{DB: db}
	z, err := zstd.NewReader(r)
	if err != nil {
		return err
	}
	defer z.Close()
	br := bufio.NewReaderSize(z, 1<<20)
	var h store.History
	var seen troubles
	total, partitions := 0, false
	put := func() error {
		if len(h.Messages)+len(h.Refusals)+len(h.Sessions) == 0 {
			return nil
		}
		err := s.LoadHistory(ctx, h)
		h = store.History{}
		return err
	}
	for {
		line, err := br.ReadBytes('\n')
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		total++
		switch archive.KindOf(line) {
		case archive.Message:
			l, err := archive.ReadMessage(line)
			if err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			if !partitions {
				if err := s.MakePartitions(
					ctx,
					l.Message.ReceivedAt.AddDate(0, 0, -1),
					time.Now(),
				); err != nil {
					return err
				}
				partitions = true
			}
			h.Messages = append(h.Messages, *l)
			seen.message(&l.Message)
		case "content":
			var c struct {
				ID   ident.ID `json:"id"`
				Data []byte   `json:"data"`
			}
			if err := json.Unmarshal(bytes.TrimSpace(line), &c); err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			h.Contents = append(h.Contents, c.Data)
			if len(h.Messages) >= historyStep {
				if err := put(); err != nil {
					return err
				}
			}
		case archive.Refusal:
			x, err := archive.ReadRefusal(line)
			if err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			h.Refusals = append(h.Refusals, x)
			seen.refusal(x)
		case archive.Session:
			x, err := archive.ReadSession(line, true)
			if err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			rec := mail.SessionRecord{Session: x.Session}
			if len(x.Transcript) > 0 {
				rec.Transcript = transcript.Again(x.Transcript)
			}
			h.Sessions = append(h.Sessions, rec)
		}
		if len(h.Refusals) >= historyStep || len(h.Sessions) >= historyStep {
			if err := put(); err != nil {
				return err
			}
		}
	}
	if err := put(); err != nil {
		return err
	}
	if err := s.CountHistory(ctx); err != nil {
		return err
	}
	return seen.keep(ctx, db)
}
