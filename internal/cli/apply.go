package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"reflect"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/config"
)

// exitChanged is what gull apply --exit-code ends with if something was changed, or would be.
const exitChanged = 10

// changedError ends the command with exitChanged; everything was said.
type changedError struct{}

func (changedError) Error() string { return "changed" }

// applyOrder is what gull apply is to do.
type applyOrder struct {
	file, why       string
	check, exitCode bool
}

// appliedFile is what gull apply did, for programs.
type appliedFile struct {
	Changed  bool   `json:"changed"`
	Revision int    `json:"revision" doc:"That is in force now"`
	Changes  int    `json:"changes"`
	Diff     string `json:"diff,omitempty"`
	// Entries are mailboxes and aliases that stand otherwise in the file.
	Entries []string `json:"entries,omitempty"`
}

// apply brings the configuration into the state of a file that is kept elsewhere.
func (a configurationCommands) apply() *cobra.Command {
	var o applyOrder
	c := &cobra.Command{
		Use:   "apply -f FILE",
		Short: "Bring the configuration into the state of a file, if it is not in it",
		Args:  exactly(0),
		Long: "For configurations that are kept in a repository: compare the file with what " +
			"is in force, rehearse the difference, and apply it. Where nothing differs " +
			"nothing happens, so that it may run as often as one likes. A draft that " +
			"somebody works on is not touched: then it is refused. What the rehearsal finds " +
			"dangerous is not applied. With --check nothing is changed. The exit code is 0 " +
			"when all is well; with --exit-code it is 10 if something was changed, or would " +
			"be.",
		Example: "  gull apply -f skerryline.yaml --check --exit-code\n" +
			"  gull apply -f skerryline.yaml --why \"$(git log -1 --format=%s)\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if o.file == "" {
				return usage("say which file with -f")
			}
			return a.applyFile(c, &o)
		},
	}
	c.Flags().StringVarP(&o.file, "file", "f", "", "the configuration; - reads standard input")
	c.Flags().StringVar(&o.why, "why", "", "the reason, for the record")
	c.Flags().BoolVar(&o.check, "check", false, "say what would change; change nothing")
	c.Flags().BoolVar(&o.exitCode, "exit-code", false, "end with 10 if something was changed, "+
		"or would be")
	return c
}

func (a configurationCommands) applyFile(c *cobra.Command, o *applyOrder) error {
	ctx := c.Context()
	text, err := a.readFile(o.file)
	if err != nil {
		return usage("%v", err)
	}
	there, err := a.client().Draft(ctx, false)
	if err != nil {
		return err
	}
	if there.Exists {
		who := "somebody"
		if n := len(there.Log); n > 0 {
			who = there.Log[n-1].Who
		}
		return fmt.Errorf(
			"there is a draft that %s works on: apply or discard it first (gull draft show)",
			who,
		)
	}
	d, err := a.client().ImportConfig(ctx, o.file, string(text), false)
	if err != nil {
		return err
	}
	discard := func() error { return a.discardOwn(ctx, d.Version) }
	entries, err := a.entriesThatDiffer(ctx, text)
	if err != nil {
		return errors.Join(err, discard())
	}
	if len(d.Changes)+len(entries) == 0 {
		if err := discard(); err != nil {
			return err
		}
		return a.told(
			appliedFile{Revision: d.InForce},
			"Nothing differs from revision %d.\n",
			d.InForce,
		)
	}
	with, err := a.client().Draft(ctx, true)
	if err != nil {
		return err
	}
	out := appliedFile{Changed: true, Revision: d.InForce, Changes: len(d.Changes) + len(entries),
		Diff: with.YAML, Entries: entries}
	if a.format == "table" {
		_, _ = io.WriteString(a.out, with.YAML)
		for _, e := range entries {
			fmt.Fprintf(a.out, "~ %s\n", e)
		}
	}
	r, err := a.client().Rehearse(ctx, 5000, func(client.Progress) {})
	if err != nil {
		return errors.Join(err, discard())
	}
	if len(r.Blocks) > 0 {
		if err := discard(); err != nil {
			return err
		}
		draftCommands(a).printReport(r)
		return errors.New("it is dangerous and was not applied; nothing was changed")
	}
	if o.check {
		if err := discard(); err != nil {
			return err
		}
		if err := a.told(out, "%d changes would be made; %d of %d recipients would be decided "+
			"differently.\n",
			out.Changes, r.Changed, r.Recipients); err != nil {
			return err
		}
		return o.ended()
	}
	done, err := a.client().ApplyDraft(ctx, map[string]any{"version": d.Version, "why": o.why})
	if err != nil {
		return errors.Join(err, discard())
	}
	return a.sayApplied(done, out, o)
}

// entriesThatDiffer are the mailboxes and aliases of a file that the directory has otherwise or not at
// all; those that only the directory has stay, and passwords are not compared.
func (a configurationCommands) entriesThatDiffer(
	ctx context.Context,
	text []byte,
) ([]string, error) {
	file, err := config.Parse(text)
	if err != nil || len(file.Mailboxes)+len(file.Aliases) == 0 {
		return nil, err
	}
	whole, err := a.client().Config(ctx, true)
	if err != nil {
		return nil, err
	}
	there, err := config.Parse([]byte(whole.Text))
	if err != nil {
		return nil, err
	}
	known := map[string]map[string]any{}
	for i := range there.Mailboxes {
		known["mailbox "+there.Mailboxes[i].Address.Key()] = there.Mailboxes[i].Fields()
	}
	for i := range there.Aliases {
		known["alias "+there.Aliases[i].Address.Key()] = there.Aliases[i].Fields()
	}
	var out []string
	look := func(name string, fields map[string]any) {
		if !reflect.DeepEqual(known[name], fields) {
			out = append(out, name)
		}
	}
	for i := range file.Mailboxes {
		look("mailbox "+file.Mailboxes[i].Address.Key(), file.Mailboxes[i].Fields())
	}
	for i := range file.Aliases {
		look("alias "+file.Aliases[i].Address.Key(), file.Aliases[i].Fields())
	}
	return out, nil
}

// discardOwn forgets the draft that was made of the file, unless somebody went on with it.
func (a configurationCommands) discardOwn(ctx context.Context, version int64) error {
	d, err := a.client().Draft(ctx, false)
	if err != nil || !d.Exists {
		return err
	}
	if d.Version != version {
		return errors.New(
			"somebody changed the draft meanwhile; it was left as it is (gull draft show)",
		)
	}
	return a.client().DiscardDraft(ctx)
}

// sayApplied says what an apply did.
func (a configurationCommands) sayApplied(done api.Applied, out appliedFile, o *applyOrder) error {
	out.Revision = done.Revision
	if a.format != "table" {
		if err := a.printValue(out); err != nil {
			return err
		}
		return o.ended()
	}
	if err := a.applied(done); err != nil {
		return err
	}
	return o.ended()
}

func (o *applyOrder) ended() error {
	if o.exitCode {
		return changedError{}
	}
	return nil
}

func (a configurationCommands) told(v appliedFile, format string, args ...any) error {
	if a.format != "table" {
		return a.printValue(v)
	}
	_, err := fmt.Fprintf(a.out, format, args...)
	return err
}
