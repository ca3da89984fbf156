package diagnose

import (
	_ "embed"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gullroute/internal/core/reading"
)

// The weights are learnt from the corpus by internal/learn; a line is
// a feature and what it adds to each cause's sum.
//
//go:embed weights.txt
var weightsFile string

// model is a linear judge: each feature of a reply adds to the sums of causes, and
// the sums make the probabilities.
type model struct {
	causes []Cause
	bias   []float32
	// A table of hashes, open, a power of two long and at most half full; rows are
	// the parts of weights, which lie behind each other.
	keys    []uint64
	rows    []span
	weights []weight
}

// span is a part of the weights.
type span struct{ from, to uint32 }

// row are the weights of a feature.
func (m *model) row(hash uint64) []weight {
	for i := hash & uint64(len(m.keys)-1); m.keys[i] != 0; i = (i + 1) & uint64(len(m.keys)-1) {
		if m.keys[i] == hash {
			return m.weights[m.rows[i].from:m.rows[i].to]
		}
	}
	return nil
}

func (m *model) put(hash uint64, row []weight) {
	i := hash & uint64(len(m.keys)-1)
	for m.keys[i] != 0 {
		i = (i + 1) & uint64(len(m.keys)-1)
	}
	from := uint32(len(m.weights))
	m.weights = append(m.weights, row...)
	m.keys[i], m.rows[i] = hash, span{from, uint32(len(m.weights))}
}

// weight is what a feature adds to the sum of one cause.
type weight struct {
	cause int16
	by    float32
}

var learnt = sync.OnceValue(func() *model {
	m, err := readModel(weightsFile)
	if err != nil {
		panic(err)
	}
	return m
})

// readModel reads a file of weights.
func readModel(file string) (*model, error) {
	size := 2
	for size < 2*strings.Count(file, "\n") {
		size *= 2
	}
	m := &model{keys: make([]uint64, size), rows: make([]span, size)}
	for line := range strings.Lines(file) {
		name, rest, _ := strings.Cut(strings.TrimRight(line, "\n"), "\t")
		cells := strings.Fields(rest)
		switch {
		case strings.HasPrefix(name, "#"):
		case name == "causes":
			for _, c := range cells {
				m.causes = append(m.causes, Cause(c))
			}
			m.bias = make([]float32, len(m.causes))
		default:
			row, err := m.read(cells)
			if err != nil {
				return nil, fmt.Errorf("diagnose: weights of %q: %w", name, err)
			}
			if name == "bias" {
				for _, w := range row {
					m.bias[w.cause] = w.by
				}
				continue
			}
			m.put(reading.HashOf(name), row)
		}
	}
	return m, nil
}

func (m *model) read(cells []string) ([]weight, error) {
	row := make([]weight, 0, len(cells))
	for _, c := range cells {
		n, by, _ := strings.Cut(c, "=")
		cause, err := strconv.Atoi(n)
		if err != nil || cause < 0 || cause >= len(m.causes) {
			return nil, fmt.Errorf("no cause %q", n)
		}
		hundredths, err := strconv.Atoi(by)
		if err != nil {
			return nil, err
		}
		row = append(row, weight{int16(cause), float32(hundredths) / 100})
	}
	return row, nil
}

// nothing is how far below the highest a sum is worth no power.
const nothing = 12

// judge is the probability of each cause, and what each feature added.
func (m *model) judge(features []reading.Feature) (p []float32, rows [][]weight) {
	sums := make([]float32, len(m.causes))
	copy(sums, m.bias)
	rows = make([][]weight, len(features))
	for i := range features {
		rows[i] = m.row(features[i].Hash())
		for _, w := range rows[i] {
			sums[w.cause] += w.by
		}
	}
	top := sums[0]
	for _, s := range sums {
		top = max(top, s)
	}
	var all float32
	for i, s := range sums {
		if s < top-nothing {
			sums[i] = 0
			continue
		}
		sums[i] = float32(math.Exp(float64(s - top)))
		all += sums[i]
	}
	for i := range sums {
		sums[i] /= all
	}
	return sums, rows
}

// best are the likeliest cause that can be at a stage, and the one behind it.
func (m *model) best(stage Stage, p []float32) (best, next int) {
	best, next = -1, -1
	for i := range p {
		if !possible(stage, m.causes[i]) {
			continue
		}
		switch {
		case best < 0 || p[i] > p[best]:
			best, next = i, best
		case next < 0 || p[i] > p[next]:
			next = i
		}
	}
	return best, next
}

// nearFrom is how probable a cause must be for a code of its own to decide for it.
const nearFrom = 0.3

// near reports that the words do not speak against a cause.
func (m *model) near(c Cause, p []float32) bool {
	i := slices.Index(m.causes, c)
	return i >= 0 && p[i] >= nearFrom
}
