package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/user"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/mail"
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
	var provider bool
	c := &cobra.Command{
		Use:   "login",
		Short: "Sign in, and keep the session for the commands that follow",
		Long: "Sign in with your name and password. The session is kept in a file that only " +
			"you can read, under a name (--context), so that you can have several servers; " +
			"it lasts for 12 hours. The password is asked for, or read from standard input. " +
			"With --single-sign-on a link is said instead: open it in a browser on this " +
			"machine, and sign in at the provider that the server trusts. Scripts use a " +
			"token: gull token add.",
		Args: exactly(0),
		Example: "  gull login --url https://mail.skerryline.example:8480 --name keeper\n" +
			"  gull login --context skerry --name keeper < password.txt\n" +
			"  gull login --url https://mail.skerryline.example:8480 --single-sign-on",
		RunE: func(c *cobra.Command, _ []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			chosen := cmp.Or(a.context, os.Getenv("GULL_CONTEXT"))
			before := known.Contexts[cmp.Or(chosen, known.Current)]
			at := cmp.Or(a.url, os.Getenv("GULL_URL"), before.URL, defaultURL)
			var in api.SignedIn
			if provider {
				in, err = a.byProvider(c.Context(), at)
			} else {
				in, err = a.byPassword(c.Context(), at, cmp.Or(name, before.Name, ourName()))
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
			if in.MustSecond {
				fmt.Fprintln(
					a.out,
					"A second factor is asked for here, set one up now: gull second-factor on",
				)
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "your name; the one you used last if not given")
	c.Flags().
		BoolVar(&provider, "single-sign-on", false, "sign in by the server's provider, in a "+
			"browser")
	return c
}

// ourName is the name that somebody has on this machine.
func ourName() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return ""
}

// byPassword signs in by a password, and a code where one is asked for.
func (a loginCommands) byPassword(
	ctx context.Context,
	at, name string,
) (in api.SignedIn, err error) {
	password, err := a.secret("Password of " + name + " at " + at)
	if err != nil {
		return in, err
	}
	in, err = client.New(at, "").SignIn(ctx, name, password, "")
	var no *client.Problem
	if errors.As(err, &no) && strings.Contains(no.Detail, "second factor is needed") {
		code, asked := a.secret("Code of your second factor, or one for recovery")
		if asked != nil {
			return in, errors.Join(err, asked)
		}
		in, err = client.New(at, "").SignIn(ctx, name, password, code)
	}
	return in, err
}

// providerWaits is how long somebody may take at the provider.
const providerWaits = 10 * time.Minute

// whyNot says in words why single sign-on lets somebody not in.
var whyNot = map[string]string{
	"off":          "single sign-on is not set up on this server",
	"away":         "the provider does not answer",
	"no":           "the provider let you not in",
	"no-role":      "the provider gives you no role on this server; ask whoever administers it",
	"taken":        "somebody else has your name on this server; ask whoever administers it",
	"switched-off": "you are switched off on this server",
	"late":         "it took too long; try again",
}

// byProvider signs in by a browser on this machine (RFC 8252): it comes back to us on the
// loopback with a pass, which is worth something only together with what we keep to ourselves.
func (a loginCommands) byProvider(ctx context.Context, at string) (in api.SignedIn, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return in, err
	}
	defer l.Close()
	proof := rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(proof))
	answer := make(chan url.Values, 1)
	server := &http.Server{ReadHeaderTimeout: 5 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			q := r.URL.Query()
			if r.URL.Path != "/" || q.Get("pass") == "" && q.Get("refused") == "" {
				http.NotFound(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			fmt.Fprintln(w, "You can close this page: the command goes on.")
			select {
			case answer <- q:
			default:
			}
		})}
	go func() { _ = server.Serve(l) }()
	defer func() { _ = server.Close() }()
	fmt.Fprintf(
		a.err,
		"Open this in a browser on this machine:\n\n  "+
			"%s/api/v1/single-sign-on?for=program&port=%d&proof=%s\n\n",
		strings.TrimSuffix(
			at,
			"/",
		),
		l.Addr().(*net.TCPAddr).Port,
		base64.RawURLEncoding.EncodeToString(sum[:]),
	)
	select {
	case q := <-answer:
		if why := q.Get("refused"); why != "" {
			return in, usage(
				"nobody is signed in: %s",
				cmp.Or(whyNot[why], "the service's log says why"),
			)
		}
		return client.New(at, "").SignInByPass(ctx, q.Get("pass"), proof)
	case <-time.After(providerWaits):
		return in, usage("nobody came back from the provider in %s", providerWaits)
	case <-ctx.Done():
		return in, ctx.Err()
	}
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
		Long: "Choose a new password: the old one and the new one are asked for, or read as " +
			"two lines of standard input. Another's is set by gull operator set NAME " +
			"--password.",
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
		Long: "Set a second factor up. Your password is asked for, a secret is shown, to be " +
			"typed or looked at by a program on your telephone that makes codes (RFC 6238), " +
			"and its first code turns it on. Recovery codes are shown once: keep them apart " +
			"from the telephone.",
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
				"It is on. Each of these stands for a code once, if the telephone is "+
					"lost:\n\n  %s\n",
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

// passkeys are gull passkey's. A new one is made in a browser, which alone can ask for it.
func (a loginCommands) passkeys() *cobra.Command {
	list := &cobra.Command{
		Use:     "list",
		Short:   "Your passkeys",
		Args:    exactly(0),
		Example: "  gull passkey list",
		RunE: func(c *cobra.Command, _ []string) error {
			items, err := a.client().Passkeys(c.Context())
			if err != nil {
				return err
			}
			return printList(a.app, items, []column[mail.Passkey]{
				{"ID", false, func(p mail.Passkey) string { return p.ID }},
				{"NAME", false, func(p mail.Passkey) string { return p.Name }},
				{"MADE", true, func(p mail.Passkey) string { return ago(p.MadeAt) }},
				{"LAST SIGN-IN", true, func(p mail.Passkey) string { return last(p.LastAt.Time) }},
			}, "You have none. Make one on your account's page in the console.")
		},
	}
	remove := &cobra.Command{
		Use:     "remove ID",
		Short:   "Take one away; your password is asked for",
		Args:    exactly(1),
		Example: "  gull passkey remove 5d4f0c",
		RunE: func(c *cobra.Command, args []string) error {
			password, err := a.secret("Password")
			if err != nil {
				return err
			}
			if err := a.client().RemovePasskey(c.Context(), args[0], password); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "It opens this server no more.")
			return nil
		},
	}
	return group(
		"passkey",
		"Keys in telephones, computers and sticks, with which you sign in",
		list,
		remove,
	)
}
