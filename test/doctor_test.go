package test

import (
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gullroute/internal/api"
	"gullroute/internal/core/machine"
)

func (s *stack) doctor(t *testing.T, args ...string) (map[string]machine.Examined, int) {
	t.Helper()
	out, errOut, code := s.gull(t, append([]string{"doctor", "-o", "json"}, args...)...)
	var d api.Doctor
	if err := json.Unmarshal([]byte(out), &d); err != nil {
		t.Fatalf("%v: %s %s", err, out, errOut)
	}
	found := map[string]machine.Examined{}
	for _, c := range d.Checks {
		found[c.What] = c
	}
	return found, code
}

// What is wrong with the machine is found, said with what to do, a snag, and over when it is over.
func TestTheDoctorFindsWhatIsWrongWithTheMachine(t *testing.T) {
	t.Parallel()
	s := own(t, "doctor", nil)
	var found map[string]machine.Examined
	_ = eventually(20*time.Second, func() error { // with its first sign of life
		if found, _ = s.doctor(t); found["versions"].State != machine.Well {
			return os.ErrNotExist
		}
		return nil
	})
	for _, what := range []string{"memory", "file descriptors", "size", "open transactions", "versions",
		"edge at " + s.edge, "imap over TLS at " + s.imaps, "mail.skerryline.example"} {
		if c := found[what]; c.State != machine.Well {
			t.Errorf("%s: %+v", what, c)
		}
	}

	db, err := pgx.Connect(t.Context(), s.database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(t.Context())
	// As if the database had grown for ten days, and what is left is full in three.
	var free int64
	var spool string
	if err := eventually(20*time.Second, func() error {
		return db.QueryRow(t.Context(), `SELECT what, free FROM room_seen WHERE what LIKE 'shore: %'
			ORDER BY at DESC LIMIT 1`).Scan(&spool, &free)
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(t.Context(), `INSERT INTO room_seen SELECT 'the database', date_trunc('hour', now())
			- h * interval '1 hour', 1e9 + (240 - h) * $1::bigint / 240, $1::bigint / 3
		FROM generate_series(1, 240) h`, free); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(t.Context(), `UPDATE room_seen SET free = $1::bigint / 3
		WHERE what = 'the database'`, free); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(s.dir, "key")
	if err := os.Chmod(key, 0o644); err != nil {
		t.Fatal(err)
	}
	found, code := s.doctor(t)
	if c := found["size"]; c.State != machine.Bad || !strings.Contains(c.Found, "full in 3 days") || code != 1 {
		t.Errorf("what fills up: %+v, exit code %d", c, code)
	}
	if c := found["key file "+key]; c.State != machine.Look || !strings.Contains(c.Fix, "chmod 600") {
		t.Errorf("a key file that others may read: %+v", c)
	}
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	s.kill()
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	if err := eventually(20*time.Second, func() error {
		page, err := s.client().Snags(t.Context(), nil)
		for _, sn := range page.Items {
			if sn.Place.Name == "shore: size" && strings.Contains(fmt.Sprintf("%+v", sn.Evidence), "full in 3 days") {
				return nil
			}
		}
		return fmt.Errorf("nobody is told of what is full in 3 days: %v %+v", err, page.Items)
	}); err != nil {
		t.Error(err)
	}
	if text, _, code := s.gull(t, "doctor", "upkeep"); code != 1 || !strings.Contains(text, "3 days") {
		t.Errorf("gull doctor upkeep: %d %s", code, text)
	}
}

// From elsewhere: an open relay, a wrong certificate and a closed port are found.
func TestPortsAreLookedAtFromOutside(t *testing.T) {
	s := world(t)
	port := func(at string) string { _, p, _ := net.SplitHostPort(at); return p }
	only := []string{"smtp:" + port(s.edge), "submission:" + port(s.submission), "submissions:" + port(s.smtps),
		"imap:" + port(s.imap), "imaps:" + port(s.imaps), "pop3:" + port(s.pop3), "pop3s:" + port(s.pop3s)}
	roots := filepath.Join(t.TempDir(), "roots.pem") // listeners made their certificates themselves
	conn, err := tls.Dial("tcp", s.smtps, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	conn.Close()
	if err := os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: conn.ConnectionState().PeerCertificates[0].Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	look := func(name string, only ...string) (map[string]machine.Examined, int) {
		return s.doctor(t, "ports", "127.0.0.1", "--name", name, "--roots", roots, "--only", strings.Join(only, ","))
	}
	found, code := look("mail.skerryline.example", only...)
	for what, c := range found {
		if c.State != machine.Well {
			t.Errorf("%s: %+v", what, c)
		}
	}
	if len(found) != len(only) || code != 0 {
		t.Errorf("%d of %d ports, exit code %d", len(found), len(only), code)
	}
	if c := found["smtp at "+s.edge]; !strings.Contains(c.Found, "relays for no stranger") {
		t.Errorf("%+v", c)
	}
	found, code = look("other.example", only...)
	if slices.ContainsFunc(only, func(o string) bool {
		name, port, _ := strings.Cut(o, ":")
		c := found[name+" at 127.0.0.1:"+port]
		return c.State != machine.Bad || !strings.Contains(c.Found, "other.example")
	}) || code != 1 {
		t.Errorf("certificates for another name: %d %+v", code, found)
	}
	// Our own machines may relay by the listener inside: to us it is one, and it has no TLS.
	if found, code = look("x.example", "smtp:"+port(s.inside), "smtp:"+port(loopback())); code != 1 ||
		found["smtp at "+s.inside].State != machine.Bad {
		t.Errorf("%d %+v", code, found)
	}
}
