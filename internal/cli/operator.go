package cli

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
)

// operatorCommands are those of gull operator.
type operatorCommands struct{ *app }

func (a operatorCommands) command() *cobra.Command {
	return group(
		"operator",
		"People who administer, and what they may do",
		a.list(),
		a.show(),
		a.add(),
		a.set(),
		a.remove(),
		a.sessions(),
		a.first(), a.rescue(),
		a.firstLink(),
	)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "-"
}

// roleNames are the roles as words.
func roleNames() []string {
	out := make([]string, len(rights.Roles))
	for i, r := range rights.Roles {
		out[i] = string(r)
	}
	return out
}

func roleFlag(c *cobra.Command, role *string) {
	c.Flags().StringVar(role, "role", "", "administrator, operator, auditor or viewer")
	_ = c.RegisterFlagCompletionFunc("role",
		cobra.FixedCompletions(roleNames(), cobra.ShellCompDirectiveNoFileComp))
}

// names completes the names of those who administer.
func (a operatorCommands) names(
	c *cobra.Command,
	args []string,
	_ string,
) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	items, _ := a.client().People(c.Context())
	var out []string
	for _, p := range items {
		out = append(out, p.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// secondOf is what somebody has besides, or in place of, his password.
func secondOf(p mail.Person) string {
	var has []string
	if p.Second {
		has = append(has, "codes")
	}
	switch {
	case p.Passkeys == 1:
		has = append(has, "a passkey")
	case p.Passkeys > 1:
		has = append(has, strconv.Itoa(p.Passkeys)+" passkeys")
	}
	if p.Issuer != "" {
		has = append(has, "single sign-on")
	}
	return dash(strings.Join(has, ", "))
}

func personState(p mail.Person) string {
	switch {
	case p.Off:
		return "off"
	case p.MustChange:
		return "new password due"
	}
	return "on"
}

func last(at time.Time) string {
	if at.IsZero() {
		return "never"
	}
	return ago(at)
}

func (a operatorCommands) list() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Who administers",
		Long: "Who administers, and with which role. administrator: all. operator: queue, " +
			"held messages, trace and snags, no configuration. auditor: looks at everything, " +
			"also at who did what, and changes nothing. viewer: looks, masked as the " +
			"settings say.",
		Args:    exactly(0),
		Example: "  gull operator list",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().People(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.Person]{
				{"NAME", false, func(p mail.Person) string { return p.Name }},
				{
					"ROLE",
					false,
					func(p mail.Person) string { return boundWords(p.Role, p.Domains) },
				},
				{"STATE", false, personState},
				{"LAST SIGN-IN", true, func(p mail.Person) string { return last(p.LastAt.Time) }},
				{"FROM", false, func(p mail.Person) string { return dash(p.LastFrom) }},
				{"SECOND FACTOR", false, secondOf},
				{"SESSIONS", true, func(p mail.Person) string { return strconv.Itoa(p.Sessions) }},
				{"PASSWORD", true, func(p mail.Person) string {
					if p.Issuer != "" {
						return "-"
					}
					return ago(p.PasswordAt)
				}},
				{"ABOUT", false, func(p mail.Person) string { return p.About }},
			}, "Nobody administers.")
		},
	}
}

func (a operatorCommands) show() *cobra.Command {
	return &cobra.Command{
		Use:               "show NAME",
		Short:             "One of them",
		Args:              exactly(1),
		ValidArgsFunction: a.names,
		Example:           "  gull operator show keeper",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Person(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(p)
			}
			fmt.Fprintf(
				a.out,
				"%s: %s, %s\n",
				p.Name,
				boundWords(p.Role, p.Domains),
				personState(p),
			)
			for _, line := range [][2]string{
				{"about", p.About},
				{"made", fmt.Sprintf("%s by %s", exact(p.MadeAt), p.MadeBy)},
				{"password", "chosen " + ago(p.PasswordAt)},
				{"besides", strings.TrimPrefix(secondOf(p), "-")},
				{"last sign-in", last(p.LastAt.Time) + " " + p.LastFrom},
				{"sessions", strconv.Itoa(p.Sessions)},
			} {
				if line[1] != "" {
					fmt.Fprintf(a.out, "  %-13s %s\n", line[0], line[1])
				}
			}
			fmt.Fprintln(a.out, "  may")
			for _, x := range rights.About {
				if rights.May(p.Role, x.Area) {
					fmt.Fprintf(a.out, "    %s\n", x.Is)
				}
			}
			return nil
		},
	}
}

// madePassword shows a password that was made.
func (a operatorCommands) madePassword(m api.PersonMade) error {
	if a.format != "table" {
		return a.printValue(m)
	}
	fmt.Fprintf(a.out, "%s: %s, %s\n", m.Name, boundWords(m.Role, m.Domains), personState(m.Person))
	if m.Password != "" {
		fmt.Fprintf(
			a.out,
			"\n  password  %s\n\nIt is shown this once. %s signs in with it at the console or by "+
				"gull login, and chooses another then.\n",
			m.Password,
			m.Name,
		)
	}
	return nil
}

