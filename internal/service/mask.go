package service

import (
	"encoding/json"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/store"
)

// mask hides from people who may look only what the settings hide from them. It
// works on what goes out, whatever it is: so nothing is forgotten.
type mask struct{ addresses, subjects bool }

// maskFor is what is hidden from somebody.
func (s *Service) maskFor(w who) mask {
	if w.Role == store.Administrator {
		return mask{}
	}
	see := s.Engine.Config().Service.ViewersSee
	return mask{see.Addresses == "masked", see.Subjects == "hidden"}
}

// anAddress is what looks like an address anywhere in a text.
var anAddress = regexp.MustCompile(`[^\s<>@"'(),;:\[\]\\=]+@[\p{L}\p{N}._-]+`)

// text hides addresses in a text.
func (m mask) text(s string) string {
	if !m.addresses || !strings.Contains(s, "@") {
		return s
	}
	return anAddress.ReplaceAllStringFunc(s, func(a string) string {
		i := strings.LastIndexByte(a, '@')
		_, n := utf8.DecodeRuneInString(a)
		return a[:n] + "…" + a[i:]
	})
}

// quoted is a subject in words to hand on.
var quoted = regexp.MustCompile(`“[^”]*”`)

// hidden stands for a subject.
const hidden = "(hidden)"

// value hides in a value read from JSON.
func (m mask) value(v any) any {
	switch v := v.(type) {
	case string:
		return m.text(v)
	case []any:
		for i := range v {
			v[i] = m.value(v[i])
		}
	case map[string]any:
		for k, x := range v {
			if text, ok := x.(string); ok && m.subjects && text != "" {
				switch k {
				case "subject":
					x = hidden
				case "for_user":
					x = quoted.ReplaceAllString(text, "“"+hidden+"”")
				}
			}
			v[k] = m.value(x)
		}
	}
	return v
}

// json hides in a text of JSON.
func (m mask) json(text []byte) []byte {
	if m == (mask{}) {
		return text
	}
	var v any
	if json.Unmarshal(text, &v) != nil {
		return []byte("{}")
	}
	out, err := json.Marshal(m.value(v))
	if err != nil {
		return []byte("{}")
	}
	return out
}

// ofLetters are the paths whose answers tell of letters.
var ofLetters = []string{"/api/v1/trace", "/api/v1/messages", "/api/v1/refusals", "/api/v1/sessions", "/api/v1/queue", "/api/v1/lanes", "/api/v1/lane-groups", "/api/v1/status", "/api/v1/report", "/api/v1/actions", "/api/v1/snags", "/api/v1/mailboxes/{address}/messages"}

// maskAnswer hides in the answers of typed operations.
func (s *Service) maskAnswer(ctx huma.Context, _ string, v any) (any, error) {
	if s.Engine == nil {
		return v, nil
	}
	m := s.maskFor(signedIn(ctx.Context()))
	if m == (mask{}) {
		return v, nil
	}
	for _, p := range ofLetters {
		if strings.HasPrefix(ctx.Operation().Path, p) {
			text, err := json.Marshal(v)
			if err != nil {
				return nil, err
			}
			return json.RawMessage(m.json(text)), nil
		}
	}
	return v, nil
}
