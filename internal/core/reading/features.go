package reading

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Feature is one thing about a reply that may speak for a cause or against it.
type Feature struct {
	Kind Kind
	A, B string
	// From and To are the octets of the text in which it was seen, both 0 if it is
	// of no words.
	From, To int
}

// Kind is what a feature is about.
type Kind byte

// The kinds.
const (
	Word     Kind = 'w' // a word
	Pair     Kind = 'b' // two words that follow each other
	Idea     Kind = 'i' // an idea, denied with a ! before it
	Ideas    Kind = 'p' // two ideas in one reply, in the order of their names
	Then     Kind = 't' // two ideas, the second next after the first
	Code     Kind = 'c' // the code
	Enhanced Kind = 'e' // the enhanced code without its class
	Stage    Kind = 's' // the stage, and the code at it
	Fact     Kind = 'f' // something that was taken out of the words
)

// Name is the feature in one word, as the weights are filed.
func (f Feature) Name() string {
	if f.B == "" {
		return string(f.Kind) + ":" + f.A
	}
	return string(f.Kind) + ":" + f.A + "+" + f.B
}

// Hash is HashOf the name, without making it.
func (f Feature) Hash() uint64 {
	h := hash(hash(hashBegin, string(f.Kind)), ":")
	if h = hash(h, f.A); f.B != "" {
		h = hash(hash(h, "+"), f.B)
	}
	return h
}

// HashOf is a number for a name: FNV-1a of 64 bits.
func HashOf(name string) uint64 { return hash(hashBegin, name) }

const hashBegin = 14695981039346656037

func hash(h uint64, s string) uint64 {
	for i := 0; i < len(s); i++ {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return h
}

// stem is how much of a word counts, in letters: endings change with grammar.
const stem = 7

// Features adds to a list what a reply has about it, with what its codes and its
// stage say.
func (r *Reading) Features(list []Feature, stage string, code int, enhanced string) []Feature {
	list = r.ofCodes(list, stage, code, enhanced)
	list = r.ofFacts(list)
	said := len(list)
	list = r.ofIdeas(r.ofWords(list))
	if len(list) == said { // nothing but where to ask
		list = append(list, Feature{Kind: Fact, A: "nothing-said"})
	}
	return list
}

func (r *Reading) ofCodes(list []Feature, stage string, code int, enhanced string) []Feature {
	number := codeName(code)
	list = append(list, Feature{Kind: Code, A: number}, Feature{Kind: Code, A: number[:1]},
		Feature{Kind: Stage, A: stage}, Feature{Kind: Stage, A: stage, B: number})
	if len(enhanced) >= 5 {
		enhanced = enhanced[2:]
	} else {
		enhanced = r.facts.enhanced
	}
	if enhanced != "" {
		list = append(
			list,
			Feature{Kind: Enhanced, A: enhanced},
			Feature{Kind: Enhanced, A: enhanced, B: stage},
		)
	}
	return list
}

// codeName is a code as text; one that is none is 000.
func codeName(code int) string {
	if code < 100 || code > 999 {
		return "000"
	}
	return strconv.Itoa(code)
}

func (r *Reading) ofFacts(list []Feature) []Feature {
	if r.facts.otherAddress {
		list = append(list, Feature{Kind: Fact, A: "other-address"})
	}
	if r.facts.file {
		list = append(list, Feature{Kind: Fact, A: "file"})
	}
	return list
}

func (r *Reading) ofWords(list []Feature) []Feature {
	last, clause := "", -1
	lastFrom := 0
	for i := range r.pieces {
		p := &r.pieces[i]
		w := r.folded[i]
		if p.kind != plain || w == "" || r.tail(p.clause) {
			last = ""
			continue
		}
		if p.clause != clause {
			last, clause = "", p.clause
		}
		if wide(w) {
			list = pairsOfLetters(list, w, p)
			last = ""
			continue
		}
		w = cutAt(w, stem)
		list = append(list, Feature{Word, w, "", p.from, p.to})
		if last != "" {
			list = append(list, Feature{Pair, last, w, lastFrom, p.to})
		}
		last, lastFrom = w, p.from
	}
	return list
}

// pairsOfLetters are the words of a script without spaces.
func pairsOfLetters(list []Feature, w string, p *piece) []Feature {
	for i := 0; i < len(w); {
		_, n := utf8.DecodeRuneInString(w[i:])
		_, m := utf8.DecodeRuneInString(w[i+n:])
		if m == 0 {
			break
		}
		list = append(list, Feature{Word, w[i : i+n+m], "", p.from, p.to})
		i += n
	}
	return list
}

func cutAt(w string, letters int) string {
	if len(w) <= letters {
		return w
	}
	for i := range w {
		if letters == 0 {
			return w[:i]
		}
		letters--
	}
	return w
}

// most is how many ideas of a reply are paired: replies say few things.
const most = 12

func (r *Reading) ofIdeas(list []Feature) []Feature {
	l := words()
	denied := deniedNames()
	name := func(f *found) string {
		if f.not {
			return denied[f.idea]
		}
		return l.ideas[f.idea]
	}
	var seen []*found
	var before *found
	list = r.ofAiling(list, name)
	for i := range r.found {
		f := &r.found[i]
		if r.tail(f.clause) {
			continue
		}
		if before != nil && before.clause == f.clause {
			list = append(list, Feature{Then, name(before), name(f), before.from, f.to})
		}
		before = f
		again := false
		for _, s := range seen {
			again = again || s.idea == f.idea && s.not == f.not
		}
		if again || len(seen) == most {
			continue
		}
		for _, s := range seen {
			a, b := name(s), name(f)
			if a > b {
				a, b = b, a
			}
			list = append(list, Feature{Ideas, a, b, min(s.from, f.from), max(s.to, f.to)})
		}
		seen = append(seen, f)
		list = append(list, Feature{Idea, name(f), "", f.from, f.to})
	}
	return list
}

// ofAiling pairs every idea with the trouble of the far system, if the text tells
// of one: a check that timed out says nothing of what was to be checked.
func (r *Reading) ofAiling(list []Feature, name func(*found) string) []Feature {
	l := words()
	var ill, passing, broken *found
	for i := range r.found {
		f := &r.found[i]
		if r.tail(f.clause) || f.not {
			continue
		}
		switch f.idea {
		case l.ailing, l.unavailable, l.timeout:
			ill = f
		case l.temporary:
			passing = f
		case l.fail, l.dns:
			broken = f
		}
	}
	if ill == nil && passing != nil {
		ill = broken
	}
	if ill == nil {
		return list
	}
	list = append(list, Feature{Kind: Fact, A: "ailing", From: ill.from, To: ill.to})
	for i := range r.found {
		if f := &r.found[i]; f != ill && !r.tail(f.clause) {
			list = append(
				list,
				Feature{Fact, "ailing", name(f), min(f.from, ill.from), max(f.to, ill.to)},
			)
		}
	}
	return list
}

// IdeasIn lists the ideas of a text, for tests and for those who look.
func (r *Reading) IdeasIn() string {
	l, denied := words(), deniedNames()
	var b strings.Builder
	for _, f := range r.found {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		switch {
		case r.tail(f.clause):
			b.WriteString("(" + l.ideas[f.idea] + ")")
		case f.not:
			b.WriteString(denied[f.idea])
		default:
			b.WriteString(l.ideas[f.idea])
		}
	}
	return b.String()
}
