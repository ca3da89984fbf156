package cli

import (
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/user"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gullroute/internal/client"
)

// loginCommands are gull login, logout, whoami and password.
type loginCommands struct{ *app }

// secret asks for something that is not shown while it is typed, or reads a line of standard
// input where nobody can be asked.
func (a *app) secret(what string) (string, error) {
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return a.readLine()
	}
	fmt.Fprintf(a.err, "%s: ", what)
	typed, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.err)
	if err == nil && len(typed) == 0 {
		err = usage("nothing was typed")
	}
	return string(typed), err
}

func (a loginCommands) login() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "login",
		Short: "Sign in, and keep the session for the commands that follow",
		Long: "Sign in with your name and password. The session is kept in a file that only you can " +
			"read, under a name (--context), so that you can have several servers; it lasts for 12 hours. " +
			"The password is asked for, or read from standard input. Scripts use a token: gull token add.",
		Args: exactly(0),
		Example: "  gull login --url https://mail.skerryline.example:8480 --name keeper\n" +
			"  gull login --context skerry --name keeper < password.txt",
		RunE: func(c *cobra.Command, _ []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			chosen := cmp.Or(a.context, os.Getenv("GULL_CONTEXT"))
			before := known.Contexts[cmp.Or(chosen, known.Current)]
			at := cmp.Or(a.url, os.Getenv("GULL_URL"), before.URL, defaultURL)
			if name == "" {
				if name = before.Name; name == "" {
					if u, err := user.Current(); err == nil {
						name = u.Username
					}
				}
			}
			password, err := a.secret("Password of " + name + " at " + at)
			if err != nil {
				return err
			}
			in, err := client.New(at, "").SignIn(c.Context(), name, password, "")
			var no *client.Problem
			if errors.As(err, &no) && strings.Contains(no.Detail, "second factor is needed") {
				code, asked := a.secret("Code of your second factor, or one for recovery")
				if asked != nil {
					return errors.Join(err, asked)
				}
				in, err = client.New(at, "").SignIn(c.Context(), name, password, code)
			}
			if err != nil {
				return err
			}
			to := serverContext{URL: at, Name: in.Name, Token: in.Token}
			if in.Ends != nil {
				to.Ends = *in.Ends
			}
			known.Current = cmp.Or(chosen, contextName(at))
			known.Contexts[known.Current] = to
			if err := known.write(); err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"Signed in at %s as %s (%s) until %s, as context %s.\n",
				at,
				in.Name,
				in.Role,
				exact(to.Ends),
				known.Current,
			)
			if in.MustChange {
				fmt.Fprintln(a.out, "Choose a new password now: gull password")
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "your name; the one you used last if not given")
	return c
}

// contextName is what a context is called if nobody names it.
func contextName(at string) string {
	if u, err := url.Parse(at); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return "default"
}

func (a loginCommands) logout() *cobra.Command {
	return &cobra.Command{
		Use:     "logout",
		Short:   "End the session that gull login began",
		Args:    exactly(0),
		Example: "  gull logout",
		RunE: func(c *cobra.Command, _ []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			name := cmp.Or(a.context, os.Getenv("GULL_CONTEXT"), known.Current)
			at, ok := known.Contexts[name]
			if !ok || at.Token == "" {
				return usage("you are not signed in; see gull context list")
			}
			gone := client.New(at.URL, at.Token).SignOut(c.Context())
			at.Token, at.Ends = "", time.Time{}
			known.Contexts[name] = at
			if err := known.write(); err != nil {
				return err
			}
			var away *client.Unreachable
			if errors.As(gone, &away) {
				fmt.Fprintf(a.err, "The session is forgotten here; %v\n", gone)
				return nil
			}
			fmt.Fprintf(a.out, "Signed out at %s.\n", at.URL)
			return nil
		},
	}
}

