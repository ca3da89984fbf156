package test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gullroute/internal/core/mail"
)

// releaseConfig is what the servers were that the backups in testdata/releases are of.
const releaseConfig = `service:
  host_name: mail.skerryline.example
  postmaster: keeper@skerryline.example
  retry: {intervals: [1h], expire_after: 365d}
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

const releasePassphrase = "a passphrase of the tests"

// TestWriteARelease makes the backup of a release, once, when it is released: GULL_WRITE_RELEASE=0.9.0.
func TestWriteARelease(t *testing.T) {
	release := os.Getenv("GULL_WRITE_RELEASE")
	if release == "" {
		t.Skip("GULL_WRITE_RELEASE names no release")
	}
	s := own(t, "release", func(string) string { return releaseConfig })
	s.run(t, "send", "--from", "tickets@skerryline.example", "--to", "ines.harrow@skerryline.example", "--subject",
		"kept in a mailbox", "--text", "The tide is out.")
	s.run(t, "send", "--from", "tickets@skerryline.example", "--to", "ada@saltmarsh.example", "--subject", "waits",
		"--detach")
	s.run(t, "operator", "add", "wren", "--role", "operator")
	s.run(t, "dkim", "make", "skerryline.example", "--selector", "tide")
	secret := filepath.Join(s.dir, "passphrase")
	if err := os.WriteFile(secret, []byte(releasePassphrase), 0o600); err != nil {
		t.Fatal(err)
	}
	c := s.command("backup", "-", "--key-file", filepath.Join(s.dir, "key"), "--passphrase-file", secret)
	out, err := os.Create("testdata/releases/" + release + ".zip")
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	c.Stdout = out
	if err := c.Run(); err != nil {
		t.Fatal(err)
	}
}

// Every release opens what an earlier one left: mail in mailboxes, what waits, keys, people.
func TestAnEarlierReleaseIsOpened(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob("testdata/releases/*.zip")
	if len(files) == 0 {
		t.Fatal("there is no backup of a release")
	}
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			dir := t.TempDir()
			key, secret := filepath.Join(dir, "key"), filepath.Join(dir, "passphrase")
			if err := os.WriteFile(secret, []byte(releasePassphrase), 0o600); err != nil {
				t.Fatal(err)
			}
			database, err := newDatabase(os.Getenv("GULL_TEST_DATABASE"), "earlier")
			if err != nil {
				t.Fatal(err)
			}
			before := &stack{database: database, log: os.Stderr}
			before.run(t, "restore", file, "--database", database, "--key-file", key, "--passphrase-file", secret)
			s, err := newStackOn(false, database, nil, "--key-file", key)
			if err != nil {
				t.Fatal(err)
			}
			s.cleanUp(t)
			kept, ok := s.find(t, "ines.harrow@skerryline.example")
			var raw bytes.Buffer
			if err := s.client().MailboxRaw(context.Background(), "ines.harrow@skerryline.example", kept.ID.String(),
				&raw); !ok || err != nil || !strings.Contains(raw.String(), "The tide is out.") {
				t.Errorf("mail in a mailbox: %v %v %.200s", ok, err, &raw)
			}
			waits, ok := s.find(t, "ada@saltmarsh.example")
			if !ok || waits.Deliveries[0].State != mail.Waiting && waits.Deliveries[0].State != mail.Deferred {
				t.Errorf("what waited: %v %+v", ok, waits.Deliveries)
			}
			if out := s.run(t, "operator", "list"); !strings.Contains(out, "wren") {
				t.Errorf("people: %s", out)
			}
			if k, err := s.client().Key(context.Background(), "skerryline.example", "tide"); err != nil || k.Locked {
				t.Errorf("keys: %+v %v", k, err)
			}
			if out := s.run(t, "alias", "show", "crew@skerryline.example"); !strings.Contains(out, "ines.harrow") {
				t.Errorf("aliases: %s", out)
			}
			s.run(t, "audit", "verify")
			s.run(t, "queue", "resume")
		})
	}
}
