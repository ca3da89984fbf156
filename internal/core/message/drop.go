package message

import (
	"bytes"
	"slices"
	"strings"
)

// DropFields takes fields out of a header section, with their folded lines, and
// reports how many there were. Everything else stays as it is, octet by octet.
func DropFields(section []byte, names ...string) ([]byte, int) {
	var out bytes.Buffer
	dropped, dropping := 0, false
	for line := range bytes.Lines(section) {
		if line[0] != ' ' && line[0] != '\t' {
			name, _, isField := bytes.Cut(line, []byte(":"))
			dropping = isField &&
				slices.ContainsFunc(names, func(n string) bool {
					return strings.EqualFold(n, string(bytes.TrimRight(name,
						" \t")))
				})
			if dropping {
				dropped++
			}
		}
		if !dropping {
			out.Write(line)
		}
	}
	if dropped == 0 {
		return section, 0
	}
	return out.Bytes(), dropped
}

// Count is how many fields there are of a name.
func (h Header) Count(name string) int {
	n := 0
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			n++
		}
	}
	return n
}

// CutField is the first field of a header section with its folded lines, and the rest.
func CutField(section []byte) (field, rest []byte) {
	end := 0
	for {
		n := bytes.IndexByte(section[end:], '\n')
		if n < 0 {
			return section, nil
		}
		end += n + 1
		if end >= len(section) || section[end] != ' ' && section[end] != '\t' {
			return section[:end], section[end:]
		}
	}
}
