package wording

import (
	"fmt"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
)

// Verdict says whose trouble it looks like.
type Verdict struct {
	// Whose is theirs, ours or nobody's.
	Whose string `json:"whose" enum:"nobody,theirs,ours"`
	Title string `json:"title"`
	Next  string `json:"next" doc:"What to do"`
}

// VerdictOn says whose trouble the lanes look like: one destination's means them,
// many different ones' means us.
func VerdictOn(lanes []mail.Lane) Verdict {
	var resting []mail.Lane
	all, said, stage := 0, 0, map[diagnose.Stage]int{}
	for _, l := range lanes {
		if l.NextHop == "local" || l.State == mail.LaneStranded || l.State == mail.LanePaused {
			continue
		}
		all++
		if l.State == mail.LaneResting {
			resting = append(resting, l)
			if l.Last != nil {
				stage[l.Last.Stage]++
				if l.Last.Code != 0 {
					said++
				}
			}
		}
	}
	n := len(resting)
	switch {
	case n == 0:
		return Verdict{Whose: "nobody"}
	case n >= 3 && n*2 >= all && stage[diagnose.StageDNS]*2 > n:
		return Verdict{
			"ours",
			fmt.Sprintf(
				"%d of %d destinations cannot be looked up in DNS: this looks like our resolver.",
				n,
				all,
			),
			"Check the resolvers under Server; messages wait and nothing is bounced for it.",
		}
	case n >= 3 && n*2 >= all && stage[diagnose.StageConnect]*2 > n:
		return Verdict{
			"ours",
			fmt.Sprintf(
				"%d of %d destinations cannot be reached: this looks like our network, or a "+
					"provider that closes port 25.",
				n,
				all,
			),
			"Try another network from this machine; if only mail is stopped, send through a smart " +
				"host.",
		}
	case n >= 3 && n*2 >= all && stage[diagnose.StageTLS]*2 > n:
		return Verdict{
			"ours",
			fmt.Sprintf(
				"TLS fails with %d of %d destinations: this looks like our clock or our "+
					"authorities.",
				n,
				all,
			),
			"Check the machine's time and the file of authorities.",
		}
	case n >= 3 && n*2 >= all && said*2 > n:
		return Verdict{
			"ours",
			fmt.Sprintf("%d of %d destinations refuse us: this looks like our address or name.", n,
				all),
			"Read two or three of their replies; a block list or a missing PTR refuses everywhere " +
				"alike.",
		}
	case n == 1:
		return Verdict{
			"theirs",
			fmt.Sprintf("%s cannot be used; %s.", resting[0].NextHop, goOn(all-1)),
			"It is tried again by itself, with one connection at a time.",
		}
	}
	return Verdict{
		"theirs",
		fmt.Sprintf("%d destinations cannot be used; %s.", n, goOn(all-n)),
		"They are tried again by themselves, each with one connection at a time.",
	}
}

// goOn says how the others do.
func goOn(n int) string {
	switch n {
	case 0:
		return "nothing else waits"
	case 1:
		return "the one other lane is moving"
	}
	return fmt.Sprintf("the %d other lanes are moving, so the trouble is at the remote host", n)
}