// domainsFlag asks for the domains that somebody is bounded to.
func domainsFlag(c *cobra.Command, into *[]string) {
	c.Flags().StringSliceVar(into, "domain", nil,
		"sees and does only what is about these domains; \"\" takes the bound away")
}

// boundWords are a role and the domains that it is bounded to.
func boundWords(role mail.Role, domains []string) string {
	if len(domains) == 0 {
		return string(role)
	}
	return string(role) + " of " + strings.Join(domains, ", ")
}

func (a operatorCommands) add() *cobra.Command {
	p := api.PersonNew{}
	role, stdin := "", false
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add somebody who administers",
		Long: "Add somebody who administers. A first password is made and shown once, or " +
			"read from standard input with --password-stdin.",
		Args: exactly(1),
		Example: "  gull operator add wren --role operator --about \"nights and weekends\"\n" +
			"  gull operator add lightwarden --role administrator --domain lightkeepers.example\n" +
			"  gull operator add accounts-office --role auditor",
		RunE: func(c *cobra.Command, args []string) error {
			if role == "" {
				return usage("--role is needed: administrator, operator, auditor or viewer")
			}
			p.Name, p.Role = args[0], mail.Role(role)
			if stdin {
				var err error
				if p.Password, err = a.readLine(); err != nil {
					return err
				}
			}
			made, err := a.client().AddPerson(c.Context(), p)
			if err != nil {
				return err
			}
			return a.madePassword(made)
		},
	}
	roleFlag(c, &role)
	domainsFlag(c, &p.Domains)
	c.Flags().StringVar(&p.About, "about", "", "who it is, or what for")
	c.Flags().
		BoolVar(&stdin, "password-stdin", false, "read the first password from standard input")
	return c
}

func (a operatorCommands) set() *cobra.Command {
	var role, about string
	var domains []string
	var off, on, password, stdin, lost bool
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Change a role, switch off or on, give a new password",
		Long: "Change a role, switch somebody off or on, or give a new password, which is " +
			"made and shown once, or read from standard input. Sessions end when somebody is " +
			"switched off or gets a new password. The last administrator stays one.",
		Args:              exactly(1),
		ValidArgsFunction: a.names,
		Example: "  gull operator set wren --role administrator\n  gull operator set wren --off\n" +
			"  gull operator set wren --password",
		RunE: func(c *cobra.Command, args []string) error {
			var ch api.PersonChange
			if c.Flags().Changed("role") {
				r := mail.Role(role)
				ch.Role = &r
			}
			if c.Flags().Changed("about") {
				ch.About = &about
			}
			if c.Flags().Changed("domain") {
				domains = slices.DeleteFunc(domains, func(d string) bool { return d == "" })
				ch.Domains = &domains
			}
			if off && on {
				return usage("--off and --on exclude each other")
			}
			if off || on {
				ch.Off = &off
			}
			if password || stdin {
				ch.Password = new(string)
			}
			if stdin {
				line, err := a.readLine()
				if err != nil {
					return err
				}
				ch.Password = &line
			}
			ch.NoSecond = lost
			if reflect.ValueOf(ch).IsZero() {
				return usage(
					"say what to change: --role, --domain, --about, --off, --on, --password or " +
						"--remove-second-factor",
				)
			}
			made, err := a.client().ChangePerson(c.Context(), args[0], ch)
			if err != nil {
				return err
			}
			return a.madePassword(made)
		},
	}
	roleFlag(c, &role)
	domainsFlag(c, &domains)
	c.Flags().StringVar(&about, "about", "", "who it is, or what for")
	c.Flags().BoolVar(&off, "off", false, "he may not sign in; his sessions end")
	c.Flags().BoolVar(&on, "on", false, "he may sign in again")
	c.Flags().BoolVar(&lost, "remove-second-factor", false, "his telephone was lost")
	c.Flags().BoolVar(&password, "password", false, "make a new password; his sessions end")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the new password from standard input")
	return c
}

func (a operatorCommands) remove() *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME",
		Short:             "Take somebody out, with his sessions",
		Args:              exactly(1),
		ValidArgsFunction: a.names,
		Example:           "  gull operator remove wren",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemovePerson(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"%s administers no longer. What he did stays on record (gull audit list --who "+
					"%s).\n",
				args[0],
				args[0],
			)
			return nil
		},
	}
}

