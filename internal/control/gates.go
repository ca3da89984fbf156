package control

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Gates are what people do with gates and lists beyond their fields.
type Gates struct {
	InForce *inforce.State
	Draft   *Drafts
	Copies  store.ListCopies
}

// Lists are those in force, with what refers to them and how their sources do.
func (s *Gates) Lists(ctx context.Context) ([]api.ListState, error) {
	c := s.InForce.Config()
	copies, err := s.Copies.Copies(ctx, false)
	if err != nil {
		return nil, err
	}
	uses, out := c.ListUses(), []api.ListState{}
	for _, l := range c.Config.Lists {
		x := api.ListState{Name: l.Name, Kind: l.Kind, Source: l.Source, Uses: uses[l.Name]}
		if x.Uses == nil {
			x.Uses = []config.ListUse{}
		}
		x.Entries, x.FromSource = c.Lists[l.Name].Len()
		for i := range copies {
			if k := &copies[i]; k.List == l.Name && k.Source == l.Source {
				x.Skipped, x.Trouble, x.TroubleAt = k.Skipped, k.Trouble, k.TroubleAt
				x.LookedAt = &k.LookedAt
				if k.Hash != "" {
					x.ReadAt = &k.ReadAt
				}
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// Ask asks a list in force about a value.
func (s *Gates) Ask(name, value string) (api.ListAnswer, error) {
	l := s.InForce.Config().Lists[name]
	if l == nil {
		return api.ListAnswer{}, fault.ErrNotFound
	}
	switch l.Kind {
	case list.Addresses:
		a, err := address.Parse(value)
		if err != nil {
			return api.ListAnswer{}, err
		}
		p, ok := l.Match(a)
		return api.ListAnswer{Holds: ok, Entry: p.String()}, nil
	case list.Networks:
		ip, err := netip.ParseAddr(value)
		if err != nil {
			return api.ListAnswer{}, fmt.Errorf("%q is no IP address", value)
		}
		p, ok := l.Holds(ip)
		if !ok {
			return api.ListAnswer{}, nil
		}
		return api.ListAnswer{Holds: true, Entry: p.String()}, nil
	case list.Words:
		entry, ok := l.Find(list.Fold(value))
		return api.ListAnswer{Holds: ok, Entry: entry}, nil
	case list.FileTypes:
		entry, ok := l.OfFile(list.File{Name: path.Base(value), Types: []string{value}})
		return api.ListAnswer{Holds: ok, Entry: entry}, nil
	}
	at := time.Now()
	if value != "" && value != "now" {
		var err error
		if at, err = time.Parse(time.RFC3339, value); err != nil {
			return api.ListAnswer{}, fmt.Errorf(
				"%q is no time; write 2026-11-28T10:00:00Z or now",
				value,
			)
		}
	}
	return api.ListAnswer{Holds: l.Open(at)}, nil
}

// AddProposal puts a proposal's gate into the draft, with the list that goes with it.
func (s *Gates) AddProposal(
	ctx context.Context,
	who, key string,
	x api.ProposalChoice,
) (api.Edited, error) {
	t, ok := gate.FindProposal(key)
	if !ok {
		return api.Edited{}, fault.ErrNotFound
	}
	fields, set, err := t.Fill(x.Answers)
	if err != nil {
		return api.Edited{}, config.Problems{{Field: "answers", Text: err.Error()}}
	}
	if x.Name != "" {
		fields["name"] = x.Name
	}
	if x.Watch {
		fields["watch"] = true
	}
	lists, _ := config.FindSection("lists")
	gates, _ := config.FindSection("gates")
	name := fields["name"].(string)
	position := 0
	if x.First {
		position = 1
	}
	var item config.Item
	text, err := s.Draft.Edit(ctx, who, false, func(d *config.Document) (string, error) {
		if set != nil {
			if err := d.Add(lists, set, 0); err != nil && !errors.Is(err, config.ErrIsThere) {
				return "", err
			}
		}
		if err := d.Add(gates, fields, position); err != nil {
			return "", err
		}
		item, _ = d.Item(gates, name)
		return "gate " + name + " added", nil
	})
	return api.Edited{Text: text, Item: item}, err
}
