package folder

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"gullroute/internal/core/parts"
)

func TestNamesOfFolders(t *testing.T) {
	for name, want := range map[string]string{
		"INBOX": "INBOX", "inbox": "INBOX", "Inbox/Ferries": "INBOX/Ferries", "Boats/": "Boats", "Sjøkart": "Sjøkart",
		"a/b/c": "a/b/c", "inboxes": "inboxes",
		"": "", "/a": "", "a//b": "", "a*": "", "50%": "", "a\x00b": "", "a\nb": "", "\xff": "",
		strings.Repeat("x", 251): "", strings.Repeat("a/", 13) + "b": "",
	} {
		got, err := CleanName(name)
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%.30q is %q, %v; want %q", name, got, err, want)
		}
	}
	if p := Parents("a/b/c"); !slices.Equal(p, []string{"a", "a/b"}) || !Under("a/b", "a") || Under("ab", "a") {
		t.Error(p)
	}
}

func TestFlagsAndKeywords(t *testing.T) {
	f, k, err := ParseFlags([]string{`\seen`, "Work", "work", `\Deleted`})
	if err != nil || f != Seen|Deleted || !slices.Equal(k, []string{"work"}) {
		t.Error(f, k, err)
	}
	if got := f.Names(k); !slices.Equal(got, []string{`\Seen`, `\Deleted`, "work"}) {
		t.Error(got)
	}
	many := make([]string, maxKeywords+1)
	for i := range many {
		many[i] = fmt.Sprint("k", i)
	}
	for _, wrong := range [][]string{{`\Recent`}, {`\Odd`}, {strings.Repeat("k", 101)}, many} {
		if _, _, err := ParseFlags(wrong); err == nil {
			t.Errorf("%.40v is taken", wrong)
		}
	}
}

// A view is compared with what is plainly so: a list in which numbers are looked for one by one.
func TestAViewAgreesWithAPlainList(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for range 300 {
		var uids []uint32
		for uid := uint32(1); uid < 60; uid++ {
			if r.IntN(2) == 0 {
				uids = append(uids, uid)
			}
		}
		v := ViewOf(uids)
		var asked Ranges
		for range r.IntN(4) + 1 {
			asked = append(asked, Range{uint32(r.IntN(70)), uint32(r.IntN(70))})
		}
		within := func(n, last uint32) bool {
			return slices.ContainsFunc(asked, func(x Range) bool {
				low, high := x.Low, x.High
				if low == Star {
					low = last
				}
				if high == Star {
					high = last
				}
				return n >= min(low, high) && n <= max(low, high)
			})
		}
		var byUID, bySeq []uint32
		for i, uid := range uids {
			if within(uid, uids[len(uids)-1]) {
				byUID = append(byUID, uid)
			}
			if within(uint32(i+1), uint32(len(uids))) {
				bySeq = append(bySeq, uid)
			}
			if v.Seq(uid) != uint32(i+1) {
				t.Fatalf("%d is at %d", uid, v.Seq(uid))
			}
		}
		if got := v.ByUID(asked); !slices.Equal(got, RangesOf(byUID)) {
			t.Fatalf("of %v by number %v: %v, want %v", uids, asked, got, RangesOf(byUID))
		}
		if got := v.BySeq(asked); !slices.Equal(got, RangesOf(bySeq)) {
			t.Fatalf("of %v by place %v: %v, want %v", uids, asked, got, RangesOf(bySeq))
		}
		// What EXPUNGE tells, one after the other, leaves the same list.
		gone := slices.DeleteFunc(slices.Clone(uids), func(uint32) bool { return r.IntN(3) > 0 })
		left, places := v.Without(append(gone, 99))
		list := slices.Clone(uids)
		for _, p := range places {
			list = slices.Delete(list, int(p-1), int(p))
		}
		if !slices.Equal(list, left.UIDs()) || len(places) != len(gone) {
			t.Fatalf("without %v: %v, want %v", gone, list, left.UIDs())
		}
		some, rest := RangesOf(uids).Take(7)
		if some.Count() != min(7, len(uids)) ||
			!slices.Equal(append(slices.Clone(some), rest...).Tidy(), RangesOf(uids)) {
			t.Fatalf("seven of %v: %v and %v", RangesOf(uids), some, rest)
		}
		if with := left.With([]uint32{30, 61, 62}); with.Len() != left.Len()+2 && left.Len() > 0 &&
			left.UIDs()[left.Len()-1] > 29 {
			t.Fatalf("with two more: %v", with.UIDs())
		}
	}
}

