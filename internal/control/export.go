package control

import (
	"bytes"
	"context"
	"strings"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/form"
)

// Export puts the directory behind a configuration's text, in the form in which
// an import takes both. With secrets the hashes of passwords and the passwords
// for others' servers stand in it too.
func (s *Directory) Export(ctx context.Context, text string, secrets bool) (string, error) {
	dir := s.InForce.Config().Directory
	var hashes map[string][2]string
	var err error
	if secrets {
		if hashes, err = s.Store.AllCredentials(ctx); err != nil {
			return "", err
		}
	}
	var boxes, aliases, kept []any
	for _, m := range dir.Mailboxes() {
		f := m.Fields()
		if h, ok := hashes[m.Address.Key()]; ok {
			f["password_hash"] = h[0]
			if h[1] != "" {
				f["scram_keys"] = h[1]
			}
		}
		boxes = append(boxes, f)
	}
	for _, a := range dir.Aliases() {
		aliases = append(aliases, a.Fields())
	}
	if secrets {
		names, err := s.Names.List(ctx)
		if err != nil {
			return "", err
		}
		for _, n := range names {
			value, err := s.Secrets.Secret(ctx, n.Name)
			if err != nil {
				return "", err
			}
			kept = append(kept, map[string]any{"name": n.Name, "value": value})
		}
	}
	var b strings.Builder
	b.WriteString(strings.TrimRight(text, "\n") + "\n")
	for _, part := range []struct {
		key   string
		items []any
	}{{"mailboxes", boxes}, {"aliases", aliases}, {"secrets", kept}} {
		if len(part.items) == 0 {
			continue
		}
		b.WriteString("\n" + part.key + ":\n")
		for _, it := range part.items {
			line, err := oneLine(it)
			if err != nil {
				return "", err
			}
			b.WriteString("  - " + line + "\n")
		}
	}
	return b.String(), nil
}

// oneLine writes a record as YAML on one line.
func oneLine(v any) (string, error) {
	n := form.NodeOf(v)
	putFirst(n, "address", "name")
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	if err := enc.Encode(n); err != nil {
		return "", err
	}
	return strings.TrimSpace(b.String()), nil
}

// putFirst puts fields at the head of a record.
func putFirst(n *yaml.Node, names ...string) {
	at := 0
	for _, name := range names {
		for i := at; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == name {
				key, value := n.Content[i], n.Content[i+1]
				copy(n.Content[at+2:i+2], n.Content[at:i])
				n.Content[at], n.Content[at+1] = key, value
				at += 2
				break
			}
		}
	}
}
