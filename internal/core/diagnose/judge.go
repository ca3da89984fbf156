package diagnose

import (
	"fmt"
	"strings"
	"sync"

	"gullroute/internal/core/inert"
	"gullroute/internal/core/reading"
	"gullroute/internal/core/smtp"
)

// Sure is how sure a verdict is.
type Sure string

// How sure one can be. The bounds are probabilities of the model; what they are
// worth on replies that it has not seen is measured by the tests (docs/diagnosis.md).
const (
	Certain Sure = "certain"
	Likely  Sure = "likely"
	NotSure Sure = "not-known"

	certainFrom = 0.9
	likelyFrom  = 0.55
	// worthTelling is how probable another cause must be for its words to be shown.
	worthTelling = 0.05
)

// Verdict is what a reply means, and why we think so.
type Verdict struct {
	Cause Cause `json:"cause"`
	Sure  Sure  `json:"sure" enum:"certain,likely,not-known"`
	// Certainty is how probable the cause is, 0 to 1; 0 where only codes speak.
	Certainty float64 `json:"certainty"`
	// Evidence are the words and codes that spoke for the cause, the strongest first.
	Evidence []string `json:"evidence"`
	// Against are those that spoke for another one.
	Against []string `json:"against,omitempty"`
	// Contradiction says what does not fit together, "" if all does.
	Contradiction string `json:"contradiction,omitempty"`
}

// About is what is known of a delivery beside the reply.
type About = reading.Context

// OfReply is the cause of a refusing reply at a stage, without the reasons.
func OfReply(stage Stage, r smtp.Reply, about About) Cause {
	return judge(stage, r, about, false).Cause
}

// Judge says what a refusing reply means, going by nothing but itself.
func Judge(stage Stage, r smtp.Reply) Verdict { return JudgeAbout(stage, r, About{}) }

// JudgeAbout says what a refusing reply means. What says nothing is not known: it
// does not guess.
func JudgeAbout(
	stage Stage,
	r smtp.Reply,
	about About,
) Verdict {
	return judge(stage, r, about, true)
}

// lists are lists of features to use again.
var lists = sync.Pool{New: func() any { l := make([]reading.Feature, 0, 128); return &l }}

func judge(stage Stage, r smtp.Reply, about About, reasons bool) Verdict {
	text := r.Text()
	read := reading.Of(inert.Text(text[:min(len(text), reading.MaxText)]), about)
	list := lists.Get().(*[]reading.Feature)
	defer lists.Put(list)
	features := read.Features((*list)[:0], string(stage), r.Code, r.Enhanced)
	*list = features
	m := learnt()
	p, rows := m.judge(features)
	best, next := m.best(stage, p)
	enhanced := read.Enhanced()
	if len(r.Enhanced) >= 5 {
		enhanced = r.Enhanced[2:]
	}
	coded := byCodes(stage, r, enhanced)
	v := Verdict{Cause: m.causes[best], Certainty: float64(p[best]), Evidence: []string{}}
	if v.Cause == Unknown || v.Certainty < likelyFrom {
		v = Verdict{Cause: Unknown, Sure: NotSure, Evidence: []string{}}
		if coded.cause != NoCause &&
			(read.SaysNothing() || coded.enhanced && m.near(coded.cause, p)) {
			v.Cause, v.Sure = coded.cause, Likely
			v.Evidence = append(v.Evidence, coded.why(r, enhanced))
		}
		return v
	}
	v.Sure = Likely
	if v.Certainty >= certainFrom {
		v.Sure = Certain
	}
	if !reasons {
		return v
	}
	w := witness{read, features, rows}
	v.Evidence = w.words(best, next)
	if len(v.Evidence) == 0 && stage != "" && coded.cause != v.Cause {
		v.Evidence = append(v.Evidence, fmt.Sprintf("it was said at the stage %s", stage))
	}
	if m.causes[next] != Unknown && p[next] >= worthTelling {
		v.Against = w.words(next, best)
	}
	v.weigh(coded, r, enhanced)
	return v
}

// weigh says whether the codes agree with what the text said.
func (v *Verdict) weigh(coded code, r smtp.Reply, enhanced string) {
	waits := Explain(v.Cause).WaitingHelps
	switch {
	case coded.cause == v.Cause:
		v.Evidence = append(v.Evidence, coded.why(r, enhanced))
	case coded.cause != NoCause && coded.enhanced &&
		Explain(coded.cause).Family != Explain(v.Cause).Family:
		v.Contradiction = fmt.Sprintf("Code %d.%s would mean “%s”; the text counts.", r.Code/100,
			enhanced, Explain(coded.cause).Title)
	}
	switch {
	case r.Code/100 == 5 && waits && v.Contradiction == "":
		v.Contradiction = fmt.Sprintf(
			"Code %d says never, but this usually ends by itself: to send the message again later "+
				"may succeed.",
			r.Code,
		)
	case r.Code/100 == 4 && !waits && v.Contradiction == "":
		v.Contradiction = fmt.Sprintf("Code %d says later, but this does not end by itself.",
			r.Code)
	}
}

// witness finds which words spoke for a cause.
type witness struct {
	read     *reading.Reading
	features []reading.Feature
	rows     [][]weight // by feature
}

// Bounds on what is told: how much a place in the text must weigh, how many
// places, and how long one may be in octets.
const (
	heavy  = 0.5
	places = 2
	longTo = 60
	// bridge is how far apart two words are that are shown as one place.
	bridge = 4
)

// words are the places of the text that spoke for one cause rather than another,
// the heaviest first.
func (w *witness) words(cause, other int) []string {
	weight := make([]float32, len(w.read.Text)+1)
	for n, f := range w.features {
		if f.To <= f.From || f.To-f.From > longTo {
			continue
		}
		var by float32
		for _, x := range w.rows[n] {
			switch int(x.cause) {
			case cause:
				by += x.by
			case other:
				by -= x.by
			}
		}
		each := by / float32(f.To-f.From)
		for i := f.From; i < f.To; i++ {
			weight[i] += each
		}
	}
	out := []string{}
	for range places {
		from, to := heaviest(weight)
		text := strings.Trim(strings.TrimSpace(w.read.Text[from:to]), ".,;:()")
		if text == "" {
			break
		}
		out = append(out, "it says “"+text+"”")
		for i := from; i < to; i++ {
			weight[i] = 0
		}
	}
	return out
}

// heaviest is the run of octets whose weights sum to most, 0,0 if none weighs
// enough.
func heaviest(weight []float32) (from, to int) {
	best := float32(heavy)
	for i := 0; i < len(weight); {
		if weight[i] <= 0 {
			i++
			continue
		}
		sum, j, last := float32(0), i, i
		for ; j < len(weight) && j-last <= bridge; j++ {
			if weight[j] > 0 {
				sum += weight[j]
				last = j
			}
		}
		if sum > best {
			best, from, to = sum, i, last+1
		}
		i = j
	}
	return from, to
}
