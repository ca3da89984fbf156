package config

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
	"gullroute/internal/core/repute"
)

// Section is a list of named things in a configuration.
type Section struct {
	Key  string // in the YAML
	Noun string // of commands and pages
	Type reflect.Type
	// Ordered says that the first that matches decides.
	Ordered bool
}

// Sections are the lists of a configuration, in the order of the YAML.
var Sections = []Section{
	{"listeners", "listener", reflect.TypeFor[Listener](), false},
	{"domains", "domain", reflect.TypeFor[Domain](), false},
	{"relay_rules", "relay", reflect.TypeFor[RelayRule](), true},
	{"routes", "route", reflect.TypeFor[Route](), true},
	{"peers", "peer", reflect.TypeFor[Peer](), true},
	{"lists", "list", reflect.TypeFor[list.List](), false},
	{"gates", "gate", reflect.TypeFor[gate.Gate](), true},
	{"dns_lists", "dnslist", reflect.TypeFor[repute.DNSList](), false},
	{"scanners", "scanner", reflect.TypeFor[Scanner](), false},
	{"dns_servers", "dnsserver", reflect.TypeFor[DNSServer](), false},
	{"certificates", "certificate", reflect.TypeFor[Certificate](), false},
}

// ServiceSection is the one record that is not a list.
var ServiceSection = Section{"service", "service", reflect.TypeFor[Service](), false}

// FindSection finds a section by noun or key.
func FindSection(word string) (Section, bool) {
	for _, s := range append([]Section{ServiceSection}, Sections...) {
		if s.Noun == word || s.Key == word {
			return s, true
		}
	}
	return Section{}, false
}

// Item is one thing of a section as it is written.
type Item struct {
	Name     string         `json:"name"`
	Position int            `json:"position" doc:"From 1"`
	Mark     string         `json:"mark" doc:"Changes with the item; give it back to change only what you have seen"`
	Fields   map[string]any `json:"fields" doc:"As in the YAML"`
}

// The errors of editing a document.
var (
	ErrNoItem  = errors.New("there is none of that name")
	ErrIsThere = errors.New("one of that name exists already")
)

// Document is the YAML of a configuration that can be edited: what is not
// touched keeps its comments.
type Document struct{ root *yaml.Node }

// ParseDocument reads a configuration's YAML.
func ParseDocument(text string) (*Document, error) {
	root, err := form.ParseYAML([]byte(text))
	if err != nil {
		return nil, err
	}
	if root.Kind != yaml.MappingNode {
		return nil, Problems{
			{
				Line: root.Line,
				Text: "expected fields: service, listeners, domains, relay_rules, routes, peers, lists, " +
					"gates, dns_lists, scanners, dns_servers, certificates",
			},
		}
	}
	oldGates(root)
	return &Document{root}, nil
}

// String is the YAML, with a blank line before each section.
func (d *Document) String() string {
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	if err := enc.Encode(d.root); err != nil {
		return ""
	}
	var out strings.Builder
	inComment := false
	for i, line := range strings.SplitAfter(b.String(), "\n") {
		top := line != "" && line != "\n" && !strings.HasPrefix(line, " ") &&
			!strings.HasPrefix(line, "-")
		if i > 0 && top && !inComment {
			out.WriteByte('\n')
		}
		inComment = top && strings.HasPrefix(line, "#")
		out.WriteString(line)
	}
	return out.String()
}

func (d *Document) child(key string) *yaml.Node { return childOf(d.root, key) }

func childOf(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// Items lists a section; the record service is its one item.
func (d *Document) Items(s Section) []Item {
	n := d.child(s.Key)
	out := []Item{}
	if n == nil {
		return out
	}
	if s.Key == ServiceSection.Key {
		return append(out, itemOf(n, 1, s.Key))
	}
	for i, c := range n.Content {
		out = append(out, itemOf(c, i+1, nameOf(c)))
	}
	return out
}

func itemOf(n *yaml.Node, position int, name string) Item {
	fields, _ := form.Plain(n).(map[string]any)
	return Item{Name: name, Position: position, Mark: MarkOf(fields), Fields: fields}
}

// MarkOf is a mark of fields: it changes with them.
func MarkOf(fields map[string]any) string {
	text, _ := json.Marshal(fields) // in the order of their names
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:6])
}

