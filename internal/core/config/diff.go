package config

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"gullroute/internal/core/form"
)

// Change is one difference between two configurations, in words.
type Change struct {
	Section string         `json:"section"`
	Name    string         `json:"name"`
	Kind    string         `json:"kind" enum:"added,removed,changed,moved"`
	Fields  []FieldChange  `json:"fields"`
	Before  map[string]any `json:"before,omitempty"`
	After   map[string]any `json:"after,omitempty"`
	Text    string         `json:"text" doc:"The change in a sentence"`
}

// FieldChange is one field's difference.
type FieldChange struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Diff says what differs from a to b, item by item.
func Diff(a, b *Document) []Change {
	out := []Change{}
	for _, s := range append([]Section{ServiceSection}, Sections...) {
		before, after := a.Items(s), b.Items(s)
		old := byName(before)
		seen := byName(after)
		for _, it := range before {
			if _, ok := seen[it.Name]; !ok {
				out = append(out, Change{
					Section: s.Key,
					Name:    it.Name,
					Kind:    "removed",
					Fields:  []FieldChange{},
					Before:  it.Fields,
					Text:    s.Noun + " " + it.Name + " is taken out",
				})
			}
		}
		for _, it := range after {
			o, ok := old[it.Name]
			switch {
			case !ok:
				out = append(out, Change{
					Section: s.Key,
					Name:    it.Name,
					Kind:    "added",
					Fields:  fieldChanges(s, nil, it.Fields),
					After:   it.Fields,
					Text:    s.Noun + " " + it.Name + " is new",
				})
			case o.Mark != it.Mark:
				c := Change{
					Section: s.Key,
					Name:    it.Name,
					Kind:    "changed",
					Fields:  fieldChanges(s, o.Fields, it.Fields),
					Before:  o.Fields,
					After:   it.Fields,
				}
				words := make([]string, len(c.Fields))
				for i, f := range c.Fields {
					words[i] = f.words()
				}
				c.Text = strings.TrimSpace(
					s.Noun+" "+nameUnlessService(s, it.Name),
				) + ": " + strings.Join(words, "; ")
				out = append(out, c)
			}
		}
		if s.Ordered {
			out = append(out, moved(s, before, after)...)
		}
	}
	return out
}

func nameUnlessService(s Section, name string) string {
	if s.Key == ServiceSection.Key {
		return ""
	}
	return name
}

func byName(items []Item) map[string]Item {
	m := make(map[string]Item, len(items))
	for _, it := range items {
		m[it.Name] = it
	}
	return m
}

// moved finds what stands elsewhere among the items that both have: those that
// are not in the longest run of unchanged order.
func moved(s Section, before, after []Item) []Change {
	place := map[string]int{}
	for i, it := range before {
		place[it.Name] = i
	}
	var common []Item
	for _, it := range after {
		if _, ok := place[it.Name]; ok {
			common = append(common, it)
		}
	}
	keep := longestRise(common, place)
	var out []Change
	for _, it := range common {
		if !keep[it.Name] {
			was := place[it.Name] + 1
			out = append(out, Change{
				Section: s.Key,
				Name:    it.Name,
				Kind:    "moved",
				Fields:  []FieldChange{},
				Text: fmt.Sprintf("%s %s moves from position %d to %d", s.Noun, it.Name, was,
					it.Position),
			})
		}
	}
	return out
}

// longestRise marks a longest run of items whose old places rise (patience
// sorting).
func longestRise(items []Item, place map[string]int) map[string]bool {
	var tails []int // index of the smallest end of a run of each length
	prev := make([]int, len(items))
	for i, it := range items {
		at, _ := slices.BinarySearchFunc(tails, place[it.Name],
			func(t, p int) int { return place[items[t].Name] - p })
		prev[i] = -1
		if at > 0 {
			prev[i] = tails[at-1]
		}
		tails = append(tails[:at], append([]int{i}, tails[min(at+1, len(tails)):]...)...)
	}
	keep := map[string]bool{}
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; i >= 0; i = prev[i] {
			keep[items[i].Name] = true
		}
	}
	return keep
}

func fieldChanges(s Section, before, after map[string]any) []FieldChange {
	out := []FieldChange{}
	for _, f := range form.FieldsOf(s.Type) {
		b, a := before[f.Name], after[f.Name]
		if !reflect.DeepEqual(b, a) && (before != nil || f.Name != "name") {
			out = append(out, FieldChange{f.Name, Words(b), Words(a)})
		}
	}
	return out
}

func (f FieldChange) words() string {
	switch {
	case f.Before == "":
		return f.Field + " is now " + f.After
	case f.After == "":
		return f.Field + " (" + f.Before + ") is taken out"
	}
	return f.Field + " " + f.Before + " → " + f.After
}

// Words is a field's value for people.
func Words(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case []any:
		parts := make([]string, len(v))
		for i := range v {
			parts[i] = Words(v[i])
		}
		return strings.Join(parts, ", ")
	case map[string]any:
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		parts := make([]string, len(keys))
		for i, k := range keys {
			parts[i] = k + " " + Words(v[k])
			if _, inner := v[k].(map[string]any); inner { // what is within stays together
				parts[i] = k + " (" + Words(v[k]) + ")"
			}
		}
		return strings.Join(parts, ", ")
	}
	text, _ := json.Marshal(v)
	return string(text)
}

// Replay makes changes on another document, and says in words where it differed
// from what the change began with; the change's word counts there. Moves are not
// made again: the order in force stays.
func Replay(changes []Change, onto *Document) []string {
	met := []string{}
	for _, c := range changes {
		s, ok := FindSection(c.Section)
		if !ok {
			continue
		}
		now, err := onto.Item(s, c.Name)
		there := err == nil
		if there && c.Before != nil && !reflect.DeepEqual(now.Fields, c.Before) ||
			there && c.Kind == "added" && !reflect.DeepEqual(now.Fields, c.After) {
			met = append(
				met,
				fmt.Sprintf("%s %s was changed meanwhile too; the draft's word counts", s.Noun,
					c.Name),
			)
		}
		switch c.Kind {
		case "moved":
			met = append(met, fmt.Sprintf("%s %s keeps the place it has in force", s.Noun, c.Name))
		case "removed":
			_ = onto.Remove(s, c.Name)
		case "added", "changed":
			if there {
				fields := map[string]any{}
				for name, v := range c.After { // only what the change changed
					if !reflect.DeepEqual(v, c.Before[name]) {
						fields[name] = v
					}
				}
				for name := range c.Before {
					if _, kept := c.After[name]; !kept {
						fields[name] = nil
					}
				}
				_ = onto.Set(s, c.Name, fields, false)
			} else {
				_ = onto.Add(s, c.After, 0)
			}
		}
	}
	return met
}
