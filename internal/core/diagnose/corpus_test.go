package diagnose

import (
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"gullroute/internal/core/diagnose/corpus"
	"gullroute/internal/core/reading"
	"gullroute/internal/core/smtp"
)

func samples(t testing.TB, part string) []corpus.Sample {
	t.Helper()
	list, err := corpus.Read(part)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range list {
		if _, ok := meanings[Cause(s.Cause)]; !ok {
			t.Fatalf("%s: %s is no cause", s.Line, s.Cause)
		}
	}
	return list
}

func read(t testing.TB, text string) smtp.Reply {
	t.Helper()
	r, err := corpus.Reply(text)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return r
}

// score is how replies were read.
type score struct {
	named, right, all        int // named at all, rightly; those that have a name
	unknown, invented        int
	certain, certainAndRight int
}

func (s *score) add(want, got Cause, sure Sure) {
	if want == Unknown {
		s.unknown++
	} else {
		s.all++
	}
	if got == Unknown {
		return
	}
	s.named++
	right := got == want
	if right {
		s.right++
	} else if want == Unknown {
		s.invented++
	}
	if sure == Certain {
		s.certain++
		if right {
			s.certainAndRight++
		}
	}
}

func (s score) precision() float64 { return part(s.right, s.named) }
func (s score) recall() float64    { return part(s.right, s.all) }

func part(n, of int) float64 {
	if of == 0 {
		return 1
	}
	return float64(n) / float64(of)
}

// TestRepliesOfUnseenStylesAreReadRightly holds the gates of what was kept out.
func TestRepliesOfUnseenStylesAreReadRightly(t *testing.T) {
	tuned, kept := samples(t, "tuned"), samples(t, "kept")
	seen, unknown := map[string]bool{}, 0
	for _, s := range slices.Concat(tuned, kept) {
		if s.Cause == string(Unknown) {
			unknown++
		}
	}
	for _, s := range tuned {
		seen[strings.ToLower(s.Line)] = true
	}
	if n := len(tuned) + len(kept); n < 3000 || unknown < 150 {
		t.Fatalf("%d replies, %d that say nothing", n, unknown)
	}
	sum := fmt.Sprintf("corpus %s and words %s", corpus.Sum(), reading.Sum())
	if !strings.Contains(weightsFile[:min(len(weightsFile), 200)], sum) {
		t.Error("weights.txt is not of this corpus: run go run ./internal/learn")
	}
	var usual, hard score
	families, mistaken := map[Family]*score{}, map[[2]Cause]int{}
	for _, s := range kept {
		want := Cause(s.Cause)
		if seen[strings.ToLower(s.Line)] {
			t.Errorf("kept out, and learnt from as well: %s", s.Line)
		}
		v := Judge(Stage(s.Stage), s.Reply)
		if s.Style == "ruses" {
			hard.add(want, v.Cause, v.Sure)
		} else {
			usual.add(want, v.Cause, v.Sure)
		}
		f := Explain(want).Family
		if families[f] == nil {
			families[f] = &score{}
		}
		families[f].add(want, v.Cause, v.Sure)
		if v.Cause != want {
			mistaken[[2]Cause{want, v.Cause}]++
			if os.Getenv("GULL_SHOW_KEPT") != "" {
				t.Logf(
					"%s: %s %.2f, want %s: for %q against %q",
					s.Line,
					v.Cause,
					v.Certainty,
					want,
					v.Evidence,
					v.Against,
				)
			}
		}
	}
	for _, g := range []struct {
		name   string
		score  score
		bounds [2]float64
	}{{"of the usual kind", usual, [2]float64{0.97, 0.90}}, {"of the hard kind", hard, [2]float64{0.92, 0.75}}} {
		if p, r := g.score.precision(), g.score.recall(); p < g.bounds[0] || r < g.bounds[1] {
			t.Errorf("%s: precision %.3f, recall %.3f", g.name, p, r)
		}
	}
	if n := usual.invented + hard.invented; part(n, usual.unknown+hard.unknown) > 0.05 {
		t.Errorf("%d of %d replies that say nothing got a name", n, usual.unknown+hard.unknown)
	}
	if p := part(usual.certainAndRight+hard.certainAndRight, usual.certain+hard.certain); p < 0.98 {
		t.Errorf("of those called certain %.3f are right", p)
	}
	documented(
		t,
		"figures",
		figures(len(tuned), usual, hard)+byFamily(families)+confusion(mistaken),
	)
	documented(t, "causes", table())
}

// figures are what the gates measure, with intervals.
func figures(tuned int, usual, hard score) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"The judge learnt from %d replies. Of those of styles that it had not seen:\n\n",
		tuned,
	)
	b.WriteString(
		"| kind | replies | precision | recall | certain, of those right | says nothing, given a name |\n",
	)
	b.WriteString("|---|---|---|---|---|---|\n")
	for _, g := range []struct {
		name string
		s    score
	}{{"usual", usual}, {"hard", hard}} {
		fmt.Fprintf(&b, "| %s | %d | %s | %s | %s | %d of %d |\n", g.name, g.s.all+g.s.unknown,
			interval(g.s.right, g.s.named), interval(g.s.right, g.s.all),
			interval(g.s.certainAndRight, g.s.certain), g.s.invented, g.s.unknown)
	}
	return b.String()
}

