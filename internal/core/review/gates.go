package review

import (
	"slices"
	"strings"

	"gullroute/internal/core/address"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/list"
)

// gates looks for gates that are missing, forgotten or open.
func (v *reviewer) gates() {
	gates := v.c.Config.Gates
	if len(v.c.Domains) > 0 && !slices.ContainsFunc(gates, againstPrograms) {
		p, _ := gate.FindProposal("no-programs")
		fields, _, _ := p.Fill(nil)
		fields["watch"] = true
		v.found("no-gate-programs", "", "no gate refuses, holds or takes out programs from outside",
			&Remedy{Says: "Add one that watches", Effect: "It decides nothing yet; see in the trace " +
				"whom it would meet, then turn it on.", Section: "gates", Fields: fields, Add: true})
	}
	for i := range gates {
		g := &gates[i]
		if g.Watch && slices.Contains(v.f.WatchedBefore, g.Name) {
			v.found("watch-forgotten", "gate "+g.Name, g.Name+" has watched for more than 30 days",
				set("gates", g.Name, "Turn it on", "It does from then on what it would have done.",
					map[string]any{"watch": nil}))
		}
		for _, name := range spares(g) {
			if l := v.c.Lists[name]; l != nil && everybody(l) {
				v.found("open-allow-list", "list "+name, name+" holds everybody, and gate "+g.Name+
					" spares whoever is in it", nil)
			}
		}
	}
	for _, l := range v.c.Config.Lists {
		if why := v.f.DeadLists[l.Name]; why != "" {
			v.found("list-dead", "list "+l.Name, l.Name+": "+why, nil)
		}
	}
}

// againstPrograms reports a gate that stands against programs, or watches for them.
func againstPrograms(g gate.Gate) bool {
	named := slices.Contains(slices.Concat(g.When.Attachment, g.When.Any.Attachment,
		g.When.All.Attachment), list.Programs)
	return !g.Off && (named && g.Action() != gate.GoOn ||
		slices.Contains(g.Then.RemoveAttachments, list.Programs))
}

// spares are the lists whose members a gate lets past.
func spares(g *gate.Gate) []string {
	var out []string
	for _, ps := range []address.Patterns{g.When.None.Senders, g.When.None.From, g.When.None.Accounts} {
		for _, p := range ps {
			if p.List() != "" {
				out = append(out, p.List())
			}
		}
	}
	for _, t := range g.When.None.Networks {
		if name, ok := strings.CutPrefix(t, address.ListPrefix); ok {
			out = append(out, name)
		}
	}
	return out
}

// everybody reports a list that holds addresses or networks of all the world.
func everybody(l *list.Set) bool {
	for _, e := range l.Entries {
		if e == "*" && l.Kind == list.Addresses || strings.HasSuffix(e, "/0") && l.Kind == list.Networks {
			return true
		}
	}
	return false
}
