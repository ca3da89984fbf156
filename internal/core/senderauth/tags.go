package senderauth

import (
	"fmt"
	"strings"
)

// Tag is one of a tag list (RFC 6376 section 3.2).
type Tag struct{ Name, Value string }

// TagList is what DKIM, DMARC and their like publish, in order.
type TagList []Tag

// Get is a tag's value, "" if it is not there.
func (l TagList) Get(name string) string {
	for _, t := range l {
		if t.Name == name {
			return t.Value
		}
	}
	return ""
}

// Has reports whether a tag is there, be it empty.
func (l TagList) Has(name string) bool {
	for _, t := range l {
		if t.Name == name {
			return true
		}
	}
	return false
}

// Tags reads a tag list. What was read before a fault comes back with it.
func Tags(text string) (TagList, error) {
	var list TagList
	for part := range strings.SplitSeq(text, ";") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		name, value, ok := strings.Cut(part, "=")
		name = strings.TrimSpace(name)
		switch {
		case !ok || name == "" || strings.ContainsAny(name, " \t"):
			return list, fmt.Errorf("%q is no tag; write name=value, with ; between tags", part)
		case list.Has(name):
			return list, fmt.Errorf("the tag %s stands twice", name)
		}
		list = append(list, Tag{name, strings.TrimSpace(value)})
	}
	return list, nil
}