func nameOf(n *yaml.Node) string {
	if c := childOf(n, "name"); c != nil {
		return c.Value
	}
	return ""
}

// SameName compares names; those of domains in either of their forms.
func SameName(s Section, a, b string) bool {
	if s.Key != "domains" {
		return a == b
	}
	x, errX := address.ParseDomain(a)
	y, errY := address.ParseDomain(b)
	return a == b || errX == nil && errY == nil && x == y
}

func (d *Document) find(s Section, name string) (list *yaml.Node, at int) {
	if s.Key == ServiceSection.Key {
		return nil, -1
	}
	list = d.child(s.Key)
	if list == nil {
		return nil, -1
	}
	return list, slices.IndexFunc(list.Content,
		func(n *yaml.Node) bool { return SameName(s, nameOf(n), name) })
}

// Item finds one.
func (d *Document) Item(s Section, name string) (Item, error) {
	if s.Key == ServiceSection.Key {
		if n := d.child(s.Key); n != nil {
			return itemOf(n, 1, s.Key), nil
		}
		return Item{}, ErrNoItem
	}
	list, at := d.find(s, name)
	if at < 0 {
		return Item{}, ErrNoItem
	}
	return itemOf(list.Content[at], at+1, nameOf(list.Content[at])), nil
}

// Add puts a new item at the end of its section, or at a position from 1.
func (d *Document) Add(s Section, fields map[string]any, position int) error {
	name, _ := fields["name"].(string)
	list, at := d.find(s, name)
	if at >= 0 {
		return ErrIsThere
	}
	if list == nil {
		list = &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
		d.root.Content = append(d.root.Content, form.Scalar(s.Key), list)
	}
	list.Style = 0
	n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	setFields(n, s.Type, fields, false)
	if position < 1 || position > len(list.Content) {
		position = len(list.Content) + 1
	}
	list.Content = slices.Insert(list.Content, position-1, n)
	return nil
}

// Set changes fields of an item; null takes one out. With all, fields that are
// not given are taken out too.
func (d *Document) Set(s Section, name string, fields map[string]any, all bool) error {
	n := d.child(s.Key)
	if s.Key != ServiceSection.Key {
		list, at := d.find(s, name)
		if at < 0 {
			return ErrNoItem
		}
		n = list.Content[at]
		if newName, ok := fields["name"].(string); ok && !SameName(s, newName, name) {
			if _, taken := d.find(s, newName); taken >= 0 {
				return ErrIsThere
			}
		}
	} else if n == nil {
		n = &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		d.root.Content = append([]*yaml.Node{form.Scalar(s.Key), n}, d.root.Content...)
	}
	setFields(n, s.Type, fields, all)
	return nil
}

// Remove takes an item out.
func (d *Document) Remove(s Section, name string) error {
	list, at := d.find(s, name)
	if at < 0 {
		return ErrNoItem
	}
	list.Content = slices.Delete(list.Content, at, at+1)
	if len(list.Content) == 0 {
		list.Style = yaml.FlowStyle
	}
	return nil
}

// PositionError says that there is no such position in the order: the last is Last.
type PositionError struct{ Last int }

func (e PositionError) Error() string { return fmt.Sprintf("there are positions 1 to %d", e.Last) }

// Move puts an item at another position, from 1.
func (d *Document) Move(s Section, name string, position int) error {
	list, at := d.find(s, name)
	if at < 0 {
		return ErrNoItem
	}
	if position < 1 || position > len(list.Content) {
		return PositionError{len(list.Content)}
	}
	n := list.Content[at]
	list.Content = slices.Insert(slices.Delete(list.Content, at, at+1), position-1, n)
	return nil
}

