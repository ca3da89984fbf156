package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/spf13/cobra"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/dialogue"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// historyStep is how many records are put in together.
const historyStep = 500

func (a *app) simnetHistory() *cobra.Command {
	database := ""
	c := &cobra.Command{
		Use: "history FILE", Short: "Put the demo world's history into a database that has none", Args: exactly(1),
		Long: "Put the demo world's history into a database, beside what is there. The file is an archive with the letters' contents, made by demo/history. Do it before the service starts.",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			s, err := store.Open(c.Context(), database)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.loadHistory(c.Context(), s, f)
		},
	}
	c.Flags().StringVar(&database, "database", os.Getenv("GULL_DATABASE_URL"), "address of the database (GULL_DATABASE_URL)")
	return c
}

func (a *app) loadHistory(ctx context.Context, s *store.Store, r io.Reader) error {
	z, err := zstd.NewReader(r)
	if err != nil {
		return err
	}
	defer z.Close()
	br := bufio.NewReaderSize(z, 1<<20)
	var h store.History
	total, partitions := 0, false
	put := func() error {
		if len(h.Letters)+len(h.Refusals)+len(h.Sessions) == 0 {
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
		case archive.Letter:
			l, err := archive.ReadLetter(line)
			if err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			if !partitions {
				if err := s.MakePartitions(ctx, l.Message.ReceivedAt.AddDate(0, 0, -1), time.Now()); err != nil {
					return err
				}
				partitions = true
			}
			h.Letters = append(h.Letters, *l)
		case "content":
			var c struct {
				ID   ident.ID `json:"id"`
				Data []byte   `json:"data"`
			}
			if err := json.Unmarshal(bytes.TrimSpace(line), &c); err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			h.Contents = append(h.Contents, c.Data)
			if len(h.Letters) >= historyStep {
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
		case archive.Session:
			x, err := archive.ReadSession(line, true)
			if err != nil {
				return fmt.Errorf("line %d: %w", total, err)
			}
			rec := mail.SessionRecord{Session: x.Session}
			if len(x.Dialogue) > 0 {
				rec.Transcript = dialogue.Again(x.Dialogue)
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
	return s.CountHistory(ctx)
}
