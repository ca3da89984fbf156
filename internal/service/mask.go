package service

import (
	"bytes"
	"context"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/search"
)

// mask hides from people who may look only what the settings hide from them, and from
// everybody what is secret. It works on what goes out, whatever it is: so nothing is
// forgotten.
type mask struct{ addresses, subjects bool }

// maskFor is what is hidden from somebody.
func (s *Service) maskFor(w who) mask {
	if w.Role != mail.Viewer {
		return mask{}
	}
	see := s.InForce.Config().Service.ViewersSee
	return mask{see.Addresses == "masked", see.Subjects == "hidden"}
}

// anAddress is what looks like an address anywhere in a text; its local part may be
// quoted, in HTML too.
var anAddress = regexp.MustCompile(
	`("(?:[^"\\\r\n]|\\.)*"|&#34;[^<>\r\n]*?&#34;|[^\s<>@"'(),;:\[\]\\=]+)@[\p{L}\p{N}._-]+`,
)

// text hides addresses in a text, and the paths of webhooks.
func (m mask) text(s string) string {
	s = config.HideWebhooks(s)
	if !m.addresses || !strings.Contains(s, "@") {
		return s
	}
	return anAddress.ReplaceAllStringFunc(s, func(a string) string {
		i := strings.LastIndexByte(a, '@')
		first := strings.TrimPrefix(strings.TrimPrefix(a, "&#34;"), `"`)
		_, n := utf8.DecodeRuneInString(first)
		return first[:n] + "…" + a[i:]
	})
}

// nothing reports that a text of JSON holds nothing to hide.
func (m mask) nothing(text []byte) bool {
	return m == (mask{}) && !bytes.Contains(text, []byte("webhook"))
}

// quoted is a subject in words to pass on.
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
			if url, ok := x.(string); ok && k == "webhook" {
				x = config.HideWebhook(url)
			}
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
	if m.nothing(text) {
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

// unmasked are operations whose answers are given as they are: who somebody is, and what
// an administrator asked for with its secrets.
var unmasked = []string{"me", "sign-in", "config-export-secrets"}

// ofSettings are the paths whose answers may hold what is hidden from everybody.
var ofSettings = []string{
	"/api/v1/setup",
	"/api/v1/draft",
	"/api/v1/config",
	"/api/v1/revisions",
	"/api/v1/review",
	"/api/v1/changes",
	"/api/v1/status",
}

// maskAnswer hides in the answers of typed operations.
func (s *Service) maskAnswer(ctx huma.Context, _ string, v any) (any, error) {
	if s.InForce == nil || slices.Contains(unmasked, ctx.Operation().OperationID) {
		return v, nil
	}
	if _, problem := v.(huma.StatusError); problem {
		return v, nil
	}
	m := s.maskFor(signedIn(ctx.Context()))
	if m == (mask{}) &&
		!slices.ContainsFunc(
			ofSettings,
			func(p string) bool { return strings.HasPrefix(ctx.Operation().Path, p) },
		) {
		return v, nil
	}
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return json.RawMessage(m.json(text)), nil
}

// mayLookFor refuses questions by a part of what is hidden from who asks: the answers
// would tell it piece by piece.
func (s *Service) mayLookFor(ctx context.Context, q search.Query) error {
	m := s.maskFor(signedIn(ctx))
	for i := range q.Terms {
		t := &q.Terms[i]
		switch {
		case m.addresses && t.Field == search.Dotted:
			t.Field = search.Domain
		case m.addresses && (t.Field == search.SenderPart || t.Field == search.RecipientPart ||
			t.Field == search.Text),
			m.subjects && (t.Field == search.Subject || t.Field == search.Text):
			return huma.Error422UnprocessableEntity(
				t.Says + ": parts of addresses and subjects are hidden from viewers; look for a " +
					"whole address, a domain, an id, a client or a time",
			)
		}
	}
	return nil
}

// mayFind is the same for lists that are searched by one word.
func (s *Service) mayFind(ctx context.Context, words ...string) error {
	if !s.maskFor(signedIn(ctx)).addresses {
		return nil
	}
	for _, word := range words {
		if _, err := address.Parse(word); word != "" && err != nil {
			return huma.Error422UnprocessableEntity(
				"parts of addresses are hidden from viewers; write a whole address",
			)
		}
	}
	return nil
}
