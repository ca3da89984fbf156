// Package harmless takes out of HTML what acts, hides or fetches: scripts, forms, event
// handlers, remote content, hidden text. Links stay and show where they lead.
package harmless

import (
	"net/url"
	"regexp"
	"strings"

	"github.com/microcosm-cc/bluemonday"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// MaxHTML is the largest HTML that is cleaned, in octets.
const MaxHTML = 4 << 20

// policy is what stays: text and its form, tables, links, pictures of the message itself.
var policy = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("html", "head", "body", "p", "br", "hr", "div", "span", "b", "i", "u", "s",
		"em", "strong", "small", "sub", "sup", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote",
		"pre", "code", "ul", "ol", "li", "dl", "dt", "dd", "center")
	p.AllowTables()
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("http", "https", "mailto", "tel")
	p.AllowAttrs("alt", "width", "height").OnElements("img")
	p.AllowAttrs("src").Matching(regexp.MustCompile(`^cid:[^\s"'<>]+$`)).OnElements("img")
	p.AllowURLSchemes("cid")
	p.AllowAttrs("dir", "lang").Globally()
	p.RequireNoFollowOnLinks(false)
	p.RequireNoReferrerOnLinks(true)
	return p
}()

// Clean is HTML without what could harm.
func Clean(source string) string {
	doc, err := html.Parse(strings.NewReader(source))
	if err != nil {
		return html.EscapeString(source)
	}
	tidy(doc)
	var b strings.Builder
	if err := html.Render(&b, doc); err != nil {
		return html.EscapeString(source)
	}
	return policy.Sanitize(b.String())
}

// gone are elements that are taken out with all that is in them.
var gone = map[atom.Atom]bool{
	atom.Script: true, atom.Style: true, atom.Iframe: true, atom.Object: true, atom.Embed: true,
	atom.Applet: true, atom.Form: false, atom.Meta: true, atom.Link: true, atom.Base: true,
	atom.Noscript: true, atom.Svg: true, atom.Math: true, atom.Template: true, atom.Audio: true,
	atom.Video: true, atom.Title: true, atom.Input: true, atom.Button: true, atom.Select: true,
	atom.Textarea: true,
}

// tidy takes hidden and acting elements out, writes where links lead, and puts words in
// place of remote pictures.
func tidy(n *html.Node) {
	for c := n.FirstChild; c != nil; {
		next := c.NextSibling
		if c.Type == html.CommentNode ||
			c.Type == html.ElementNode && (gone[c.DataAtom] || hidden(c)) {
			n.RemoveChild(c)
			c = next
			continue
		}
		tidy(c)
		if c.Type == html.ElementNode && c.DataAtom == atom.Img && !ours(attr(c, "src")) {
			n.InsertBefore(&html.Node{Type: html.TextNode, Data: pictureWords(c)}, c)
			n.RemoveChild(c)
		}
		if c.Type == html.ElementNode && c.DataAtom == atom.A {
			if target := target(attr(c, "href")); target != "" &&
				!strings.Contains(text(c), target) {
				n.InsertBefore(&html.Node{Type: html.TextNode, Data: " [" + target + "]"}, next)
			}
		}
		c = next
	}
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if strings.EqualFold(a.Key, name) {
			return strings.TrimSpace(a.Val)
		}
	}
	return ""
}

func ours(src string) bool { return strings.HasPrefix(strings.ToLower(src), "cid:") }

func pictureWords(n *html.Node) string {
	if alt := attr(n, "alt"); alt != "" {
		return "[picture: " + alt + "]"
	}
	return ""
}

// target is where a link leads, as people should read it: the host first of all.
func target(href string) string {
	u, err := url.Parse(href)
	if err != nil || u.Host == "" {
		return ""
	}
	return u.Host
}

func text(n *html.Node) string {
	if n.Type == html.TextNode {
		return n.Data
	}
	var b strings.Builder
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		b.WriteString(text(c))
	}
	return b.String()
}

var hiding = regexp.MustCompile(
	`(?i)(display\s*:\s*none|visibility\s*:\s*hidden|opacity\s*:\s*0(\.0*)?\s*(;|$)|` +
		`font-size\s*:\s*0*[01]?(\.\d+)?(px|pt|em|%)?\s*(;|$)|mso-hide\s*:\s*all|` +
		`max-height\s*:\s*0|text-indent\s*:\s*-\d{3,})`,
)

// hidden reports an element that nobody sees.
func hidden(n *html.Node) bool {
	for _, a := range n.Attr {
		if strings.EqualFold(a.Key, "hidden") {
			return true
		}
	}
	return hiding.MatchString(attr(n, "style"))
}
