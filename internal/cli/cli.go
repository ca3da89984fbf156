// Package cli is the command line: `gull serve` runs the service, everything
// else is its client.
package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gullroute/internal/client"
)

// Exit codes.
const (
	exitDone = iota
	exitRefused
	exitUsage
	exitUnreachable
	exitNotFound
)

// usageError is a wrong use of a command.
type usageError struct{ error }

// Unwrap is the cause.
func (e usageError) Unwrap() error { return e.error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// errNotFound lets a command end with the code for not found.
var errNotFound = errors.New("nothing was found")

// app is what commands share.
type app struct {
	in       io.Reader
	out, err io.Writer // for people: nothing in it acts on a terminal
	// As they are: for content, and for what asks whether it writes to a terminal.
	raw, rawErr io.Writer
	lines       *bufio.Reader // of in, once one was read
	url         string
	token       string
	context     string
	format      string
}

// Main runs a command line and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: harmless{out}, err: harmless{errOut}, raw: out, rawErr: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.Execute()
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errSaid):
		return exitRefused
	case errors.As(err, new(changedError)):
		return exitChanged
	}
	fmt.Fprintln(a.err, "gull:", err)
	return exitCode(err)
}

// errSaid ends a command with the exit code of a refusal: what is wrong was printed.
var errSaid = errors.New("it failed, as was said")

func exitCode(err error) int {
	var u usageError
	var unreachable *client.Unreachable
	var p *client.Problem
	switch {
	case errors.As(err, &u),
		strings.HasPrefix(err.Error(), "unknown command"),
		strings.HasPrefix(err.Error(), "required flag"):
		return exitUsage
	case errors.As(err, &unreachable):
		return exitUnreachable
	case errors.Is(err, errNotFound):
		return exitNotFound
	case errors.As(err, &p):
		switch p.Status {
		case 401:
			return exitUnreachable
		case 404:
			return exitNotFound
		case 422:
			if len(p.Errors) == 0 || p.Detail == "validation failed" {
				return exitUsage
			}
		}
	}
	return exitRefused
}

var formats = []string{"table", "json", "jsonl", "csv", "yaml"}

