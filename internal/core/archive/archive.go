// Package archive is the form in which what happened is taken out of one
// installation and opened in another: JSON Lines, one object a line, each with its
// kind. The first line says what the archive holds; messages come in order of their
// ids, and so do refusals and sessions.
package archive

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	fast "github.com/goccy/go-json"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
)

// The kinds of line.
const (
	Head    = "archive"
	Message = "message"
	Refusal = "refusal"
	Session = "session"
	End     = "end"
)

// Version is that of the form.
const Version = 1

// Window is how far back the compression looks, in octets: what reads an archive
// has to keep as much.
const Window = 512 << 10

// About is the first line: where the archive is from and what it covers.
type About struct {
	Kind     string    `json:"kind"`
	Version  int       `json:"version"`
	HostName string    `json:"host_name"`
	Node     string    `json:"node"`
	MadeAt   time.Time `json:"made_at"`
	Since    time.Time `json:"since"`
	Until    time.Time `json:"until"`
}

// MessageLine is a message with its deliveries and what happened to it.
type MessageLine struct {
	Kind    string       `json:"kind"`
	Message mail.Message `json:"message"`
	Events  []mail.Event `json:"events,omitempty"`
	Numbers []int16      `json:"events_of,omitempty"` // the deliveries' numbers of the events
	Notify  []int16      `json:"notify,omitempty"`    // what the sender asked to be told, by delivery
	Found   mail.Found   `json:"-"`
}

// RefusalLine is a refusal.
type RefusalLine struct {
	Kind    string       `json:"kind"`
	Refusal mail.Refusal `json:"refusal"`
}

// SessionLine is a session with its transcript.
type SessionLine struct {
	Kind       string            `json:"kind"`
	Session    mail.Session      `json:"session"`
	Transcript []transcript.Line `json:"transcript,omitempty"`
}

// EndLine is the last: how much there was. An archive without it is not whole.
type EndLine struct {
	Kind     string `json:"kind"`
	Messages int64  `json:"messages"`
	Refusals int64  `json:"refusals"`
	Sessions int64  `json:"sessions"`
}

// OfMessage makes the line of a message.
func OfMessage(m mail.Message, events []mail.Event) MessageLine {
	l := MessageLine{Kind: Message, Message: m, Events: events}
	for i := range l.Message.Deliveries {
		d := &l.Message.Deliveries[i]
		d.Key = d.ID()
		l.Notify = append(l.Notify, d.Notify)
	}
	for _, e := range events {
		l.Numbers = append(l.Numbers, e.N)
	}
	return l
}

// Write makes the text of a line, with its end.
func Write(line any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(line)
	return b.Bytes(), err
}

// KindOf reads a line's kind: it stands first.
func KindOf(line []byte) string {
	const before = `{"kind":"`
	if !bytes.HasPrefix(line, []byte(before)) {
		return ""
	}
	rest := line[len(before):]
	if i := bytes.IndexByte(rest, '"'); i > 0 && i < 16 {
		return string(rest[:i])
	}
	return ""
}

// ReadMessage reads a message's line.
func ReadMessage(line []byte) (*MessageLine, error) {
	l := &MessageLine{}
	if err := fast.Unmarshal(line, l); err != nil {
		return nil, plain(err)
	}
	if l.Message.ID <= 0 {
		return nil, fmt.Errorf("a message without an id")
	}
	for i := range l.Message.Deliveries {
		d := &l.Message.Deliveries[i]
		d.N = d.Key.N
		if i < len(l.Notify) {
			d.Notify = l.Notify[i]
		}
	}
	for i := range l.Events {
		e := &l.Events[i]
		if i < len(l.Numbers) {
			e.N = l.Numbers[i]
		}
	}
	l.Found = mail.Found{Message: l.Message}
	return l, nil
}

// counted are the parts of a message's line that reports count by; to read no more
// than these is quicker by half.
type counted struct {
	Message struct {
		ID            ident.ID   `json:"id"`
		ReceivedAt    time.Time  `json:"received_at"`
		Sender        string     `json:"sender"`
		Size          int64      `json:"size"`
		Listener      string     `json:"listener"`
		ClientAddress string     `json:"client_address"`
		Account       string     `json:"account"`
		Direction     string     `json:"direction"`
		Deliveries    []delivery `json:"deliveries"`
	} `json:"message"`
	Events []struct {
		At     time.Time       `json:"at"`
		Kind   mail.Kind       `json:"kind"`
		Detail json.RawMessage `json:"detail"`
	} `json:"events"`
	Numbers []int16 `json:"events_of"`
}

