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
	phrases     map[string][]phrase // by their longest word
	parts       map[[partKey]byte][]phrase
	shortParts  []phrase
	expressions []expression
}

// phrase is an entry and what it looks for, folded; its key begins at octet at.
type phrase struct {
	entry, folded string
	at            int
}

type expression struct {
	entry string
	re    *regexp.Regexp
}

func newWords() *words {
	return &words{phrases: map[string][]phrase{}, parts: map[[partKey]byte][]phrase{}}
}

// Fold brings a text into the form in which words are compared: letters without regard to
// case and to the form in which they are written (NFKC), white space as single spaces.
func Fold(s string) string {
	s = cases.Fold().String(norm.NFKC.String(s))
	return strings.Join(strings.Fields(s), " ")
}

func (w *words) add(entry string) error {
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
		w.shortParts = append(w.shortParts, phrase{entry: entry, folded: folded})
	case part:
		key := [partKey]byte([]byte(folded[:partKey]))
		w.parts[key] = append(w.parts[key], phrase{entry: entry, folded: folded})
	default:
		longest, at := longestWord(folded)
		if longest == "" { // signs only: they stand nowhere as a word
			return fmt.Errorf(
				"%q holds no letter or digit; write *%s* to look for the signs",
				entry,
				entry,
			)
		}
		w.phrases[longest] = append(w.phrases[longest], phrase{entry, folded, at})
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
	if len(w.phrases) > 0 {
		for word, at := nextWord(s, 0); word != ""; word, at = nextWord(s, at+len(word)) {
			for _, p := range w.phrases[word] {
				if standsAt(s, at-p.at, p.folded) {
					return p.entry, true
				}
			}
		}
	}
	if len(w.parts) > 0 {
		for i := 0; i+partKey <= len(s); i++ {
			for _, p := range w.parts[[partKey]byte([]byte(s[i:i+partKey]))] {
				if strings.HasPrefix(s[i:], p.folded) {
					return p.entry, true
				}
			}
		}
	}
	for _, p := range w.shortParts {
		if strings.Contains(s, p.folded) {
			return p.entry, true
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