func (a loginCommands) whoami() *cobra.Command {
	return &cobra.Command{
		Use:     "whoami",
		Short:   "Which server commands go to, and as whom",
		Args:    exactly(0),
		Example: "  gull whoami",
		RunE: func(c *cobra.Command, _ []string) error {
			at, _, err := a.server()
			if err != nil {
				return err
			}
			me, err := a.client().Me(c.Context())
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(
					map[string]any{
						"url":     at,
						"name":    me.Name,
						"role":    me.Role,
						"domains": me.Domains,
						"program": me.Program,
					},
				)
			}
			kind := ""
			if me.Program {
				kind = ", by a token"
			}
			fmt.Fprintf(
				a.out,
				"%s (%s) at %s%s\n",
				me.Name,
				boundWords(me.Role, me.Domains),
				at,
				kind,
			)
			return nil
		},
	}
}

func (a loginCommands) password() *cobra.Command {
	return &cobra.Command{
		Use:   "password",
		Short: "Choose a new password of your own; all your other sessions end",
		Long: "Choose a new password: the old one and the new one are asked for, or read as two lines of " +
			"standard input. Another's is set by gull operator set NAME --password.",
		Args:    exactly(0),
		Example: "  gull password",
		RunE: func(c *cobra.Command, _ []string) error {
			old, err := a.secret("Old password")
			if err != nil {
				return err
			}
			chosen, err := a.secret("New password")
			if err != nil {
				return err
			}
			if a.asks() {
				again, err := a.secret("Once more")
				if err != nil {
					return err
				}
				if again != chosen {
					return usage("the two are not the same; nothing was changed")
				}
			}
			if err := a.client().ChangePassword(c.Context(), old, chosen); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Your password is changed. All your other sessions have ended.")
			return nil
		},
	}
}

// second are gull second-factor's.
func (a loginCommands) second() *cobra.Command {
	on := &cobra.Command{
		Use:   "on",
		Short: "Set one up: a secret for a program that makes codes, then its first code",
		Long: "Set a second factor up. Your password is asked for, a secret is shown, to be typed or looked at by " +
			"a program on your telephone that makes codes (RFC 6238), and its first code turns it on. Recovery " +
			"codes are shown once: keep them apart from the telephone.",
		Args:    exactly(0),
		Example: "  gull second-factor on",
		RunE: func(c *cobra.Command, _ []string) error {
			password, err := a.secret("Password")
			if err != nil {
				return err
			}
			x, err := a.client().BeginSecond(c.Context(), password)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "secret   %s\naddress  %s\n\n", x.Secret, x.URI)
			code, err := a.secret("Its first code")
			if err != nil {
				return err
			}
			recovery, err := a.client().ConfirmSecond(c.Context(), code)
			if err != nil {
				return err
			}
			fmt.Fprintf(
				a.out,
				"It is on. Each of these stands for a code once, if the telephone is lost:\n\n  %s\n",
				strings.Join(recovery.Codes, "\n  "),
			)
			return nil
		},
	}
	off := &cobra.Command{
		Use:     "off",
		Short:   "Take it away",
		Args:    exactly(0),
		Example: "  gull second-factor off",
		RunE: func(c *cobra.Command, _ []string) error {
			password, err := a.secret("Password")
			if err != nil {
				return err
			}
			if err := a.client().RemoveSecond(c.Context(), password); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "You sign in with your password alone.")
			return nil
		},
	}
	show := &cobra.Command{
		Use:     "show",
		Short:   "Whether you have one",
		Args:    exactly(0),
		Example: "  gull second-factor show",
		RunE: func(c *cobra.Command, _ []string) error {
			x, err := a.client().Second(c.Context())
			if err != nil {
				return err
			}
			switch {
			case a.format != "table":
				return a.printValue(x)
			case x.On:
				fmt.Fprintf(a.out, "It is on; %d recovery codes are left.\n", x.Recovery)
			default:
				fmt.Fprintln(a.out, "You have none: gull second-factor on")
			}
			return nil
		},
	}
	return group("second-factor", "A code from your telephone besides the password", show, on, off)
}
