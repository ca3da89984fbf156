package directory

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"gullroute/internal/core/address"
)

// words that stand in a pattern of generated addresses.
var patternWords = []string{"{first}", "{last}", "{f}", "{l}", "{name}"}

// CheckPattern reports what is wrong with a pattern of generated addresses.
func CheckPattern(pattern string) error {
	rest := pattern
	for _, w := range patternWords {
		rest = strings.ReplaceAll(rest, w, "a")
	}
	if rest == pattern {
		return fmt.Errorf("%q has none of %s", pattern, strings.Join(patternWords, ", "))
	}
	if _, err := address.Parse(rest + "@skerryline.example"); err != nil {
		return fmt.Errorf(
			"%q does not make an address; between the words only letters, digits, dots and "+
				"hyphens stand",
			pattern,
		)
	}
	return nil
}

// folds are messages that names have and addresses avoid.
var folds = strings.NewReplacer("æ", "ae", "ø", "oe", "å", "aa", "ä", "ae", "ö", "oe", "ü", "ue",
	"ß", "ss", "é", "e", "è", "e", "ê", "e", "á", "a", "à", "a", "â", "a", "ç", "c", "ñ", "n", "í",
	"i", "ó", "o", "ô", "o", "ú", "u", "ð", "d", "þ", "th", "ł", "l", "š", "s", "ž", "z", "č", "c")

// nameParts are the first and last part of a name and the whole of it, in the
// messages of addresses.
func nameParts(name string) (first, last, whole string) {
	clean := strings.Map(func(r rune) rune {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			return r
		case unicode.IsSpace(r), r == '-', r == '.':
			return ' '
		}
		return -1
	}, folds.Replace(strings.ToLower(name)))
	parts := strings.Fields(clean)
	if len(parts) == 0 {
		return "", "", ""
	}
	return parts[0], parts[len(parts)-1], strings.Join(parts, ".")
}

// local is the local part that a pattern makes of a name; "" if the name has too
// little for it.
func local(pattern, name string) string {
	first, last, whole := nameParts(name)
	if whole == "" {
		return ""
	}
	initial := func(s string) string {
		for _, r := range s {
			return string(r)
		}
		return ""
	}
	return strings.NewReplacer("{first}", first, "{last}", last, "{f}", initial(first), "{l}",
		initial(last), "{name}", whole).Replace(pattern)
}

// isPerson reports a name like Ines Harrow: two to four words in capitals. What
// is not a person's name, like Ticket office, makes no addresses.
func isPerson(name string) bool {
	words := strings.Fields(name)
	for _, w := range words {
		if first, _ := utf8.DecodeRuneInString(w); !unicode.IsUpper(first) {
			return false
		}
	}
	return len(words) >= 2 && len(words) <= 4
}

// Generate makes the addresses of a person's mailbox by a domain's patterns. An
// address that somebody else has gets the next free number behind it; what the
// mailbox had before it keeps.
func (d *Directory) Generate(m *Mailbox, patterns []string) []address.Address {
	var out []address.Address
	if !isPerson(m.Name) {
		return nil
	}
	for _, p := range patterns {
		base := local(p, m.Name)
		if base == "" {
			continue
		}
		a, ok := d.kept(m, base)
		for n := 1; !ok && n < 10_000; n++ {
			a = address.Address{Local: base, Domain: m.Address.Domain}
			if n > 1 {
				a.Local = fmt.Sprintf("%s%d", base, n)
			}
			holder := d.Mailbox(a)
			ok = (holder == nil || holder.Address.Key() == m.Address.Key()) && d.Alias(a) == nil
		}
		if a.Key() != m.Address.Key() && !has(m.Addresses, a) && !has(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// kept is the address of this form that the mailbox has already.
func (d *Directory) kept(m *Mailbox, base string) (address.Address, bool) {
	old := d.Mailbox(m.Address)
	if old == nil || old.Address.Key() != m.Address.Key() {
		return address.Address{}, false
	}
	for _, a := range old.Generated {
		if strings.TrimRight(a.Local, "0123456789") == strings.TrimRight(base, "0123456789") {
			if h := d.Mailbox(a); h != nil && h.Address.Key() == m.Address.Key() {
				return a, true
			}
		}
	}
	return address.Address{}, false
}

func has(list []address.Address, a address.Address) bool {
	for _, b := range list {
		if a.Key() == b.Key() {
			return true
		}
	}
	return false
}
