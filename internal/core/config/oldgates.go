package config

import (
	"slices"

	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/form"
)

// oldEffects are where the fields of a gate stand now that once stood on the gate itself.
var oldEffects = map[string][]string{
	"code": {"then", "code"}, "redirect_to": {"then", "redirect_to"},
	"copy_to": {"then", "copy_to"}, "route": {"then", "route"}, "delay_until": {"then", "delay"},
	"remove_attachments": {"then", "remove_attachments"}, "make_harmless": {"then", "clean"},
	"add_text": {"then", "add_text"}, "mark_subject": {"then", "mark", "subject"},
	"set_fields": {"then", "mark", "header"}, "say": {"then", "refuse"},
	"any": {"when", "any"}, "none": {"when", "none"}, "all": {"when"},
}

// oldConditions are conditions by their former names.
var oldConditions = map[string]string{"clients": "networks", "words": "body",
	"attachments": "attachment", "proof": "identity", "verdict": "scanner"}

// oldGates writes gates of an earlier form as they are written now: revisions keep the text
// with which they came.
func oldGates(root *yaml.Node) {
	gates := childOf(root, "gates")
	if gates == nil {
		return
	}
	for _, g := range gates.Content {
		if g.Kind == yaml.MappingNode && childOf(g, "when") == nil && childOf(g, "then") == nil {
			oldGate(g)
		}
	}
}

func oldGate(g *yaml.Node) {
	var kept []*yaml.Node
	action, refuses := "", childOf(g, "say") != nil
	moved := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Line: g.Line}
	for i := 0; i+1 < len(g.Content); i += 2 {
		key, v := g.Content[i], g.Content[i+1]
		path, old := oldEffects[key.Value]
		switch {
		case key.Value == "state":
			if v.Value != "on" {
				kept = append(kept, form.Scalar(v.Value), yes(v.Line))
			}
		case key.Value == "action":
			action = v.Value
		case !old:
			kept = append(kept, key, v)
		default:
			if path[0] == "when" {
				renameKeys(v)
			} else if key.Value == "make_harmless" && v.Value == "clean" {
				v.Value = "html"
			}
			place(moved, path, v)
		}
	}
	switch action {
	case "refuse":
		if !refuses {
			place(moved, []string{"then", "refuse"}, form.Scalar("the message is not taken here"))
		}
	case "hold", "discard":
		place(moved, []string{"then", action}, yes(g.Line))
	}
	g.Content = append(kept, moved.Content...)
}

func yes(line int) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true", Line: line}
}

func renameKeys(n *yaml.Node) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if fresh, ok := oldConditions[n.Content[i].Value]; ok {
			n.Content[i].Value = fresh
		}
	}
}

// place puts a node at a path of a mapping; what is a mapping is merged into what is there.
func place(n *yaml.Node, path []string, v *yaml.Node) {
	at := childOf(n, path[0])
	if at == nil && (len(path) > 1 || v.Kind == yaml.MappingNode) {
		at = &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Style: yaml.FlowStyle, Line: v.Line}
		n.Content = append(n.Content, form.Scalar(path[0]), at)
	}
	switch {
	case len(path) > 1:
		place(at, path[1:], v)
	case v.Kind == yaml.MappingNode:
		at.Content = slices.Insert(at.Content, 0, v.Content...)
	default:
		n.Content = append(n.Content, form.Scalar(path[0]), v)
	}
}
