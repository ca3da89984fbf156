package store

import (
	"errors"
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/core/mail"
)

// Each migration since two versions may share a database keeps the rules that migrate.go states.
func TestMigrationsKeepTheRules(t *testing.T) {
	takes := regexp.MustCompile(`(?i)\b(DROP (TABLE|COLUMN|FUNCTION)|RENAME|ALTER COLUMN \w+ (TYPE|SET NOT NULL))`)
	made := regexp.MustCompile(`(?i)CREATE TABLE (\w+)`)
	index := regexp.MustCompile(`(?i)CREATE (?:UNIQUE )?INDEX (CONCURRENTLY )?.*?\bON (?:ONLY )?(\w+)`)
	for name, text := range texts(t) {
		up, _, _ := strings.Cut(text, "-- +goose Down")
		contract := strings.Contains(up, "\n-- Contract: ")
		if !contract && !strings.Contains(up, "\n-- Expand: ") {
			t.Errorf("%s does not say whether it expands or contracts", name)
		}
		if contract && !strings.Contains(up, "UPDATE schema_use SET works_from") {
			t.Errorf("%s contracts, and programs from before are not stopped", name)
		}
		if taken := takes.FindString(up); taken != "" && !contract {
			t.Errorf("%s expands, and has %s: programs from before use that", name, taken)
		}
		fresh := map[string]bool{}
		for _, m := range made.FindAllStringSubmatch(up, -1) {
			fresh[m[1]] = true
		}
		for _, m := range index.FindAllStringSubmatch(up, -1) {
			if m[1] == "" && !fresh[m[2]] {
				t.Errorf("%s makes an index on %s that stops writing while it is made: CONCURRENTLY", name, m[2])
			}
		}
	}
}

func texts(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	entries, err := migrations.ReadDir("migrations")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.Name() < "00039" {
			continue
		}
		text, err := migrations.ReadFile("migrations/" + e.Name())
		if err != nil {
			t.Fatal(err)
		}
		out[e.Name()] = string(text)
	}
	if len(out) == 0 {
		t.Fatal("no migration was looked at")
	}
	return out
}

func TestALaterSchemaIsUsedUntilItContracts(t *testing.T) {
	s, run := open(t)
	later := `INSERT INTO goose_db_version (version_id, is_applied) VALUES ($1, true)`
	if _, err := s.pool.Exec(ctx, later, knownSchema+1); err != nil {
		t.Fatal(err)
	}
	if p, err := s.Heartbeat(ctx, run, mail.NodeFacts{}); err != nil || p.Newer {
		t.Errorf("a node stops although the schema only grew: %+v %v", p, err)
	}
	beside, err := Open(ctx, s.pool.Config().ConnString())
	if err != nil {
		t.Fatalf("a node does not begin on a schema that only grew: %v", err)
	}
	beside.Close()
	if _, err := s.pool.Exec(ctx, `UPDATE schema_use SET works_from = $1`, knownSchema+1); err != nil {
		t.Fatal(err)
	}
	if p, err := s.Heartbeat(ctx, run, mail.NodeFacts{}); err != nil || !p.Newer {
		t.Errorf("a node goes on with what it does not know: %+v %v", p, err)
	}
	if _, err := Open(ctx, s.pool.Config().ConnString()); !errors.Is(err, ErrNewerSchema) {
		t.Errorf("an old program starts on a newer schema: %v", err)
	}
}

// Somebody reads a table for long, and a migration wants it: those who come after are not held up.
func TestAMigrationGivesWay(t *testing.T) {
	s, _ := open(t)
	back := texts(t)
	for _, name := range slices.Backward(slices.Sorted(maps.Keys(back))) { // to the schema of before
		_, down, _ := strings.Cut(back[name], "-- +goose Down")
		if _, err := s.pool.Exec(ctx, down); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.pool.Exec(ctx, `DELETE FROM goose_db_version WHERE version_id >= 39`); err != nil {
		t.Fatal(err)
	}
	reading, err := s.pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer reading.Rollback(ctx)
	var n int
	if err := reading.QueryRow(ctx, `SELECT count(*) FROM node`).Scan(&n); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		again, err := Open(ctx, s.pool.Config().ConnString())
		if err == nil {
			again.Close()
		}
		done <- err
	}()
	slowest, waited := time.Duration(0), 0
	for end := time.Now().Add(4 * time.Second); time.Now().Before(end); {
		began := time.Now()
		if _, err := s.pool.Exec(ctx, `UPDATE node SET seen_at = seen_at`); err != nil {
			t.Fatal(err)
		}
		if took := time.Since(began); took > 200*time.Millisecond {
			waited, slowest = waited+1, max(slowest, took)
		}
		time.Sleep(20 * time.Millisecond)
	}
	select {
	case err := <-done:
		t.Fatalf("it did not wait for the one who reads: %v", err)
	default:
	}
	if waited == 0 || slowest > 2500*time.Millisecond {
		t.Errorf("others waited %d times, %s at most; want once at least, and a second at most", waited, slowest)
	}
	if err := reading.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if st, err := LookAtSchema(ctx, conn); err != nil || st.There != knownSchema || len(st.Missing) != 0 {
		t.Errorf("%+v %v", st, err)
	}
}
