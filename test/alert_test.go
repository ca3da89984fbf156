package test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/snag"
)

// ear is a webhook that refuses the first calls and checks the signatures of the
// others.
type ear struct {
	mu      sync.Mutex
	refuse  int
	calls   int
	heard   []string
	forgery error
}

func (e *ear) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.calls++; e.calls <= e.refuse {
		http.Redirect(w, r, "http://127.0.0.1:9/elsewhere", http.StatusTemporaryRedirect)
		return
	}
	stamp, sum, ok := strings.Cut(strings.TrimPrefix(r.Header.Get("Gull-Signature"), "t="), ",sha256=")
	own := hmac.New(sha256.New, []byte("lantern-oil"))
	_, _ = io.WriteString(own, stamp+"."+string(body))
	if !ok || sum != hex.EncodeToString(own.Sum(nil)) {
		e.forgery = fmt.Errorf("the signature %q does not fit", r.Header.Get("Gull-Signature"))
	}
	var told struct {
		Kind string    `json:"kind"`
		Snag snag.Snag `json:"snag"`
	}
	if err := json.Unmarshal(body, &told); err != nil {
		e.forgery = err
	}
	e.heard = append(e.heard, told.Kind+" "+string(told.Snag.Cause)+" "+told.Snag.Place.Name)
}

func (e *ear) has(line string) func() error {
	return func() error {
		e.mu.Lock()
		defer e.mu.Unlock()
		for _, l := range e.heard {
			if l == line {
				return e.forgery
			}
		}
		return fmt.Errorf("%q was not heard in %d calls: %q", line, e.calls, e.heard)
	}
}

func TestPeopleAreToldOfATroubleOnceAgainAndWhenItIsOver(t *testing.T) {
	takesLong(t)
	t.Parallel()
	listener := &ear{refuse: 1}
	hook := httptest.NewServer(listener)
	defer hook.Close()
	s := own(t, "alerts", func(c string) string {
		return strings.NewReplacer(
			"intervals: [1s]",
			"intervals: [1h]",
			"\nservice:\n",
			"\nservice:\n  alerts: {to: [tomas.vik@skerryline.example, watch@sunkenpier.example], webhook: \""+hook.URL+"\", secret: harbourlight, after: 1s, remind: 12s}\n",
		).Replace("\n" + c)
	})
	s.until(t, s.out(t, "minor@fogbank.example"), mail.Deferred) // not bad enough
	var ids []string
	for i := range 5 {
		ids = append(ids, s.out(t, fmt.Sprintf("a%d@sunkenpier.example", i)))
	}
	for _, want := range []string{"opened connection-refused sunkenpier.example",
		"reminder connection-refused sunkenpier.example"} {
		if err := eventually(40*time.Second, listener.has(want)); err != nil {
			t.Fatal(err)
		}
	}
	// Who is beyond the trouble is told around it.
	if err := eventually(20*time.Second, func() error {
		if len(s.messages(t, "harbourlight.example", "watch@sunkenpier.example")) == 0 {
			return fmt.Errorf("no alert went around the trouble")
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	x := s.snag(t, diagnose.ConnectRefused, "sunkenpier.example",
		func(x snag.Snag) bool { return x.Waiting == 5 })
	s.run(t, "snag", "fix", x.ID.String())
	for _, id := range ids {
		s.until(t, id, mail.Delivered)
	}
	if err := eventually(40*time.Second,
		listener.has("over connection-refused sunkenpier.example")); err != nil {
		t.Error(err)
	}
	var subjects []string
	if err := eventually(10*time.Second, func() error {
		subjects = subjects[:0]
		for _, l := range s.mailbox(t, "tomas.vik@skerryline.example") {
			subjects = append(subjects, l.Subject)
		}
		all := strings.Join(subjects, "\n")
		for _, want := range []string{"[serious] The host refuses the connection at sunkenpier.example",
			"[serious] still: The host refuses", "Over: The host refuses the connection at sunkenpier.example"} {
			if !strings.Contains(all, want) {
				return fmt.Errorf("%q is not in the mailbox: %q", want, subjects)
			}
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	opened := 0
	for _, l := range subjects {
		if strings.HasPrefix(l, "[serious] The host") {
			opened++
		}
	}
	if all := strings.Join(subjects, "\n"); opened != 1 || strings.Contains(all, "fogbank") {
		t.Errorf("told more than once, or of what is minor: %q", subjects)
	}
	text := strings.NewReplacer(
		"=\r\n",
		"",
		"=\n",
		"",
	).Replace(
		s.run(t, "mailbox", "raw", "tomas.vik@skerryline.example",
			s.mailbox(t, "tomas.vik@skerryline.example")[len(subjects)-1].ID.String()),
	)
	for _, want := range []string{"nothing listens at the port", "5 wait, 0 have failed",
		"gull snag show " + x.ID.String(), "connection refused by 127.30.0.20"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in the alert:\n%s", want, text)
		}
	}
	if n, err := s.client().Snags(context.Background(), nil); err != nil || n.Counts["serious"] != 0 {
		t.Errorf("%v %v", n.Counts, err)
	}
	for bad, want := range map[string]string{"webhook: \"http://watch.skerryline.example/x\", secret: a": "must not be read in transit", "webhook: \"https://a:b@c.example\", secret: a": "without a name and password", "webhook: \"https://c.example/x\"": "name the secret"} {
		file := filepath.Join(t.TempDir(), "bad.yaml")
		if err := os.WriteFile(
			file,
			[]byte("service: {host_name: a.example, postmaster: p@a.example, alerts: {"+bad+"}}\n"),
			0o600,
		); err != nil {
			t.Fatal(err)
		}
		_, stderr, code := s.gull(t, "config", "check", file)
		if code != 1 || !strings.Contains(stderr, want) {
			t.Errorf("%s: %d %s", bad, code, stderr)
		}
	}
}
