package form

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Scalar is a node with a text.
func Scalar(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

// NodeOf makes a node of what JSON has; lists and records on one line.
func NodeOf(v any) *yaml.Node {
	switch v := v.(type) {
	case map[string]any:
		n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Style: yaml.FlowStyle}
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			if v[k] != nil {
				n.Content = append(n.Content, Scalar(k), NodeOf(v[k]))
			}
		}
		return n
	case []any:
		n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
		for _, item := range v {
			n.Content = append(n.Content, NodeOf(item))
		}
		return n
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: fmt.Sprint(v)}
	case json.Number:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: v.String()}
	case int:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.Itoa(v)}
	case float64:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: fmt.Sprintf("%.0f", v)}
	case nil:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}
	}
	n := Scalar(fmt.Sprint(v))
	if strings.ContainsAny(n.Value, "\r\n\t") {
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

// Plain is a node as JSON has it.
func Plain(n *yaml.Node) any {
	switch n.Kind {
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			m[n.Content[i].Value] = Plain(n.Content[i+1])
		}
		return m
	case yaml.SequenceNode:
		list := []any{}
		for _, c := range n.Content {
			list = append(list, Plain(c))
		}
		return list
	}
	switch n.ShortTag() {
	case "!!int":
		return json.Number(n.Value)
	case "!!bool":
		return strings.EqualFold(n.Value, "true")
	case "!!null":
		return nil
	}
	return n.Value
}
