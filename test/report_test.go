package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/mail"
	counts "gullroute/internal/core/report"
)

// mixed sends messages that end in every way.
func (s *stack) mixed(t *testing.T, round int) {
	t.Helper()
	tag := strconv.Itoa(round)
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("in "+tag),
		"ines.harrow@skerryline.example", "crew@skerryline.example")
	s.send(t, s.edge, "127.30.0.12", "cleo@dunlin.example", message("on "+tag),
		"ailsa.brune@skerryline.example", "anders@lightkeepers.example")
	s.send(t, s.edge, "127.30.0.12", "cleo@dunlin.example", message("away "+tag),
		"piet.sandholm@skerryline.example")
	s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", message("out "+tag),
		"a"+tag+"@saltmarsh.example", "b@saltmarsh.example", "c@dunlin.example")
	for _, to := range []string{"ned@nosuch.example", "finn@greywacke.example", "ivo@fullshelf.example",
		"jo@sunkenpier.example", "pia@lostbuoy.example"} {
		s.out(t, to)
	}
	for _, c := range []struct {
		listener, client, from,
		to string
	}{{s.inside, "127.20.9.9", "prizes@skerryline.example", "x@saltmarsh.example"}, {s.edge,
		"127.30.0.24", "dag@barelock.example", "nobody@skerryline.example"}, {s.edge, "127.30.0.24", "", "x@dunlin.example"}} {
		d := dial(t, c.listener, c.client)
		d.hear()
		d.want("250", "EHLO a.example")
		d.want("250", "MAIL FROM:<"+c.from+">")
		d.want("550", "RCPT TO:<"+c.to+">")
		d.want("221", "QUIT")
	}
}

