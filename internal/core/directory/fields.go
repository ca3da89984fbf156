package directory

import (
	"gullroute/internal/core/address"
)

// Fields is a mailbox as it is written, without secrets; what is empty is left
// out.
func (m *Mailbox) Fields() map[string]any {
	f := map[string]any{"address": m.Address.Display()}
	put(f, "name", m.Name)
	putList(f, "addresses", m.Addresses)
	if m.Quota > 0 {
		f["quota"] = m.Quota.String()
	}
	putList(f, "forward_to", m.ForwardTo)
	if m.KeepCopy {
		f["keep_copy"] = true
	}
	if m.Reply != nil {
		r := map[string]any{}
		put(r, "inside", m.Reply.Inside)
		put(r, "outside", m.Reply.Outside)
		put(r, "from", m.Reply.From.String())
		put(r, "until", m.Reply.Until.String())
		f["automatic_reply"] = r
	}
	if m.MaySubmit {
		f["may_submit"] = true
	}
	if len(m.SendAs) > 0 {
		list := make([]any, len(m.SendAs))
		for i, p := range m.SendAs {
			list[i] = p.String()
		}
		f["send_as"] = list
	}
	if m.Reading.Given() {
		f["reading"] = m.Reading.fields()
	}
	return f
}

// Fields is an alias as it is written.
func (a *Alias) Fields() map[string]any {
	f := map[string]any{"address": a.Address.Display()}
	putList(f, "to", a.To)
	put(f, "about", a.About)
	return f
}

func put(f map[string]any, name, v string) {
	if v != "" {
		f[name] = v
	}
}

func putList(f map[string]any, name string, list []address.Address) {
	if len(list) == 0 {
		return
	}
	out := make([]any, len(list))
	for i, a := range list {
		out[i] = a.Display()
	}
	f[name] = out
}
