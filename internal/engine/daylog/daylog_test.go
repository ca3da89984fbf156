package daylog

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
)

func TestDaysAreKeptCompressedAndForgotten(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 11, 20, 23, 59, 0, 0, time.UTC)
	l := New("shore", slog.LevelInfo)
	l.out.now = func() time.Time { return now }
	say := slog.New(l).With("area", "queue")
	say.Info("before a directory is set")
	l.Keep(Terms{Directory: dir, Keep: 3 * 24 * time.Hour})
	step := func(text string, days int) {
		say.Info(text)
		say.Debug("not " + text)
		for len(l.out.lines) > 0 {
			l.out.put(<-l.out.lines)
		}
		l.out.round()
		now = now.AddDate(0, 0, days)
	}
	if err := os.WriteFile(filepath.Join(dir, "notes.jsonl"), []byte("somebody's"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, day := range []string{"one", "two", "three", "four", "five", "six"} {
		step(day, 1)
	}
	entries, _ := os.ReadDir(dir)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	want := "gull-shore-2026-11-22.jsonl.zst gull-shore-2026-11-23.jsonl.zst gull-shore-2026-11-24.jsonl.zst " +
		"gull-shore-2026-11-25.jsonl notes.jsonl"
	if got := strings.Join(names, " "); got != want {
		t.Fatalf("there are %s,\nwant %s", got, want)
	}
	f, err := os.Open(filepath.Join(dir, "gull-shore-2026-11-24.jsonl.zst"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := zstd.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(z)
	var line map[string]any
	if err := json.Unmarshal(text, &line); err != nil || line["msg"] != "five" || line["area"] != "queue" {
		t.Errorf("%v %s", err, text)
	}
}

func TestAFullDiskDelaysNobodyAndIsSaid(t *testing.T) {
	now := time.Now()
	dir := t.TempDir()
	l := New("shore", slog.LevelInfo)
	l.out.now = func() time.Time { return now }
	l.Keep(Terms{Directory: filepath.Join(dir, "file", "below"), Keep: time.Hour})
	if err := os.WriteFile(filepath.Join(dir, "file"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	say := slog.New(l)
	began := time.Now()
	for range depth + 10 {
		say.Info("line")
	}
	if took := time.Since(began); took > 5*time.Second || l.Lost() != 10 {
		t.Errorf("%s, %d lost", took, l.Lost())
	}
	l.out.put(<-l.out.lines)
	if l.Wrong() == "" {
		t.Error("nothing is said of it")
	}
	if err := os.Remove(filepath.Join(dir, "file")); err != nil {
		t.Fatal(err)
	}
	now = now.Add(tryAgain + time.Second)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	l.Run(ctx) // writes what is left
	l.out.round()
	files, _ := filepath.Glob(filepath.Join(dir, "file", "below", "*.jsonl"))
	if len(files) != 1 {
		t.Fatalf("%v", files)
	}
	// A line that a crash cut off does not take the next one with it.
	f, err := os.OpenFile(files[0], os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = f.WriteString(`{"cut`)
	f.Close()
	l.out.put([]byte("{\"next\":1}\n"))
	l.out.close()
	text, _ := os.ReadFile(files[0])
	if !strings.HasSuffix(string(text), "{\"cut\n{\"next\":1}\n") {
		t.Errorf("%s", text[len(text)-40:])
	}
}