func TestSectionsAreNumberedAsInTheStandard(t *testing.T) {
	// The example of RFC 9051 section 6.4.5.1, in short.
	content := strings.ReplaceAll(`Subject: outer
Content-Type: multipart/mixed; boundary=o

--o
Content-Type: text/plain

one
--o
Content-Type: application/octet-stream

two
--o
Content-Type: message/rfc822

Subject: third
Content-Type: multipart/mixed; boundary=i

--i
Content-Type: text/plain

three one
--i
Content-Type: application/octet-stream

three two
--i--
--o
Content-Type: multipart/mixed; boundary=p

--p
Content-Type: image/gif

four one
--p
Content-Type: message/rfc822

Subject: fourth

four two
--p--
--o--
`, "\n", "\r\n")
	found, err := parts.Scan(strings.NewReader(content), parts.Options{})
	if err != nil {
		t.Fatal(err)
	}
	s := Sections(found.Parts, int64(len(content)))
	for _, c := range []struct {
		path []int
		what string
		want string // begins so; "-" is no such section
	}{
		{nil, Whole, "Subject: outer"}, {nil, Header, "Subject: outer"}, {nil, Body, "--o\r\n"},
		{[]int{1}, Whole, "one"}, {[]int{2}, Whole, "two"}, {[]int{2}, MIME, "Content-Type: application"},
		{[]int{3}, Whole, "Subject: third"}, {[]int{3}, Header, "Subject: third"}, {[]int{3}, Body, "--i\r\n"},
		{[]int{3, 1}, Whole, "three one"}, {[]int{3, 2}, Whole, "three two"}, {[]int{4}, Whole, "--p"},
		{[]int{4, 1}, MIME, "Content-Type: image/gif"}, {[]int{4, 2}, Header, "Subject: fourth"},
		{[]int{4, 2, 1}, Whole, "four two"}, {[]int{4, 2}, Body, "four two"},
		{[]int{5}, Whole, "-"}, {[]int{1, 1}, Whole, "-"}, {[]int{0}, Whole, "-"}, {[]int{1}, Header, "-"},
		{[]int{3, 3}, Whole, "-"}, {nil, MIME, "-"},
	} {
		from, to, ok := s.Place(c.path, c.what)
		if got := content[from:max(from, to)]; ok != (c.want != "-") || ok && !strings.HasPrefix(got, c.want) {
			t.Errorf("%v %s: %v %.40q, want %s", c.path, c.what, ok, got, c.want)
		}
	}
	if from, to, _ := s.Place([]int{1}, Whole); content[from:to] != "one" {
		t.Errorf("the first part is %q", content[from:to])
	}
	single := Sections(nil, 7)
	if from, to, ok := single.Place([]int{1}, Whole); !ok || from != 7 || to != 7 {
		t.Errorf("of nothing: %d %d %v", from, to, ok)
	}
}

func TestWordsAreWhatPeopleSearchFor(t *testing.T) {
	w := WordsOf([]byte("From: =?utf-8?q?S=C3=B8ren?= <soren@x.example>\r\nTo: a@x.example\r\nTo: b@x.example\r\n"+
		"Date: Mon, 30 Nov 2026 23:59:00 -0500\r\nContent-Type: text/html; charset=utf-8\r\n"+
		"Content-Transfer-Encoding: quoted-printable\r\n\r\n<p>The <b>B=C3=98LGE</b> &amp; wave</p>\x00"), true)
	if !strings.Contains(w.From, "søren") || w.To != "a@x.example, b@x.example" || w.Sent.Day() != 30 ||
		!strings.Contains(w.Body, "bølge") || strings.Contains(w.Body, "<b>") || strings.Contains(w.Body, "\x00") ||
		!strings.Contains(w.Header, "date:mon, 30 nov 2026") || w.Cut {
		t.Errorf("%+v", w)
	}
	if long := WordsOf([]byte("Subject: x\r\n\r\n"+strings.Repeat("ø", maxBody)), true); !long.Cut ||
		len(long.Body) > maxBody {
		t.Errorf("%d octets are kept of a long text", len(long.Body))
	}
}

func TestSearchesAreBounded(t *testing.T) {
	deep := Search{}
	for range maxDepth + 2 {
		deep = Search{Not: []Search{deep}}
	}
	if deep.Fits() || (&Search{Body: make([]string, maxTerms+1)}).Fits() || !(&Search{}).Fits() {
		t.Error("a search beyond its bounds is taken")
	}
	subject := Search{Fields: []Field{{"Subject", "x"}}}
	if subject.ByText() || !(&Search{Or: [][2]Search{{subject, {Text: []string{"y"}}}}}).ByText() {
		t.Error("what needs the text is not known")
	}
}
