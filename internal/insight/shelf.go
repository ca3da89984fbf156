package insight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/fault"
	"gullroute/internal/engine/daylog"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Shelf archives each day before it is forgotten, and opens such days again.
type Shelf struct {
	DB       *store.DB
	Archiver *Archiver
	Runs     store.Runs
	InForce  *inforce.State
	Log      *slog.Logger

	wrong atomic.Value // string: why the last day was not archived
}

const (
	shelfPrefix = "gull-archive-"
	shelfSuffix = ".jsonl.zst"
	shelfPart   = ".part"
)

func shelfFile(day time.Time) string {
	return shelfPrefix + day.UTC().Format(time.DateOnly) + shelfSuffix
}

// Round archives the latest day that is over and has no archive yet.
func (s *Shelf) Round(ctx context.Context, now time.Time) error {
	c := s.InForce.Config().Service
	a := c.Archive
	if a.Directory == "" {
		s.wrong.Store("")
		return nil
	}
	who := a.Node
	if who == "" {
		names, err := s.Runs.RunningNodes(ctx)
		if err != nil || len(names) == 0 {
			return err
		}
		who = names[0]
	}
	if who != s.InForce.Node {
		return nil
	}
	_, err := s.DB.Alone(ctx, "archive of a day", func() error {
		return s.next(ctx, now, a.Directory, a.When(), c.Retention, a.Keep)
	})
	why := ""
	if err != nil {
		why = err.Error()
	}
	s.wrong.Store(why)
	return err
}

// Wrong says why a day is not archived; "" if all are.
func (s *Shelf) Wrong() string {
	why, _ := s.wrong.Load().(string)
	return why
}

func (s *Shelf) next(
	ctx context.Context,
	now time.Time,
	dir string,
	at, retention, keep time.Duration,
) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	today := now.UTC().Truncate(24 * time.Hour)
	for day := today.AddDate(0, 0, -1); day.After(now.Add(-min(retention, keep))); day = day.AddDate(0, 0, -1) {
		if now.Before(day.AddDate(0, 0, 1).Add(at)) {
			continue
		}
		path := filepath.Join(dir, shelfFile(day))
		if _, err := os.Stat(path); err == nil {
			continue
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return s.write(ctx, path, day)
	}
	return daylog.Tidy(dir, shelfPrefix, now, keep)
}

// write makes the archive of a day; it appears when it is whole.
func (s *Shelf) write(ctx context.Context, path string, day time.Time) (err error) {
	f, err := os.OpenFile(path+shelfPart, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(path + shelfPart)
		}
	}()
	began := time.Now()
	if err = s.Archiver.ExportLog(ctx, f, day, day.AddDate(0, 0, 1), nil); err != nil {
		return err
	}
	info, _ := f.Stat()
	if err = errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if err = os.Rename(path+shelfPart, path); err != nil {
		return err
	}
	s.Log.Info("a day is archived", "day", day.Format(time.DateOnly), "octets", info.Size(),
		"seconds", time.Since(began).Seconds())
	return nil
}

// Days are those that are archived here, the latest first.
func (s *Shelf) Days(ctx context.Context) ([]api.ArchivedDay, error) {
	list := []api.ArchivedDay{}
	dir := s.InForce.Config().Service.Archive.Directory
	if dir == "" {
		return list, nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	opened, err := s.Archiver.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		rest, ok := strings.CutPrefix(e.Name(), shelfPrefix)
		day, whole := strings.CutSuffix(rest, shelfSuffix)
		if _, err := time.Parse(time.DateOnly, day); err != nil || !ok || !whole {
			continue
		}
		d := api.ArchivedDay{Day: day}
		if info, err := e.Info(); err == nil {
			d.Size = info.Size()
		}
		for _, a := range opened {
			if a.Name == e.Name() {
				d.Archive = a.ID
			}
		}
		list = append(list, d)
	}
	slices.Reverse(list)
	return list, nil
}

// Open opens an archived day, to be looked into as if it were here.
func (s *Shelf) Open(ctx context.Context, day, who string) (archive.Info, error) {
	dir := s.InForce.Config().Service.Archive.Directory
	at, err := time.Parse(time.DateOnly, day)
	if err != nil || dir == "" {
		return archive.Info{}, fault.ErrNotFound
	}
	list, err := s.Days(ctx)
	if err != nil {
		return archive.Info{}, err
	}
	for _, d := range list {
		if d.Day == day && d.Archive != 0 {
			return s.Archiver.Opened(ctx, d.Archive)
		}
	}
	f, err := os.Open(filepath.Join(dir, shelfFile(at)))
	if errors.Is(err, fs.ErrNotExist) {
		return archive.Info{}, fault.ErrNotFound
	}
	if err != nil {
		return archive.Info{}, fmt.Errorf("%w: %w", ErrArchive, err)
	}
	defer f.Close()
	return s.Archiver.OpenLog(ctx, f, shelfFile(at), who)
}
