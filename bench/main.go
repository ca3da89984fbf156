// Command bench measures the engine against its floors: every figure is a ratio
// of two things measured in the same run.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"runtime/pprof"
	"sort"
	"strings"

	service "gullroute/internal/node"
)

// result is one line of the table.
type result struct {
	Bench   string    `json:"bench"`
	Against string    `json:"against"`
	Value   float64   `json:"value"`
	Base    float64   `json:"base"`
	Unit    string    `json:"unit"`
	Ratio   float64   `json:"ratio"`
	Ratios  []float64 `json:"ratios"`
	Reach   string    `json:"reach"`
	Reached bool      `json:"reached"`
}

func replaceSink(sink string) string { return strings.ReplaceAll(benchConfig, "SINK", sink) }

func main() {
	database := flag.String("database", os.Getenv("GULL_DATABASE_URL"),
		"database to use; what is in it goes")
	dir := flag.String("dir", "", "directory for the file floor, on the database's disk")
	rounds := flag.Int("rounds", 3, "rounds; the median counts")
	only := flag.String("only", "", "names of benches, by comma")
	through := flag.Int("through", 1_000_000, "messages that go through in the bench of bloat")
	minutes := flag.Int("minutes", 60, "how long the soak takes, which runs only if it is named")
	out := flag.String("json", "", "file for the results")
	profile := flag.String("cpuprofile", "", "file for a CPU profile")
	node := flag.Bool("node", false, "run a node for the memory bench")
	flag.Parse()
	if *profile != "" {
		f, err := os.Create(*profile)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		_ = pprof.StartCPUProfile(f)
		defer pprof.StopCPUProfile()
	}
	service.TuneMemory()
	b := &bench{
		ctx:      context.Background(),
		database: *database,
		dir:      *dir,
		rounds:   *rounds,
		through:  *through,
		minutes:  *minutes,
	}
	if *node {
		if err := b.serveNode(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	var results []result
	for _, one := range b.all() {
		if *only == "" && one.name == "soak" ||
			*only != "" && !strings.Contains(","+*only+",", ","+one.name+",") {
			continue
		}
		more, err := one.run()
		if err != nil {
			fmt.Fprintf(os.Stderr, "bench %s: %v\n", one.name, err)
			os.Exit(1)
		}
		results = append(results, more...)
	}
	print(results)
	if *out != "" {
		text, _ := json.MarshalIndent(results, "", "  ")
		if err := os.WriteFile(*out, append(text, '\n'), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func print(results []result) {
	fmt.Printf("%-44s %-52s %12s %12s %-10s %7s  %s\n", "bench", "against", "value", "base", "unit",
		"ratio", "reach")
	for _, r := range results {
		word := "reached"
		if !r.Reached {
			word = "NOT REACHED"
		}
		fmt.Printf("%-44s %-52s %12.0f %12.0f %-10s %7.2f  %s %s\n", r.Bench, r.Against, r.Value,
			r.Base, r.Unit, r.Ratio, r.Reach, word)
	}
}

// middle is the median of figures.
func middle(list []float64) float64 {
	sort.Float64s(list)
	return list[len(list)/2]
}

// median picks the pair with the middle ratio.
func median(values, bases []float64) (value, base float64, ratios []float64) {
	order := make([]int, len(values))
	for i := range order {
		order[i] = i
		ratios = append(ratios, values[i]/bases[i])
	}
	sort.Slice(order, func(a, b int) bool { return ratios[order[a]] < ratios[order[b]] })
	m := order[len(order)/2]
	return values[m], bases[m], ratios
}
