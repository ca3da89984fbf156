package test

import (
	"archive/zip"
	"context"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"

	"gullroute/internal/client"
	"gullroute/internal/core/review"
)

// weak are the keys of what a review finds and nobody accepted.
func (s *stack) weak(t *testing.T, draft bool) []string {
	t.Helper()
	list, err := s.client().Review(context.Background(), draft)
	if err != nil {
		t.Fatal(err)
	}
	var keys []string
	for _, w := range list {
		if w.Accepted == nil && w.Rule != "disk-full" && w.Rule != "machine" { // where the test runs
			keys = append(keys, w.Key)
		}
		if w.Why == "" || w.Title == "" || w.Text == "" || (w.Fix == nil) == (w.ByHand == "") && w.Fix == nil {
			t.Errorf("a finding without reason or fix: %+v", w)
		}
	}
	slices.Sort(keys)
	return keys
}

func TestTheReviewFindsWhatIsPlantedAndItsFixesWork(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "review", nil)
	ctx := context.Background()
	planted := []string{
		"alias-leads-out:alias carousel@skerryline.example",
		"cannot-sign-in",
		"eager-retry",
		"hasty-timeouts",
		"key-file-copy",
		"no-abuse:domain bølgevik.example",
		"no-abuse:domain lightkeepers.example",
		"no-abuse:domain skerryline.example",
		"no-connection-limit:listener edge",
		"no-daily-report",
		"no-machine-limits:relay rule bridge logs",
		"no-machine-limits:relay rule this machine",
		"no-machine-limits:relay rule ticket machines",
		"no-quota",
		"nobody-alerted",
		"not-signed:domain bølgevik.example",
		"not-signed:domain lightkeepers.example",
		"not-signed:domain skerryline.example",
		"own-certificate:listener submission",
		"own-certificate:listener submission over TLS",
		"unverified-relay:domain kelpworks.example",
	}
	if got := s.weak(t, false); !slices.Equal(got, planted) {
		t.Fatalf("the review finds\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(planted, "\n"))
	}
	list, err := s.client().Review(ctx, false)
	if err != nil {
		t.Fatal(err)
	}
	pressed := 0
	for _, w := range list {
		if w.Fix == nil {
			if _, stderr, code := s.gull(t, "review", "fix", w.Key); code != 1 || !strings.Contains(stderr,
				"by hand") {
				t.Errorf("fixing %s: %d %s", w.Key, code, stderr)
			}
			continue
		}
		pressed++
		s.run(t, "review", "fix", w.Key)
	}
	if pressed < 10 {
		t.Errorf("only %d have a button", pressed)
	}
	for _, key := range s.weak(t, true) { // in the draft what has a button is fixed
		if i := slices.IndexFunc(list,
			func(w review.Finding) bool { return w.Key == key }); i >= 0 &&
			list[i].Fix != nil {
			t.Errorf("%s is still in the draft", key)
		}
	}
	if out := s.run(t, "draft", "rehearse"); strings.Contains(out, "Machines may send without limit") {
		t.Errorf("the rehearsal speaks of what the draft fixes: %s", out)
	}
	s.run(t, "draft", "apply", "--why", "the review")

	// The rest by hand.
	cert, key := s.dir+"/mail.pem", s.dir+"/mail.key"
	newAuthority(t).write(t, "mail.skerryline.example", cert, key)
	for _, l := range []string{"submission", "submission over TLS"} {
		s.run(t, "listener", "set", l, "--certificate", cert, "--key", key)
	}
	s.run(t, "draft", "apply", "--why", "certificates")
	for _, domain := range []string{"skerryline.example", "lightkeepers.example", "xn--blgevik-q1a.example"} {
		k, err := s.client().MakeKey(ctx, map[string]any{"domain": domain})
		if err != nil {
			t.Fatal(err)
		}
		s.publish(t, "zone line", k.Record, domain)
		s.run(t, "dkim", "use", domain, k.Selector)
	}
	boxes := []string{
		"ines.harrow",
		"tomas.vik",
		"odile.marr",
		"wren.castell",
		"piet.sandholm",
		"ailsa.brune",
		"keeper",
		"deck",
		"tickets",
		"bridge",
		"accounts",
		"crew.north",
		"crew.south",
		"archive",
		"logbook",
		"lost-and-found",
	}
	for i := range boxes {
		boxes[i] += "@skerryline.example"
	}
	for _, a := range append(boxes, "søren@bølgevik.example", "mette.lund@lightkeepers.example",
		"jon.aas@lightkeepers.example") {
		s.run(t, "mailbox", "set", a, "--quota", "2 GB")
	}
	for _, a := range []string{"ines.harrow", "tomas.vik", "odile.marr", "wren.castell"} {
		givePassword(t, s, a+"@skerryline.example", "a long enough secret")
	}
	s.run(t, "alias", "remove", "carousel@skerryline.example")
	s.run(t, "review", "accept", "key-file-copy", "--because", "in the safe of the harbour office")
	if got := s.weak(t, false); len(got) > 0 {
		t.Errorf("after all fixes the review still finds %s", strings.Join(got, ", "))
	}
	if out := s.run(t, "review"); !strings.Contains(out, "No finding was found") &&
		!strings.Contains(out, "disk-full:") && !strings.Contains(out, "machine:") ||
		!strings.Contains(out, "1 more are accepted") {
		t.Errorf("the review says %s", out)
	}
	if out := s.run(t, "review", "--all"); !strings.Contains(out, "accepted by tests ") ||
		!strings.Contains(out, "in the safe of the harbour office") {
		t.Errorf("what was accepted: %s", out)
	}
	s.run(t, "review", "reopen", "key-file-copy")
	if got := s.weak(t, false); !slices.Equal(got, []string{"key-file-copy"}) {
		t.Errorf("after reopening: %v", got)
	}
	// A change that brings a finding says so in its rehearsal.
	s.run(t, "relay", "set", "people", "--own-sender=false")
	if out := s.run(t, "draft", "rehearse"); !strings.Contains(out, "People who sign in may send as anybody") {
		t.Errorf("the rehearsal says %s", out)
	}
	for args, code := range map[string]int{"review fix nothing": 4, "review accept key-file-copy": 2,
		"review accept nothing --because it-is-so": 4, "review reopen nothing": 4} {
		if _, _, got := s.gull(t, strings.Fields(args)...); got != code {
			t.Errorf("gull %s: exit %d, want %d", args, got, code)
		}
	}
}

