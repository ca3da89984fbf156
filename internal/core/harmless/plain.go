package harmless

import (
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// Plain is HTML as text that people read: in paragraphs and lists, with where links lead, and
// without what is hidden.
func Plain(source string) string {
	doc, err := html.Parse(strings.NewReader(source))
	if err != nil {
		return source
	}
	tidy(doc)
	w := &plainText{}
	w.node(doc)
	return strings.TrimRight(w.b.String(), " \n") + "\n"
}

// plainText writes text: what of space and lines stands between words waits for the next one.
type plainText struct {
	b     strings.Builder
	quote int  // blockquotes
	lines int  // line ends that are due
	space bool // a space is due
	as    bool // text is kept as it stands (pre)
}

// own are elements that begin on a line of their own, with empty lines around them or not.
var own = map[atom.Atom]int{
	atom.P: 2, atom.H1: 2, atom.H2: 2, atom.H3: 2, atom.H4: 2, atom.H5: 2, atom.H6: 2,
	atom.Ul: 2, atom.Ol: 2, atom.Dl: 2, atom.Table: 2, atom.Blockquote: 2, atom.Pre: 2,
	atom.Div: 1, atom.Li: 1, atom.Tr: 1, atom.Dt: 1, atom.Dd: 1, atom.Center: 1,
}

// due asks for so many ends of line before what comes, but right behind a list's mark.
func (w *plainText) due(n int) {
	if n == 0 || strings.HasSuffix(w.b.String(), "- ") {
		return
	}
	if w.b.Len() > 0 {
		w.lines = max(w.lines, n)
	}
	w.space = false
}

// flush writes what is due before a word.
func (w *plainText) flush() {
	if w.lines > 0 || w.b.Len() == 0 {
		if w.b.Len() > 0 {
			w.b.WriteString(strings.Repeat("\n", w.lines))
		}
		w.b.WriteString(strings.Repeat("> ", w.quote))
	} else if w.space && !strings.HasSuffix(w.b.String(), " ") {
		w.b.WriteByte(' ')
	}
	w.lines, w.space = 0, false
}

func (w *plainText) text(s string) {
	if w.as {
		for i, line := range strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n") {
			if i > 0 {
				w.lines++
			}
			if line != "" {
				w.flush()
				w.b.WriteString(line)
			}
		}
		return
	}
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune("\t\r\n\f\u00a0", r) {
			return ' '
		}
		return r
	}, s)
	words := strings.Fields(s)
	w.space = w.space || strings.HasPrefix(s, " ")
	for i, word := range words {
		w.space = w.space || i > 0
		w.flush()
		w.b.WriteString(word)
	}
	w.space = w.space || len(words) > 0 && strings.HasSuffix(s, " ")
}

func (w *plainText) node(n *html.Node) {
	if n.Type == html.TextNode {
		w.text(n.Data)
		return
	}
	if n.Type != html.ElementNode {
		w.all(n)
		return
	}
	around := own[n.DataAtom]
	w.due(around)
	switch n.DataAtom {
	case atom.Br:
		if w.b.Len() > 0 {
			w.lines++
		}
		w.space = false
	case atom.Hr:
		w.due(1)
		w.flush()
		w.b.WriteString("----")
		w.due(1)
	case atom.Img:
		w.text(pictureWords(n))
	case atom.Blockquote:
		w.quote++
		w.all(n)
		w.quote--
	case atom.Pre:
		w.as = true
		w.all(n)
		w.as = false
	case atom.Li:
		w.flush()
		w.b.WriteString("- ")
		w.all(n)
	case atom.Td, atom.Th:
		w.space = true
		w.all(n)
		w.space = true
	default:
		w.all(n)
	}
	w.due(around)
}

func (w *plainText) all(n *html.Node) {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		w.node(c)
	}
}