// Rename follows a new name to where the old one is mentioned, and says how many
// mentions there were.
func (d *Document) Rename(s Section, from, to string) int {
	fields := map[string][]string{"routes": {"route", "outgoing"},
		"listeners": {"listeners"}}[s.Key]
	count := 0
	replace := func(c *yaml.Node, old, fresh string) {
		if c.Kind == yaml.ScalarNode && c.Value == old {
			c.Value = fresh
			count++
		}
	}
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			for _, c := range n.Content {
				walk(c)
			}
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			v := n.Content[i+1]
			if slices.Contains(fields, n.Content[i].Value) {
				for _, c := range append([]*yaml.Node{v}, v.Content...) {
					replace(c, from, to)
				}
			}
			walk(v)
		}
	}
	var lists func(n *yaml.Node)
	lists = func(n *yaml.Node) {
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			if k := n.Content[i].Value; k == "attachment" || k == "remove_attachments" {
				for _, c := range n.Content[i+1].Content { // a list's name alone
					replace(c, from, to)
				}
			}
		}
		replace(n, address.ListPrefix+from, address.ListPrefix+to)
		if old, ok := strings.CutSuffix(n.Value, ": "+address.ListPrefix+from); ok {
			replace(n, n.Value, old+": "+address.ListPrefix+to) // a field of the header
		}
		for _, c := range n.Content {
			lists(c)
		}
	}
	for _, section := range Sections {
		list := d.child(section.Key)
		switch {
		case list == nil:
		case s.Key == "lists":
			lists(list)
		default:
			walk(list)
		}
	}
	return count
}

// setFields puts fields into a mapping, new ones in the order of the type.
func setFields(n *yaml.Node, t reflect.Type, fields map[string]any, all bool) {
	if all {
		for i := len(n.Content) - 2; i >= 0; i -= 2 {
			if _, given := fields[n.Content[i].Value]; !given {
				n.Content = slices.Delete(n.Content, i, i+2)
			}
		}
	}
	known := map[string]form.Field{}
	var order []string
	for _, f := range form.FieldsOf(t) {
		known[f.Name] = f
		order = append(order, f.Name)
	}
	for name := range fields {
		if _, ok := known[name]; !ok {
			order = append(order, name)
		}
	}
	slices.Sort(order[len(known):])
	for _, name := range order {
		v, given := fields[name]
		if !given {
			continue
		}
		at := slices.IndexFunc(n.Content,
			func(c *yaml.Node) bool { return c.Value == name && c.Kind == yaml.ScalarNode })
		if at%2 == 1 {
			at = -1
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == name {
					at = i
				}
			}
		}
		switch {
		case v == nil && at >= 0:
			n.Content = slices.Delete(n.Content, at, at+2)
		case v == nil:
		case at >= 0:
			if !reflect.DeepEqual(form.Plain(n.Content[at+1]), v) {
				fresh := form.NodeOf(v)
				fresh.LineComment, fresh.HeadComment = n.Content[at+1].LineComment,
					n.Content[at+1].HeadComment
				n.Content[at+1] = fresh
			}
		default:
			n.Content = append(n.Content, form.Scalar(name), form.NodeOf(v))
		}
	}
	if len(n.Content) > 16 || n.Style&yaml.FlowStyle != 0 && len(n.Content) > 10 {
		n.Style &^= yaml.FlowStyle
	}
}

// SplitDirectory takes mailboxes, aliases and secrets out of a text that holds a whole
// server, line by line, so that the rest stays as it was written.
func SplitDirectory(text string) (string, error) {
	root, err := form.ParseYAML([]byte(text))
	if err != nil || root.Kind != yaml.MappingNode {
		return text, err
	}
	lines := strings.SplitAfter(text, "\n")
	cut := make([]bool, len(lines)+1)
	found := false
	for i := 0; i+1 < len(root.Content); i += 2 {
		key := root.Content[i]
		if key.Value != "mailboxes" && key.Value != "aliases" && key.Value != "secrets" {
			continue
		}
		if root.Style&yaml.FlowStyle != 0 || key.Column != 1 {
			return "", Problems{
				{
					Line:  key.Line,
					Field: key.Value,
					Text:  "write sections as blocks at the left margin",
				},
			}
		}
		end := len(lines)
		if i+2 < len(root.Content) {
			end = root.Content[i+2].Line - 1
			// comments above the next section
			for end > key.Line && strings.HasPrefix(lines[end-1], "#") {
				end--
			}
		}
		for l := key.Line - 1; l < end; l++ {
			cut[l] = true
		}
		found = true
	}
	if !found {
		return text, nil
	}
	var b strings.Builder
	for i, line := range lines {
		if !cut[i] {
			b.WriteString(line)
		}
	}
	return strings.TrimRight(b.String(), "\n") + "\n", nil
}
