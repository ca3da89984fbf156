package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/mail"
)

// The log and what happens to messages is kept as text by day; days are archived and can be
// looked into when they are forgotten here.
func TestRecordsAreKeptAsFilesByDay(t *testing.T) {
	s := own(t, "records", nil)
	logs, days := filepath.Join(s.dir, "logs"), filepath.Join(s.dir, "days")
	if _, errOut, code := s.gull(t, "service", "set", "--log-directory", "logs"); code == 0 ||
		!strings.Contains(errOut, "whole path") {
		t.Errorf("a directory that is no whole path: %d %s", code, errOut)
	}
	s.run(t, "service", "set", "--log-directory", logs, "--archive-directory", days, "--archive-at", "00:00")
	s.run(t, "draft", "apply")
	var today string
	if err := eventually(15*time.Second, func() error {
		if found, _ := filepath.Glob(filepath.Join(logs, "gull-shore-*.jsonl")); len(found) == 1 {
			today = found[0]
			return nil
		}
		s.out(t, "early@barelock.example")
		return fmt.Errorf("no text log is written")
	}); err != nil {
		t.Fatal(err)
	}
	id := s.out(t, "kept@barelock.example")
	s.until(t, id, mail.Delivered)
	if err := eventually(10*time.Second, func() error {
		out := s.run(t, "log", "read", today, "--message", id)
		if !strings.Contains(out, "received by") && !strings.Contains(out, "received from") || !strings.Contains(out, "250 2.0.0 taken") ||
			!strings.Contains(out, "kept@barelock.example") || strings.Contains(out, "early@") {
			return fmt.Errorf("of the message: %s", out)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if text, _ := os.ReadFile(today); strings.Contains(string(text), adminToken) ||
		strings.Contains(string(text), password) {
		t.Error("a secret stands in the text log")
	}

	yesterday := time.Now().UTC().AddDate(0, 0, -1).Format(time.DateOnly)
	file := filepath.Join(days, "gull-archive-"+yesterday+".jsonl.zst")
	if err := eventually(20*time.Second, func() error { _, err := os.Stat(file); return err }); err != nil {
		t.Fatal(err)
	}
	var list []api.ArchivedDay
	if err := json.Unmarshal([]byte(s.run(t, "log", "days", "-o", "json")), &list); err != nil ||
		len(list) == 0 || list[0].Day != yesterday || list[0].Size == 0 {
		t.Errorf("%v %+v", err, list)
	}
	var infos []archive.Info
	out := s.run(t, "log", "open", "--day", yesterday, "-o", "json")
	if err := json.Unmarshal([]byte(out), &infos); err != nil || len(infos) != 1 || len(infos[0].Faults) != 0 ||
		infos[0].About.Since.Format(time.DateOnly) != yesterday {
		t.Errorf("%v %s", err, out)
	}
	if again := s.run(t, "log", "open", "--day", yesterday); !strings.Contains(again, "was open already") {
		t.Errorf("the second time: %s", again)
	}
	if _, errOut, code := s.gull(t, "log", "open", "--day", "2020-01-01"); code == 0 ||
		!strings.Contains(errOut, "archived day") {
		t.Errorf("a day that is not there: %d %s", code, errOut)
	}

	// No room where text logs go: mail goes on, and it is a snag.
	if err := os.RemoveAll(logs); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(logs, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	s.kill()
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	if err := eventually(30*time.Second, func() error {
		id := s.out(t, "on@barelock.example")
		s.until(t, id, mail.Delivered)
		page, err := s.client().Snags(t.Context(), nil)
		if err != nil {
			return err
		}
		for _, sn := range page.Items {
			if strings.Contains(sn.Place.Name, "text log") {
				return nil
			}
		}
		return fmt.Errorf("nobody is told that nothing is kept")
	}); err != nil {
		t.Error(err)
	}
}
