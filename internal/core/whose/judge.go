package whose

import (
	"fmt"
	"time"

	"gullroute/internal/core/diagnose"
)

// through is what got through of late, seen in several ways.
type through struct {
	hops     map[string]bool // next hops at which something did
	messages int64
	v4, v6   int
	routes   map[string]int
	sources  map[string]int
}

func sum(list []Success) through {
	t := through{hops: map[string]bool{}, routes: map[string]int{}, sources: map[string]int{}}
	for _, s := range list {
		if s.NextHop == "local" || s.Messages == 0 {
			continue
		}
		t.hops[s.NextHop] = true
		t.messages += s.Messages
		t.routes[s.Route]++
		t.sources[s.Source]++
		if s.IPv6 {
			t.v6++
		} else {
			t.v4++
		}
	}
	return t
}

// Judge says whose the troubles are. Successes are those of the last half hour.
func Judge(list []Trouble, successes []Success, checks Checks) Verdict {
	ok := sum(successes)
	for _, t := range list {
		delete(ok.hops, t.NextHop) // it is in trouble now, whatever got through before
	}
	if len(list) == 0 {
		return Verdict{Whose: Nobody}
	}
	all := groups(list)
	why := numbers(all, ok)
	for _, g := range all {
		if v, ok := ourFault(g, ok, checks); ok {
			v.Why = why
			return v
		}
	}
	v := theirs(list, all, ok)
	v.Why = why
	return v
}

// numbers is what there is to see, in numbers.
func numbers(all []group, ok through) (why []string) {
	for _, g := range all {
		if n := len(g.troubles); n == 1 {
			why = append(
				why,
				fmt.Sprintf("1 destination %s; %s there.", g.kind.of(1), wait(g.waiting)),
			)
		} else {
			why = append(
				why,
				fmt.Sprintf("%d destinations, %s, %s; %s there.", n, unlikePlaces(g.unlike),
					g.kind.of(n), wait(g.waiting)),
			)
		}
	}
	lately := int(Recent / time.Minute)
	switch n := len(ok.hops); n {
	case 0:
		return append(
			why,
			fmt.Sprintf("Nothing got through elsewhere in the last %d minutes.", lately),
		)
	case 1:
		return append(
			why,
			fmt.Sprintf("In the last %d minutes mail got through to one other destination.",
				lately),
		)
	default:
		return append(
			why,
			fmt.Sprintf("In the last %d minutes mail got through to %d other destinations.",
				lately, n),
		)
	}
}

func unlikePlaces(n int) string {
	if n == 1 {
		return "all at one place"
	}
	return fmt.Sprintf("at %d unlike places", n)
}

func messages(n int64) string {
	if n == 1 {
		return "1 message"
	}
	return fmt.Sprintf("%d messages", n)
}

func wait(n int64) string {
	if n == 1 {
		return "1 message waits"
	}
	return messages(n) + " wait"
}

// share is how much of what was tried is in a group's trouble.
func (g group) share(ok through) float64 {
	return float64(g.unlike) / float64(g.unlike+len(ok.hops))
}

// ourFault says that a group of troubles is ours, if it is.
func ourFault(g group, ok through, c Checks) (Verdict, bool) {
	n := len(g.troubles)
	head := fmt.Sprintf("%d of %d destinations %s", n, n+len(ok.hops), g.kind.of(n))
	wide := g.unlike >= manyFrom && g.share(ok) >= most
	const resolvers = "Check the resolvers under Server; messages wait, nothing is bounced for it."
	switch {
	case g.kind == byName && c.ResolverDown:
		return ours(Resolver, "Our resolver does not answer: "+head+".", resolvers)
	case g.kind == byName && wide:
		return ours(Resolver, head+": this looks like our resolver.", resolvers)
	case g.kind == byReach:
		return unreached(g, ok, head, wide)
	case g.kind == byTLS && c.ClockOff.Abs() > clockBound:
		return ours(Clock, fmt.Sprintf("Our clock is %s off: %s.",
			c.ClockOff.Abs().Round(time.Second), head),
			"Set the machine's time; until then certificates look expired or not yet valid.")
	case g.kind == byTLS && wide:
		return ours(Trust, head+": this looks like our authorities, or our TLS.",
			"Check the file of authorities and the TLS of the routes; see one failing session.")
	case g.kind == byRepute:
		return ours(Reputation, head+": this is about us.",
			"Read one of their replies; a block list or a missing PTR refuses everywhere alike. "+
				"See Readiness, and send what is urgent by a smart host.")
	case g.kind == byLogin:
		return ours(
			Account,
			fmt.Sprintf("Route %s cannot sign in where it sends.", g.troubles[0].Route),
			"Set the route's account and secret anew; ask the provider whether the account is open.",
		)
	case g.kind == byUs:
		return ours(Inside, head+".", "Read the service's log; nobody outside was asked.")
	}
	return Verdict{}, false
}