// interval is a share with its interval of 95 % (Wilson).
func interval(n, of int) string {
	if of == 0 {
		return "–"
	}
	const z = 1.96
	p, m := float64(n)/float64(of), float64(of)
	middle := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return fmt.Sprintf("%.3f (%.3f–%.3f)", p, middle-half, min(1, middle+half))
}

func byFamily(families map[Family]*score) string {
	var b strings.Builder
	b.WriteString(
		"\n| family | replies | precision of what was named | recall |\n|---|---|---|---|\n",
	)
	var names []Family
	for f := range families {
		names = append(names, f)
	}
	slices.Sort(names)
	for _, f := range names {
		if s := families[f]; s.all > 0 {
			fmt.Fprintf(
				&b,
				"| %s | %d | %s | %s |\n",
				f,
				s.all,
				interval(s.right, s.named-s.invented),
				interval(s.right, s.all),
			)
		}
	}
	return b.String()
}

// confusion lists what was taken for what.
func confusion(mistaken map[[2]Cause]int) string {
	rows := make([]string, 0, len(mistaken))
	for pair, n := range mistaken {
		rows = append(rows, fmt.Sprintf("| %s | %s | %d |\n", pair[0], pair[1], n))
	}
	slices.Sort(rows)
	return "\n| it was | taken for | times |\n|---|---|---|\n" + strings.Join(rows, "")
}

// tails are harmless ends of replies, none of them among those that the judge
// learnt with.
var tails = []string{
	" (ref 9981234-7)",
	" (node quota-full-3)",
	" <dkim@far.example>",
	" - spam-filter-2.far.example",
	" please write to postmaster@far.example",
	" [198.51.100.44]",
	" #8812",
	" trace=7c1f-virus-22",
	" See https://far.example/mailbox-full/spam for details.",
	" (greylist01.far.example)",
	"; session 0x77ab",
	" Contact tls-team@far.example.",
	" Report: https://dnsbl.far.example/?q=1",
	" (Mon, 02 Nov 2026 08:11:09 +0000)",
	". If this is an error, call +47 555 0199.",
	" [blocklist-eu-2]",
	" /id:551.5.1.1/",
	" [TLS1.2]",
	" <no-reply@virusfree.example>",
	". Your reference is LOOP-7781.",
	" (rcpt 3 of 7)",
	" (host full.moon.example)",
	" [id 5.7.1-99812]",
	" ~ policy7.far.example ~",
	". For support visit www.far.example.",
	" (queue as 4XyZ12)",
	". Thank you.",
	" {a81-auth-2}",
	" q=550001 r=12",
	" -- mx-spf-9.far.example",
}

// TestAHarmlessTailChangesNothing puts what says nothing behind what was read rightly.
func TestAHarmlessTailChangesNothing(t *testing.T) {
	changed, all := 0, 0
	worst := map[string]int{}
	for i, s := range slices.Concat(samples(t, "tuned"), samples(t, "kept")) {
		if v := Judge(Stage(s.Stage), s.Reply); string(v.Cause) != s.Cause {
			continue
		}
		for k := range 3 {
			tail := tails[(i*3+k)%len(tails)]
			r := s.Reply
			r.Lines = []string{r.Text() + tail}
			all++
			if v := Judge(Stage(s.Stage), r); string(v.Cause) != s.Cause {
				changed++
				worst[tail]++
				if os.Getenv("GULL_SHOW_KEPT") != "" {
					t.Logf("%s%s: %s %.2f, want %s", s.Line, tail, v.Cause, v.Certainty, s.Cause)
				}
			}
		}
	}
	if all < 9000 || part(changed, all) > 0.01 {
		t.Errorf("%d of %d verdicts changed: %v", changed, all, worst)
	}
	t.Logf("%d of %d changed", changed, all)
}

// table is every cause and what it means.
func table() string {
	var b strings.Builder
	b.WriteString(
		"| cause | family | what it is | who can fix it | waiting helps |\n|---|---|---|---|---|\n",
	)
	for _, c := range Causes() {
		m, helps := Explain(c), "no"
		if m.WaitingHelps {
			helps = "yes: " + m.Usually
		}
		if c == Unknown {
			helps = "not known"
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
		t.Errorf(
			"docs/diagnosis.md is not up to date: run GULL_WRITE_DOCS=1 go test ./internal/core/diagnose",
		)
		return
	}
	if err := os.WriteFile(file, []byte(head+"<!-- "+part+" -->\n"+want+"<!-- end -->"+tail),
		0o644); err != nil {
		t.Fatal(err)
	}
}

// BenchmarkJudge reads all replies of the corpus in turn: what the queue asks, the cause
// alone, and what a page shows, the reasons too.
func BenchmarkJudge(b *testing.B) {
	all := samples(b, "tuned")
	for name, judge := range map[string]func(Stage, smtp.Reply){
		"cause":   func(s Stage, r smtp.Reply) { OfReply(s, r, About{}) },
		"reasons": func(s Stage, r smtp.Reply) { Judge(s, r) },
	} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				s := &all[i*7919%len(all)]
				judge(Stage(s.Stage), s.Reply)
			}
		})
	}
}
