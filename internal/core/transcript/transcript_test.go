package transcript

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestATranscriptIsReadBackAsItWas(t *testing.T) {
	start := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	l := New(start, Usual)
	l.Say(start.Add(1500*time.Microsecond), Server, []byte("250-one\r\n250 two"))
	l.Say(start.Add(time.Second), Client, []byte("MAIL FROM:<s\xc3\xb8ren@x> \x00\xff\\"))
	l.Note(start.Add(2*time.Second), "content of %d octets", 5)
	l.Say(start.Add(3*time.Second), Client, bytes.Repeat([]byte("x"), 5000))
	lines, err := Read(l.Bytes())
	if err != nil || len(lines) != 5 || lines[0] != (Line{0.0015, "server", "250-one", 0}) ||
		lines[1].Text != "250 two" ||
		lines[2].Text != `MAIL FROM:<søren@x> \x00\xff\` ||
		lines[3].Who != "note" ||
		len(lines[4].Text) != 2000 ||
		lines[4].Cut != 3000 {
		t.Errorf("%v %.200v", err, lines)
	}
	again, err := Read(Again(lines))
	if err != nil || fmt.Sprint(again) != fmt.Sprint(lines) {
		t.Errorf("again: %v %.300v", err, again)
	}
	var none *Log
	none.Say(start, Client, []byte("NOOP"))
	if none.Bytes() != nil {
		t.Error("a log that keeps nothing kept something")
	}
}

func TestALongTranscriptKeepsItsBeginningAndItsEnd(t *testing.T) {
	start := time.Now()
	l := New(start, 8000)
	for i := range 5000 {
		l.Say(start.Add(time.Duration(i)*time.Millisecond), Client, fmt.Appendf(nil, "NOOP %d", i))
	}
	b := l.Bytes()
	lines, err := Read(b)
	if err != nil || len(b) > 9000 || lines[0].Text != "NOOP 0" || lines[len(lines)-1].Text != "NOOP 4999" {
		t.Fatalf("%v, %d octets, %d lines, last %+v", err, len(b), len(lines), lines[len(lines)-1])
	}
	said, left := 0, 0
	for _, line := range lines {
		if line.Who == "note" {
			_, _ = fmt.Sscanf(line.Text, "%d lines left out", &left)
		} else {
			said++
		}
	}
	if said+left != 5000 || left == 0 {
		t.Errorf("%d lines are there and %d are said to be left out", said, left)
	}
}

func TestDamagedTranscriptsAreSaidToBe(t *testing.T) {
	l := New(time.Now(), Usual)
	l.Say(time.Now(), Client, []byte(strings.Repeat("EHLO x\r\n", 3)))
	whole := l.Bytes()
	for cut := 1; cut < len(whole); cut++ {
		if lines, err := Read(whole[:cut]); err == nil && len(lines) == 3 {
			t.Errorf("cut at %d of %d: nothing was missed", cut, len(whole))
		}
	}
	if _, err := Read(bytes.Repeat([]byte{0xff}, 40)); err == nil {
		t.Error("rubbish was read")
	}
}
