package gate

// Asked is what a gate says of a message, asked in order.
type Asked struct {
	Gate     string   `json:"gate"`
	Position int      `json:"position" doc:"Among the gates, from 1"`
	Watching bool     `json:"watching,omitempty" doc:"It only watches: nothing is done"`
	Result   string   `json:"result" enum:"met,not_met,unknown,not_asked" doc:"unknown: it asks for the content or a scanner, and there is none. not_asked: a gate before it ends the matter"`
	Severity string   `json:"severity"`
	Why      []string `json:"why" doc:"The conditions that hold, or the first that does not"`
	Effects  []string `json:"effects" doc:"What it does, or would do"`
}

// Explain asks every gate about one recipient, and says what each says.
func (c *Chain) Explain(m *Message, to Recipient) (Fate, []Asked) {
	f, out, over := Fate{}, []Asked{}, false
	if c.Empty() {
		return f, out
	}
	for _, g := range c.gates {
		a := Asked{Gate: g.Name, Position: g.position, Watching: g.Watch,
			Severity: g.Severity, Effects: g.words(), Why: []string{}}
		if over {
			a.Result = "not_asked"
			out = append(out, a)
			continue
		}
		switch v, why := c.meets(g, m, &to); v {
		case yes:
			a.Result, a.Why = "met", append(a.Why, why...)
			c.apply(g, m, &f, why)
			over = !g.Watch && (g.Stop || f.Refuse != nil || f.Discard)
		case unknown:
			a.Result = "unknown"
			a.Why = append(a.Why, "it asks for the content")
			if m.Late {
				a.Why[0] = "a scanner would be asked; that is not done here"
			}
		default:
			a.Result = "not_met"
			a.Why = append(a.Why, c.unmet(g, m, &to))
		}
		out = append(out, a)
	}
	return f, out
}

// unmet is the first condition for which a gate is not met, in words.
func (c *Chain) unmet(g *compiled, m *Message, to *Recipient) string {
	for _, x := range g.all {
		if v, _ := m.ask(x, to); v == no {
			return x.what + " does not hold"
		}
	}
	for _, x := range g.none {
		if v, why := m.ask(x, to); v == yes {
			return "none." + x.what + " holds: " + why
		}
	}
	return "nothing of any holds"
}

// NeedsContent reports that a gate asks for the parts of a message.
func (c *Chain) NeedsContent() bool {
	for _, g := range c.gates {
		for _, list := range [][]*condition{g.all, g.any, g.none} {
			for _, x := range list {
				if x.parts {
					return true
				}
			}
		}
	}
	return false
}
