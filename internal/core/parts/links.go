package parts

import (
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/publicsuffix"

	"gullroute/internal/core/address"
)

// maxLinks bounds the hosts that are noted of a message's links.
const maxLinks = 100

// Link is a host that the text leads to.
type Link struct {
	Host  string // in A-label form, or an address
	Shown string // the host that its words show, where that is another one
}

// Deceives reports a link whose words show another organisation's host than it leads to.
func (l Link) Deceives() bool {
	return l.Shown != "" && organization(l.Shown) != organization(l.Host)
}

func organization(host string) string {
	org, err := publicsuffix.EffectiveTLDPlusOne(host)
	if err != nil {
		return host
	}
	return org
}

var (
	inText = regexp.MustCompile(`(?i)\bhttps?://[^\s<>"']+`)
	// shownHost finds what looks like a host in a link's words.
	shownHost = regexp.MustCompile(
		`(?i)^(?:https?://)?(?:www\.)?((?:[\pL\pN-]+\.)+\pL{2,})(?:[/?#:]|$)`,
	)
)

// hostOf is the host of a URL, "" if it has none that one could ask about.
func hostOf(link string) string {
	u, err := url.Parse(strings.TrimSpace(link))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	host := u.Hostname()
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.String()
	}
	host, err = address.ParseDomain(host)
	if err != nil {
		return ""
	}
	return host
}

// addLinks notes where a text leads.
func (s *scanner) addLinks(p *Part, source string) {
	if p.Type != "text/html" {
		for _, link := range inText.FindAllString(source, 4*maxLinks) {
			s.addLink(Link{Host: hostOf(link)})
		}
		return
	}
	z := html.NewTokenizer(strings.NewReader(source))
	target, shown := "", ""
	for {
		switch z.Next() {
		case html.ErrorToken:
			return
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := z.TagName()
			wanted := map[string]string{"a": "href", "area": "href", "form": "action"}[string(name)]
			for more && wanted != "" {
				var key, value []byte
				if key, value, more = z.TagAttr(); string(key) == wanted {
					target, shown = hostOf(string(value)), ""
					s.addLink(Link{Host: target})
				}
			}
		case html.TextToken:
			if target != "" && len(shown) < 300 {
				shown += string(z.Text())
			}
		case html.EndTagToken:
			if name, _ := z.TagName(); string(name) == "a" {
				if m := shownHost.FindStringSubmatch(strings.TrimSpace(shown)); m != nil &&
					target != "" {
					if host, err := address.ParseDomain(m[1]); err == nil {
						s.addLink(Link{Host: target, Shown: host})
					}
				}
				target = ""
			}
		}
	}
}

// addLink notes a link; one that deceives in place of what was noted of its host before.
func (s *scanner) addLink(l Link) {
	if l.Host == "" {
		return
	}
	i := slices.IndexFunc(s.report.Links, func(k Link) bool { return k.Host == l.Host })
	switch {
	case i >= 0 && l.Deceives():
		s.report.Links[i] = l
	case i < 0 && len(s.report.Links) < maxLinks:
		if !l.Deceives() {
			l.Shown = ""
		}
		s.report.Links = append(s.report.Links, l)
	}
}
