package cli

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
)

// referenceCommands are those of gull reference.
type referenceCommands struct{ *app }

// referenceCommand prints docs/commands.md, made from the commands themselves.
func (a referenceCommands) command() *cobra.Command {
	c := &cobra.Command{
		Use:    "reference",
		Short:  "Print the reference of all commands (Markdown)",
		Args:   exactly(0),
		Hidden: true,
		RunE: func(c *cobra.Command, _ []string) error {
			fmt.Fprintf(a.out,
				"# Commands\n\nMade by `gull reference`. Every command also takes:\n\n")
			writeFlags(a.out, c.Root().PersistentFlags())
			fmt.Fprint(
				a.out,
				"\nExit codes: 0 done, 1 the service said no, 2 wrong usage, 3 could not reach or "+
					"sign in, 4 not found.\n",
			)
			writeCommands(a.out, c.Root())
			return nil
		},
	}
	c.AddCommand(a.manual())
	return c
}

// manual writes a manual page for each command, as man shows them.
func (a referenceCommands) manual() *cobra.Command {
	return &cobra.Command{
		Use:   "man DIRECTORY",
		Short: "Write the manual pages of all commands",
		Args:  exactly(1),
		RunE: func(c *cobra.Command, args []string) error {
			made := time.Now()
			if text := os.Getenv("SOURCE_DATE_EPOCH"); text != "" { // of builds that are to be the same
				seconds, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return usage("SOURCE_DATE_EPOCH: %w", err)
				}
				made = time.Unix(seconds, 0).UTC()
			}
			root := c.Root()
			root.DisableAutoGenTag = true
			return doc.GenManTree(root, &doc.GenManHeader{Title: "GULL", Section: "1", Date: &made,
				Source: "Gull Route", Manual: "Gull Route"}, args[0])
		},
	}
}

func writeCommands(w io.Writer, c *cobra.Command) {
	for _, sub := range c.Commands() {
		if sub.Hidden || sub.Name() == "help" || sub.Name() == "completion" {
			continue
		}
		if sub.HasSubCommands() {
			writeCommands(w, sub)
			if !strings.Contains(sub.Use, " ") { // it does nothing by itself
				continue
			}
		}
		fmt.Fprintf(w, "\n## %s\n\n%s.\n", sub.CommandPath(), strings.TrimSuffix(sub.Short, "."))
		if sub.Long != "" {
			fmt.Fprintf(w, "\n%s\n", sub.Long)
		}
		fmt.Fprintf(w, "\n    %s\n", sub.UseLine())
		if sub.Example != "" {
			fmt.Fprintf(w, "\nExamples:\n\n```sh\n%s\n```\n",
				strings.ReplaceAll(strings.TrimPrefix(sub.Example, "  "), "\n  ", "\n"))
		}
		if sub.LocalNonPersistentFlags().HasAvailableFlags() {
			fmt.Fprintln(w)
			writeFlags(w, sub.LocalNonPersistentFlags())
		}
	}
}

func writeFlags(w io.Writer, flags *pflag.FlagSet) {
	fmt.Fprint(w, "| option | meaning | default |\n|---|---|---|\n")
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" {
			return
		}
		value := f.DefValue
		if f.Name == "node" || value == "[]" || f.Name == "spool" { // of this machine
			value = ""
		}
		fmt.Fprintf(w, "| `--%s` | %s | %s |\n", f.Name, strings.ReplaceAll(f.Usage, "|", "\\|"),
			value)
	})
}
