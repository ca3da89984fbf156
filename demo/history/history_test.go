package history

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"net/netip"
	"os"
	"sort"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/klauspost/compress/zstd"

	"gullroute/internal/core/archive"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/signin"
	"gullroute/internal/simnet"
	"gullroute/internal/virtual"
)

// live lets the days of a history pass until a moment, and gives what is on record
// then. days chooses some of the days; nil is all.
func live(t *testing.T, until time.Time, days map[int]bool) *virtual.Rows {
	t.Helper()
	settings, err := os.ReadFile("../skerryline.yaml")
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("../simnet.yaml")
	if err != nil {
		t.Fatal(err)
	}
	world, err := simnet.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	var rows *virtual.Rows
	synctest.Test(t, func(t *testing.T) {
		from := until.Truncate(24*time.Hour).AddDate(0, 0, -Days)
		time.Sleep(time.Until(from))
		w, err := virtual.Start(
			strings.Replace(string(settings), "back_off: 20s", "back_off: 20s\n    jitter: 0", 1),
			world,
			"shore",
		)
		if err != nil {
			t.Fatal(err)
		}
		defer w.Stop()
		w.Net.Latency = 35 * time.Millisecond
		for _, mailbox := range staff {
			keys, err := signin.ScramKeys(mailbox, password(mailbox))
			if err != nil {
				t.Fatal(err)
			}
			w.Rows.ScramKeys[mailbox] = keys
		}
		if err := w.Net.Change("mx.strandwatch.example",
			func(b *simnet.Behaviour) { b.Rcpt = "" }); err != nil {
			t.Fatal(err)
		}
		listed, dark, light := from.AddDate(0, 0,
			dayBlockListed).Add(9*time.Hour), from.AddDate(0, 0,
			dayResolver).Add(13*time.Hour), from.AddDate(0, 0, dayResolver).Add(15*time.Hour)
		isListed := false
		clients := map[string]*virtual.Client{}
		for i, l := range plan(from, until, days) {
			time.Sleep(time.Until(l.at))
			if !isListed && !l.at.Before(listed) {
				isListed = true
				if err := w.Net.Change("mx.strandwatch.example", func(b *simnet.Behaviour) {
					b.Rcpt = "550 5.7.1 your address is on the block list driftnet.example; ask there why"
				}); err != nil {
					t.Fatal(err)
				}
			}
			w.DNSDown.Store(!l.at.Before(dark) && l.at.Before(light))
			who := strings.Join([]string{l.listener, l.client, l.account, l.password}, " ")
			if clients[who] == nil {
				if clients[who], err = w.NewClient(
					l.listener,
					netip.MustParseAddr(l.client),
					l.name,
					l.account,
					l.password,
				); err != nil {
					t.Fatal(err)
				}
			}
			clients[who].Send(l.from, l.to, l.content(i))
		}
		time.Sleep(time.Until(until))
		rows = w.Rows
		rows.Freeze()
	})
	return rows
}

// TestHistory is the program: with GULL_HISTORY it writes the two weeks up to
// GULL_HISTORY_UNTIL into that file. Without, it lets two days pass, twice, and
// compares.
func TestHistory(t *testing.T) {
	if file := os.Getenv("GULL_HISTORY"); file != "" {
		until, err := time.Parse(time.RFC3339, os.Getenv("GULL_HISTORY_UNTIL"))
		if err != nil {
			t.Fatal(err)
		}
		if err := write(live(t, until, nil), file); err != nil {
			t.Fatal(err)
		}
		return
	}
	until := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	first, second := outline(live(t, until, map[int]bool{13: true})), outline(live(t, until,
		map[int]bool{13: true}))
	if first != second {
		t.Errorf("two runs differ:\n%s\n%s", first, second)
	}
	if !strings.Contains(first, "delivered") || !strings.Contains(first, "rule-refuses") {
		t.Error(first)
	}
}

// outline is what must be the same in every run: who wrote to whom when, and what
// came of it.
func outline(rows *virtual.Rows) string {
	messages, refusals, sessions, _ := rows.Lines()
	counts := map[string]int{}
	sum := fnv.New64a()
	for _, l := range messages {
		for _, d := range l.Message.Deliveries {
			counts[string(d.State)+" "+string(d.Cause)]++
			fmt.Fprintln(sum, l.Message.ReceivedAt.Truncate(time.Second), l.Message.Sender,
				d.Recipient, d.State, d.Cause, d.Attempts)
		}
	}
	for _, r := range refusals {
		counts["refused "+string(r.Cause)]++
	}
	var lines []string
	for k, n := range counts {
		lines = append(lines, fmt.Sprint(k, " ", n))
	}
	sort.Strings(lines)
	return fmt.Sprintf("%d messages, %d sessions, sum %x\n%s\n", len(messages), len(sessions),
		sum.Sum64(), strings.Join(lines, "\n"))
}

// contentLine is a message's content, beside the lines of an archive.
type contentLine struct {
	Kind string   `json:"kind"`
	ID   ident.ID `json:"id"`
	Data []byte   `json:"data"`
}

// write writes the records as an archive, with contents.
func write(rows *virtual.Rows, file string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(f)
	if err != nil {
		return err
	}
	messages, refusals, sessions, content := rows.Lines()
	for _, l := range messages {
		if err := add(z, l); err != nil {
			return err
		}
		if err := add(z, contentLine{"content", l.Message.ID, content[l.Message.ID]}); err != nil {
			return err
		}
	}
	for _, r := range refusals {
		if err := add(z, archive.RefusalLine{Kind: archive.Refusal, Refusal: r}); err != nil {
			return err
		}
	}
	for _, s := range sessions {
		lines, err := transcript.Read(s.Transcript)
		if err != nil {
			return err
		}
		if err := add(
			z,
			archive.SessionLine{Kind: archive.Session, Session: mail.Session(s.Session), Transcript: lines},
		); err != nil {
			return err
		}
	}
	fmt.Print(outline(rows))
	if err := z.Close(); err != nil {
		return err
	}
	return f.Close()
}

func add(w io.Writer, line any) error {
	text, err := json.Marshal(line)
	if err == nil {
		_, err = w.Write(append(text, '\n'))
	}
	return err
}
