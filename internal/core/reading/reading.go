// Package reading takes the text of an SMTP reply apart, so that a judgement can
// go by what was said and not by how a host, a ticket or a mailbox is called:
// addresses, hosts, addresses of hosts, links, ids and what stands in quotation
// marks are taken out of the words; of some it is kept that they are there. What is left is words of
// any language, and the ideas that they stand for (words.txt), denied or not.
package reading

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// Context is what is known of a delivery beside the reply: with it, an address in
// the text can be told to be the sender's or the recipient's.
type Context struct{ Sender, Recipient string }

// MaxText is how much of a reply is looked at, in octets.
const MaxText = 1200

// Reading is a reply's text taken apart.
type Reading struct {
	Text   string
	pieces []piece
	folded []string // of pieces that are words
	found  []found
	facts  facts
	tails  uint64 // clauses that only say where to ask, a bit for each
}

// found is an idea in the text.
type found struct {
	idea     idea
	not      bool
	piece    int // the first of its pieces
	last     int
	clause   int
	from, to int
}

// facts are what of the things that were taken out of the words speaks for a cause.
type facts struct {
	otherAddress bool // neither the recipient's nor the sender's nor one to ask
	file         bool
	enhanced     string // a code of RFC 3463 in the text, without its class
}

// Of reads a reply's text.
func Of(text string, about Context) *Reading {
	if len(text) > MaxText {
		text = text[:MaxText]
		for len(text) > 0 && !utf8.ValidString(text[max(0, len(text)-4):]) {
			text = text[:len(text)-1]
		}
	}
	r := &Reading{Text: text, pieces: pieces(text)}
	r.folded = make([]string, len(r.pieces))
	r.found = make([]found, 0, 16)
	for i := range r.pieces {
		p := &r.pieces[i]
		if p.kind == plain {
			r.folded[i] = fold(p.text)
		}
	}
	r.divide()
	for i := range r.pieces {
		if p := &r.pieces[i]; p.kind != plain {
			r.note(p, about)
		}
	}
	r.find()
	return r
}

// divide begins a clause where a sentence on whom to ask begins without a full stop
// before it: a word that asks, with somebody to be asked a few words behind.
func (r *Reading) divide() {
	more := 0
	for i := range r.pieces {
		p := &r.pieces[i]
		p.clause += more
		if p.kind != plain || !asks(r.folded[i]) {
			continue
		}
		for k := i + 1; k < min(i+asked, len(r.pieces)); k++ {
			q := &r.pieces[k]
			if q.clause+more != p.clause || q.kind != link && q.kind != host && q.kind != address {
				continue
			}
			if i > 0 && r.pieces[i-1].clause == p.clause {
				more++
				p.clause++
			}
			if q.kind == link && r.folded[i] != "for" && p.clause < 64 {
				r.tails |= 1 << p.clause
			}
			break
		}
	}
}

// asked is how many words there are at most between asking and whom to ask.
const asked = 7

func asks(word string) bool {
	switch word {
	case "please", "contact", "see", "visit", "for", "report", "questions", "go", "refer", "write",
		"bitte", "siehe", "veuillez", "voir", "consulte", "vea", "vedere", "zie", "se":
		return true
	}
	return false
}

// note keeps a fact of a piece that is no word.
func (r *Reading) note(p *piece, about Context) {
	f := &r.facts
	switch p.kind {
	case address:
		a := strings.Trim(p.text, "<>\"'()[].,;:")
		local, _, _ := strings.Cut(a, "@")
		switch {
		case about.Recipient != "" && strings.EqualFold(a, about.Recipient),
			about.Sender != "" && strings.EqualFold(a, about.Sender):
		case !role(local):
			f.otherAddress = true
		case p.clause < 64:
			r.tails |= 1 << p.clause
		}
	case file:
		f.file = true
	case number:
		c := strings.Trim(p.text, "#")
		if f.enhanced == "" && len(c) >= 5 && (c[0] == '4' || c[0] == '5') && c[1] == '.' &&
			strings.Count(c, ".") == 2 {
			f.enhanced = c[2:]
		}
	}
}

// role reports the local part of an address that is there to be asked.
func role(local string) bool {
	local = strings.ToLower(local)
	for _, r := range []string{"postmaster", "abuse", "support", "help", "admin", "noc", "hostmaster",
		"security", "mailadmin", "mailmaster", "delist", "removal", "unblock", "service", "soc"} {
		if strings.HasPrefix(local, r) {
			return true
		}
	}
	return false
}

