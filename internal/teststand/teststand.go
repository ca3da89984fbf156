// Package teststand starts a whole node with its service inside a test: a database of its
// own, one listener on loopback, and two people who may sign in. Only tests import it.
package teststand

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/api"
	"gullroute/internal/control"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/keyfile"
	"gullroute/internal/node"
	"gullroute/internal/service"
	"gullroute/internal/store"
)

// The tokens of the two people. Keeper is an administrator.
const (
	Keeper = "keeper-of-the-teststand-token"
	Viewer = "viewer-of-the-teststand-token"
	// Of the other roles.
	Operator = "operator-of-the-teststand-token"
	Auditor  = "auditor-of-the-teststand-token"
)

// Config is what a stand begins with: our own domain, and one route to a host that
// refuses connections.
const Config = `service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  retry: {intervals: [1h], back_off: 1h}
listeners:
  - {name: inside, address: "127.0.0.1:0", kind: inside}
domains:
  - {name: skerryline.example, kind: local}
relay_rules:
  - {name: this machine, networks: [127.0.0.0/8], action: allow}
routes:
  - {name: by provider, recipients: ["*"], next_hop: smarthost, hosts: ["127.0.0.1:1"]}
mailboxes:
  - {address: keeper@skerryline.example}
  - {address: ines.harrow@skerryline.example}
aliases:
  - {address: crew@skerryline.example, to: [ines.harrow@skerryline.example]}
`

// Stand is a running node and where its service listens.
type Stand struct {
	*node.Node
	URL      string
	database string
	t        testing.TB
}

// Start starts a stand that ends with the test.
func Start(t testing.TB) *Stand {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	db, name := database(ctx, t)
	log := slog.New(slog.DiscardHandler)
	box, err := keyfile.Open(t.TempDir() + "/key")
	must(t, err)
	n, err := node.New(ctx, node.Options{DB: db, Name: "shore", SpoolDir: t.TempDir(), Box: box, Log: log})
	must(t, err)
	_, err = n.Control.Drafts.Adopt(ctx, "teststand", Config)
	must(t, err)
	for token, role := range map[string]mail.Role{Keeper: mail.Administrator, Viewer: mail.Viewer,
		Operator: mail.Operator, Auditor: mail.Auditor} {
		name, _, _ := strings.Cut(token, "-")
		must(t, n.Control.Operators.SetToken(ctx, control.HashSecret(token), name, role))
	}
	must(t, n.Start(ctx))
	s, err := service.New(service.Options{Control: n.Control, Insight: n.Insight, InForce: n.InForce,
		Hub: n.Engine.Hub, SignIn: n.Engine.SignIn, Log: log, Level: new(slog.LevelVar),
		Address: "127.0.0.1:0"})
	must(t, err)
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("the service ended: %v", err)
		}
		n.Stop()
		db.Close()
	})
	return &Stand{Node: n, URL: "http://" + s.Address(), t: t, database: name}
}

// database makes an empty one on the server that GULL_TEST_DATABASE names.
func database(ctx context.Context, t testing.TB) (db *store.DB, address string) {
	t.Helper()
	server := os.Getenv("GULL_TEST_DATABASE")
	if server == "" {
		t.Fatal("GULL_TEST_DATABASE is not set; run scripts/test")
	}
	conn, err := pgx.Connect(ctx, server)
	must(t, err)
	name := fmt.Sprintf("stand_%d", time.Now().UnixNano())
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name)
	must(t, err)
	must(t, conn.Close(ctx))
	address = strings.TrimSuffix(server, "postgres") + name
	db, err = store.Open(ctx, address)
	must(t, err)
	return db, address
}

// SQL does something with the stand's database behind its back.
func (s *Stand) SQL(t testing.TB, sql string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.database)
	must(t, err)
	defer func() { _ = conn.Close(t.Context()) }()
	_, err = conn.Exec(t.Context(), sql)
	must(t, err)
}

// Send sends a message to recipients and returns its id.
func (s *Stand) Send(subject string, to ...string) ident.ID {
	s.t.Helper()
	done, err := s.Control.Submitter.Submit(s.t.Context(), api.TestMessage{
		From: "ines.harrow@skerryline.example", To: to, Subject: subject})
	must(s.t, err)
	id, err := ident.Parse(done.ID)
	must(s.t, err)
	return id
}

// Until waits until all deliveries of a message are in a state.
func (s *Stand) Until(id ident.ID, state mail.State) mail.Message {
	s.t.Helper()
	for end := time.Now().Add(15 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		m, err := s.Insight.Trace.Message(s.t.Context(), 0, id)
		reached := err == nil
		for _, d := range m.Message.Deliveries {
			reached = reached && d.State == state
		}
		if reached {
			return m.Message
		}
		if time.Now().After(end) {
			s.t.Fatalf("message %s is not %s: %+v %v", id, state, m.Message.Deliveries, err)
		}
	}
}

// Ask sends a request with a token, or none, and returns status and body.
func (s *Stand) Ask(token, method, path, body string) (int, string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.URL+path, strings.NewReader(body))
	must(s.t, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	resp, err := http.DefaultClient.Do(r)
	must(s.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	must(s.t, err)
	return resp.StatusCode, string(text)
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
