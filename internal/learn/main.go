// Command learn makes the weights of the judge of replies from the corpus: a
// linear model over words, pairs of words, ideas, codes and stages, fitted by
// stochastic gradient descent in a fixed order, so that the same corpus gives the
// same weights. With -check it leaves out one style at a time, learns from the
// others and says how well it read the one it had not seen.
//
//	go run ./internal/learn          writes weights.txt
//	go run ./internal/learn -check   says how well it generalises
package main

import (
	"flag"
	"fmt"
	"log"
	"os"

	"gullroute/internal/core/diagnose/corpus"
)

func main() {
	check := flag.Bool("check", false, "leave out one style at a time and measure on it")
	show := flag.String("show", "", "with -check: show what was misread of this style, or of all")
	file := flag.String("file", "internal/core/diagnose/weights.txt", "where the weights go")
	flag.Parse()
	tuned, err := corpus.Read("tuned")
	if err != nil {
		log.Fatal(err)
	}
	if *check {
		crossCheck(tuned, *show)
		return
	}
	text := learn(prepared(tuned)).text()
	if err := os.WriteFile(*file, []byte(text), 0o644); err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%d replies, %d octets of weights\n", len(tuned), len(text))
}
