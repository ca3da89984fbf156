// Package syslog sends the service's log, and what happens to messages, to a log
// server (RFC 5424), by UDP (RFC 5426) or TCP with counted octets (RFC 6587). What
// the server does not take in time is left out, counted and said.
package syslog

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"gullroute/internal/engine/feed"
)

const (
	depth        = 4096
	writeTimeout = 5 * time.Second
	again        = 2 * time.Second
	facilityMail = 2
	maxMessage   = 2048 // octets by UDP (RFC 5426 section 3.2)
)

// Handler is a handler of slog that sends to a log server.
type Handler struct {
	out   *sender
	level slog.Leveler
	attrs []slog.Attr
	group string
}

type sender struct {
	network, address string
	host             string
	lines            chan string
	lost             atomic.Int64
	stop, done       chan struct{}
}

// Dial makes a handler for an address like udp://127.0.0.1:514; nil for an empty
// one. The connection is made when there is something to send.
func Dial(address, host string, level slog.Leveler) (*Handler, error) {
	if address == "" {
		return nil, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "udp" && u.Scheme != "tcp" || u.Port() == "" {
		return nil, fmt.Errorf("%q is not an address like udp://127.0.0.1:514 or tcp://loghost:601",
			address)
	}
	s := &sender{
		network: u.Scheme,
		address: u.Host,
		host:    name(host),
		lines:   make(chan string, depth),
		stop:    make(chan struct{}),
		done:    make(chan struct{}),
	}
	go s.run()
	return &Handler{out: s, level: level}, nil
}

// Close sends what is left, and ends.
func (h *Handler) Close() {
	close(h.out.stop)
	select {
	case <-h.out.done:
	case <-time.After(writeTimeout):
	}
}

// Enabled reports whether a level is sent.
func (h *Handler) Enabled(_ context.Context, l slog.Level) bool { return l >= h.level.Level() }

// WithAttrs adds to what goes with each record.
func (h *Handler) WithAttrs(attrs []slog.Attr) slog.Handler {
	out := *h
	out.attrs = append(append([]slog.Attr{}, h.attrs...), attrs...)
	return &out
}

// WithGroup puts a name before those of what follows.
func (h *Handler) WithGroup(group string) slog.Handler {
	out := *h
	out.group += group + "."
	return &out
}

// Handle sends a record.
func (h *Handler) Handle(_ context.Context, r slog.Record) error {
	severity := 7
	switch {
	case r.Level >= slog.LevelError:
		severity = 3
	case r.Level >= slog.LevelWarn:
		severity = 4
	case r.Level >= slog.LevelInfo:
		severity = 6
	}
	var data []string
	add := func(a slog.Attr) bool {
		data = append(data, param(h.group+a.Key,
			a.Value.String()))
		return true
	}
	for _, a := range h.attrs {
		add(a)
	}
	r.Attrs(add)
	h.out.send(severity, r.Time, "log", data, r.Message)
	return nil
}

// Follow sends what happens to messages until ctx ends.
func (h *Handler) Follow(ctx context.Context, hub *feed.Hub) {
	hub.Follow(ctx, func(e feed.Event, lost int) {
		var data []string
		for _, p := range e.Named() {
			data = append(data, param(p[0], p[1]))
		}
		h.out.lost.Add(int64(lost))
		h.out.send(6, e.At, string(e.Kind), data, e.Text)
	})
}

// send gives a message to the sender; it never waits.
func (s *sender) send(severity int, at time.Time, kind string, data []string, text string) {
	structured := "-"
	if len(data) > 0 {
		structured = "[gull@32473 " + strings.Join(data, " ") + "]"
	}
	line := fmt.Sprintf("<%d>1 %s %s gull %d %s %s %s", facilityMail*8+severity,
		at.UTC().Format("2006-01-02T15:04:05.000000Z"), s.host, os.Getpid(), name(kind), structured,
		oneLine(text))
	select {
	case s.lines <- line:
	default:
		s.lost.Add(1)
	}
}

// name is a text as RFC 5424 has names: printable, without spaces, 48 at most.
func name(text string) string {
	out := strings.Map(func(r rune) rune {
		if r <= ' ' || r >= 0x7f {
			return '_'
		}
		return r
	}, text)
	if out == "" {
		return "-"
	}
	return out[:min(len(out), 48)]
}

// param is one parameter of structured data (RFC 5424 section 6.3.3).
func param(key, value string) string {
	key = strings.Map(func(r rune) rune {
		if r <= ' ' || r >= 0x7f || strings.ContainsRune(`="]`, r) {
			return '_'
		}
		return r
	}, key)
	return key[:min(len(key), 32)] + `="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`,
		`\]`).Replace(oneLine(value)) + `"`
}

// oneLine keeps a text from being taken for several.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\uFFFD"))
}

// run sends until there is nothing more to come.
func (s *sender) run() {
	defer close(s.done)
	var conn net.Conn
	for {
		var line string
		select {
		case line = <-s.lines:
		default:
			select {
			case line = <-s.lines:
			case <-s.stop:
				if conn != nil {
					conn.Close()
				}
				return
			}
		}
		if n := s.lost.Swap(0); n > 0 {
			line += fmt.Sprintf(
				" (%d messages before this one were left out: the log server did not take them in "+
					"time)",
				n,
			)
		}
		if conn == nil {
			var err error
			if conn, err = net.DialTimeout(s.network, s.address, writeTimeout); err != nil {
				conn = nil
				s.lost.Add(1)
				time.Sleep(again)
				continue
			}
		}
		text := line
		if s.network == "tcp" {
			text = strconv.Itoa(len(line)) + " " + line
		} else if len(text) > maxMessage {
			text = strings.ToValidUTF8(text[:maxMessage], "")
		}
		_ = conn.SetWriteDeadline(time.Now().Add(writeTimeout))
		if _, err := conn.Write([]byte(text)); err != nil {
			s.lost.Add(1)
			conn.Close()
			conn = nil
		}
	}
}
