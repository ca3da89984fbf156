package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"gullroute/internal/core/config"
	"gullroute/internal/node"
)

// setupCommands are gull setup: what a server begins with, on this machine.
type setupCommands struct{ *app }

// answers are those of gull setup.
type answers struct {
	config.Beginning `yaml:",inline"`
	Database         string `yaml:"database"` // "" makes one on this machine
	Console          string `yaml:"console"`
}

// The names that the package uses.
const (
	serviceUser  = "gull"
	socketURL    = "postgres:///gull?host=/var/run/postgresql&user=gull"
	beginFile    = "begin.yaml"
	settingsFile = "gull.env"
)

func (a setupCommands) command() *cobra.Command {
	var file, directory string
	var dry bool
	c := &cobra.Command{
		Use:   "setup",
		Short: "Begin a server on this machine: database, settings, first configuration",
		Long: "Ask for what a server begins with, or read the answers from a file, and do " +
			"what is not done yet: a role and a database in PostgreSQL on this machine (or " +
			"take the address of one), the settings of the service in /etc/gull, a first " +
			"configuration, and start the service where systemd runs. It may be run again: " +
			"what is there stays. At the end it says what is left to do.\n\nThe file of " +
			"answers is YAML: host_name, domain, postmaster, networks, smarthost, authority, " +
			"agreed, listen, database, console.",
		Example: "  gull setup\n  gull setup --answers shore.yaml\n  gull setup --answers " +
			"shore.yaml --dry-run",
		Args: exactly(0),
		RunE: func(c *cobra.Command, _ []string) error {
			x, err := a.answers(file)
			if err != nil {
				return err
			}
			if err := x.Check(); err != nil {
				return usage("%w", err)
			}
			if !onLoopback(x.Console) {
				return usage("console: %s is not on loopback: begin there, and open it when it has a "+
					"certificate (GULL_OPTIONS, --tls-cert)", x.Console)
			}
			if dry {
				fmt.Fprint(a.out, x.Text())
				return nil
			}
			return a.carryOut(c.Context(), x, directory)
		},
	}
	c.Flags().StringVar(&file, "answers", "", "YAML file with the answers; nothing is asked then")
	c.Flags().
		StringVar(&directory, "directory", "/etc/gull", "where settings and first configuration go")
	c.Flags().BoolVar(&dry, "dry-run", false, "print the first configuration; change nothing")
	return c
}

// answers reads them, or asks.
func (a setupCommands) answers(file string) (*answers, error) {
	host, _ := os.Hostname()
	if out, err := exec.Command("hostname", "--fqdn").Output(); err == nil {
		host = strings.TrimSpace(string(out))
	}
	x := &answers{
		Beginning: config.Beginning{HostName: host, Listen: "::"},
		Console:   "127.0.0.1:8480",
	}
	if file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		d := yaml.NewDecoder(bytes.NewReader(text))
		d.KnownFields(true)
		if err := d.Decode(x); err != nil {
			return nil, usage(
				"%s: %s; allowed: host_name, domain, postmaster, networks, smarthost, authority, "+
					"agreed, listen, database, console",
				file,
				strings.NewReplacer("yaml: ", "", "unmarshal errors:\n  ", "",
					" in type cli.answers", "").Replace(err.Error()),
			)
		}
		x.fill()
		return x, nil
	}
	var networks, agreed string
	for _, q := range []struct {
		ask  string
		into *string
	}{
		{"Name of this mail host, as others see it", &x.HostName},
		{"Your domain", &x.Domain},
		{"Postmaster", &x.Postmaster},
		{"Networks of machines that send without sign-in (192.0.2.0/24, empty for none)", &networks},
		{"Smart host that sends on (empty: straight to the world)", &x.Smarthost},
		{"Authority for certificates, its ACME directory (empty: by hand later)", &x.Authority},
		{"Address of the database (empty: made on this machine)", &x.Database},
		{"Console and API listen at", &x.Console},
	} {
		if err := a.ask(q.ask, q.into); err != nil {
			return nil, err
		}
		x.fill()
	}
	x.Networks = strings.FieldsFunc(networks, func(r rune) bool { return r == ',' || r == ' ' })
	if x.Authority != "" {
		if err := a.ask("Do you agree to its terms? (yes or no)", &agreed); err != nil {
			return nil, err
		}
		x.Agreed = strings.HasPrefix(strings.ToLower(agreed), "y")
	}
	return x, nil
}

