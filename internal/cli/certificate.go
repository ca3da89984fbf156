package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
)

// certificateCommands are those of gull certificate beside the settings.
type certificateCommands struct{ sectionCommands }

func (a certificateCommands) all() []*cobra.Command {
	return []*cobra.Command{a.status(), a.renew(), a.upload(), a.activate()}
}

func (a certificateCommands) print(items []api.CertificateState) error {
	return printList(a.app, items, []column[api.CertificateState]{
		{"NAME", false, func(x api.CertificateState) string { return x.Name }},
		{"STATE", false, func(x api.CertificateState) string { return x.State }},
		{"FOR", false, func(x api.CertificateState) string { return strings.Join(x.Names, ", ") }},
		{"UNTIL", false, func(x api.CertificateState) string {
			if x.Shown == nil {
				return "-"
			}
			return exact(x.Shown.Until)
		}},
		{"BY", false, func(x api.CertificateState) string {
			if x.Shown == nil {
				return "-"
			}
			return dash(x.Shown.Issuer)
		}},
		{"SHOWN BY", false, func(x api.CertificateState) string {
			return dash(strings.Join(x.UsedBy, ", "))
		}},
		{"", false, func(x api.CertificateState) string { return x.Says }},
	}, "No certificate is kept here (gull certificate add).")
}

func (a certificateCommands) status() *cobra.Command {
	return &cobra.Command{
		Use:   "status [NAME]",
		Short: "How certificates stand: until when, who shows them, what comes next",
		Long: "How the certificates that are kept here stand. With a name all that are kept " +
			"under it " +
			"are listed, with the ids that gull certificate activate takes.",
		Args:    cobra.MaximumNArgs(1),
		Example: "  gull certificate status\n  gull certificate status mail",
		RunE: func(c *cobra.Command, args []string) error {
			items, err := a.client().Certificates(c.Context())
			if err != nil || len(args) == 0 {
				if err == nil {
					err = a.print(items)
				}
				return err
			}
			for _, x := range items {
				if x.Name == args[0] {
					return a.printKept(x)
				}
			}
			return fmt.Errorf(
				"there is no certificate %s; gull certificate status lists them",
				args[0],
			)
		},
	}
}

func (a certificateCommands) printKept(x api.CertificateState) error {
	if a.format != "table" {
		return a.printValue(x)
	}
	fmt.Fprintf(a.out, "%s: %s. %s\n\n", x.Name, x.State, x.Says)
	return printList(a.app, x.Kept, []column[mail.KeptCertificate]{
		{"ID", true, func(k mail.KeptCertificate) string { return fmt.Sprint(k.ID) }},
		{"FROM", false, func(k mail.KeptCertificate) string { return exact(k.ActiveAt) }},
		{"UNTIL", false, func(k mail.KeptCertificate) string { return exact(k.Until) }},
		{"FOR", false, func(k mail.KeptCertificate) string { return strings.Join(k.Names, ", ") }},
		{"BY", false, func(k mail.KeptCertificate) string { return dash(k.Issuer) }},
		{"WHO", false, func(k mail.KeptCertificate) string { return k.Who }},
	}, "None is kept yet.")
}

func (a certificateCommands) shown(x api.CertificateState, err error) error {
	if err != nil {
		return err
	}
	if a.format != "table" {
		return a.printValue(x)
	}
	fmt.Fprintf(a.out, "%s: %s. %s\n", x.Name, x.State, x.Says)
	return nil
}

func (a certificateCommands) renew() *cobra.Command {
	return &cobra.Command{
		Use:   "renew NAME",
		Short: "Ask the authority for a certificate now",
		Long: "Ask the authority for a certificate now, and wait until it is there: at most " +
			"three " +
			"minutes. It is done by itself when two thirds of a certificate's life are over.",
		Args:    exactly(1),
		Example: "  gull certificate renew mail",
		RunE: func(c *cobra.Command, args []string) error {
			return a.shown(a.client().RenewCertificate(c.Context(), args[0]))
		},
	}
}

// fromFlag is when something begins to be shown.
func fromFlag(c *cobra.Command, text *string) {
	c.Flags().
		StringVar(text, "from", "", "when it begins to be shown, like 2026-12-01T03:00:00Z; or now")
}

func parseFrom(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, usage("--from %q: write a time like 2026-12-01T03:00:00Z", text)
	}
	return at, nil
}

func (a certificateCommands) upload() *cobra.Command {
	var chain, key, from string
	var check bool
	c := &cobra.Command{
		Use:   "upload NAME --chain FILE --key FILE",
		Short: "Keep a certificate that was made elsewhere, after checking it",
		Long: "Check a chain of certificates and its key: order, names, key, dates. Unless " +
			"something " +
			"keeps them from being used they are kept, the key encrypted, and shown now or " +
			"from a time on.",
		Args: exactly(1),
		Example: "  gull certificate upload mail --chain mail.pem --key mail.key --check\n" +
			"  gull certificate upload mail --chain mail.pem --key mail.key",
		RunE: func(c *cobra.Command, args []string) error {
			at, err := parseFrom(from)
			if err != nil {
				return err
			}
			var texts [2]string
			for i, file := range []string{chain, key} {
				text, err := os.ReadFile(file)
				if err != nil {
					return usage("--chain and --key: %w", err)
				}
				texts[i] = string(text)
			}
			x, err := a.client().
				UploadCertificate(c.Context(), args[0], texts[0], texts[1], at, check)
			if err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(x)
			}
			fmt.Fprintf(
				a.out,
				"For %s, by %s, until %s\n",
				strings.Join(x.Names, ", "),
				dash(x.Issuer),
				exact(x.Until),
			)
			for _, w := range x.Warnings {
				fmt.Fprintf(a.out, "note: %s\n", w)
			}
			for _, f := range x.Faults {
				fmt.Fprintf(a.out, "wrong: %s\n", f)
			}
			if x.Kept != nil {
				fmt.Fprintf(
					a.out,
					"Kept as %d, shown from %s.\n",
					x.Kept.ID,
					exact(x.Kept.ActiveAt),
				)
			}
			if len(x.Faults) > 0 {
				return errors.New("it cannot be used as it is")
			}
			return nil
		},
	}
	c.Flags().
		StringVar(&chain, "chain", "", "file with its certificate first, then those above it (PEM)")
	c.Flags().StringVar(&key, "key", "", "file with its key (PEM, without a password)")
	c.Flags().BoolVar(&check, "check", false, "only check it")
	fromFlag(c, &from)
	_ = c.MarkFlagRequired("chain")
	_ = c.MarkFlagRequired("key")
	return c
}

func (a certificateCommands) activate() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "activate NAME ID",
		Short: "Show one that is kept, now or from a time on",
		Long: "Show one of those that are kept under a name: a former one " +
			"again, or one that waits, now or from a time on.",
		Args:    exactly(2),
		Example: "  gull certificate activate mail 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return usage("%q is no id; gull certificate status %s has them", args[1], args[0])
			}
			at, err := parseFrom(from)
			if err != nil {
				return err
			}
			return a.shown(a.client().ActivateCertificate(c.Context(), args[0], id, at))
		},
	}
	fromFlag(c, &from)
	return c
}
