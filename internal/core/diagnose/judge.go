package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"gullroute/internal/core/smtp"
)

// Sure is how sure a verdict is.
type Sure string

// How sure one can be.
const (
	Certain Sure = "certain" // the text says so, and no code says otherwise
	Likely  Sure = "likely"  // the text says so against a code, or a code alone
	NotSure Sure = "not-known"
)

// Verdict is what a reply means, and why we think so.
type Verdict struct {
	Cause Cause `json:"cause"`
	Sure  Sure  `json:"sure" enum:"certain,likely,not-known"`
	// Evidence are the words and codes that decided.
	Evidence []string `json:"evidence"`
	// Contradiction says what does not fit together, "" if all does.
	Contradiction string `json:"contradiction,omitempty"`
}

// compiled are rules with their phrases as numbers of the automaton.
type compiled struct {
	rule
	words, also, unless []int32
	any                 bool // whatever the text
}

var (
	known      *phrases
	listed     []string
	textJudges []compiled
)

func init() {
	number := map[string]int32{}
	take := func(words []string) (out []int32) {
		for _, w := range words {
			if w == "*" {
				continue
			}
			p := phrase(w)
			n, ok := number[p]
			if !ok {
				n = int32(len(listed))
				number[p] = n
				listed = append(listed, p)
			}
			out = append(out, n)
		}
		return out
	}
	for _, r := range textRules {
		textJudges = append(textJudges,
			compiled{r, take(r.words), take(r.also), take(r.unless), slices.Contains(r.words, "*")})
	}
	known = newPhrases(listed)
}

// phrase is a rule's phrase in the form of plain.
func phrase(w string) string {
	w, inside := strings.CutPrefix(w, "*")
	p := plain(w)
	if inside {
		p = p[1:]
	}
	if !strings.HasSuffix(w, " ") {
		p = p[:len(p)-1]
	}
	return p
}

// OfReply is the cause of a refusing reply at a stage.
func OfReply(stage Stage, r smtp.Reply) Cause { return Judge(stage, r).Cause }

// Judge says what a refusing reply means: its text first, then its codes. It
// does not guess.
func Judge(stage Stage, r smtp.Reply) Verdict {
	coded := byCodes(stage, r)
	hits := known.found(plain(r.Text()))
	for i := range textJudges {
		c := &textJudges[i]
		word, ok := c.matches(stage, r, hits)
		if !ok {
			continue
		}
		v := Verdict{Cause: c.cause, Sure: Certain, Evidence: []string{}}
		if word != "" {
			v.Evidence = append(v.Evidence, fmt.Sprintf("it says “%s”", strings.TrimSpace(word)))
		} else {
			v.Evidence = append(v.Evidence, fmt.Sprintf("it was said at the stage %s", stage))
		}
		v.weigh(coded, r)
		return v
	}
	if coded.cause != NoCause {
		return Verdict{Cause: coded.cause, Sure: Likely, Evidence: []string{coded.why(r)}}
	}
	return Verdict{Cause: Unknown, Sure: NotSure, Evidence: []string{}}
}

// code is what codes alone would say.
type code struct {
	cause    Cause
	enhanced bool
}

func (c code) why(r smtp.Reply) string {
	if c.enhanced {
		return "code " + r.Enhanced + " means it (RFC 3463)"
	}
	return fmt.Sprintf("code %d means it here (RFC 5321)", r.Code)
}

func byCodes(stage Stage, r smtp.Reply) code {
	for i := range codeRules {
		if codeRules[i].fits(stage, r) {
			return code{codeRules[i].cause, len(codeRules[i].enhanced) > 0}
		}
	}
	return code{}
}

// weigh says whether the codes agree with what the text said.
func (v *Verdict) weigh(coded code, r smtp.Reply) {
	waits := Explain(v.Cause).WaitingHelps
	switch {
	case coded.cause == v.Cause:
		v.Evidence = append(v.Evidence, coded.why(r))
	case coded.cause != NoCause && coded.enhanced &&
		Explain(coded.cause).Family != Explain(v.Cause).Family:
		v.Sure = Likely
		v.Contradiction = fmt.Sprintf("Code %s would mean “%s”; the text counts.", r.Enhanced,
			Explain(coded.cause).Title)
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

func (c *compiled) matches(stage Stage, r smtp.Reply, hits []uint64) (string, bool) {
	if !c.fits(stage, r) {
		return "", false
	}
	for _, u := range c.unless {
		if hits[u/64]&(1<<(u%64)) != 0 {
			return "", false
		}
	}
	if len(c.also) > 0 && first(c.also, hits) < 0 {
		return "", false
	}
	if n := first(c.words, hits); n >= 0 {
		return listed[n], true
	}
	return "", c.any
}

func first(list []int32, hits []uint64) int32 {
	for _, n := range list {
		if hits[n/64]&(1<<(n%64)) != 0 {
			return n
		}
	}
	return -1
}

// fits reports whether a rule's codes and stages hold.
func (ru *rule) fits(stage Stage, r smtp.Reply) bool {
	if ru.class != 0 && r.Code/100 != ru.class {
		return false
	}
	if len(ru.codes) > 0 && !slices.Contains(ru.codes, r.Code) {
		return false
	}
	if len(ru.enhanced) > 0 &&
		(len(r.Enhanced) < 5 || !slices.Contains(ru.enhanced, r.Enhanced[2:])) {
		return false
	}
	return len(ru.stages) == 0 || slices.Contains(ru.stages, stage)
}
