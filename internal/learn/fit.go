package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"

	"gullroute/internal/core/diagnose/corpus"
	"gullroute/internal/core/reading"
)

// How the model is fitted. The figures were chosen on styles left out.
const (
	rounds    = 14
	rate      = 0.25
	shrink    = 2e-5 // of each weight at each step it is used in
	seldom    = 2    // a feature seen in fewer replies than this is left out
	threshold = 0.15 // smaller weights are left out of the file
)

// fitted is a model with its names.
type fitted struct {
	causes   []string
	features []string
	bias     []float64
	weights  [][]float64 // by feature and cause
	index    map[string]int
}

// models is how many are fitted, each in an order of its own; the mean of their weights
// hangs less on the order.
const models = 4

// learn fits the model.
func learn(list []example) *fitted {
	mean := fit(list, 0)
	for n := 1; n < models; n++ {
		m := fit(list, n)
		for k := range m.bias {
			mean.bias[k] += m.bias[k]
		}
		for i, w := range m.weights {
			for k := range w {
				mean.weights[i][k] += w[k]
			}
		}
	}
	for k := range mean.bias {
		mean.bias[k] /= models
	}
	for _, w := range mean.weights {
		for k := range w {
			w[k] /= models
		}
	}
	return mean
}

// fit is softmax regression with AdaGrad, the examples in one of several orders.
func fit(list []example, order int) *fitted {
	m := &fitted{index: map[string]int{}}
	seen := map[string]int{}
	cause := map[string]int{}
	for _, e := range list {
		if _, ok := cause[e.cause]; !ok {
			cause[e.cause] = 0
			m.causes = append(m.causes, e.cause)
		}
		for _, f := range e.features {
			seen[f]++
		}
	}
	slices.Sort(m.causes)
	for i, c := range m.causes {
		cause[c] = i
	}
	for f, n := range seen {
		if n >= seldom*3 { // each reply is there three times
			m.features = append(m.features, f)
		}
	}
	slices.Sort(m.features)
	for i, f := range m.features {
		m.index[f] = i
	}
	n := len(m.causes)
	m.bias = make([]float64, n)
	m.weights = make([][]float64, len(m.features))
	squares := make([][]float64, len(m.features))
	for i := range m.weights {
		m.weights[i], squares[i] = make([]float64, n), make([]float64, n)
	}
	biasSquares := make([]float64, n)
	ids := make([][]int, len(list))
	for i, e := range list {
		ids[i] = m.ids(e.features)
	}
	turns := make([]int, len(list))
	for i := range turns {
		turns[i] = i
	}
	random := rand.New(rand.NewPCG(7, uint64(11+order)))
	p := make([]float64, n)
	for range rounds {
		random.Shuffle(len(turns), func(a, b int) { turns[a], turns[b] = turns[b], turns[a] })
		for _, i := range turns {
			m.probabilities(ids[i], p)
			p[cause[list[i].cause]]--
			for k, g := range p {
				if math.Abs(g) < 1e-4 {
					continue
				}
				biasSquares[k] += g * g
				m.bias[k] -= rate * g / math.Sqrt(biasSquares[k]+1)
			}
			for _, f := range ids[i] {
				w, s := m.weights[f], squares[f]
				for k, g := range p {
					if math.Abs(g) < 1e-4 {
						continue
					}
					g += shrink * w[k]
					s[k] += g * g
					w[k] -= rate * g / math.Sqrt(s[k]+1)
				}
			}
		}
	}
	return m
}

// ids are the numbers of features that the model has, each once.
func (m *fitted) ids(features []string) []int {
	var out []int
	for _, f := range features {
		if i, ok := m.index[f]; ok {
			out = append(out, i)
		}
	}
	return out
}

func (m *fitted) probabilities(ids []int, p []float64) {
	copy(p, m.bias)
	for _, f := range ids {
		for k, w := range m.weights[f] {
			p[k] += w
		}
	}
	top := slices.Max(p)
	all := 0.0
	for k := range p {
		p[k] = math.Exp(p[k] - top)
		all += p[k]
	}
	for k := range p {
		p[k] /= all
	}
}

// text is the model as a file: weights in hundredths.
func (m *fitted) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# Made by go run ./internal/learn from corpus %s and words %s. Hundredths.\n",
		corpus.Sum(), reading.Sum())
	b.WriteString("causes\t" + strings.Join(m.causes, " ") + "\nbias\t")
	for k, w := range m.bias {
		fmt.Fprintf(&b, "%d=%d ", k, int(math.Round(w*100)))
	}
	b.WriteByte('\n')
	for i, f := range m.features {
		var cells []string
		for k, w := range m.weights[i] {
			if math.Abs(w) >= threshold {
				cells = append(cells, fmt.Sprintf("%d=%d", k, int(math.Round(w*100))))
			}
		}
		if len(cells) > 0 {
			b.WriteString(f + "\t" + strings.Join(cells, " ") + "\n")
		}
	}
	return b.String()
}
