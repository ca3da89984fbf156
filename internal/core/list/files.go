package list

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Groups of files, by what they are and not by what they are called.
const (
	Programs     = "programs"
	OfficeMacros = "office-macros"
	Archives     = "archives"
	Pictures     = "pictures"
)

// Groups say what each group is.
var Groups = map[string]string{
	Programs:     "what runs on a computer: programs, installers, scripts, shortcuts",
	OfficeMacros: "office documents with macros",
	Archives:     "zip, 7z, rar, tar and compressed files",
	Pictures:     "pictures",
}

// File is what is known of a file.
type File struct {
	Name   string   // as it is called, "" if it has no name
	Types  []string // media types: as declared, and as found by content
	Groups []string
}

// files are the entries of a list of kinds of files.
type files struct {
	groups []string
	types  []string // image/* is every type of that kind
	names  []string // patterns in lower case
}

func (s *files) add(_ int, entry string) error {
	lower := strings.ToLower(entry)
	switch {
	case Groups[lower] != "":
		s.groups = append(s.groups, lower)
	case strings.Contains(lower, "/"):
		kind, sub, _ := strings.Cut(lower, "/")
		if kind == "" || sub == "" || strings.Contains(kind, "*") ||
			strings.Contains(sub, "*") && sub != "*" || strings.ContainsAny(lower, " ;") {
			return fmt.Errorf("%q is no media type; write one like application/pdf or image/*",
				entry)
		}
		s.types = append(s.types, lower)
	case strings.ContainsAny(lower, "*?."):
		if _, err := path.Match(lower, "x"); err != nil {
			return fmt.Errorf("%q is no pattern of names: %w", entry, err)
		}
		s.names = append(s.names, lower)
	default:
		return fmt.Errorf("%q is neither a group (%s) nor a media type like image/* nor a pattern "+
			"of names like *.iso", entry, groupNames())
	}
	return nil
}

func groupNames() string {
	names := []string{Programs, OfficeMacros, Archives, Pictures}
	return strings.Join(names, ", ")
}

func (s *files) match(f File) (string, bool) {
	for _, g := range s.groups {
		if slices.Contains(f.Groups, g) {
			return g, true
		}
	}
	for _, want := range s.types {
		all, wide := strings.CutSuffix(want, "*")
		for _, t := range f.Types {
			if t == want || wide && strings.HasPrefix(t, all) {
				return want, true
			}
		}
	}
	name := strings.ToLower(f.Name)
	for _, n := range s.names {
		if ok, _ := path.Match(n, name); ok && name != "" {
			return n, true
		}
	}
	return "", false
}