// counted waits until all that happened is counted and nothing more happens.
func (s *stack) counted(t *testing.T) {
	t.Helper()
	last := ""
	if err := eventually(60*time.Second, func() error {
		text := s.everything(t, "count_sum") + s.everything(t, "count_log")
		if s.everything(t, "count_log") != "" || text != last {
			last = text
			time.Sleep(1200 * time.Millisecond)
			return fmt.Errorf("something is still to be counted")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}

// behind counts the messages behind a figure, page by page.
func behind(t *testing.T, c *client.Client, q url.Values) int64 {
	t.Helper()
	n := int64(0)
	for after := ""; ; {
		q.Set("limit", "7")
		q.Set("after", after)
		p, err := c.Figure(context.Background(), q)
		if err != nil {
			t.Fatalf("%v: %v", q, err)
		}
		n += int64(len(p.Items))
		if after = p.Next; after == "" {
			return n
		}
	}
}

// moved is what movers say of a value, now and before, of the day around so long from now.
func moved(t *testing.T, c *client.Client, q url.Values, value string, on time.Duration) [2]int64 {
	t.Helper()
	at := time.Now().Add(on)
	q.Set("since", at.Add(-24*time.Hour).Format(time.RFC3339))
	q.Set("until", at.Format(time.RFC3339))
	m, err := c.Movers(context.Background(), q)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range m.Items {
		if x.Value == value {
			return [2]int64{x.Now, x.Before}
		}
	}
	return [2]int64{}
}

// checkFigures compares every figure with the messages behind it, and returns how
// many there are.
func checkFigures(t *testing.T, c *client.Client, period url.Values) (figures int) {
	t.Helper()
	with := func(more ...string) url.Values {
		q := url.Values{}
		for k, v := range period {
			q[k] = v
		}
		for i := 0; i < len(more); i += 2 {
			q.Set(more[i], more[i+1])
		}
		return q
	}
	whole, err := c.Report(context.Background(), with())
	if err != nil {
		t.Fatal(err)
	}
	series := map[string]int64{}
	for _, p := range whole.Series {
		for k, f := range p.Counts {
			series[k] += f.N
		}
	}
	for _, kind := range counts.Kinds {
		n := whole.Totals[kind].N
		if got := behind(t, c, with("kind", kind)); got != n || series[kind] != n {
			t.Errorf(
				"%s: the report says %d, its series add up to %d, and %d messages are behind it",
				kind,
				n,
				series[kind],
				got,
			)
		}
		figures++
	}
	for _, dim := range counts.Choices() {
		rows, err := c.ReportTable(context.Background(), dim, with("limit", "1000"))
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			for kind, f := range row.Counts {
				q := with("dim", dim, "kind", kind, "limit", "100")
				now, then := moved(t, c, q, row.Value, 0), moved(t, c, q, row.Value, 7*24*time.Hour)
				if now != [2]int64{f.N, 0} || then != [2]int64{0, f.N} {
					t.Errorf("%s by %s %s: the report says %d, it moved %d and in a week %d", kind,
						dim, row.Value, f.N, now, then)
				}
				if got := behind(t, c, with("kind", kind, "dim", dim, "value", row.Value)); got != f.N {
					t.Errorf("%s by %s %s: the report says %d, and %d messages are behind it", kind,
						dim, row.Value, f.N, got)
				}
				figures++
			}
		}
	}
	return figures
}

func TestEveryFigureEqualsTheMessagesBehindIt(t *testing.T) {
	takesLong(t)
	s := own(t, "figures", func(c string) string {
		return strings.Replace(c, "expire_after: 2d", "expire_after: 6s\n    warn_after: 0s", 1)
	})
	s.mixed(t, 1)
	s.kill() // in the middle of an hour, and of counting
	if err := s.start(); err != nil {
		t.Fatal(err)
	}
	other := s.second(t, "reef")
	s.mixed(t, 2)
	other.mixed(t, 3)
	s.behave(t, "mx.barelock.example", `{"closed": true}`)
	held := s.out(t, "late@barelock.example")
	s.until(t, held, mail.Deferred)
	s.run(t, "queue", "drop", held+"-1", "--why", "a test", "--yes")
	gone := s.out(t, "later@barelock.example")
	s.until(t, gone, mail.Deferred)
	s.run(t, "queue", "drop", gone+"-1", "--why", "a mistake", "--yes")
	s.run(t, "queue", "undo", "2")
	s.behave(t, "mx.barelock.example", `{"closed": false}`)
	s.until(t, gone, mail.Delivered)
	if err := eventually(60*time.Second, func() error { // until what waits expires
		p, err := s.client().Queue(context.Background(), url.Values{"limit": {"1"}})
		if err == nil && len(p.Items) > 0 {
			err = fmt.Errorf("something waits")
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	s.counted(t)
	n := checkFigures(t, s.client(), url.Values{})
	whole, err := s.client().Report(context.Background(), nil)
	if err != nil || n < 150 {
		t.Fatalf("%d figures, %v", n, err)
	}
	for _, kind := range counts.Kinds {
		if whole.Totals[kind].N == 0 {
			t.Errorf("nothing is %s: %v", kind, whole.Totals)
		}
	}
	if whole.Totals["discarded"].N != 1 {
		t.Errorf("what was dropped and restored: %v", whole.Totals["discarded"])
	}
	// The whole day from days and hours is what its hours are.
	today := time.Now().UTC().Truncate(24 * time.Hour)
	days, err := s.client().ReportTable(context.Background(), "cause", url.Values{
		"since": {today.AddDate(0, 0, -20).Format(time.RFC3339)},
		"until": {today.AddDate(0, 0, 20).Format(time.RFC3339)},
	})
	hours, err2 := s.client().ReportTable(context.Background(), "cause", nil)
	if err != nil || err2 != nil || text(days) != text(hours) {
		t.Errorf("by weeks and days %v\nby hours %v", days, hours)
	}

	// An archive of it gives the same answers elsewhere, and its counts are made
	// in another way.
	file := filepath.Join(s.dir, "all.jsonl.zst")
	s.run(t, "log", "export", "-f", file)
	elsewhere := world(t)
	elsewhere.run(t, "log", "open", file)
	list, err := elsewhere.client().Archives(context.Background(), "")
	if err != nil || list[0].Damaged != 0 || list[0].About.HostName != "mail.skerryline.example" {
		t.Fatalf("%+v %v", list, err)
	}
	in := strconv.FormatInt(list[0].ID, 10)
	checkFigures(t, elsewhere.client(), url.Values{"archive": {in}})
	for _, by := range counts.Choices() {
		here, err := s.client().ReportTable(context.Background(), by, nil)
		there, err2 := elsewhere.client().ReportTable(context.Background(), by, url.Values{"archive": {in}})
		if err != nil || err2 != nil || text(here) != text(there) {
			t.Errorf("by %s: here %s\nin the archive %s", by, text(here), text(there))
		}
	}
	for _, q := range []string{"", "saltmarsh.example", "ada@saltmarsh.example", "bounced", "refused",
		"127.20.1.0/24", "mx.sunkenpier.example", "127.30.0.13", "<>", "out 2", "to:crew.north@skerryline.example delivered", "no-such-user", `route:"old post"`, held, "greywacke deferred", "discarded"} {
		here, err := s.client().Search(context.Background(), url.Values{"q": {q}, "limit": {"1000"}})
		there, err2 := elsewhere.client().Search(context.Background(),
			url.Values{"q": {q}, "limit": {"1000"}, "archive": {in}})
		if err != nil || err2 != nil || ids(here) != ids(there) || q != "greywacke deferred" && len(here.Items) == 0 {
			t.Errorf("%q: here %s %v\nin the archive %s %v", q, ids(here), err, ids(there), err2)
		}
		// The other way round, page by page, it is the same.
		slices.Reverse(here.Items)
		for _, in := range []string{"", in} {
			where, filter := s, url.Values{"q": {q}, "order": {"oldest"}, "limit": {"7"}}
			if in != "" {
				where = elsewhere
				filter.Set("archive", in)
			}
			if got := pages(t, where.client(), filter); got != ids(here) {
				t.Errorf("%q, oldest first, archive %q: %s\nand %s", q, in, got, ids(here))
			}
		}
	}
	tr, err := elsewhere.client().Trace(context.Background(), gone, url.Values{"archive": {in}})
	if err != nil || tr.Session == nil || len(tr.Sessions) < 2 || len(tr.Events) < 5 {
		t.Errorf("%v %+v", err, tr)
	}
	a, err := s.client().Session(context.Background(), tr.Session.ID.String(), nil)
	b, err2 := elsewhere.client().Session(context.Background(), tr.Session.ID.String(),
		url.Values{"archive": {in}})
	if err != nil || err2 != nil || len(a.Lines) < 5 || fmt.Sprint(a.Lines) != fmt.Sprint(b.Lines) {
		t.Errorf("%v %v\n%v\n%v", err, err2, a.Lines, b.Lines)
	}
	elsewhere.run(t, "log", "close", in)
	if _, _, code := elsewhere.gull(t, "trace", "show", gone, "--archive", in); code != 4 {
		t.Errorf("a closed archive: %d", code)
	}
}

func text(v any) string {
	b, _ := json.Marshal(v)
	return string(b)
}

func ids(p api.FoundPage) string {
	var out []string
	for _, f := range p.Items {
		out = append(out, f.ID.String())
	}
	return strings.Join(out, " ")
}

// pages are the ids of all pages of a search.
func pages(t *testing.T, c *client.Client, q url.Values) string {
	t.Helper()
	var all api.FoundPage
	for {
		p, err := c.Search(context.Background(), q)
		if err != nil {
			t.Fatal(err)
		}
		all.Items = append(all.Items, p.Items...)
		if p.Next == "" {
			return ids(all)
		}
		q.Set("after", p.Next)
	}
}

func TestDamagedAndHostileArchivesAreBounded(t *testing.T) {
	takesLong(t)
	s := world(t)
	s.until(
		t,
		s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("x"),
			"ines.harrow@skerryline.example"),
		mail.Delivered,
	)
	dir := t.TempDir()
	file := func(name string, text []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	s.run(t, "log", "export", "-f", filepath.Join(dir, "whole"))
	plain := unpacked(t, filepath.Join(dir, "whole"))
	lines := strings.SplitAfter(plain, "\n")
	broken := strings.Join(
		append(append([]string{}, lines[:2]...),
			"{\"kind\":\"message\",\"message\":{\"id\":\"what\"\n", "rubbish\n",
			strings.Join(lines[2:], "")),
		"",
	)
	out, errOut, code := s.gull(t, "log", "open", file("broken", []byte(broken)))
	if code != 0 || !strings.Contains(errOut, "line 3: not a line of an archive") ||
		!strings.Contains(errOut, "line 4: not a line of an archive") {
		t.Errorf("%d %s%s", code, out, errOut)
	}
	packed := []byte(readFile(t, filepath.Join(dir, "whole")))
	if _, errOut, code = s.gull(
		t,
		"log",
		"open",
		file("cut", packed[:len(packed)*2/3]),
	); code != 0 && !strings.Contains(errOut, "cannot be opened") ||
		code == 0 && !strings.Contains(errOut, "cut off") {
		t.Errorf("a file that was cut: %d %s", code, errOut)
	}
	if _, errOut, code = s.gull(t, "log", "open",
		file("half", []byte(plain[:len(plain)/2]))); code != 0 ||
		!strings.Contains(errOut, "it was cut off") {
		t.Errorf("half of the text: %d %s", code, errOut)
	}
	// A line of hundreds of megabytes, and what unpacks to far more than it is.
	var bomb bytes.Buffer
	z, err := zstd.NewWriter(&bomb)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = z.Write([]byte(lines[0]))
	for range 600 {
		_, _ = z.Write(bytes.Repeat([]byte("x"), 1<<20))
	}
	z.Close()
	before := rss(t, s)
	if _, errOut, code = s.gull(t, "log", "open", file("bomb", bomb.Bytes())); code == 0 ||
		!strings.Contains(errOut, "no archive is like that") && !strings.Contains(errOut, "unpack") {
		t.Errorf("a bomb: %d %s", code, errOut)
	}
	if grown := rss(t, s) - before; grown > 150<<20 {
		t.Errorf("a bomb took %d MB of memory", grown>>20)
	}
	for name, text := range map[string][]byte{"empty": {}, "image": {0x89, 'P', 'N', 'G', 0, 0, 0},
		"other": []byte("{\"kind\":\"archive\",\"version\":9}\n")} {
		if _, errOut, code := s.gull(t, "log", "open", file(name, text)); code == 0 ||
			!strings.Contains(errOut, "cannot be opened") {
			t.Errorf("%s: %d %s", name, code, errOut)
		}
	}
}
