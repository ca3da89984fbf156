package reading

import (
	"net/netip"
	"strings"
	"unicode"
	"unicode/utf8"
)

// kind is what a piece of a reply is: a word, or one of the things that are not
// read as words, because whoever chose them said nothing about the trouble.
type kind uint8

const (
	plain   kind = iota
	address      // a@b
	host         // a name with dots
	ip           // of either family
	link         // a URL
	id           // letters and digits, hexadecimal, a ticket
	number       // digits, with a unit perhaps
	file         // .exe, report.zip
	name         // what stands in quotation marks
)

// piece is a piece of the text between blanks and punctuation.
type piece struct {
	kind     kind
	text     string // as it was written
	from, to int    // octets of the reply's text
	clause   int
	joined   bool // a hyphen joins it to the next, as in virus-free
}

// pieces takes a text apart.
func pieces(text string) (list []piece) {
	clause := 0
	list = make([]piece, 0, 24)
	quoted := quotes(text)
	for i := 0; i < len(text); {
		if end, ok := quoted[i]; ok {
			list = append(
				list,
				piece{kind: name, text: text[i:end], from: i, to: end, clause: clause},
			)
			i = end
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if unicode.IsSpace(r) {
			i += size
			continue
		}
		from := i
		for i < len(text) {
			r, size := utf8.DecodeRuneInString(text[i:])
			if _, ok := quoted[i]; ok || unicode.IsSpace(r) || i > from && breaks(r) {
				break
			}
			i += size
			if breaks(r) {
				break
			}
		}
		list, clause = chunk(list, text, from, i, clause)
	}
	return list
}

// breaks reports punctuation that no address, name or link goes over.
func breaks(r rune) bool {
	if r < utf8.RuneSelf {
		switch r {
		case '(', ')', ',', ';', '!', '?', '|', '{', '}', '"':
			return true
		}
		return false
	}
	return strings.ContainsRune("。，；：！？、（）「」“”„«»–—…،؛", r)
}

// quotes finds what stands in quotation marks, by where it begins; not if it is
// most of the text.
func quotes(text string) map[int]int {
	var out map[int]int
	if strings.IndexByte(text, '"') < 0 && strings.IndexByte(text, '\'') < 0 {
		return nil
	}
	for i := 0; i < len(text); i++ {
		if text[i] != '"' &&
			(text[i] != '\'' || i > 0 && !strings.ContainsRune(" (<:[", rune(text[i-1]))) {
			continue
		}
		n := strings.IndexByte(text[i+1:], text[i])
		end := i + n + 2
		if n <= 0 || n > 60 || 2*n > len(text) ||
			text[i] == '\'' && end < len(text) &&
				!strings.ContainsRune(" ).,;:>]", rune(text[end])) {
			continue
		}
		if out == nil {
			out = map[int]int{}
		}
		out[i] = end
		i = end - 1
	}
	return out
}

// around are octets that stand around words and names and belong to neither.
var around = func() (set [256]bool) {
	for _, c := range []byte("<>[]().,;:!?*'\"=#-|{}") {
		set[c] = true
	}
	return set
}()

// chunk says what a run without blanks is, and splits it where it is words.
func chunk(list []piece, text string, from, to, clause int) ([]piece, int) {
	run := text[from:to]
	left, right := 0, len(run)
	for left < right && around[run[left]] {
		left++
	}
	for right > left && around[run[right-1]] {
		right--
	}
	core, at := run[left:right], from+left
	if strings.Contains(run, "<>") {
		list = append(list, piece{text: "emptysender", from: from, to: to, clause: clause})
	}
	if core == "" {
		if strings.ContainsAny(run, ".:!?;()[]|-") || to-from > 1 && run[0] >= utf8.RuneSelf {
			clause++
		}
		r, _ := utf8.DecodeRuneInString(run)
		if breaks(r) {
			clause++
		}
		return list, clause
	}
	if run[0] == '[' || run[0] == '(' {
		clause++
	}
	switch k := whole(core, run); k {
	case plain:
		list = split(list, core, at, clause)
	default:
		list = append(
			list,
			piece{kind: k, text: core, from: at, to: at + len(core), clause: clause},
		)
	}
	if last := run[len(run)-1]; strings.IndexByte(".:!?;)]", last) >= 0 {
		clause++
	}
	return list, clause
}

// whole says what a run is if it is one thing.
func whole(core, run string) kind {
	switch {
	case strings.Contains(core, "://") || len(core) > 4 && strings.EqualFold(core[:4], "www."):
		return link
	case strings.IndexByte(core, '@') > 0:
		return address
	}
	if isIP(core) {
		return ip
	}
	if inner, rest, ok := strings.Cut(
		core,
		"[",
	); ok && inner != "" &&
		isIP(strings.Trim(rest, "]")) {
		return ip // mx.far.example[192.0.2.1]
	}
	if digits(core) {
		return number
	}
	if strings.IndexByte(core, '.') >= 0 || strings.HasPrefix(run, ".") ||
		strings.HasPrefix(run, "*.") {
		if k := dotted(core, run); k != plain {
			return k
		}
	}
	if strings.ContainsAny(core, "=:") || !ascii(core) {
		return plain
	}
	return mixed(core)
}

// mixed says what a run of letters and digits is.
func mixed(w string) kind {
	letters, figures := false, false
	for _, c := range w {
		letters = letters || unicode.IsLetter(c)
		figures = figures || '0' <= c && c <= '9'
	}
	switch {
	case !figures || kept(w) || unit(w):
		return plain
	case !letters:
		return number
	}
	return id
}

func isIP(s string) bool {
	s = strings.Trim(s, "[]")
	if s == "" ||
		strings.IndexByte(s, ':') < 0 &&
			(s[0] < '0' || s[0] > '9' || strings.IndexByte(s, '.') < 0) {
		return false
	}
	s, _, _ = strings.Cut(s, "%")
	_, err := netip.ParseAddr(s)
	return err == nil
}

func digits(s string) bool {
	for i := 0; i < len(s); i++ {
		if (s[i] < '0' || s[i] > '9') && s[i] != '.' && s[i] != ',' {
			return false
		}
	}
	return true
}

func ascii(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// endings of files that hosts name.
var endings = map[string]bool{"exe": true, "zip": true, "js": true, "scr": true, "docm": true,
	"bat": true, "com": true, "vbs": true, "rar": true, "iso": true, "html": true, "pif": true,
	"xlsm": true, "doc": true, "pdf": true, "msi": true, "jar": true, "lnk": true, "cmd": true}

// dotted says what a run with dots is: the name of a host, a file, or words that
// lack a blank behind a full stop.
func dotted(core, run string) kind {
	labels := strings.Split(core, ".")
	last := labels[len(labels)-1]
	if endings[strings.ToLower(last)] && (last != "com" || len(labels) < 2) {
		return file
	}
	if len(labels) < 2 {
		return plain
	}
	for i, label := range labels {
		if label == "" {
			return plain
		}
		if i > 0 && 'A' <= label[0] && label[0] <= 'Z' {
			return plain // "quota.Please", or a name of many humps: its words tell
		}
	}
	if strings.ContainsAny(core, "=:") && !strings.Contains(run, "[") {
		return plain
	}
	if len(last) >= 2 && ascii(last) && !digits(last) {
		return host
	}
	if digits(strings.Trim(labels[0], "#")) {
		return number
	}
	return plain
}

// kept reports words with digits that say something.
func kept(core string) bool {
	switch strings.ToLower(core) {
	case "utf8",
		"utf-8",
		"smtputf8",
		"8bit",
		"8-bit",
		"7bit",
		"7-bit",
		"8bitmime",
		"x509",
		"ipv4",
		"ipv6",
		"tls1",
		"tls1.0",
		"tls1.2",
		"tlsv1.0",
		"tlsv1.2",
		"tlsv1",
		"rfc5322",
		"rfc5321",
		"rfc-5321",
		"rfc822",
		"rfc2822",
		"mailfrom",
		"spf1":
		return true
	}
	return false
}

// unit reports a number with its unit: 10MB, 300s, 5min.
func unit(core string) bool {
	i := 0
	for i < len(core) && core[i] >= '0' && core[i] <= '9' {
		i++
	}
	switch strings.ToLower(core[i:]) {
	case "mb", "kb", "gb", "mib", "min", "sec", "s", "h", "hours", "minutes", "bytes", "octets":
		return i > 0
	}
	return false
}

// split makes words of a run: at everything that is no letter, and where a hump
// of capitals begins one.
func split(list []piece, core string, at, clause int) []piece {
	from, before := 0, rune(0)
	cut := func(to int) {
		if to > from {
			w := core[from:to]
			list = append(list, piece{mixed(w), w, at + from, at + to, clause,
				to+1 < len(core) && core[to] == '-'})
		}
	}
	for i, r := range core {
		inside := unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) || r == '\'' ||
			r == '’' ||
			unicode.Is(unicode.Cf, r)
		switch {
		case !inside:
			cut(i)
			from = i + utf8.RuneLen(r)
			if r == '.' || r == ':' {
				clause++
			}
		case unicode.IsUpper(r) && unicode.IsLower(before):
			cut(i)
			from = i
		case unicode.IsDigit(before) && unicode.IsLetter(r) && i-from <= 4 && unit(core[from:]):
			cut(i)
			from = i
		}
		before = r
	}
	cut(len(core))
	return list
}
