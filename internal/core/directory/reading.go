package directory

import (
	"slices"
	"strings"

	"gullroute/internal/core/address"
)

// Reading is how a mailbox is read.
type Reading struct {
	By       string  `yaml:"by" enum:"all,imap,pop3,none" doc:"By which protocols its owner reads it, with its password; all if not given"`
	Messages int     `yaml:"messages" min:"1" doc:"How many messages it holds at most; not limited if not given"`
	Shared   []Share `yaml:"shared" doc:"With whom it is shared: they see it in their own programs"`
}

// Share is some people who read a mailbox that is not theirs.
type Share struct {
	With address.Patterns `yaml:"with" required:"true" doc:"Mailboxes, aliases (all who are behind them), or whole domains"`
	May  string           `yaml:"may" enum:"look,add,remove,manage" default:"look" doc:"look: read. add: also put messages in and mark them. remove: also delete. manage: also make, rename and delete folders"`
}

// The ways to read.
const (
	ByIMAP = "imap"
	ByPOP3 = "pop3"
	byNone = "none"
)

// Rights on a mailbox, each with those before it.
type Rights int

// What somebody may do in a mailbox.
const (
	MayNothing Rights = iota
	MayLook
	MayAdd
	MayRemove
	MayManage
)

var rightNames = map[string]Rights{
	"look":   MayLook,
	"add":    MayAdd,
	"remove": MayRemove,
	"manage": MayManage,
}

// Allows reports whether the owner may read by a protocol.
func (r Reading) Allows(protocol string) bool {
	return r.By == "" || r.By == "all" || r.By == protocol
}

// Given reports that anything is set.
func (r Reading) Given() bool { return r.By != "" || r.Messages > 0 || len(r.Shared) > 0 }

// Given is a mailbox that is shared with somebody.
type Given struct {
	Box *Mailbox
	May Rights
}

// SharedWith are the mailboxes that others share with the owner of m, by address.
func (d *Directory) SharedWith(m *Mailbox) []Given {
	d.mu.RLock()
	candidates := make([]*Mailbox, 0, len(d.shared))
	for _, box := range d.shared {
		candidates = append(candidates, box)
	}
	d.mu.RUnlock()
	var out []Given
	for _, box := range candidates {
		if may := d.may(box, m); may > MayNothing && box != m {
			out = append(out, Given{box, may})
		}
	}
	slices.SortFunc(out, func(a, b Given) int {
		return strings.Compare(a.Box.Address.Key(), b.Box.Address.Key())
	})
	return out
}

// may is what the owner of m may do in box: the most that any share gives.
func (d *Directory) may(box, m *Mailbox) Rights {
	best := MayNothing
	for _, s := range box.Reading.Shared {
		right := rightNames[s.May]
		if s.May == "" {
			right = MayLook
		}
		if right > best && d.meant(s.With, m) {
			best = right
		}
	}
	return best
}

// meant reports whether patterns mean the owner of a mailbox: by any of its addresses, or
// as somebody behind an alias.
func (d *Directory) meant(with address.Patterns, m *Mailbox) bool {
	if len(with) == 0 { // which would match everybody
		return false
	}
	own := append(append([]address.Address{m.Address}, m.Addresses...), m.Generated...)
	for _, a := range own {
		if _, ok := with.Match(a); ok {
			return true
		}
	}
	for _, p := range with {
		a, err := address.Parse(p.String())
		if err == nil && d.behind(a, m, 0) {
			return true
		}
	}
	return false
}

// behind reports whether the owner of a mailbox is behind an alias.
func (d *Directory) behind(a address.Address, m *Mailbox, depth int) bool {
	alias := d.Alias(a)
	if alias == nil || depth > MaxDepth {
		return false
	}
	return slices.ContainsFunc(alias.To, func(to address.Address) bool {
		return slices.Contains(m.keys(), to.Key()) || d.behind(to, m, depth+1)
	})
}

// fields is the reading as it is written.
func (r Reading) fields() map[string]any {
	f := map[string]any{}
	put(f, "by", r.By)
	if r.Messages > 0 {
		f["messages"] = r.Messages
	}
	if len(r.Shared) > 0 {
		list := make([]any, len(r.Shared))
		for i, s := range r.Shared {
			with := make([]any, len(s.With))
			for j, p := range s.With {
				with[j] = p.String()
			}
			one := map[string]any{"with": with}
			put(one, "may", s.May)
			list[i] = one
		}
		f["shared"] = list
	}
	return f
}
