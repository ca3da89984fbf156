// Package audit is the record of who did what, in a chain that shows when it was tampered with.
package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Deed is one thing that somebody did, or tried to do.
type Deed struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	Who    string          `json:"who"`
	Role   string          `json:"role"`
	Client string          `json:"client" doc:"Where from"`
	Action string          `json:"action" doc:"The operation"`
	Target string          `json:"target" doc:"To what"`
	Status int             `json:"status" doc:"How it went, as HTTP says it: below 300 it was done"`
	Why    string          `json:"why,omitempty"`
	Detail json.RawMessage `json:"detail,omitempty" doc:"What was asked for, without secrets, and what stood there before and after"`
	Before string          `json:"before" doc:"The link of the entry before it"`
	Link   string          `json:"link" doc:"SHA-256 of the entry and of the link before it"`
}

// Done reports that what was asked for was done.
func (e *Deed) Done() bool { return e.Status < 300 }

// Next is the link of an entry that stands behind another.
func (e *Deed) Next(before []byte) []byte {
	h := sha256.New()
	h.Write(before)
	for _, part := range []string{
		fmt.Sprint(e.ID), e.At.UTC().Format(time.RFC3339Nano), e.Who, e.Role, e.Client, e.Action, e.Target,
		fmt.Sprint(e.Status), e.Why, string(e.Detail),
	} {
		fmt.Fprintf(h, "%d:%s,", len(part), part) // so that nothing moves from one part to the next
	}
	return h.Sum(nil)
}

// Syslog is the entry as a line for a log server (RFC 5424), of the facility for audit logs.
func (e *Deed) Syslog() []byte {
	const facility, notice, warning = 13, 5, 4
	severity := notice
	if !e.Done() {
		severity = warning
	}
	value := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`, "\n", " ", "\r", " ")
	var b strings.Builder
	fmt.Fprintf(&b, "<%d>1 %s - gull-route - %d [audit@32473", facility*8+severity,
		e.At.UTC().Format("2006-01-02T15:04:05.000000Z"), e.ID)
	for _, p := range [][2]string{{"who", e.Who}, {"role", e.Role}, {"client", e.Client},
		{"action", e.Action}, {"target", e.Target}, {"status", fmt.Sprint(e.Status)}, {"why", e.Why},
		{"link", e.Link}} {
		fmt.Fprintf(&b, ` %s="%s"`, p[0], value.Replace(p[1]))
	}
	fmt.Fprintf(&b, "] %s: %s %s", e.Who, e.Action, value.Replace(e.Target))
	return []byte(b.String())
}

// Filter chooses entries.
type Filter struct {
	Who, Action, Target string
	Since, Until        time.Time
	After               int64 // the next of the page before: older ones follow
	Limit               int
}

// Inspection is what an inspection of the chain found.
type Inspection struct {
	Entries int64     `json:"entries" doc:"That were looked at"`
	First   int64     `json:"first,omitempty"`
	Last    int64     `json:"last,omitempty"`
	Since   time.Time `json:"since,omitzero" doc:"Of the first entry"`
	Head    string    `json:"head" doc:"The last link; keep it elsewhere, to notice when the end was cut off"`
	Broken  int64     `json:"broken,omitempty" doc:"The first entry that does not fit the one before it"`
	Why     string    `json:"why,omitempty"`
}

// Inspector looks at entries in their order.
type Inspector struct {
	Inspection
	before string
}

// Add looks at the next entry. It reports false from the first on that does not fit.
func (i *Inspector) Add(e *Deed) bool {
	if i.Broken != 0 {
		return false
	}
	before, err := hex.DecodeString(e.Before)
	switch {
	case err != nil:
		i.Why = "its link to the entry before is no hash"
	case i.Entries > 0 && e.ID != i.Last+1:
		i.Why = fmt.Sprintf("entry %d stands before it: what was between them is gone", i.Last)
	case i.Entries > 0 && e.Before != i.before:
		i.Why = "it was not written behind the entry that stands before it"
	case hex.EncodeToString(e.Next(before)) != e.Link:
		i.Why = "it was changed after it was written"
	}
	if i.Why != "" {
		i.Broken = e.ID
		return false
	}
	if i.Entries == 0 {
		i.First, i.Since = e.ID, e.At
	}
	i.Entries++
	i.Last, i.before, i.Head = e.ID, e.Link, e.Link
	return true
}

// secret are names of fields whose values are never on record.
var secret = []string{
	"password",
	"token",
	"secret",
	"value",
	"key",
	"text",
	"scram",
	"hash",
	"content",
	"webhook",
}

// maxValue bounds a text in an entry, in octets.
const maxValue = 500

// Clean takes out of a request what is secret, and shortens what is long.
func Clean(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			if _, text := x.(string); text && named(name) {
				v[name] = "(not on record)"
				continue
			}
			v[name] = Clean(x)
		}
	case []any:
		const most = 50
		if len(v) > most {
			v = append(v[:most:most], fmt.Sprintf("and %d more", len(v)-most))
		}
		for i := range v {
			v[i] = Clean(v[i])
		}
		return v
	case string:
		if len(v) > maxValue {
			return strings.ToValidUTF8(v[:maxValue], "") + "…"
		}
	}
	return v
}

func named(name string) bool {
	name = strings.ToLower(name)
	for _, s := range secret {
		if name == s || strings.HasSuffix(name, "_"+s) || strings.HasPrefix(name, s+"_") {
			return true
		}
	}
	return false
}