// fill gives what was not said from what was.
func (x *answers) fill() {
	if x.Domain == "" {
		if _, rest, ok := strings.Cut(x.HostName, "."); ok && strings.Contains(rest, ".") {
			x.Domain = rest
		}
	}
	if x.Postmaster == "" && x.Domain != "" {
		x.Postmaster = "keeper@" + x.Domain
	}
}

// ask asks one question; an empty line takes what stands there.
func (a setupCommands) ask(question string, into *string) error {
	if *into != "" {
		question += " [" + *into + "]"
	}
	fmt.Fprintf(a.err, "%s: ", question)
	line, err := a.readLine()
	if err != nil {
		return usage("nothing was answered: give --answers FILE where nobody can be asked")
	}
	if line = strings.TrimSpace(line); line != "" {
		*into = line
	}
	return nil
}

// done says a step.
func (a setupCommands) done(format string, args ...any) {
	fmt.Fprintf(a.out, "  "+format+"\n", args...)
}

func (a setupCommands) carryOut(ctx context.Context, x *answers, directory string) error {
	fmt.Fprintf(a.out, "%s\n", x.HostName)
	database := x.Database
	if database == "" {
		if err := a.makeDatabase(ctx); err != nil {
			return err
		}
		database = socketURL
	}
	if err := os.MkdirAll(directory, 0o755); err != nil {
		return err
	}
	begin := filepath.Join(directory, beginFile)
	switch there, err := os.ReadFile(begin); {
	case err == nil && string(there) != x.Text():
		a.done("configuration  %s is there and differs: it stays", begin)
	case err == nil:
		a.done("configuration  %s, as before", begin)
	default:
		if err := os.WriteFile(begin, []byte(x.Text()), 0o644); err != nil {
			return err
		}
		a.done("configuration  %s", begin)
	}
	if err := a.settings(filepath.Join(directory, settingsFile), map[string]string{
		"GULL_DATABASE_URL": database, "GULL_HTTP": x.Console, "GULL_OPTIONS": x.options(begin)}); err != nil {
		return err
	}
	link, err := a.begin(ctx, x, database, directory)
	if err != nil {
		return err
	}
	a.next(x, link)
	return nil
}

// options are further ones of gull serve.
func (x *answers) options(begin string) string {
	options := "--config " + begin
	if x.Authority != "" {
		options += " --proofs [::]:80"
	}
	return options
}

// makeDatabase makes role and database in PostgreSQL on this machine, as its superuser: a role with
// the rights of the owner of its database and no others.
func (a setupCommands) makeDatabase(ctx context.Context) error {
	if os.Geteuid() != 0 {
		return usage("the database is made as root (or name one: database); by hand: " +
			"runuser -u postgres -- createuser gull; runuser -u postgres -- createdb --owner " +
			"gull gull")
	}
	as := func(args ...string) (string, error) {
		c := exec.CommandContext(
			ctx,
			"runuser",
			append([]string{"-u", "postgres", "--"}, args...)...)
		c.Dir = "/"
		out, err := c.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
		}
		return strings.TrimSpace(string(out)), err
	}
	if _, err := user.Lookup("postgres"); err != nil {
		return errors.New(
			"PostgreSQL is not on this machine: apt install postgresql, or name a database " +
				"elsewhere",
		)
	}
	if err := a.unless(as, "role", "SELECT 1 FROM pg_roles WHERE rolname = 'gull'",
		"createuser", "gull"); err != nil {
		return err
	}
	return a.unless(as, "database", "SELECT 1 FROM pg_database WHERE datname = 'gull'",
		"createdb", "--owner", "gull", "gull")
}

// unless makes something if a question to the database does not find it.
func (a setupCommands) unless(
	as func(...string) (string, error),
	what, question string,
	command ...string,
) error {
	there, err := as("psql", "-tAc", question)
	if err != nil {
		return fmt.Errorf("PostgreSQL does not answer: %w", err)
	}
	if there == "1" {
		a.done("%-14s gull is there", what)
		return nil
	}
	if _, err := as(command...); err != nil {
		return err
	}
	a.done("%-14s gull made", what)
	return nil
}

