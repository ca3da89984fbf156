// Package daylog keeps the service's log, and what happens to messages, as text: JSON Lines, a
// file for each node and day (UTC), compressed when its day is over, removed after its time. What
// the disk does not take is left out, counted and said; nobody waits for it.
package daylog

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/engine/feed"
)

const (
	depth      = 8192 // lines that wait
	flushEvery = time.Second
	tryAgain   = 10 * time.Second // after the disk took nothing
	dayForm    = "2006-01-02"
	packed     = ".zst"
	suffix     = ".jsonl"
	unfinished = ".part"
)

// Terms are where files go and for how long; an empty directory keeps none.
type Terms struct {
	Directory string
	Keep      time.Duration
}

// Log is a handler of slog that writes files by day.
type Log struct {
	slog.Handler // makes lines of records, into lines
	out          *writer
}

// New makes a log of a node. Run writes it; until Follow is told terms nothing is kept.
func New(node string, level slog.Leveler) *Log {
	w := &writer{node: name(node), lines: make(chan []byte, depth), now: time.Now}
	return &Log{Handler: slog.NewJSONHandler(w, &slog.HandlerOptions{Level: level}), out: w}
}

// WithAttrs adds to what goes with each record.
func (l *Log) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &Log{Handler: l.Handler.WithAttrs(attrs), out: l.out}
}

// WithGroup puts a name before those of what follows.
func (l *Log) WithGroup(group string) slog.Handler {
	return &Log{Handler: l.Handler.WithGroup(group), out: l.out}
}

// Enabled reports whether a level is kept; nothing is while no directory is set.
func (l *Log) Enabled(ctx context.Context, level slog.Level) bool {
	t := l.out.terms.Load()
	return t != nil && t.Directory != "" && l.Handler.Enabled(ctx, level)
}

// Keep says where files go from now on.
func (l *Log) Keep(t Terms) { l.out.terms.Store(&t) }

// Wrong says why lines are not kept; "" if they are.
func (l *Log) Wrong() string {
	if why := l.out.wrong.Load(); why != nil {
		return *why
	}
	return ""
}

// Lost is how many lines were left out.
func (l *Log) Lost() int64 { return l.out.lost.Load() }

// Follow writes what happens to messages until ctx ends.
func (l *Log) Follow(ctx context.Context, hub *feed.Hub) {
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for ctx.Err() == nil {
		if l.Enabled(ctx, slog.LevelError) { // who does not watch costs the mail nothing
			kept, end := context.WithCancel(ctx)
			go l.untilOff(kept, end)
			hub.Follow(kept, l.event)
			end()
		}
		select {
		case <-ctx.Done():
		case <-look.C:
		}
	}
}

// untilOff ends something when no directory is set any more.
func (l *Log) untilOff(ctx context.Context, end func()) {
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for l.Enabled(ctx, slog.LevelError) {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
	}
	end()
}

// event writes what happened to a message.
func (l *Log) event(e feed.Event, lost int) {
	l.out.lost.Add(int64(lost))
	r := slog.NewRecord(e.At, slog.LevelInfo, e.Text, 0) // at whatever level the log is kept
	r.AddAttrs(slog.String("event", string(e.Kind)))
	for _, p := range e.Named() {
		r.AddAttrs(slog.String(p[0], p[1]))
	}
	_ = l.Handle(context.Background(), r)
}

// Run writes until ctx ends, and then what is left.
func (l *Log) Run(ctx context.Context) { l.out.run(ctx) }

// Start writes until the end that it returns is called; that waits for what is left.
func (l *Log) Start() (end func()) {
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { l.Run(ctx); close(done) }()
	return func() { stop(); <-done }
}

// name is a node's name as part of a file's.
func name(node string) string {
	return strings.Map(func(r rune) rune {
		if r == '/' || r == '.' || r < ' ' {
			return '_'
		}
		return r
	}, node)
}

type writer struct {
	node  string
	lines chan []byte
	terms atomic.Pointer[Terms]
	wrong atomic.Pointer[string]
	lost  atomic.Int64
	now   func() time.Time

	file   *os.File
	buf    *bufio.Writer
	path   string
	wait   time.Time // the disk took nothing: not before this
	tidied string    // the day on which old files were seen to
}

// Write takes a line, as slog writes it; it never waits.
func (w *writer) Write(line []byte) (int, error) {
	select {
	case w.lines <- bytes.Clone(line):
	default:
		w.lost.Add(1)
	}
	return len(line), nil
}

