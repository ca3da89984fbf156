package cli

import (
	"encoding/json"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
)

// configurationCommands are those of gull configuration.
type configurationCommands struct{ *app }

func (a configurationCommands) command() *cobra.Command {
	return group("config", "The configuration as one text", a.configCheck(), a.configImport(),
		a.configExport(), a.configSchema())
}

func (a configurationCommands) configCheck() *cobra.Command {
	return &cobra.Command{
		Use:     "check FILE",
		Short:   "Check a configuration; needs no service and changes nothing",
		Args:    exactly(1),
		Example: "  gull config check demo/skerryline.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			parsed, err := config.Parse(text)
			if err != nil {
				return fmt.Errorf("%s is not valid:\n%w", args[0], err)
			}
			compiled := config.Compile(parsed, 0, directory.Of(parsed.Mailboxes, parsed.Aliases))
			fmt.Fprintf(
				a.out,
				"The configuration is valid: %d listeners, %d domains, %d relay rules, %d routes, "+
					"%d peers, %d mailboxes, %d aliases.\n",
				len(parsed.Listeners),
				len(parsed.Domains),
				len(parsed.RelayRules),
				len(parsed.Routes),
				len(parsed.Peers),
				len(parsed.Mailboxes),
				len(parsed.Aliases),
			)
			a.printHazards(append(compiled.Hazards(), compiled.NeverUsed()...))
			return nil
		},
	}
}

func (a configurationCommands) configSchema() *cobra.Command {
	return &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of the configuration, for editors",
		Args:    exactly(0),
		Example: "  gull config schema > config.schema.json",
		RunE: func(*cobra.Command, []string) error {
			text, err := json.MarshalIndent(config.Schema(), "", "  ")
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", text)
			}
			return err
		},
	}
}

func (a configurationCommands) configImport() *cobra.Command {
	var apply, dry bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take a whole text as the draft",
		Args:  exactly(1),
		Long: "Take a configuration's text as the draft, in place of the one there is. " +
			"Mailboxes and aliases that stand in it are added or changed when it is applied.",
		Example: "  gull config import skerryline.yaml\n  gull config import skerryline.yaml " +
			"--apply",
		RunE: func(c *cobra.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return usage("%v", err)
			}
			d, err := a.client().ImportConfig(c.Context(), args[0], string(text), dry)
			if err != nil {
				return err
			}
			if dry {
				fmt.Fprintln(a.out, "The configuration is valid. Nothing was changed.")
				return nil
			}
			if apply {
				done, err := a.client().ApplyDraft(c.Context(),
					map[string]any{"version": d.Version})
				if err != nil {
					return err
				}
				return a.applied(done)
			}
			if a.format != "table" {
				return a.printValue(d)
			}
			fmt.Fprintf(
				a.out,
				"It is the draft now, with %d changes. Next: gull draft rehearse, then gull draft "+
					"apply.\n",
				len(d.Changes),
			)
			return nil
		},
	}
	c.Flags().BoolVar(&apply, "apply", false,
		"apply it immediately, if its rehearsal finds nothing dangerous")
	c.Flags().BoolVar(&dry, "dry-run", false, "check it; change nothing")
	return c
}

func (a configurationCommands) configExport() *cobra.Command {
	var only bool
	var secrets string
	c := &cobra.Command{
		Use:   "export",
		Short: "Configuration and directory as one text, secrets removed",
		Args:  exactly(0),
		Long: "Print what is in force, in the form in which import takes it. Passwords are not " +
			"in it, unless it is written with --with-secrets to a file that only you can read.",
		Example: "  gull config export > skerryline.yaml\n  gull config export --with-secrets " +
			"everything.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			if secrets != "" {
				return a.exportSecrets(c, secrets)
			}
			t, err := a.client().Config(c.Context(), !only)
			if err != nil {
				return err
			}
			if a.format != "table" && a.format != "yaml" {
				return a.printValue(t)
			}
			_, err = fmt.Fprint(a.out, t.Text)
			return err
		},
	}
	c.Flags().BoolVar(&only, "without-directory", false, "without mailboxes and aliases")
	c.Flags().StringVar(&secrets, "with-secrets", "",
		"write everything, passwords too, to this new file")
	return c
}

func (a configurationCommands) exportSecrets(c *cobra.Command, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return usage("%v", err)
	}
	defer f.Close()
	t, err := a.client().ConfigWithSecrets(c.Context())
	if err != nil {
		_ = os.Remove(file)
		return err
	}
	if _, err := f.WriteString(t.Text); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Everything is in %s, readable by you only.\n", file)
	return nil
}
