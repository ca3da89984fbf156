package directory

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

func addr(s string) address.Address {
	a, err := address.Parse(s)
	if err != nil {
		panic(err)
	}
	return a
}

func box(a, name string) *Mailbox { return &Mailbox{Address: addr(a), Name: name} }

func TestGeneratedAddresses(t *testing.T) {
	for _, c := range []struct{ name, patterns, want string }{
		{"Ines Harrow", "{first}.{last} {f}{last} {name}", "ines.harrow iharrow"},
		{"Søren Ægir Åberg", "{first}.{last} {name}", "soeren.aaberg soeren.aegir.aaberg"},
		{"Ticket office", "{first}.{last}", ""},
		{"Keeper", "{first}.{last}", ""},
		{"Anne-Marie O'Dea", "{first}.{last} {f}.{l}", "anne.odea a.o"},
	} {
		var got []string
		for _, a := range New().Generate(box("x@s.example", c.name), strings.Fields(c.patterns)) {
			got = append(got, a.Local)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %s", c.name, got, c.want)
		}
	}
	d := New()
	d.PutAlias(&Alias{Address: addr("tove.hall@s.example")})
	for i, want := range []string{"tove.hall2", "tove.hall3"} { // the alias has the plain one
		m := box(fmt.Sprintf("t%d@s.example", i), "Tove Hall")
		m.Generated = d.Generate(m, []string{"{first}.{last}"})
		if d.Put(m); m.Generated[0].Local != want || d.Mailbox(addr(want+"@s.example")) != m {
			t.Errorf("%d: %v", i, m.Generated)
		}
	}
	d.RemoveKey("t0@s.example")
	again := box("t1@s.example", "Tove Hall")
	if a := d.Generate(again, []string{"{first}.{last}"}); a[0].Local != "tove.hall3" {
		t.Errorf("an address wandered to %v when somebody left", a)
	}
	if d.Mailbox(addr("tove.hall2@s.example")) != nil {
		t.Error("the address of somebody who left still leads somewhere")
	}
}

func TestRowsAreReadExactly(t *testing.T) {
	read := func(text string) (boxes []*Mailbox, faults string) {
		rows, err := NewRows(strings.NewReader(text), MailboxColumns)
		var p form.Problems
		if errors.As(err, &p) {
			return nil, p.Error()
		}
		for {
			m, problems, err := rows.Mailbox()
			if errors.Is(err, io.EOF) {
				return boxes, faults
			}
			faults += problems.Error()
			if len(problems) == 0 {
				boxes = append(boxes, m)
			}
		}
	}
	boxes, faults := read(
		"\ufeffAddress,Name,forward_to,keep_copy,reply_outside,reply_until\r\na@s.example,\"Hall, " +
			"Tove\",x@b.example y@c.example,true,\"I am\naway\",2026-12-01\nb@s.example\n",
	)
	m := boxes[0]
	if faults != "" || len(boxes) != 2 || m.Name != "Hall, Tove" || len(m.ForwardTo) != 2 || !m.KeepCopy ||
		m.Reply.Outside != "I am\naway" ||
		m.Reply.Until.String() != "2026-12-01" ||
		boxes[1].Line != 4 {
		t.Errorf("%q %+v", faults, boxes)
	}
	if row := m.Row(); strings.Join(row[:6], "|") != "a@s.example|Hall, Tove|||x@b.example y@c.example|true" {
		t.Errorf("%q", row)
	}
	for text, want := range map[string]string{
		"":                                       "the first row must name the columns",
		"name\n":                                 "line 1, address: this column is missing",
		"address,colour\n":                       "line 1, colour: column 2 is not known",
		"address,address\n":                      "this column stands twice",
		"address,keep_copy\na@s.example,maybe\n": "line 2, keep_copy: \"maybe\" is neither true nor false",
		"address\na@s.example,b\n":               "line 2: the row has 2 fields and there are 1 columns",
		"address\n\"a@s.example\n":               "this is not CSV",
		"address,quota\na@s.example,many\n":      "line 2, quota: \"many\" is not a size",
		"address,reply_until\na@s.example,x\n":   "line 2, automatic_reply.until: \"x\" is not a day",
	} {
		if _, faults := read(text); !strings.Contains(faults, want) {
			t.Errorf("%q: %q, want %q", text, faults, want)
		}
	}
}

func TestWhoMaySendAsWhom(t *testing.T) {
	m := box("ines@s.example", "Ines")
	m.Addresses = []address.Address{addr("harbour@s.example")}
	for a, want := range map[string]bool{"INES@s.example": true, "harbour@s.example": true,
		"keeper@s.example": false, "x@t.example": false} {
		if m.May(addr(a)) != want {
			t.Errorf("%s: %v", a, !want)
		}
	}
	p, _ := address.ParsePattern("t.example")
	m.SendAs = address.Patterns{p}
	if !m.May(addr("x@t.example")) || m.May(addr("keeper@s.example")) {
		t.Error("send_as")
	}
}