// Denied ideas reach over three words.
const reach = 3

// find looks for ideas, clause by clause.
func (r *Reading) find() {
	l := words()
	var b strings.Builder
	for from := 0; from < len(r.pieces); {
		to := from
		for to < len(r.pieces) && r.pieces[to].clause == r.pieces[from].clause {
			to++
		}
		b.Reset()
		starts := make([]int, 0, 16) // octet of the clause at which each piece begins
		for i := from; i < to; i++ {
			if i > from {
				b.WriteByte(' ')
			}
			starts = append(starts, b.Len())
			if r.folded[i] == "" {
				b.WriteByte(1)
			} else {
				b.WriteString(r.folded[i])
			}
		}
		r.findIn(l, b.String(), starts, from)
		from = to
	}
	r.found = slices.DeleteFunc(r.found, r.modifies)
	r.clear(l.fine)
}

// clear takes back what is said to be in order: the SPF that passed, the user who
// exists. What stands before it in its clause counts as denied.
func (r *Reading) clear(fine idea) {
	for i := range r.found {
		if r.found[i].idea != fine || r.found[i].not {
			continue
		}
		for k := i - 1; k >= 0 && r.found[k].clause == r.found[i].clause && i-k <= 3; k-- {
			r.found[k].not = true
		}
	}
}

// modifies reports an idea that is the first part of a compound whose last part
// says something else: a virus-free message, the list virus-alerts.
func (r *Reading) modifies(f found) bool {
	if !r.pieces[f.last].joined || f.last+1 >= len(r.pieces) {
		return false
	}
	switch r.folded[f.last+1] {
	case "related",
		"like",
		"based",
		"check",
		"checked",
		"failure",
		"error",
		"limit",
		"filter",
		"fail":
		return false
	}
	for _, g := range r.found {
		if g.piece == f.last+1 {
			return false
		}
	}
	return true
}

func (r *Reading) findIn(l *lexicon, text string, starts []int, base int) {
	clause := r.pieces[base].clause
	denied := -1 // the piece of the last "not"
	add := func(of []idea, at, end int) {
		first := pieceAt(starts, at)
		last := pieceAt(starts, end-1)
		for _, i := range of {
			f := found{idea: i, piece: base + first, last: base + last, clause: clause,
				from: r.pieces[base+first].from, to: r.pieces[base+last].to}
			f.not = i != l.not && denied >= 0 && f.piece-denied <= reach
			r.found = append(r.found, f)
			if i == l.contact && first <= 2 && clause < 64 && !r.said(l, clause) {
				r.tails |= 1 << clause
			}
			if i == l.not {
				denied = f.last
			}
		}
	}
	for at := 0; at < len(text); {
		begin := at == 0 || text[at-1] == ' '
		root := anywhere
		if begin {
			root = atStart
		}
		end, of := l.longest(root, text, at)
		if of != nil {
			add(of, at, end)
			at = end
			// What is left of a word goes on being looked through for compounds.
			continue
		}
		_, size := utf8.DecodeRuneInString(text[at:])
		at += size
	}
}

// said reports that a clause has told something already.
func (r *Reading) said(l *lexicon, clause int) bool {
	for i := range r.found {
		if f := &r.found[i]; f.clause == clause && !l.weak[f.idea] {
			return true
		}
	}
	return false
}

func pieceAt(starts []int, octet int) int {
	for i := len(starts) - 1; i > 0; i-- {
		if starts[i] <= octet {
			return i
		}
	}
	return 0
}

// tail reports a clause that only says where to ask or is nothing but facts.
func (r *Reading) tail(clause int) bool { return clause < 64 && r.tails&(1<<clause) != 0 }

// Enhanced is the enhanced code that stands in the text, without its class.
func (r *Reading) Enhanced() string { return r.facts.enhanced }

// SaysNothing reports that no word of the text stands for anything known, but for
// a refusal and for where to ask.
func (r *Reading) SaysNothing() bool {
	l := words()
	for i := range r.found {
		if f := &r.found[i]; !r.tail(f.clause) && !l.weak[f.idea] {
			return false
		}
	}
	return true
}