// settings sets those that have no value yet; what somebody wrote stays.
func (a setupCommands) settings(path string, values map[string]string) error {
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	for _, name := range []string{"GULL_DATABASE_URL", "GULL_HTTP", "GULL_OPTIONS"} {
		at, set := -1, false
		for i, l := range lines {
			if value, ok := strings.CutPrefix(l, name+"="); ok {
				at, set = i, strings.Trim(value, `"`) != ""
			}
		}
		line := fmt.Sprintf("%s=%q", name, values[name]) // read by systemd, and by shells
		switch {
		case set:
		case at >= 0:
			lines[at] = line
		default:
			lines = append(lines, line)
		}
	}
	fresh := strings.TrimLeft(strings.Join(lines, "\n")+"\n", "\n")
	if fresh == string(text) {
		a.done("settings       %s, as before", path)
		return nil
	}
	if err := os.WriteFile(path, []byte(fresh), 0o640); err != nil {
		return err
	}
	if u, err := user.Lookup(serviceUser); err == nil && os.Geteuid() == 0 {
		if out, err := exec.Command("chown", "root:"+u.Gid, path).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", path, err, out)
		}
	}
	a.done("settings       %s", path)
	return nil
}

// begin starts the service where systemd runs, and returns the link for the first administrator; ""
// where somebody administers, or the service does not run yet: then it says the link itself.
func (a setupCommands) begin(
	ctx context.Context,
	x *answers,
	database, directory string,
) (string, error) {
	if _, err := os.Stat("/run/systemd/system"); err != nil || os.Geteuid() != 0 {
		a.done("service        not started: no systemd runs here; start it as the user gull:\n\n"+
			"    set -a; . %s\n"+
			"    gull serve --key-file /var/lib/gull/key --spool /var/spool/gull $GULL_OPTIONS\n",
			filepath.Join(directory, settingsFile))
		return "", nil
	}
	if out, err := exec.CommandContext(ctx, "systemctl", "enable", "--now", "gull").CombinedOutput(); err != nil {
		return "", fmt.Errorf("systemctl: %w: %s", err, out)
	}
	for range 60 {
		resp, err := http.Get("http://" + x.Console + "/readyz")
		if err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				a.done("service        runs")
				c := exec.CommandContext(ctx, "runuser", "-u", serviceUser, "--", "gull",
					"operator", "first-link")
				c.Env = append(os.Environ(), "GULL_DATABASE_URL="+database) // not for all to see
				out, err := c.Output()
				return strings.TrimSpace(string(out)), err
			}
		}
		time.Sleep(time.Second)
	}
	return "", errors.New("the service was started and takes no mail: journalctl -u gull says why")
}

// next says what is left to do.
func (a setupCommands) next(x *answers, link string) {
	fmt.Fprintf(a.out, "\nNext:\n")
	if link != "" {
		fmt.Fprintf(
			a.out,
			"  - within a day, make the first administrator at http://%s/first#%s\n",
			x.Console,
			link,
		)
	} else {
		fmt.Fprintf(a.out, "  - make the first administrator by the link that the service "+
			"says when it starts\n")
	}
	if strings.HasPrefix(x.Console, "127.") {
		fmt.Fprintf(a.out, "    (from elsewhere: ssh -L 8480:%s %s)\n", x.Console, x.HostName)
	}
	fmt.Fprintf(
		a.out,
		"  - gull login --name NAME; gull readiness %s says which DNS records are missing\n",
		x.Domain,
	)
	if x.Authority == "" {
		fmt.Fprintf(
			a.out,
			"  - gull certificate upload mail: until then a self-made certificate is shown\n",
		)
	}
	fmt.Fprintf(a.out, "  - gull mailbox add NAME@%s: people with a mailbox\n", x.Domain)
	fmt.Fprintf(a.out, "  - gull backup DIRECTORY each night\n")
}

// firstLink makes the link by which the first administrator is made, past the service.
func (a operatorCommands) firstLink() *cobra.Command {
	database := ""
	c := &cobra.Command{
		Use:   "first-link",
		Short: "A new link by which the first administrator is made",
		Long: "Print the secret of a link by which the first administrator is made, while " +
			"there is none: open /first#SECRET of the console within a day. An earlier link " +
			"works no longer. It goes by the database, past the service.",
		Args:    exactly(0),
		Example: "  gull operator first-link --database postgres://gull@127.0.0.1/gull",
		RunE: func(c *cobra.Command, _ []string) error {
			if database == "" {
				return usage("say where the database is with --database or GULL_DATABASE_URL")
			}
			link, err := node.FirstLink(c.Context(), database)
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out, link)
			return nil
		},
	}
	c.Flags().StringVar(&database, "database", "", "address of the database (GULL_DATABASE_URL)")
	environment(c.Flags(), "database", "GULL_DATABASE_URL")
	return c
}
