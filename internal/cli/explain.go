package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
)

// explainCommands are those of gull explain.
type explainCommands struct{ *app }

func (a explainCommands) command() *cobra.Command {
	var q api.Question
	var otherClient, otherFrom, otherAccount, file string
	c := &cobra.Command{
		Use:   "explain --to ADDRESS",
		Short: "What would be decided for an envelope, and which rule says so; nothing is sent",
		Args:  exactly(0),
		Long: "Go through every check that a real envelope goes through, in order, with the " +
			"rule or route that decides, the next hops as DNS names them now, and what is " +
			"left of limits. With --message the gates are asked about the message too, its " +
			"text and its attachments.\n\nWith --other-client, --other-from or " +
			"--other-account the same is asked of a second envelope, and both are shown.",
		Example: "  gull explain --client 127.20.9.9 --listener inside --from " +
			"tickets@skerryline.example --to x@saltmarsh.example\n  gull explain --to " +
			"crew@skerryline.example\n  gull explain --client 127.20.1.5 --other-client " +
			"127.20.4.5 --listener inside --to x@saltmarsh.example\n  gull explain --client " +
			"127.30.0.60 --listener edge --from x@flotsam.example --to " +
			"ines.harrow@skerryline.example --message offer.eml",
		RunE: func(c *cobra.Command, _ []string) error {
			if file != "" {
				text, err := a.readFile(file)
				if err != nil {
					return usage("%v", err)
				}
				q.Content = text
			}
			if len(q.To) == 0 {
				return usage("say at least one recipient with --to")
			}
			questions := []api.Question{q}
			if otherClient+otherFrom+otherAccount != "" {
				second := q
				for to, text := range map[*string]string{&second.Client: otherClient,
					&second.From: otherFrom, &second.Account: otherAccount} {
					if text != "" {
						*to = text
					}
				}
				questions = append(questions, second)
			}
			return a.explainAll(c, questions)
		},
	}
	f := c.Flags()
	f.StringVar(&q.From, "from", "", "envelope sender; nothing is the null sender")
	f.StringArrayVar(&q.To, "to", nil, "recipient; may be given again")
	f.StringVar(&q.Client, "client", "127.0.0.1", "address of the client")
	f.StringVar(&q.Listener, "listener", "", "name of the listener; the first if not given")
	f.StringVar(&q.Account, "account", "", "who signed in; nobody if not given")
	f.Int64Var(&q.Size, "size", 0, "size in octets")
	f.StringVar(&file, "message", "", "file with the message (.eml); - is standard input")
	f.BoolVar(&q.Draft, "draft", false, "ask the draft, not what is in force")
	f.StringVar(&otherClient, "other-client", "", "compare with this client")
	f.StringVar(&otherFrom, "other-from", "", "compare with this sender")
	f.StringVar(&otherAccount, "other-account", "", "compare with this account")
	return c
}

func (a explainCommands) explainAll(c *cobra.Command, questions []api.Question) error {
	var all []api.Answer
	for i, q := range questions {
		answers, err := a.client().Explain(c.Context(), q)
		if err != nil {
			return err
		}
		if all = append(all, answers...); a.format != "table" {
			continue
		}
		if len(questions) > 1 {
			if i > 0 {
				fmt.Fprintln(a.out)
			}
			fmt.Fprintf(a.out, "== client %s, sender %s, account %s\n", q.Client, shown(q.From),
				orNobody(q.Account))
		}
		for k, ans := range answers {
			if k > 0 {
				fmt.Fprintln(a.out)
			}
			printAnswer(a.out, ans)
		}
	}
	if a.format != "table" {
		return printList(a.app, all, nil, "")
	}
	return nil
}

func orNobody(account string) string {
	if account == "" {
		return "nobody"
	}
	return account
}

var checkWords = map[string]string{
	"passed":   "passed ",
	"refused":  "REFUSED",
	"no_match": "  -    ",
	"decided":  "decides",
}

// gateResults are as wide as the words of checks.
var gateResults = map[string]string{
	"met":       "MET    ",
	"not_met":   "  -    ",
	"unknown":   "  ?    ",
	"not_asked": "  .    ",
}

func printAnswer(w io.Writer, ans api.Answer) {
	word := "REFUSED"
	if ans.Allowed {
		word = "allowed"
		if ans.Fate != "taken" {
			word += ", " + ans.Fate
		}
	}
	if ans.Severity != "none" {
		word += ", severity " + ans.Severity
	}
	fmt.Fprintf(w, "%s  %s\n", ans.Recipient, word)
	where := "built in"
	if ans.RuleLine > 0 {
		where = fmt.Sprintf("line %d", ans.RuleLine)
	}
	fmt.Fprintf(w, "  rule   %s (%s of revision %d): %s\n", ans.Rule, where, ans.Revision, ans.Why)
	fmt.Fprintf(w, "  reply  %s\n", ans.Reply)
	for _, ch := range ans.Checks {
		fmt.Fprintf(w, "  check  %s  %s: %s\n", checkWords[ch.Result], ch.What, ch.Text)
	}
	for _, g := range ans.Gates {
		result := gateResults[g.Result]
		if g.Watching && g.Result == "met" {
			result = "watches"
		}
		text := strings.Join(g.Why, "; ")
		if g.Result == "met" {
			text = strings.TrimSpace(strings.Join(g.Effects, ", ") + " (" + text + ")")
		}
		fmt.Fprintf(w, "  gate   %s  %d %s: %s\n", result, g.Position, g.Gate, text)
	}
	for _, way := range ans.Paths {
		for _, v := range way.Via {
			fmt.Fprintf(w, "  via    %s\n", v)
		}
		fmt.Fprintf(w, "  way    %s by route %s to %s: %s\n", way.Recipient, way.Route, way.NextHop,
			way.Why)
		for _, e := range way.Earlier {
			fmt.Fprintf(w, "         not %s: %s\n", e.What, e.Text)
		}
		if way.Stranded {
			fmt.Fprintln(
				w,
				"         it would wait: add a route for it, such as: gull route add \"to the "+
					"world\" --recipients \"*\" --next-hop mx",
			)
			continue
		}
		terms := way.TLS
		if way.Peer != "" {
			terms += ", as agreed with " + way.Peer
		}
		fmt.Fprintf(w, "         TLS %s\n", terms)
		if way.Written != "" {
			fmt.Fprintf(w, "         written %s\n", way.Written)
		}
		if way.PassedOn != "" {
			fmt.Fprintf(w, "         passed on: %s\n", way.PassedOn)
		}
		for _, h := range way.Hosts {
			addresses := strings.Join(h.Addresses, ", ")
			if h.Trouble != "" {
				addresses = h.Trouble
			}
			fmt.Fprintf(w, "         %d %s port %d (%s)\n", h.Preference, h.Name, h.Port, addresses)
			if h.TLS != "" && h.Trouble == "" {
				fmt.Fprintf(w, "            %s\n", h.TLS)
			}
		}
		if way.Trouble != "" {
			fmt.Fprintf(w, "         BUT: %s\n", way.Trouble)
		}
	}
}
