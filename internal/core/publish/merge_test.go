package publish

import (
	"slices"
	"testing"
)

func TestRecordsAreMergedSoThatNothingOfOthersIsLost(t *testing.T) {
	for _, c := range []struct {
		name, kind, value     string
		instead, before, want []string
	}{
		{"a.example", "TXT", "v=spf1 ip4:192.0.2.1 -all", nil, nil, []string{"v=spf1 ip4:192.0.2.1 -all"}},
		{"a.example", "TXT", "v=spf1 ip4:192.0.2.1 -all", nil,
			[]string{"check=1", "v=spf1 include:b.example ip4:bad IP4:192.0.2.1 ~all", "v=spf1 mx +all"},
			[]string{"check=1", "v=spf1 include:b.example IP4:192.0.2.1 mx -all"}},
		{"a.example", "TXT", "v=spf1 mx", nil, []string{"v=spf1 redirect=b.example"},
			[]string{"v=spf1 mx redirect=b.example"}},
		{"_dmarc.a.example", "TXT", "v=DMARC1; p=reject", nil, []string{"v=DMARC1;p=none", "about=x"},
			[]string{"about=x", "v=DMARC1; p=reject"}},
		{"s1._domainkey.a.example", "TXT", "v=DKIM1; p=AA", nil, []string{"p=BB"}, []string{"v=DKIM1; p=AA"}},
		{"a.example", "MX", "10 mail.a.example", nil, []string{"0 ."}, []string{"10 mail.a.example"}},
		{"a.example", "MX", "10 mail.a.example", []string{"20 192.0.2.7"},
			[]string{"20 192.0.2.7", "30 Mail.a.example", "40 mx.b.example"},
			[]string{"40 mx.b.example", "10 mail.a.example"}},
		{"a.example", "A", "192.0.2.2", []string{"192.0.2.1"}, []string{"192.0.2.1", "192.0.2.3"},
			[]string{"192.0.2.3", "192.0.2.2"}},
		{"m.a.example", "CNAME", "mail.a.example", nil, []string{"old.a.example"}, []string{"mail.a.example"}},
	} {
		r := New("a.example", c.name, c.kind, c.value)
		r.Instead = c.instead
		got := Merge(c.before, r)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s %s into %q: %q, not %q", c.kind, c.value, c.before, got, c.want)
		}
		d := Diff(c.name, c.kind, c.before, got)
		again := Diff(c.name, c.kind, got, Merge(got, r))
		if d.Nothing() || !again.Nothing() {
			t.Errorf("%s: %+v, and again %+v", c.value, d, again)
		}
	}
}
