package snag

import (
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// TestAStoryIsInOrderAndMarksWhatCameJustBefore tells of a trouble that is over.
func TestAStoryIsInOrderAndMarksWhatCameJustBefore(t *testing.T) {
	at := func(hours float64) time.Time {
		return now.Add(time.Duration(hours * float64(time.Hour)))
	}
	st := Story{Moments: []Moment{
		{At: at(5), Kind: MomentAction, Text: "tried again"},
		{At: at(-0.5), Kind: MomentChange, Text: "revision 8"},
		{At: at(-9), Kind: MomentChange, Text: "revision 7"},
		{At: at(2), Kind: MomentChange, Text: "revision 9"},
		{At: at(-1), Kind: MomentWorld, Text: "a record went"},
		{At: at(-3), Kind: MomentSuccess, Text: "got through"},
	}}
	st.Tell(&Snag{Since: at(0), LastAt: at(4), Attempts: 7, State: "closed", ClosedAt: mail.At(at(6)),
		Ended: "a message got through"})
	var said []string
	for _, m := range st.Moments {
		text := m.Text
		if m.Before {
			text = "!" + text
		}
		said = append(said, text)
	}
	const want = "revision 7; got through; !a record went; !revision 8; it was met for the first time; " +
		"revision 9; it was met for the last time, of 7; tried again; it ended: a message got through"
	if got := strings.Join(said, "; "); got != want {
		t.Errorf("%s", got)
	}
}
