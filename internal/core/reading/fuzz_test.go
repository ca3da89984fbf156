package reading

import (
	"strings"
	"testing"
	"unicode/utf8"
)

// FuzzOf takes whatever a host may say.
func FuzzOf(f *testing.F) {
	f.Add("550 5.1.1 <a@b>: user \"x\" unknown (ref 1-2), see https://b.example/q [192.0.2.1]")
	f.Add("Empf\xffänger '<> \"\" ()[]{}..--__==")
	f.Add("收件人邮箱已满，请联系 postmaster@b.example")
	f.Fuzz(func(t *testing.T, text string) {
		text = strings.ToValidUTF8(text, "?")
		r := Of(text, Context{Recipient: "a@b"})
		for _, x := range r.Features(nil, "recipient", 550, "5.1.1") {
			if x.From < 0 || x.To < x.From || x.To > len(r.Text) || !utf8.ValidString(x.Name()) {
				t.Fatalf("%q: %+v", text, x)
			}
		}
	})
}
