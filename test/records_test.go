package test

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	collectorpb "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/otlp"
)

// The log and what happens to messages is kept as text by day; days are archived and can be
// looked into when they are forgotten here.
func TestRecordsAreKeptAsFilesByDay(t *testing.T) {
	t.Parallel()
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
		if !strings.Contains(out, "received from") || !strings.Contains(out, "250 2.0.0 taken") ||
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

// A collector hears of a message's life: how it was taken, and each attempt below that.
func TestACollectorHearsOfAMessagesLife(t *testing.T) {
	var mu sync.Mutex
	spans := map[string][]*tracepb.Span{}
	collector := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var asked collectorpb.ExportTraceServiceRequest
		if err := proto.Unmarshal(body, &asked); err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: %v", r.URL.Path, err)
		}
		if bytes.Contains(body, []byte("gone@")) || bytes.Contains(body, []byte("ines.harrow@")) {
			t.Error("addresses are told")
		}
		mu.Lock()
		defer mu.Unlock()
		for _, rs := range asked.ResourceSpans {
			for _, ss := range rs.ScopeSpans {
				for _, s := range ss.Spans {
					spans[hex.EncodeToString(s.TraceId)] = append(spans[hex.EncodeToString(s.TraceId)], s)
				}
			}
		}
	}))
	defer collector.Close()
	s := own(t, "traces", nil, "--traces", collector.URL)
	id := s.out(t, "gone@no-such-domain.example")
	s.until(t, id, mail.Bounced)
	var message mail.Message
	if err := message.ID.UnmarshalText([]byte(id)); err != nil {
		t.Fatal(err)
	}
	trace := otlp.TraceID(message.ID).String()
	if err := eventually(20*time.Second, func() error {
		mu.Lock()
		defer mu.Unlock()
		got := spans[trace]
		if len(got) != 2 {
			return fmt.Errorf("%d spans of it, and %d traces", len(got), len(spans))
		}
		slices.SortFunc(got, func(a, b *tracepb.Span) int { return len(a.ParentSpanId) - len(b.ParentSpanId) })
		if got[0].Name != "taken" || got[1].Name != "bounced" || !bytes.Equal(got[1].ParentSpanId, got[0].SpanId) ||
			got[1].Status.GetCode() != tracepb.Status_STATUS_CODE_ERROR ||
			got[1].EndTimeUnixNano < got[1].StartTimeUnixNano {
			return fmt.Errorf("%v", got)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}
