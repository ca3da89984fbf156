package message

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
)

// addressWord is an address as it stands in a header field. Quoted local parts
// are left alone.
var addressWord = regexp.MustCompile(`[A-Za-z0-9!#$%&'*+/=?^_{|}~.-]+@[A-Za-z0-9.-]*[A-Za-z0-9]`)

// RewriteAddresses passes every address in the named fields through f and
// reports whether one changed. Everything else stays as it is, octet by octet.
func RewriteAddresses(section []byte, fields []string, f func(string) string) ([]byte, bool) {
	var out bytes.Buffer
	changed, ours := false, false
	for line := range bytes.Lines(section) {
		if line[0] != ' ' && line[0] != '\t' {
			name, _, _ := strings.Cut(string(line), ":")
			ours = slices.ContainsFunc(fields,
				func(want string) bool { return strings.EqualFold(strings.TrimSpace(name), want) })
		}
		if !ours {
			out.Write(line)
			continue
		}
		fresh := addressWord.ReplaceAllFunc(line,
			func(a []byte) []byte { return []byte(f(string(a))) })
		changed = changed || !bytes.Equal(fresh, line)
		out.Write(fresh)
	}
	return out.Bytes(), changed
}
