// Package probe says what a live conversation with a mail host showed, step by
// step, and what follows from it.
package probe

import (
	"crypto/x509"
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
)

// The results of a step.
const (
	Pass    = "pass"
	Warning = "warning"
	Fail    = "fail"
	Skipped = "skipped"
)

// Spoken is one line of the transcript as it went over the wire, credentials left out.
type Spoken struct {
	At   float64 `json:"at" doc:"Seconds since the probe began"`
	Who  string  `json:"who" enum:"us,them,note"`
	Text string  `json:"text"`
}

// ShownCertificate is one that a host showed.
type ShownCertificate struct {
	Subject string    `json:"subject"`
	Names   []string  `json:"names" doc:"The names it is for, the first of them"`
	More    int       `json:"more,omitempty" doc:"How many more names it has"`
	Issuer  string    `json:"issuer"`
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	Key     string    `json:"key"`
}

// maxNames is how many of a certificate's names are shown.
const maxNames = 20

// ShortNames keeps the first names, and says how many more there are.
func ShortNames(names []string) (short []string, more int) {
	short = append([]string{}, names[:min(len(names), maxNames)]...)
	return short, len(names) - len(short)
}

// ProbeStep is one step.
type ProbeStep struct {
	Name         string             `json:"name" enum:"route,dns,address,connect,greeting,hello,tls,certificate,sign-in,sender,recipient,content,relay"`
	Result       string             `json:"result" enum:"pass,warning,fail,skipped"`
	Says         string             `json:"says" doc:"One sentence"`
	Took         float64            `json:"took" doc:"Seconds"`
	Code         int                `json:"code,omitempty" doc:"SMTP reply code"`
	Enhanced     string             `json:"enhanced,omitempty"`
	Cause        diagnose.Cause     `json:"cause,omitempty"`
	Lines        []Spoken           `json:"lines,omitempty"`
	Certificates []ShownCertificate `json:"certificates,omitempty"`
	// Chain is what the host showed, as it is.
	Chain []*x509.Certificate `json:"-"`
}

// Conversation is one conversation: one address of one host, by one route.
type Conversation struct {
	Route      string      `json:"route" doc:"By whose terms; empty for none"`
	Source     string      `json:"source,omitempty" doc:"Our address, if one was chosen"`
	Host       string      `json:"host"`
	Address    string      `json:"address"`
	Port       int         `json:"port"`
	Preference int         `json:"preference"`
	Steps      []ProbeStep `json:"steps"`
	Session    ident.ID    `json:"session_id,omitzero" doc:"It stands among the sessions too"`
}

// Failed is the first step that failed, or nil.
func (a *Conversation) Failed() *ProbeStep { return failed(a.Steps) }

func failed(steps []ProbeStep) *ProbeStep {
	for i := range steps {
		if steps[i].Result == Fail {
			return &steps[i]
		}
	}
	return nil
}

// Probe is a whole probe.
type Probe struct {
	Target    string         `json:"target"`
	StartedAt time.Time      `json:"started_at"`
	Took      float64        `json:"took" doc:"Seconds"`
	Steps     []ProbeStep    `json:"steps" doc:"Before any connection: the route and what DNS says"`
	Attempts  []Conversation `json:"attempts"`
	Result    string         `json:"result" enum:"pass,warning,fail"`
	// Verdict is one sentence on top.
	Verdict string      `json:"verdict"`
	Cause   *mail.Cause `json:"cause,omitempty" doc:"What the trouble means, and who can fix it"`
	Sent    ident.ID    `json:"sent,omitzero" doc:"The message that was sent, if one was ordered"`
}

// Judge fills in the verdict.
func (r *Probe) Judge() {
	r.Result = Pass
	if bad := failed(r.Steps); bad != nil && len(r.Attempts) == 0 {
		r.Result, r.Verdict = Fail, "No connection was tried: "+bad.Says
		r.mean(bad)
		return
	}
	if len(r.Attempts) == 0 {
		r.Result, r.Verdict = Fail, "No connection could be tried: "+r.firstWarning()
		for i := range r.Steps {
			if r.Steps[i].Result == Warning {
				r.mean(&r.Steps[i])
				break
			}
		}
		return
	}
	good := 0
	var bad *ProbeStep
	for i := range r.Attempts {
		if f := r.Attempts[i].Failed(); f == nil {
			good++
		} else if bad == nil {
			bad = f
		}
		for _, s := range r.Attempts[i].Steps {
			if s.Result == Warning && r.Result == Pass {
				r.Result = Warning
			}
		}
	}
	for _, s := range r.Steps {
		if s.Result != Pass && s.Result != Skipped && r.Result == Pass {
			r.Result = Warning
		}
	}
	n := len(r.Attempts)
	switch {
	case good == 0:
		r.Result = Fail
		if r.Verdict = bad.Says; n > 1 {
			r.Verdict = fmt.Sprintf("None of %d paths leads there. The first: %s", n, bad.Says)
		}
	case bad != nil:
		r.Result = Warning
		r.Verdict = fmt.Sprintf("%d of %d paths lead there. One does not: %s", good, n, bad.Says)
	case r.Result == Warning:
		r.Verdict = "It works, with something to check: " + r.firstWarning()
	default:
		r.Verdict = "Everything works up to " + r.last() + "."
	}
	if bad != nil {
		r.mean(bad)
	}
}

func (r *Probe) firstWarning() string {
	all := append([]ProbeStep{}, r.Steps...)
	for _, a := range r.Attempts {
		all = append(all, a.Steps...)
	}
	for _, s := range all {
		if s.Result == Warning || s.Result == Fail {
			return s.Says
		}
	}
	return ""
}

// last names the last step that was made.
func (r *Probe) last() string {
	name := "the name service"
	for _, a := range r.Attempts {
		for _, s := range a.Steps {
			if s.Result == Pass {
				name = map[string]string{"connect": "the connection", "greeting": "the greeting",
					"hello": "EHLO", "tls": "TLS", "certificate": "TLS", "sign-in": "sign-in",
					"sender":    "the sender",
					"recipient": "the recipient", "content": "the message itself",
					"relay": "the relay test"}[s.Name]
			}
		}
	}
	return name
}

func (r *Probe) mean(bad *ProbeStep) {
	if bad.Cause == diagnose.NoCause {
		return
	}
	c := mail.Explain(bad.Cause, &mail.LastReply{
		Stage:    diagnose.Stage(bad.Name),
		Code:     bad.Code,
		Enhanced: bad.Enhanced,
		Text:     strings.TrimSpace(bad.Says),
	}, diagnose.About{})
	r.Cause = &c
}
