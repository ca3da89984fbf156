package list

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

var errListInList = errors.New("a list holds no other list; write its entries here")

// Bounds of a list of words: parts and expressions are looked for one by one.
const (
	maxExpressions = 200
	maxShortParts  = 50
	partKey        = 4 // octets by which a part is looked up
)

// words finds phrases in a text. Whole phrases are looked up by their longest word, parts by
// their first octets, so that a list of very many costs about the same as a short one.
type words struct {
	entries     []string
	phrases     index // by their longest word
	parts       index // by their first octets
	shortParts  []int
	folded      []byte   // of all entries, one behind the other
	ends        []uint32 // where each one's stops in folded
	keys        []uint16 // where the longest word of each begins in it
	expressions []expression
}

type expression struct {
	entry string
	re    *regexp.Regexp
}

func newWords(entries []string) *words {
	return &words{entries: entries, phrases: newIndex(), parts: newIndex()}
}

// put keeps the folded form of the next entry; its key begins at octet key.
func (w *words) put(n int, folded string, key int) {
	for len(w.ends) < n { // entries that look for something else
		w.ends, w.keys = append(w.ends, uint32(len(w.folded))), append(w.keys, 0)
	}
	w.folded = append(w.folded, folded...)
	w.ends, w.keys = append(w.ends, uint32(len(w.folded))), append(w.keys, uint16(key))
}

// foldedOf is the folded form of an entry.
func (w *words) foldedOf(n int) []byte {
	from := uint32(0)
	if n > 0 {
		from = w.ends[n-1]
	}
	return w.folded[from:w.ends[n]]
}

// Fold brings a text into the form in which words are compared: letters without regard to
// case and to the form in which they are written (NFKC), white space as single spaces.
func Fold(s string) string {
	s = cases.Fold().String(norm.NFKC.String(s))
	return strings.Join(strings.Fields(s), " ")
}

func (w *words) add(n int, entry string) error {
	if len(entry) > 1 && strings.HasPrefix(entry, "/") && strings.HasSuffix(entry, "/") {
		return w.addExpression(entry)
	}
	part := len(entry) > 2 && strings.HasPrefix(entry, "*") && strings.HasSuffix(entry, "*")
	folded := Fold(strings.Trim(entry, "*"))
	switch {
	case folded == "":
		return errors.New("the entry is empty; write a word, a phrase, *part* or /expression/")
	case !part && strings.Contains(entry, "*"):
		return fmt.Errorf("%q: an asterisk stands at both ends, like *part*, or nowhere", entry)
	case part && len(folded) < partKey:
		if len(w.shortParts) >= maxShortParts {
			return fmt.Errorf("a list holds at most %d parts of less than %d octets", maxShortParts,
				partKey)
		}
		w.shortParts = append(w.shortParts, n)
		w.put(n, folded, 0)
	case part:
		w.parts.add(folded[:partKey], n)
		w.put(n, folded, 0)
	default:
		longest, at := longestWord(folded)
		if longest == "" { // signs only: they stand nowhere as a word
			return fmt.Errorf(
				"%q holds no letter or digit; write *%s* to look for the signs",
				entry,
				entry,
			)
		}
		w.phrases.add(longest, n)
		w.put(n, folded, at)
	}
	return nil
}

func (w *words) addExpression(entry string) error {
	if len(w.expressions) >= maxExpressions {
		return fmt.Errorf("a list holds at most %d expressions", maxExpressions)
	}
	re, err := regexp.Compile("(?i)" + entry[1:len(entry)-1])
	if err != nil {
		return fmt.Errorf("%s is no regular expression (RE2): %w", entry, err)
	}
	if re.MatchString("") {
		return fmt.Errorf("%s matches the empty text, and so everything", entry)
	}
	w.expressions = append(w.expressions, expression{entry, re})
	return nil
}

// nextWord is the first word from an index on, and where it begins; "" if there is none.
func nextWord(s string, from int) (word string, at int) {
	at = -1
	for i, r := range s[from:] {
		letter := isLetter(r)
		switch {
		case letter && at < 0:
			at = from + i
		case !letter && at >= 0:
			return s[at : from+i], at
		}
	}
	if at < 0 {
		return "", len(s)
	}
	return s[at:], at
}

// longestWord is the most telling word of a phrase, and where it begins.
func longestWord(s string) (longest string, at int) {
	for word, i := nextWord(s, 0); word != ""; word, i = nextWord(s, i+len(word)) {
		if len(word) > len(longest) {
			longest, at = word, i
		}
	}
	return longest, at
}

func isLetter(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) }

// find says which entry occurs in a folded text.
func (w *words) find(s string) (string, bool) {
	at := 0
	stands := func(n int) bool { return standsAt(s, at-int(w.keys[n]), string(w.foldedOf(n))) }
	begins := func(n int) bool { return strings.HasPrefix(s[at:], string(w.foldedOf(n))) }
	if len(w.phrases.links) > 0 {
		var word string
		for word, at = nextWord(s, 0); word != ""; word, at = nextWord(s, at+len(word)) {
			if n := w.phrases.find(word, stands); n >= 0 {
				return w.entries[n], true
			}
		}
	}
	if len(w.parts.links) > 0 {
		for at = 0; at+partKey <= len(s); at++ {
			if n := w.parts.find(s[at:at+partKey], begins); n >= 0 {
				return w.entries[n], true
			}
		}
	}
	for _, n := range w.shortParts {
		if strings.Contains(s, string(w.foldedOf(n))) {
			return w.entries[n], true
		}
	}
	for _, e := range w.expressions {
		if e.re.MatchString(s) {
			return e.entry, true
		}
	}
	return "", false
}

// standsAt reports that a phrase stands at an index, and no longer word there.
func standsAt(s string, at int, phrase string) bool {
	if at < 0 || !strings.HasPrefix(s[at:], phrase) {
		return false
	}
	before, _ := utf8.DecodeLastRuneInString(s[:at])
	after, _ := utf8.DecodeRuneInString(s[at+len(phrase):])
	first, _ := utf8.DecodeRuneInString(phrase)
	last, _ := utf8.DecodeLastRuneInString(phrase)
	return !(isLetter(before) && isLetter(first)) && !(isLetter(after) && isLetter(last))
}