type delivery struct {
	Key        mail.DeliveryID `json:"id"`
	Recipient  string          `json:"recipient"`
	Original   string          `json:"original_recipient"`
	Via        []string        `json:"via"`
	State      mail.State      `json:"state"`
	Route      string          `json:"route"`
	FinishedAt mail.OptTime    `json:"finished_at"`
	Cause      diagnose.Cause  `json:"cause"`
	Last       *struct {
		Stage diagnose.Stage `json:"stage"`
		Host  string         `json:"host"`
	} `json:"last_reply"`
}

// ReadCounted reads as much of a message's line as reports count by.
func ReadCounted(line []byte) (*mail.Found, []mail.Event, error) {
	var l counted
	if err := fast.Unmarshal(line, &l); err != nil {
		return nil, nil, plain(err)
	}
	m := &l.Message
	if m.ID <= 0 {
		return nil, nil, fmt.Errorf("a message without an id")
	}
	f := &mail.Found{
		Message: mail.Message{
			ID:            m.ID,
			ReceivedAt:    m.ReceivedAt,
			Sender:        m.Sender,
			Size:          m.Size,
			Listener:      m.Listener,
			ClientAddress: m.ClientAddress,
			Account:       m.Account,
			Direction:     m.Direction,
			Deliveries:    make([]mail.Delivery, len(m.Deliveries)),
		},
	}
	for i := range m.Deliveries {
		from, d := &m.Deliveries[i], &f.Deliveries[i]
		d.N, d.Recipient, d.Original, d.Via, d.State = from.Key.N, from.Recipient, from.Original,
			from.Via, from.State
		d.Route, d.FinishedAt, d.Cause = from.Route, from.FinishedAt, from.Cause
		if from.Last != nil {
			d.Last = &mail.LastReply{Stage: from.Last.Stage, Host: from.Last.Host}
		}
	}
	var events []mail.Event
	for i, from := range l.Events {
		if from.Kind != mail.EventDeferred {
			continue
		}
		e := mail.Event{At: from.At, Kind: from.Kind}
		if err := fast.Unmarshal(from.Detail, &e.Detail); err != nil {
			return nil, nil, plain(err)
		}
		if i < len(l.Numbers) {
			e.N = l.Numbers[i]
		}
		events = append(events, e)
	}
	return f, events, nil
}

// ReadRefusal reads a refusal's line.
func ReadRefusal(line []byte) (mail.Refusal, error) {
	var l RefusalLine
	if err := json.Unmarshal(line, &l); err != nil {
		return l.Refusal, plain(err)
	}
	if l.Refusal.ID <= 0 {
		return l.Refusal, fmt.Errorf("a refusal without an id")
	}
	return l.Refusal, nil
}

// ReadSession reads a session's line; its transcript too if that is wanted.
func ReadSession(line []byte, whole bool) (SessionLine, error) {
	var l SessionLine
	var err error
	if whole {
		err = json.Unmarshal(line, &l)
	} else {
		brief := struct {
			Session *mail.Session `json:"session"`
		}{&l.Session}
		err = json.Unmarshal(line, &brief)
	}
	if err != nil {
		return l, plain(err)
	}
	if l.Session.ID <= 0 {
		return l, fmt.Errorf("a session without an id")
	}
	return l, nil
}

// FirstID finds the id of the record on a line without reading all of it; it
// stands first in it.
func FirstID(line []byte) (ident.ID, bool) {
	const before = `{"id":"`
	i := bytes.Index(line[:min(len(line), 64)], []byte(before))
	if i < 0 || len(line) < i+len(before)+13 {
		return 0, false
	}
	id, err := ident.Parse(string(line[i+len(before) : i+len(before)+13]))
	return id, err == nil
}

func plain(err error) error { return fmt.Errorf("not a line of an archive: %w", err) }

// Info is an opened archive.
type Info struct {
	ID       int64     `json:"id"`
	Hash     string    `json:"hash" doc:"SHA-256 of the file"`
	Name     string    `json:"name"`
	Who      string    `json:"who"`
	OpenedAt time.Time `json:"opened_at"`
	Bytes    int64     `json:"bytes" doc:"Uncompressed"`
	Lines    int64     `json:"lines"`
	Damaged  int64     `json:"damaged" doc:"Lines that could not be read"`
	Faults   []string  `json:"faults" doc:"The first of them, by number"`
	About    About     `json:"about"`
	Known    bool      `json:"known" doc:"It was open already"`
}
