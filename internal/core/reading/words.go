package reading

import (
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

//go:embed words.txt
var wordsFile string

// Sum is a number for the list of words.
func Sum() string {
	h := sha256.Sum256([]byte(wordsFile))
	return hex.EncodeToString(h[:])[:16]
}

// idea is what words of many languages stand for, by its number in ideas.
type idea uint8

// lexicon finds words and phrases: those that begin at the beginning of a word,
// and those that may stand inside one.
type lexicon struct {
	ideas []string
	nodes []node
	ends  []ends // by state
	// first are the states behind the first octet, from both roots, 0 for none:
	// the roots have children for most octets.
	first  [2][256]int32
	second [2][256 * 256]int32 // and behind the first two
	// Ideas that are treated in a way of their own.
	contact, not, fine, ailing, unavailable, timeout, temporary, fail, dns idea
	// weak are ideas, by number, that say no more than that something was refused.
	weak []bool
}

// node is a state of the lexicon: its first child and its next sibling. It is small,
// so that many are in the processor's cache.
type node struct {
	child, next int32
	octet       byte
	ends        bool // something ends here
}

// ends are the ideas of what ends in a state: where the word may go on, and where it
// ends too.
type ends struct{ open, whole []idea }

// The roots of the two trees.
const (
	atStart  = int32(0)
	anywhere = int32(1)
)

var words = sync.OnceValue(func() *lexicon { return newLexicon(wordsFile) })

// newLexicon reads the list of words.
func newLexicon(file string) *lexicon {
	l := &lexicon{nodes: make([]node, 2, 40_000), ends: make([]ends, 2, 40_000)}
	for line := range strings.Lines(file) {
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "= "); ok {
			l.ideas = append(l.ideas, name)
			continue
		}
		_, list, ok := strings.Cut(line, ": ")
		if !ok || line[0] == '#' {
			continue
		}
		for entry := range strings.SplitSeq(list, ",") {
			l.add(strings.TrimSpace(entry), idea(len(l.ideas)-1))
		}
	}
	for root := range l.first {
		for to := l.nodes[root].child; to != 0; to = l.nodes[to].next {
			l.first[root][l.nodes[to].octet] = to
			for then := l.nodes[to].child; then != 0; then = l.nodes[then].next {
				l.second[root][int(l.nodes[to].octet)<<8|int(l.nodes[then].octet)] = then
			}
		}
	}
	for name, at := range map[string]*idea{"contact": &l.contact, "not": &l.not, "fine": &l.fine,
		"ailing": &l.ailing, "unavailable": &l.unavailable, "timeout": &l.timeout,
		"temporary": &l.temporary, "fail": &l.fail, "dns": &l.dns} {
		*at = l.called(name)
	}
	l.weak = make([]bool, len(l.ideas))
	for _, name := range []string{"refuse", "not", "message", "later", "temporary", "fail", "contact",
		"closed", "command", "blocked", "allowed", "fine"} {
		l.weak[l.called(name)] = true
	}
	return l
}

// called is the idea of a name.
func (l *lexicon) called(name string) idea {
	i := slices.Index(l.ideas, name)
	if i < 0 {
		panic("reading: words.txt has no idea " + name)
	}
	return idea(i)
}

func (l *lexicon) add(entry string, of idea) {
	entry, inside := strings.CutPrefix(entry, "~")
	entry, whole := strings.CutSuffix(entry, ".")
	if !inside && wide(entry) {
		inside = true
	}
	if entry = fold(entry); entry == "" {
		return
	}
	l.put(atStart, entry, of, whole)
	if inside {
		l.put(anywhere, entry, of, whole)
	}
}

func (l *lexicon) put(at int32, entry string, of idea, whole bool) {
	for i := 0; i < len(entry); i++ {
		to := l.step(at, entry[i])
		if to < 0 {
			to = int32(len(l.nodes))
			l.nodes = append(l.nodes, node{octet: entry[i], next: l.nodes[at].child})
			l.ends = append(l.ends, ends{})
			l.nodes[at].child = to
		}
		at = to
	}
	l.nodes[at].ends = true
	list := &l.ends[at].open
	if whole {
		list = &l.ends[at].whole
	}
	if !slices.Contains(*list, of) { // several languages have it
		*list = append(*list, of)
	}
}

// step is the state behind an octet, or -1.
func (l *lexicon) step(at int32, c byte) int32 {
	for to := l.nodes[at].child; to != 0; to = l.nodes[to].next {
		if l.nodes[to].octet == c {
			return to
		}
	}
	return -1
}

// longest finds the longest entry that begins at an octet of a folded text: where
// it ends and what it stands for.
func (l *lexicon) longest(root int32, text string, at int) (end int, of []idea) {
	state := l.first[root][text[at]]
	if state == 0 {
		return 0, nil
	}
	for i := at; i < len(text); i++ {
		switch i - at {
		case 0:
		case 1:
			state = l.second[root][int(text[at])<<8|int(text[i])]
		default:
			state = l.step(state, text[i])
		}
		if state <= 0 {
			break
		}
		if !l.nodes[state].ends {
			continue
		}
		n := &l.ends[state]
		if len(n.open) > 0 {
			end, of = i+1, n.open
		}
		if len(n.whole) > 0 && (i+1 == len(text) || text[i+1] == ' ') {
			end, of = i+1, n.whole
		}
	}
	return end, of
}

// wide reports whether a text begins with a letter of a script that is written
// without spaces.
func wide(text string) bool {
	r, _ := utf8.DecodeRuneInString(text)
	return 0x0E00 <= r && r <= 0x0E7F || 0x3040 <= r && r <= 0x9FFF || 0xAC00 <= r && r <= 0xD7AF ||
		0x1100 <= r && r <= 0x11FF
}

// deniedNames are the names of ideas that are denied.
var deniedNames = sync.OnceValue(func() []string {
	l := words()
	list := make([]string, len(l.ideas))
	for i, name := range l.ideas {
		list[i] = "!" + name
	}
	return list
})