func (a *app) root() *cobra.Command {
	var utc bool
	root := &cobra.Command{
		Use:   "gull",
		Short: "Gull Route: a mail transfer server one can look into",
		Long: "Gull Route takes mail in, decides where it goes, keeps it until it is there, " +
			"and shows every step.\n\nThe service's address and your token come from --url " +
			"and --token, from GULL_URL and GULL_TOKEN, or from where you signed in last " +
			"(gull login).",
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if !slices.Contains(formats, a.format) &&
				!(a.format == "html" && c.CommandPath() == "gull report") {
				return usage("--output %q is not known; allowed: %s", a.format,
					strings.Join(formats, ", "))
			}
			if a.format != "table" { // for programs: whole values
				a.out = a.raw
			}
			if utc {
				time.Local = time.UTC
			}
			if a.context != "" {
				if _, _, err := a.server(); err != nil && c.Name() != "login" {
					return err
				}
			}
			return readEnvironment(c.Flags())
		},
	}
	root.Version = version()
	root.SetVersionTemplate("gull {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%w; see %s --help", err, c.CommandPath())
	})
	flags := root.PersistentFlags()
	flags.StringVar(&a.url, "url", "",
		"address of the service (GULL_URL); http://127.0.0.1:8480 if not given")
	flags.StringVar(&a.token, "token", "", "bearer token (GULL_TOKEN)")
	flags.StringVar(&a.context, "context", "",
		"server that you signed in at (GULL_CONTEXT); gull context list shows them")
	flags.StringVarP(&a.format, "output", "o", "table",
		"how to print: "+strings.Join(formats, ", "))
	flags.BoolVar(&utc, "utc", false,
		"read and print times in UTC, not in the zone of TZ or the machine")
	_ = root.RegisterFlagCompletionFunc("output",
		cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
	root.AddCommand(sectionCommands{a}.all()...)
	root.AddCommand(
		entryCommands{a}.aliasCommand(),
		secretCommands{a}.command(),
		changeCommands{a}.command(),
		draftCommands{a}.command(),
		revisionCommands{a}.command(),
		serveCommands{a}.command(),
		setupCommands{a}.command(),
		configurationCommands{a}.apply(),
		backupCommands{a}.backup(),
		backupCommands{a}.restore(),
		statusCommands{a}.command(),
		sendCommands{a}.command(),
		queueCommands{a}.command(),
		laneCommands{a}.command(),
		nodeCommands{a}.command(),
		upgradeCommands{a}.command(),
		scheduleCommands{a}.command(),
		traceCommands{a}.command(),
		sessionCommands{a}.command(),
		reputationCommands{a}.command(),
		heldCommands{a}.command(),
		snagCommands{a}.command(),
		probeCommands{a}.command(),
		readinessCommands{a}.command(),
		reviewCommands{a}.command(),
		bundleCommands{a}.command(),
		dkimCommands{a}.command(),
		reportCommands{a}.command(),
		logCommands{a}.command(),
		explainCommands{a}.command(),
		entryCommands{a}.mailboxCommand(),
		configurationCommands{a}.command(),
		simnetCommands{a}.command(),
		serveCommands{a}.openAPICommand(),
		referenceCommands{a}.command(),
		doctorCommands{a}.command(),
		operatorCommands{a}.command(),
		tokenCommands{a}.command(),
		auditCommands{a}.command(),
		contextCommands{a}.command(),
		loginCommands{a}.login(),
		loginCommands{a}.logout(),
		loginCommands{a}.whoami(),
		loginCommands{a}.password(),
		loginCommands{a}.second(),
		loginCommands{
			a,
		}.passkeys(),
		policyCommands{a}.command(),
		publishCommands{a}.changes(),
		feedbackCommands{a}.command(),
	)
	pauseCommands{a}.addPauses(root)
	root.InitDefaultHelpCmd()
	for _, c := range root.Commands() {
		if c.Name() == "help" {
			c.AddCommand(termsCommands{a}.command(), termsCommands{a}.rightsCommand())
		}
	}
	return root
}

// environment says that an option may come from an environment variable. Its value
// there is never shown as the default: it may hold a password.
func environment(flags *pflag.FlagSet, option, variable string) {
	_ = flags.SetAnnotation(option, "environment", []string{variable})
}

// readEnvironment sets the options that were not given and stand in the environment.
func readEnvironment(flags *pflag.FlagSet) error {
	var failed error
	flags.VisitAll(func(f *pflag.Flag) {
		for _, variable := range f.Annotations["environment"] {
			if value := os.Getenv(variable); value != "" && !f.Changed && failed == nil {
				if err := f.Value.Set(value); err != nil {
					failed = usage("%s: %w", variable, err)
				}
			}
		}
	})
	return failed
}

func (a *app) client() *client.Client {
	at, token, err := a.server()
	if err != nil { // what is given and what the environment says counts all the same
		fmt.Fprintln(a.err, "gull:", err)
		at, token = cmp.Or(
			a.url,
			os.Getenv("GULL_URL"),
			defaultURL,
		), cmp.Or(
			a.token,
			os.Getenv("GULL_TOKEN"),
		)
	}
	return client.New(at, token)
}

// group is a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{
		Use:   use,
		Short: short,
		Args:  cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("there is no command %q; see %s --help", c.CommandPath()+" "+args[0],
					c.CommandPath())
			}
			return c.Help()
		},
	}
	c.AddCommand(commands...)
	return c
}

// exactly asks for so many arguments, named in the command's use line.
func exactly(n int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%d arguments are needed and %d were given: %s", n, len(args), c.UseLine())
		}
		return nil
	}
}