func (a operatorCommands) sessions() *cobra.Command {
	var end int64
	var all bool
	c := &cobra.Command{
		Use:   "sessions [NAME]",
		Short: "Open sessions, your own without a name; ends them too",
		Args:  cobra.MaximumNArgs(1),
		Example: "  gull operator sessions\n  gull operator sessions wren --end 12\n" +
			"  gull operator sessions wren --end-all",
		ValidArgsFunction: a.names,
		RunE: func(c *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			if all || c.Flags().Changed("end") {
				if all {
					end = 0
				}
				if err := a.client().EndSession(c.Context(), name, end); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "Ended.")
				return nil
			}
			items, err := a.client().PersonSessions(c.Context(), name)
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.PersonSession]{
				{
					"ID",
					true,
					func(s mail.PersonSession) string { return strconv.FormatInt(s.ID, 10) },
				},
				{"WHO", false, func(s mail.PersonSession) string { return s.Name }},
				{"BEGAN", true, func(s mail.PersonSession) string { return ago(s.MadeAt) }},
				{"LAST USED", true, func(s mail.PersonSession) string { return ago(s.LastAt) }},
				{"ENDS", true, func(s mail.PersonSession) string { return ago(s.ExpiresAt) }},
				{"BY", false, func(s mail.PersonSession) string { return string(s.Way) }},
				{"FROM", false, func(s mail.PersonSession) string { return s.Client }},
				{"THIS ONE", false, func(s mail.PersonSession) string { return yes(s.Mine) }},
				{"PROGRAM", false, func(s mail.PersonSession) string { return s.Program }},
			}, "No session is open.")
		},
	}
	c.Flags().Int64Var(&end, "end", 0, "end this one")
	c.Flags().BoolVar(&all, "end-all", false, "end all of them")
	return c
}

// tokenCommands are those of gull token.
type tokenCommands struct{ *app }

func (a tokenCommands) command() *cobra.Command {
	return group("token", "Tokens that let programs in", a.list(), a.add(), a.revoke())
}

func (a tokenCommands) list() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "Tokens, their roles and last use, never their values",
		Args:    exactly(0),
		Example: "  gull token list",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().Tokens(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.Token]{
				{"ID", true, func(t mail.Token) string { return strconv.FormatInt(t.ID, 10) }},
				{"NAME", false, func(t mail.Token) string { return t.Name }},
				{"ROLE", false, func(t mail.Token) string { return boundWords(t.Role, t.Domains) }},
				{"MADE", true, func(t mail.Token) string { return ago(t.MadeAt) }},
				{"BY", false, func(t mail.Token) string { return t.MadeBy }},
				{"ENDS", true, func(t mail.Token) string {
					switch {
					case t.EndsAt.IsZero():
						return "never"
					case t.EndsAt.Before(time.Now()):
						return "has ended"
					}
					return ago(t.EndsAt.Time)
				}},
				{"LAST USED", true, func(t mail.Token) string { return last(t.LastAt.Time) }},
				{"FROM", false, func(t mail.Token) string { return dash(t.LastFrom) }},
				{"ABOUT", false, func(t mail.Token) string { return t.About }},
			}, "There is no token.")
		},
	}
}

func (a tokenCommands) add() *cobra.Command {
	t := api.TokenNew{}
	role, lasts := "", ""
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Let a program in; the token is shown once",
		Long: "Make a token. Its name says what it is for, its role what it may do. It ends " +
			"after --lasts, or is revoked; nobody can read it again.",
		Args: exactly(1),
		Example: "  gull token add backups --role auditor --lasts 30d\n" +
			"  gull token add \"ticket system\" --role operator --lasts 365d",
		RunE: func(c *cobra.Command, args []string) error {
			if role == "" {
				return usage("--role is needed: administrator, operator, auditor or viewer")
			}
			if lasts == "" {
				return usage("--lasts is needed: a time like 30d, or: for good")
			}
			t.Name, t.Role = args[0], mail.Role(role)
			if lasts != "for good" {
				d, err := form.ParseDuration(lasts)
				if err != nil {
					return usage("--lasts: %w", err)
				}
				ends := time.Now().Add(d)
				t.Ends = &ends
			}
			made, err := a.client().AddToken(c.Context(), t)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(made)
			}
			fmt.Fprintf(
				a.out,
				"\n  %s\n\nThis is the token of %s (%s). It is shown this once; programs send it as "+
					"GULL_TOKEN or as a bearer token.\n",
				made.Value,
				made.Name,
				made.Role,
			)
			return nil
		},
	}
	roleFlag(c, &role)
	domainsFlag(c, &t.Domains)
	c.Flags().StringVar(&t.About, "about", "", "where it is used")
	c.Flags().StringVar(&lasts, "lasts", "", "how long: 30d, or \"for good\"")
	return c
}

func (a tokenCommands) revoke() *cobra.Command {
	return &cobra.Command{
		Use:     "revoke ID",
		Short:   "End a token for good",
		Args:    exactly(1),
		Example: "  gull token revoke 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is no token's number; gull token list shows them", args[0])
			}
			if err := a.client().RevokeToken(c.Context(), id); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "It lets nobody in any longer.")
			return nil
		},
	}
}