func ours(part Part, title, next string) (Verdict, bool) {
	return Verdict{Whose: Ours, Part: part, Title: title, Next: next}, true
}

// unreached says whether hosts that cannot be reached are our network's fault: all
// of it, one of the addresses we connect from, or IPv6 alone.
func unreached(g group, ok through, head string, wide bool) (Verdict, bool) {
	v6, bySource := 0, map[string]int{}
	for _, t := range g.troubles {
		if isIPv6(t.Address) {
			v6++
		}
		bySource[t.Source]++
	}
	if v6 == len(g.troubles) && g.unlike >= 2 && ok.v6 == 0 && ok.v4 > 0 {
		return ours(IPv6, head+", all by IPv6, while IPv4 works: this looks like our IPv6.",
			"Fix IPv6 on this machine, or set the address family to ipv4 under Server.")
	}
	for source, n := range bySource {
		all := source != "" && n == len(g.troubles) && g.unlike >= manyFrom
		if all && ok.sources[source] == 0 && ok.messages > 0 {
			return ours(Source, head+", all from "+source+"; from elsewhere it works.",
				"Check that this machine still has the address "+source+" and may send from it.")
		}
	}
	if wide {
		return ours(Network,
			head+": this looks like our network, or a provider that closes port 25.",
			"Try another network from this machine; if only mail is stopped, send through a "+
				"smart host.")
	}
	return Verdict{}, false
}

// theirs is the answer where nothing points at us.
func theirs(list []Trouble, all []group, ok through) Verdict {
	if len(list) == 1 {
		return Verdict{
			Whose: Destination,
			Title: fmt.Sprintf(
				"%s cannot be used: %s; %s.",
				list[0].NextHop,
				because(list[0].Cause),
				goOn(ok),
			),
			Next: next(list[0].Cause),
		}
	}
	routes := map[string]int{}
	for _, t := range list {
		routes[t.Route]++
	}
	if len(routes) == 1 && unlike(list) >= 2 && ok.routes[list[0].Route] == 0 &&
		len(ok.routes) > 0 {
		return Verdict{
			Whose: ByRoute,
			Title: fmt.Sprintf(
				"Everything by route %s fails, and other routes work.",
				list[0].Route,
			),
			Next: "Look at the route's hosts and TLS; reroute what is urgent.",
		}
	}
	if unlike(list) == 1 {
		return Verdict{
			Whose: Destination,
			Title: fmt.Sprintf(
				"%d destinations at one place cannot be used; %s.",
				len(list),
				goOn(ok),
			),
			Next: "It is one host's trouble, or its provider's; they are tried again by themselves.",
		}
	}
	if g := all[0]; g.kind != other && g.unlike >= manyFrom && g.share(ok) > some {
		return Verdict{
			Whose: NotSure,
			Title: fmt.Sprintf("%d destinations %s, and %d others work: it may be theirs or ours.",
				len(g.troubles), g.kind.of(len(g.troubles)), len(ok.hops)),
			Next: "Probe one of them, and one that works; if a part of our network is at fault, both tell.",
		}
	}
	return Verdict{Whose: Several,
		Title: fmt.Sprintf("%d destinations have troubles of their own; %s.", len(list), goOn(ok)),
		Next:  "They are tried again by themselves; see each lane or snag for what it is."}
}

// because is a cause in the middle of a sentence.
func because(c diagnose.Cause) string {
	title := diagnose.Explain(c).Title
	if title == "" {
		return "not known"
	}
	return string(title[0]|0x20) + title[1:]
}

func next(c diagnose.Cause) string {
	if diagnose.Explain(c).WaitingHelps {
		return "It is tried again by itself, with one connection at a time."
	}
	return diagnose.Explain(c).Fix
}

// goOn says how the others do.
func goOn(ok through) string {
	switch n := len(ok.hops); n {
	case 0:
		return "nothing else was sent of late"
	case 1:
		return "the one other destination works"
	default:
		return fmt.Sprintf("the %d other destinations work", n)
	}
}
