package folder

import (
	"bytes"
	"net/mail"
	"strings"
	"time"
	"unicode/utf8"

	"gullroute/internal/core/message"
)

// Bounds of what is kept of a message to be searched, in octets.
const (
	maxField  = 2 << 10
	maxHeader = 32 << 10
	maxBody   = 256 << 10
	// TextRead is how much of a message is read for its text.
	TextRead = 1 << 20
)

// Words are the text of a message in lower case, as it is searched.
type Words struct {
	From, To, Cc string
	Header       string // each field in a line of its own: name:value
	Body         string
	Sent         time.Time // the day of the field Date; zero if it has none
	Cut          bool      // there is more text than is kept
}

// WordsOf reads the text of a message's content, or of its begin.
func WordsOf(content []byte, whole bool) Words {
	section, _ := message.SplitHeader(content)
	h := message.ParseHeader(section)
	w := Words{Cut: !whole}
	var header strings.Builder
	for _, f := range h {
		value := w.clip(
			strings.ToLower(message.Decode(string(bytes.TrimSpace([]byte(f.Value))))),
			maxField,
		)
		line := strings.ToLower(f.Name) + ":" + strings.ReplaceAll(value, "\n", " ") + "\n"
		if header.Len()+len(line) > maxHeader {
			w.Cut = true
			break
		}
		header.WriteString(line)
		switch strings.ToLower(f.Name) {
		case "from":
			w.From = joined(w.From, value)
		case "to":
			w.To = joined(w.To, value)
		case "cc":
			w.Cc = joined(w.Cc, value)
		}
	}
	w.Header = header.String()
	if t, err := mail.ParseDate(strings.TrimSpace(h.First("Date"))); err == nil && t.Year() > 0 &&
		t.Year() < 9999 {
		w.Sent = time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC) // as it is written
	}
	var body strings.Builder
	for _, p := range message.Structure(content) {
		if p.Text == "" {
			continue
		}
		body.WriteString(p.Text)
		body.WriteByte('\n')
		if body.Len() > maxBody {
			break
		}
	}
	w.Body = w.clip(strings.ToLower(body.String()), maxBody)
	return w
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

// clip cuts text to what is kept, and takes out what the database cannot keep.
func (w *Words) clip(text string, limit int) string {
	text = strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "")
	if len(text) <= limit {
		return text
	}
	w.Cut = true
	for limit > 0 && !utf8.RuneStart(text[limit]) {
		limit--
	}
	return text[:limit]
}
