package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/spf13/cobra"
)

// logFilter says which lines of text logs are printed.
type logFilter struct {
	level, message, find string
	since, until         time.Time
}

// levels of a line, by their order.
var levels = map[string]int{"DEBUG": 0, "INFO": 1, "WARN": 2, "ERROR": 3}

// maxLogLine is the longest line of a text log that is read, in octets.
const maxLogLine = 4 << 20

// logRead is gull log read.
func (a logCommands) logRead() *cobra.Command {
	var f logFilter
	var since, until string
	c := &cobra.Command{
		Use:   "read FILE…",
		Short: "Read text logs kept by day (service.log), compressed or not",
		Args:  cobra.MinimumNArgs(1),
		Long: "Read text logs that the service keeps by day (service.log), on the machine " +
			"where they lie, " +
			"compressed or not; neither service nor sign-in is needed. With -o jsonl the " +
			"lines as they stand.",
		Example: "  gull log read /var/log/gull/gull-shore-2026-11-29.jsonl.zst --level warn\n" +
			"  gull log read /var/log/gull/*.zst --message 05BARF5XG0002",
		RunE: func(c *cobra.Command, args []string) error {
			if _, ok := levels[strings.ToUpper(f.level)]; !ok && f.level != "" {
				return usage("--level: there are debug, info, warn and error")
			}
			for name, set := range map[string]struct {
				text string
				at   *time.Time
			}{"since": {since, &f.since}, "until": {until, &f.until}} {
				if set.text == "" {
					continue
				}
				at, err := parseTime(set.text, time.Now())
				if err != nil {
					return usage("--%s: %w", name, err)
				}
				*set.at = at
			}
			unread := 0
			for _, file := range args {
				n, err := a.readLog(file, &f)
				if err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
				unread += n
			}
			if unread > 0 {
				fmt.Fprintf(a.err, "%d lines are damaged and left out.\n", unread)
			}
			return nil
		},
	}
	c.Flags().StringVar(&f.level, "level", "", "only the service's own lines of this level "+
		"and above: warn")
	c.Flags().StringVar(&f.message, "message", "", "only what happened to this message")
	c.Flags().StringVar(&f.find, "find", "", "only lines with this text")
	c.Flags().StringVar(&since, "since", "", "only from then on: 2026-11-29 03:00, 2h")
	c.Flags().StringVar(&until, "until", "", "only before then")
	return c
}

func (a logCommands) readLog(file string, f *logFilter) (unread int, err error) {
	in, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	var text io.Reader = bufio.NewReader(in)
	if magic, _ := text.(*bufio.Reader).Peek(4); bytes.Equal(
		magic,
		[]byte{0x28, 0xb5, 0x2f, 0xfd},
	) {
		z, err := zstd.NewReader(text, zstd.WithDecoderConcurrency(1))
		if err != nil {
			return 0, err
		}
		defer z.Close()
		text = z
	}
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, maxLogLine)
	first := true
	for lines.Scan() {
		var l map[string]any
		if json.Unmarshal(lines.Bytes(), &l) != nil {
			unread++
			continue
		}
		if first && l["kind"] == "archive" {
			return 0, errors.New("this is an archive: gull log open " + file)
		}
		first = false
		if f.wants(l, lines.Bytes()) {
			if err := a.printLine(l, lines.Bytes()); err != nil {
				return unread, err
			}
		}
	}
	return unread, lines.Err()
}

func (f *logFilter) wants(l map[string]any, raw []byte) bool {
	at, _ := time.Parse(time.RFC3339Nano, fmt.Sprint(l["time"]))
	_, event := l["event"]
	switch {
	case f.level != "" && (event || levels[fmt.Sprint(l["level"])] < levels[strings.ToUpper(f.level)]),
		f.message != "" && l["message"] != f.message,
		f.find != "" && !bytes.Contains(bytes.ToLower(raw), []byte(strings.ToLower(f.find))),
		!f.since.IsZero() && at.Before(f.since),
		!f.until.IsZero() && !at.Before(f.until):
		return false
	}
	return true
}

// printLine prints a line for people: time, level or event, text, and the rest by name.
func (a logCommands) printLine(l map[string]any, raw []byte) error {
	if a.format == "jsonl" || a.format == "json" {
		_, err := fmt.Fprintf(a.out, "%s\n", raw)
		return err
	}
	at, _ := time.Parse(time.RFC3339Nano, fmt.Sprint(l["time"]))
	what, text := fmt.Sprint(l["level"]), fmt.Sprint(l["msg"])
	if e, ok := l["event"]; ok {
		what = fmt.Sprint(e)
	}
	var rest strings.Builder
	for _, k := range slices.Sorted(maps.Keys(l)) {
		switch k {
		case "time", "level", "msg", "event":
		default:
			fmt.Fprintf(&rest, " %s=%v", k, l[k])
		}
	}
	_, err := fmt.Fprintf(
		a.out,
		"%s %-10s %s%s\n",
		at.Local().Format("2006-01-02 15:04:05.000"),
		what,
		text,
		rest.String(),
	)
	return err
}
