package main

import (
	"fmt"
	"slices"

	"gullroute/internal/core/diagnose/corpus"
	"gullroute/internal/core/reading"
)

// outcome is what was said of a reply that the model had not seen.
type outcome struct {
	sample corpus.Sample
	said   string
	p      float64
}

// crossCheck leaves out a style at a time.
func crossCheck(list []corpus.Sample, show string) {
	var styles []string
	for _, s := range list {
		if !slices.Contains(styles, s.Style) {
			styles = append(styles, s.Style)
		}
	}
	var all []outcome
	for _, style := range styles {
		var rest, out []corpus.Sample
		for _, s := range list {
			if s.Style == style {
				out = append(out, s)
			} else {
				rest = append(rest, s)
			}
		}
		m := learn(prepared(rest))
		p := make([]float64, len(m.causes))
		var of []outcome
		for _, s := range out {
			m.probabilities(m.ids(made(s, s.Reply.Text(), reading.Context{}).features), p)
			k := 0
			for i := range p {
				if p[i] > p[k] {
					k = i
				}
			}
			of = append(of, outcome{s, m.causes[k], p[k]})
			if m.causes[k] != s.Cause && (show == style || show == "all") {
				fmt.Printf("  %-22s %.2f %-26s %s\n", s.Cause, p[k], m.causes[k], s.Line)
			}
		}
		report(style, of)
		all = append(all, of...)
	}
	report("all", all)
}

// report says how precision and recall change with the certainty asked for.
func report(style string, of []outcome) {
	fmt.Printf("%-16s %4d:", style, len(of))
	for _, least := range []float64{0, 0.4, 0.5, 0.6, 0.8, 0.9, 0.95} {
		named, right, all, invented := 0, 0, 0, 0
		for _, o := range of {
			if o.sample.Cause != "not-known" {
				all++
			}
			if o.p < least || o.said == "not-known" {
				continue
			}
			named++
			if o.said == o.sample.Cause {
				right++
			}
			if o.sample.Cause == "not-known" {
				invented++
			}
		}
		fmt.Printf(
			"  %.2f: p %.3f r %.3f inv %d",
			least,
			ratio(right, named),
			ratio(right, all),
			invented,
		)
	}
	fmt.Println()
}

func ratio(a, b int) float64 {
	if b == 0 {
		return 1
	}
	return float64(a) / float64(b)
}