func (w *writer) run(ctx context.Context) {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	for {
		select {
		case line := <-w.lines:
			w.put(line)
		case <-tick.C:
			w.round()
		case <-ctx.Done():
			for {
				select {
				case line := <-w.lines:
					w.put(line)
					continue
				default:
				}
				w.close()
				return
			}
		}
	}
}

// put writes a line into the file of its day.
func (w *writer) put(line []byte) {
	t := w.terms.Load()
	if t == nil || t.Directory == "" {
		return
	}
	if w.now().Before(w.wait) {
		w.lost.Add(1)
		return
	}
	if err := w.open(t.Directory); err == nil {
		_, err = w.buf.Write(line)
		w.failed(err)
	} else {
		w.failed(err)
	}
}

// failed notes that the disk does not take lines: the next ones are left out for a while.
func (w *writer) failed(err error) {
	if err == nil {
		return
	}
	why := err.Error()
	w.wrong.Store(&why)
	w.lost.Add(1)
	w.wait = w.now().Add(tryAgain)
	w.close()
}

// open makes the file of today, if it is not the one that is open.
func (w *writer) open(dir string) error {
	path := filepath.Join(dir, "gull-"+w.node+"-"+w.now().UTC().Format(dayForm)+suffix)
	if w.file != nil && path == w.path {
		return nil
	}
	w.close()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	w.file, w.buf, w.path = f, bufio.NewWriterSize(f, 64<<10), path
	if size, err := f.Seek(0, io.SeekEnd); err == nil && size > 0 {
		last := make([]byte, 1) // a line that was cut off by a full disk or a crash stays one line
		if _, err := f.ReadAt(last, size-1); err == nil && last[0] != '\n' {
			_ = w.buf.WriteByte('\n')
		}
	}
	return nil
}

func (w *writer) close() {
	if w.file != nil {
		_ = w.buf.Flush()
		_ = w.file.Close()
		w.file, w.buf = nil, nil
	}
}

// round flushes, and sees to what is over.
func (w *writer) round() {
	t := w.terms.Load()
	if t == nil || t.Directory == "" {
		w.close()
		w.wrong.Store(nil)
		return
	}
	if w.file != nil {
		if err := w.buf.Flush(); err != nil {
			w.failed(err)
			return
		}
		w.wrong.Store(nil)
	}
	if today := w.now().UTC().Format(dayForm) + t.Directory; today != w.tidied {
		w.tidied = today
		if err := Tidy(t.Directory, "gull-"+w.node+"-", w.now(), t.Keep); err != nil {
			why := err.Error()
			w.wrong.Store(&why)
		}
	}
}

// Tidy compresses the files of days that are over, and removes those past their time. Only files
// of this name are touched.
func Tidy(dir, prefix string, now time.Time, keep time.Duration) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var faults []error
	today := now.UTC().Truncate(24 * time.Hour)
	for _, e := range entries {
		day, ok := dayOf(e.Name(), prefix)
		if !ok {
			continue
		}
		path := filepath.Join(dir, e.Name())
		switch {
		case strings.HasSuffix(path, unfinished) || now.Sub(day.AddDate(0, 0, 1)) > keep:
			faults = append(faults, os.Remove(path))
		case day.Before(today) && strings.HasSuffix(path, suffix):
			faults = append(faults, compress(path))
		}
	}
	return errors.Join(faults...)
}

// dayOf reads the day from a file's name.
func dayOf(file, prefix string) (time.Time, bool) {
	rest, ok := strings.CutPrefix(file, prefix)
	if !ok || len(rest) < len(dayForm) {
		return time.Time{}, false
	}
	day, err := time.Parse(dayForm, rest[:len(dayForm)])
	switch rest[len(dayForm):] {
	case suffix, suffix + packed, suffix + packed + unfinished:
		return day, err == nil
	}
	return day, false
}

// compress puts a compressed file in the place of a file.
func compress(path string) (err error) {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	part := path + packed + unfinished
	out, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = out.Close()
			_ = os.Remove(part)
		}
	}()
	z, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	if _, err = io.Copy(z, in); err != nil {
		return err
	}
	if err = errors.Join(z.Close(), out.Sync(), out.Close()); err != nil {
		return err
	}
	if err = os.Rename(part, path+packed); err != nil {
		return err
	}
	if err := os.Remove(path); err != nil {
		return fmt.Errorf("the compressed file is there, and the other cannot be removed: %w", err)
	}
	return nil
}
