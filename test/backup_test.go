package test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// many hands n messages in on one connection and returns their ids.
func (s *stack) many(t *testing.T, n int, to func(i int) string) (ids []string) {
	t.Helper()
	c := dial(t, s.inside, "127.0.0.1")
	c.hear()
	c.want("250", "EHLO machine.skerryline.example")
	for i := range n {
		c.want("250", "MAIL FROM:<tickets@skerryline.example>")
		c.want("250", "RCPT TO:<"+to(i)+">")
		c.want("354", "DATA")
		ids = append(ids, strings.Fields(c.want("250 2.0.0 accepted as ", message(to(i))+"."))[4])
	}
	c.say("QUIT")
	return ids
}

// A server is backed up under load, is lost, and comes back of its backup: every message that had its
// 250 before, the keys, the people; and nothing is sent before somebody says that the old one is off.
func TestARestoreBringsEverythingBack(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "drill", nil)
	read := s.send(
		t,
		s.inside,
		"127.0.0.1",
		"tickets@skerryline.example",
		message("kept"),
		"harbour@skerryline.example",
	)
	s.until(t, read, mail.Delivered)
	s.run(t, "operator", "add", "wren", "--role", "operator")
	s.run(t, "queue", "pause", "--why", "the drill")
	waiting := s.many(t, 1000, func(i int) string { return fmt.Sprintf("drill%d@saltmarsh.example", i) })

	root, secret := filepath.Join(s.dir, "backups"), filepath.Join(s.dir, "passphrase")
	if err := os.WriteFile(secret, []byte("lanterns at low tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(s.dir, "key")
	loaded := make(chan []string)
	go func() {
		loaded <- s.many(t, 300, func(i int) string { return fmt.Sprintf("load%d@saltmarsh.example", i) })
	}()
	out := s.run(t, "backup", root, "--key-file", key, "--passphrase-file", secret)
	if !strings.Contains(out, "deliveries waited") {
		t.Errorf("backup says %s", out)
	}
	<-loaded // of these some are in it, each whole
	if out := s.run(t, "backup", "verify", root, "--passphrase-file", secret); !strings.Contains(
		out,
		"opens with the passphrase",
	) {
		t.Errorf("verify says %s", out)
	}
	s.kill()
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	for say, args := range map[string][]string{
		"the database is not empty": {"restore", root, "--key-file", key, "--passphrase-file", secret},
		"where the key file is":     {"restore", root},
		"no such file":              {"restore", root + "/nowhere"},
	} {
		if _, stderr, code := s.gull(t, args...); code == 0 || !strings.Contains(stderr, say) {
			t.Errorf("%v: %d %s", args, code, stderr)
		}
	}
	var err error
	if s.database, err = newDatabase(os.Getenv("GULL_TEST_DATABASE"), "drilled"); err != nil {
		t.Fatal(err)
	}
	if out := s.run(t, "restore", root, "--key-file", key, "--passphrase-file", secret); !strings.Contains(out,
		"every one counted") || !strings.Contains(out, "gull queue resume") {
		t.Errorf("restore says %s", out)
	}
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	there := 0
	for _, id := range waiting {
		if _, err := s.client().Trace(ctx, id, nil); err == nil {
			there++
		}
	}
	if there != len(waiting) {
		t.Errorf("%d of %d messages that waited are there", there, len(waiting))
	}
	var raw bytes.Buffer
	if err := s.client().MailboxRaw(ctx, "ines.harrow@skerryline.example", read, &raw); err != nil ||
		!strings.Contains(raw.String(), "The tide is out.") {
		t.Errorf("what was in a mailbox: %v %.200s", err, &raw)
	}
	if out := s.run(t, "operator", "list"); !strings.Contains(out, "wren") {
		t.Errorf("the operators: %s", out)
	}
	if out := s.run(t, "audit", "list"); !strings.Contains(out, "gull restore") {
		t.Errorf("it is not on record: %s", out)
	}
	s.run(t, "audit", "verify")
	time.Sleep(2 * time.Second)
	if got := s.messages(t, "mx.saltmarsh.example", ""); len(got) != 0 {
		t.Errorf("%d messages went out before anybody said so", len(got))
	}
	if out := s.run(t, "status"); !strings.Contains(out, "restored from the backup") {
		t.Errorf("status does not say why nothing moves: %s", out)
	}
	s.run(t, "queue", "resume")
	had := map[string]int{}
	if err := eventually(2*time.Minute, func() error {
		clear(had)
		for _, m := range s.messages(t, "mx.saltmarsh.example", "") {
			had[m.Recipients[0]]++
		}
		for i := range waiting {
			if had[fmt.Sprintf("drill%d@saltmarsh.example", i)] == 0 {
				return fmt.Errorf("drill%d has not arrived; %d have", i, len(had))
			}
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	for to, n := range had {
		if n != 1 {
			t.Errorf("%s has it %d times", to, n)
		}
	}
	// What was changed is found.
	name, _ := filepath.Glob(filepath.Join(root, "2*", "database.dump"))
	f, err := os.OpenFile(name[0], os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteAt([]byte("x"), 9000)
		f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if out, _, code := s.gull(t, "backup", "verify", root); code != 1 || !strings.Contains(out, "was changed") {
		t.Errorf("a damaged backup: %d %s", code, out)
	}
}
