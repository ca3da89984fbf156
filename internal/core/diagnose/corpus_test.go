package diagnose

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"gullroute/internal/core/smtp"
)

// sample is a reply under the cause that a person gave it.
type sample struct {
	want  Cause
	stage Stage
	text  string
	reply smtp.Reply
}

// corpus reads replies: those that the rules were tuned by, or those kept out.
func corpus(t testing.TB, file string) (list []sample) {
	t.Helper()
	f, err := os.Open("testdata/" + file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	want := NoCause
	for lines := bufio.NewScanner(f); lines.Scan(); {
		line := lines.Text()
		if name, ok := strings.CutPrefix(line, "= "); ok {
			if want = Cause(name); Explain(want).Title == Explain(Unknown).Title && want != Unknown {
				t.Fatalf("%s is no cause", name)
			}
			continue
		}
		stage, text, ok := strings.Cut(line, " ")
		if ok && !strings.HasPrefix(line, "#") {
			list = append(list, sample{want, Stage(stage), line, read(t, text[:3]+" "+text[4:])})
		}
	}
	return list
}

func read(t testing.TB, text string) smtp.Reply {
	t.Helper()
	r, err := smtp.ReadReply(bufio.NewReader(strings.NewReader(text + "\r\n")))
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return r
}

// score is how many were named, how many of those rightly, and how many there
// were to name. "Not known" names nothing.
func score(list []sample, wrong func(sample, Verdict)) (precision, recall float64) {
	named, right, all := 0, 0, 0
	for _, s := range list {
		v := Judge(s.stage, s.reply)
		if v.Cause != Unknown {
			named++
		}
		if s.want != Unknown {
			all++
		}
		if v.Cause != s.want {
			wrong(s, v)
		} else if s.want != Unknown {
			right++
		}
	}
	return float64(right) / float64(named), float64(right) / float64(all)
}

// TestTheCorpusIsReadRightly holds the floors: on what the rules were tuned by,
// and on what was written after them.
func TestTheCorpusIsReadRightly(t *testing.T) {
	tuned, kept := corpus(t, "corpus.txt"), corpus(t, "kept.txt")
	if len(tuned) < 400 || len(kept) < 150 {
		t.Fatalf("%d replies, %d kept out", len(tuned), len(kept))
	}
	precision, recall := score(
		tuned,
		func(s sample, v Verdict) { t.Logf("%s: %s, want %s %v", s.text, v.Cause, s.want, v.Evidence) },
	)
	if t.Logf("tuned by %d: precision %.3f, recall %.3f", len(tuned), precision,
		recall); precision < 0.98 ||
		recall < 0.98 {
		t.Errorf("what the rules were tuned by: precision %.3f, recall %.3f", precision, recall)
	}
	mistaken := map[[2]Cause]int{}
	precision, recall = score(kept, func(s sample, v Verdict) {
		mistaken[[2]Cause{s.want, v.Cause}]++
		if os.Getenv("GULL_SHOW_KEPT") != "" {
			t.Logf("%s: %s, want %s %v", s.text, v.Cause, s.want, v.Evidence)
		}
	})
	if t.Logf("kept out %d: precision %.3f, recall %.3f", len(kept), precision,
		recall); precision < 0.97 ||
		recall < 0.9 {
		t.Errorf("what was kept out: precision %.3f, recall %.3f", precision, recall)
	}
	figures := fmt.Sprintf(
		"Of %d replies kept out of tuning, **precision is %.3f and recall %.3f**; the rules were tuned by "+
			"%d others.\n\n",
		len(kept),
		precision,
		recall,
		len(tuned),
	) + confusion(kept, mistaken)
	documented(t, "figures", figures)
	documented(t, "causes", table())
}

// confusion lists what was taken for what.
func confusion(kept []sample, mistaken map[[2]Cause]int) string {
	var rows []string
	for pair, n := range mistaken {
		rows = append(rows, fmt.Sprintf("| %s | %s | %d |\n", pair[0], pair[1], n))
	}
	slices.Sort(rows)
	of := map[Cause]int{}
	for _, s := range kept {
		of[s.want]++
	}
	for pair, n := range mistaken {
		of[pair[0]] -= n
	}
	right := 0
	for _, n := range of {
		right += n
	}
	return "| it was | taken for | times |\n|---|---|---|\n" + strings.Join(rows,
		"") + fmt.Sprintf("| any | itself | %d |\n", right)
}

// table is every cause and what it means.
func table() string {
	var b strings.Builder
	b.WriteString("| cause | family | what it is | who can fix it | waiting helps |\n|---|---|---|---|---|\n")
	for _, c := range Causes() {
		m, helps := Explain(c), "no"
		if m.WaitingHelps {
			helps = "yes: " + m.Usually
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", c, m.Family, m.Title, m.WhoCanFix, helps)
	}
	return b.String()
}

// documented holds a part of docs/diagnosis.md to what is so; GULL_WRITE_DOCS
// writes it there.
func documented(t *testing.T, part, want string) {
	t.Helper()
	const file = "../../../docs/diagnosis.md"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, rest, ok := strings.Cut(string(text), "<!-- "+part+" -->\n")
	got, tail, ok2 := strings.Cut(rest, "<!-- end -->")
	if !ok || !ok2 {
		t.Fatalf("docs/diagnosis.md has no part %s", part)
	}
	if got == want {
		return
	}
	if os.Getenv("GULL_WRITE_DOCS") == "" {
		t.Errorf("docs/diagnosis.md is not up to date: run GULL_WRITE_DOCS=1 go test ./internal/core/diagnose")
		return
	}
	if err := os.WriteFile(file, []byte(head+"<!-- "+part+" -->\n"+want+"<!-- end -->"+tail),
		0o644); err != nil {
		t.Fatal(err)
	}
}

func BenchmarkJudge(b *testing.B) {
	all := corpus(b, "corpus.txt")
	for i := 0; b.Loop(); i++ {
		s := &all[i%len(all)]
		Judge(s.stage, s.reply)
	}
}