func TestASupportBundleHoldsNoSecretAndNoContent(t *testing.T) {
	s := world(t)
	s.run(t, "dkim", "make", "lightkeepers.example", "--selector", "bundle")
	id := s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example",
		message("the secret of the bundle"), "harbour@skerryline.example")
	s.until(t, id, "delivered")
	read := func(args ...string) map[string]string {
		file := t.TempDir() + "/bundle.zip"
		s.run(t, append([]string{"bundle", file, "--message", id}, args...)...)
		z, err := zip.OpenReader(file)
		if err != nil {
			t.Fatal(err)
		}
		defer z.Close()
		parts := map[string]string{}
		for _, f := range z.File {
			r, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(r)
			if err != nil {
				t.Fatal(err)
			}
			parts[f.Name] = string(text)
		}
		return parts
	}
	masked, whole := read(), read("--whole")
	for _, name := range []string{"read-me.txt", "configuration.yaml", "health.json", "nodes.json",
		"lanes.json", "snags.json", "review.json", "readiness.json", "dkim.json", "messages/" + id + ".json"} {
		if masked[name] == "" || whole[name] == "" {
			t.Errorf("%s is missing: %v", name, slices.Sorted(maps.Keys(masked)))
		}
	}
	all := strings.Join(slices.Collect(maps.Values(masked)), "\n")
	for _, word := range []string{"ada@", "harbour@", "keeper@", "the secret of the bundle",
		"The tide is out", "lantern-oil", "PRIVATE", password, adminToken} {
		if strings.Contains(all, word) {
			t.Errorf("a masked bundle shows %q", word)
		}
	}
	all = strings.Join(slices.Collect(maps.Values(whole)), "\n")
	if !strings.Contains(all, "ada@saltmarsh.example") || !strings.Contains(all, "the secret of the bundle") ||
		strings.Contains(all, "The tide is out") ||
		strings.Contains(all, "lantern-oil") ||
		strings.Contains(all, "PRIVATE") {
		t.Error("a whole bundle lacks addresses, or shows too much")
	}
	if _, err := client.New("http://"+s.http, viewerToken).Review(context.Background(), false); err != nil {
		t.Error(err)
	}
	if err := client.New("http://"+s.http, viewerToken).Bundle(context.Background(), nil,
		io.Discard); err == nil {
		t.Error("a viewer got a bundle")
	}
}
