package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/machine"
	"gullroute/internal/engine/outside"
	"gullroute/internal/node"
)

// everything is gull doctor: all that the node which answers runs on.
func (a doctorCommands) everything(c *cobra.Command) error {
	d, err := a.client().Doctor(c.Context())
	var away *client.Unreachable
	var problem *client.Problem
	if errors.As(err, &away) || errors.As(err, &problem) && problem.Status >= 500 {
		return a.withoutService(c.Context(), err) // it is not there, or its database is not
	}
	if err != nil {
		return err
	}
	return a.say(d)
}

// say prints checks; the exit code is 1 if something is bad.
func (a doctorCommands) say(d api.Doctor) error {
	switch a.format {
	case "table":
		a.printDoctor(d)
	case "csv", "jsonl":
		if err := printList(a.app, d.Checks, nil, ""); err != nil {
			return err
		}
	default:
		if err := a.printValue(d); err != nil {
			return err
		}
	}
	if d.Worst == machine.Bad {
		return errSaid
	}
	return nil
}

func (a doctorCommands) printDoctor(d api.Doctor) {
	well := 0
	for _, c := range d.Checks {
		if c.State == machine.Well {
			well++
			continue
		}
		fmt.Fprintf(a.out, "%-8s %s: %s\n", c.State, c.What, c.Found)
		if c.Fix != "" {
			fmt.Fprintf(a.out, "         do  %s\n", c.Fix)
		}
	}
	if well < len(d.Checks) {
		fmt.Fprintln(a.out)
	}
	if well == 0 {
		return
	}
	printTable(a.out, slices.DeleteFunc(
		slices.Clone(d.Checks),
		func(c machine.Examined) bool { return c.State != machine.Well },
	), []column[machine.Examined]{
		{"WELL", false, func(c machine.Examined) string { return c.Area }},
		{"", false, func(c machine.Examined) string { return c.What }},
		{"FOUND", false, func(c machine.Examined) string { return c.Found }},
	})
	fmt.Fprintf(a.out, "\n%d of %d are well.\n", well, len(d.Checks))
}

// envFile is where the package keeps how the service is begun.
const envFile = "/etc/gull/" + settingsFile

// withoutService looks at what can be looked at while the service does not answer.
func (a doctorCommands) withoutService(ctx context.Context, why error) error {
	d := api.Doctor{Worst: machine.Bad}
	add := func(what string, s machine.State, found, fix string) {
		d.Checks = append(
			d.Checks,
			machine.Examined{Area: "service", What: what, State: s, Found: found, Fix: fix},
		)
	}
	add(
		"service",
		machine.Bad,
		why.Error(),
		"systemctl status gull; journalctl -u gull -n 50 has its last words",
	)
	database := os.Getenv("GULL_DATABASE_URL")
	if info, err := os.Stat(envFile); err == nil {
		if info.Mode().Perm()&0o007 != 0 {
			add(
				envFile,
				machine.Look,
				"others may read it, and the database's password may stand in it",
				"chmod o= "+envFile,
			)
		}
		text, err := os.ReadFile(envFile)
		if err != nil {
			add(envFile, machine.Unknown, err.Error(), "run this as root")
		}
		for line := range strings.Lines(string(text)) {
			if v, ok := strings.CutPrefix(strings.TrimSpace(line), "GULL_DATABASE_URL="); ok &&
				database == "" {
				database = strings.Trim(v, `"'`)
			}
		}
	}
	if database == "" {
		add("database", machine.Unknown, "where it is, is not known here", "say GULL_DATABASE_URL")
		return a.say(d)
	}
	u, err := node.LookAtUpgrade(ctx, database)
	switch {
	case err != nil:
		add("database", machine.Bad, err.Error(), "start PostgreSQL, or repair the way to it")
	case u.Schema.WorksFrom > u.Schema.Known:
		add("schema", machine.Bad, u.Against[0], "gull upgrade check")
	default:
		add(
			"database",
			machine.Well,
			fmt.Sprintf("answers, schema %d, %s", u.Schema.There, octets(u.Octets)),
			"",
		)
	}
	return a.say(d)
}

// ports is gull doctor ports.
func (a doctorCommands) ports() *cobra.Command {
	var only []string
	var rootsFile, name string
	c := &cobra.Command{
		Use:   "ports HOST",
		Short: "Look at a server as strangers see it, from where this runs",
		Args:  exactly(1),
		Long: "Run it elsewhere than on the server, best outside of its network: it needs " +
			"neither service " +
			"nor sign-in. Of each port: does it answer, is TLS offered with a certificate " +
			"that holds, are " +
			"passwords taken over TLS only, and at port 25: does it relay for strangers. The " +
			"exit code is 1 if " +
			"something is bad.",
		Example: "  gull doctor ports mail.skerryline.example\n" +
			"  gull doctor ports mail.skerryline.example --only smtp,imaps\n" +
			"  gull doctor ports 127.0.0.1 --only smtp:2530 --name mail.skerryline.example " +
			"--roots var/ca.pem",
		RunE: func(c *cobra.Command, args []string) error {
			roots, err := readRoots(rootsFile)
			if err != nil {
				return err
			}
			list, err := protocols(only)
			if err != nil {
				return err
			}
			d := api.Doctor{Checks: make([]machine.Examined, len(list))}
			done := make(chan struct{})
			for i, p := range list {
				go func() {
					d.Checks[i] = outside.Look(
						c.Context(),
						args[0],
						cmp.Or(name, args[0]),
						p,
						roots,
					)
					done <- struct{}{}
				}()
			}
			for range list {
				<-done
			}
			d.Worst = machine.Worst(d.Checks)
			return a.say(d)
		},
	}
	c.Flags().
		StringSliceVar(&only, "only", nil, "of these: smtp, submission, submissions, imap, imaps, pop3, "+
			"pop3s; smtp:2530 for another port")
	c.Flags().StringVar(&name, "name", "", "that the certificates must have, if HOST is an address")
	c.Flags().
		StringVar(&rootsFile, "roots", "", "certificates by which those of the server are verified; the "+
			"system's if not given")
	return c
}

func protocols(only []string) ([]outside.Protocol, error) {
	if len(only) == 0 {
		return outside.Protocols, nil
	}
	var list []outside.Protocol
	for _, text := range only {
		name, port, given := strings.Cut(text, ":")
		at := slices.IndexFunc(
			outside.Protocols,
			func(p outside.Protocol) bool { return p.Name == name },
		)
		if at < 0 {
			return nil, usage(
				"--only %s: there are smtp, submission, submissions, imap, imaps, pop3 and pop3s",
				text,
			)
		}
		p := outside.Protocols[at]
		if given {
			if _, err := net.LookupPort("tcp", port); err != nil {
				return nil, usage("--only %s: %q is no port", text, port)
			}
			p.Port = port
		}
		list = append(list, p)
	}
	return list, nil
}
