package cli

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gullroute/internal/api"
	"gullroute/internal/core/tuning"
)

// doctorCommands are those of gull doctor.
type doctorCommands struct{ *app }

func (a doctorCommands) command() *cobra.Command {
	var memory string
	database := &cobra.Command{
		Use:   "database",
		Short: "What to change on the database server, and why",
		Args:  exactly(0),
		Long: "Look at how PostgreSQL is set up and how it does: what would lose mail, what " +
			"would stop the service one day, and what makes it slower than its machine is, " +
			"each with the " +
			"statement that changes " +
			"it. Nothing is changed. The memory of the server is this machine's if it runs " +
			"here; else say it with " +
			"--memory. The exit code is 1 if something loses mail or stops the service.",
		Example: "  gull doctor database\n  gull doctor database --memory 64GB",
		RunE: func(c *cobra.Command, _ []string) error {
			octets, err := parseMemory(memory)
			if err != nil {
				return err
			}
			check, err := a.client().DoctorDatabase(c.Context(), octets)
			if err != nil {
				return err
			}
			switch a.format {
			case "table":
				a.printCheck(check)
			case "csv", "jsonl":
				err = printList(a.app, check.Findings, nil, "")
			default:
				err = a.printValue(check)
			}
			if err != nil {
				return err
			}
			for _, f := range check.Findings {
				if f.Severity != tuning.Slow {
					return errSaid
				}
			}
			return nil
		},
	}
	database.Flags().StringVar(&memory, "memory", "", "memory of the database server: 16GB, 512MB")
	c := group(
		"doctor",
		"Look at all that the service runs on, and say what to do",
		database,
		a.upkeep(),
		a.ports(),
	)
	c.Args = exactly(0)
	c.Long = "Look at all that the node which answers runs on: memory, descriptors, disks and " +
		"when they are " +
		"full, the clock, the database, name servers, our names, each listener as others " +
		"reach it, versions. " +
		"What is wrong comes first, with what to do. If the service does not answer, what can " +
		"be looked at " +
		"without it. The exit code is 1 if something is bad; nothing is changed."
	c.Example = "  gull doctor\n  gull doctor -o json\n  gull doctor ports mail.skerryline.example"
	c.RunE = func(c *cobra.Command, _ []string) error { return a.everything(c) }
	return c
}

var memoryForm = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?)\s*([MGT])i?B?$`)

// parseMemory reads a size of memory into octets; "" is 0, not known.
func parseMemory(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	m := memoryForm.FindStringSubmatch(strings.ToUpper(text))
	if m == nil {
		return 0, usage("--memory %q is no size of memory: write 512MB, 16GB or 1TB", text)
	}
	n, _ := strconv.ParseFloat(m[1], 64)
	octets := n * float64(
		map[string]int64{"M": tuning.MB, "G": tuning.GB, "T": 1024 * tuning.GB}[m[2]],
	)
	if octets < float64(64*tuning.MB) || octets > math.MaxInt64/2 {
		return 0, usage("--memory %s: no database server has that", text)
	}
	return int64(octets), nil
}

func (a doctorCommands) printCheck(check api.DatabaseCheck) {
	w := a.out
	memory := "its memory is not known, so nothing is said about it: --memory 16GB"
	if check.Memory > 0 {
		memory = fmt.Sprintf("%.1f GB of memory", float64(check.Memory)/float64(tuning.GB))
		if check.Here {
			memory += ", this machine's"
		}
	}
	if len(check.Findings) == 0 {
		fmt.Fprintf(w, "The database server is set up well (%s).\n", memory)
		return
	}
	fmt.Fprintf(w, "The database server: %s.\n\n", memory)
	restart := false
	for _, f := range check.Findings {
		now := f.Now
		if f.Better != "" {
			now += ", better " + f.Better
		}
		fmt.Fprintf(
			w,
			"%-10s  %s: %s\n            why  %s\n            do   %s%s\n\n",
			f.Severity,
			f.What,
			now,
			f.Why,
			f.Do,
			map[bool]string{true: ", then restart PostgreSQL"}[f.Restart],
		)
		restart = restart || f.Better != "" && !f.Restart
	}
	if restart {
		fmt.Fprintln(w, "What needs no restart takes effect with SELECT pg_reload_conf().")
	}
}
