package cli

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"gullroute/internal/control"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/daylog"
	"gullroute/internal/engine/otlp"
	"gullroute/internal/engine/signin"
	"gullroute/internal/engine/syslog"
	"gullroute/internal/keyfile"
	"gullroute/internal/node"
	"gullroute/internal/service"
)

// serveCommands are those of gull serve.
type serveCommands struct{ *app }

// serveFlags are the settings of a node that are not part of the configuration,
// because they belong to the machine.
type serveFlags struct {
	database, config, http, node, spool string
	cert, key, roots, setup, keyFile    string
	policies                            policyFlags
	logs                                logFlags
	bind                                []string
	readFrom                            string
	readBehind                          time.Duration
}

func (a serveCommands) command() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Args:  exactly(0),
		Long: "Run the service until it gets SIGINT or SIGTERM; then it takes no more mail, " +
			"finishes what is under way and ends.\n\n" +
			"The configuration file is what a server is begun with: mailboxes and aliases may " +
			"stand in it too. Once there is a configuration in the database, " +
			"that one counts, and is changed by console or command line while the service " +
			"runs.\n\n" +
			"The setup file holds the first sign-ins, in YAML: accounts with name, role " +
			"(administrator, operator, auditor or viewer) and password; tokens with name, " +
			"role and token; " +
			"secrets with name and value. Only hashes and encrypted secrets are kept: remove the " +
			"file afterwards.",
		Example: "  gull serve --database postgres://gull@127.0.0.1/gull --config " +
			"demo/skerryline.yaml --setup first.yaml",
		RunE: func(c *cobra.Command, _ []string) error {
			program, _ := os.Executable() // before a new one takes its place
			ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			ctx, anew := context.WithCancelCause(ctx)
			defer anew(nil)
			if err := f.run(ctx, a.rawErr, func() { anew(errAnew) }); err != nil ||
				!errors.Is(context.Cause(ctx), errAnew) {
				return err
			}
			stop()
			return syscall.Exec(program, os.Args, append(os.Environ(), begunAnew+"=1"))
		},
	}
	fl := c.Flags()
	host, _ := os.Hostname()
	fl.StringVar(&f.database, "database", "", "address of the database (GULL_DATABASE_URL)")
	fl.StringVar(
		&f.readFrom,
		"read-from",
		"",
		"address of a standby of the database that searches and reports are read from "+
			"(GULL_READ_URL)",
	)
	fl.DurationVar(
		&f.readBehind,
		"read-behind",
		15*time.Second,
		"how far the standby may be behind; if it is further, they are read from the "+
			"database itself",
	)
	fl.StringVar(&f.config, "config", "",
		"configuration to begin with, if the database has none yet")
	fl.StringVar(&f.http, "http", "127.0.0.1:8480", "address of console and API (GULL_HTTP)")
	fl.StringVar(&f.node, "node", host, "name of this node (GULL_NODE)")
	fl.StringVar(&f.spool, "spool", os.TempDir(),
		"directory for content that is too large for memory while it comes in")
	fl.StringVar(
		&f.cert,
		"tls-cert",
		"",
		"certificate of console and API, or kept:NAME; without it sign-in is offered on "+
			"loopback only",
	)
	fl.StringVar(&f.key, "tls-key", "", "key of the certificate")
	fl.StringVar(&f.policies.at, "policies", "",
		"where the TLS policies of our domains are said, like 0.0.0.0:443")
	fl.StringVar(
		&f.policies.cert,
		"policies-cert",
		"",
		"its certificate, a file or kept:NAME, for the mta-sts names of our domains; that of "+
			"the console "+
			"if not given",
	)
	fl.StringVar(&f.policies.key, "policies-key", "", "key of that certificate")
	fl.StringVar(&f.policies.proofs, "proofs", "",
		"where an authority finds proofs that names are ours (ACME, http), like 0.0.0.0:80")
	fl.StringVar(&f.roots, "tls-roots", "",
		"certificates by which remote hosts are verified; the system's if not given")
	fl.StringVar(&f.keyFile, "key-file", "",
		"file with the key of kept secrets, made if it is not there (GULL_KEY_FILE)")
	fl.StringVar(
		&f.logs.level,
		"log-level",
		"info",
		"how much goes to the log: debug, info, warn, error (GULL_LOG_LEVEL); gull log level "+
			"changes it while it runs",
	)
	fl.StringVar(
		&f.logs.syslog,
		"syslog",
		"",
		"send the log and what happens to messages to a log server too (RFC 5424): "+
			"udp://HOST:PORT or tcp://HOST:PORT (GULL_SYSLOG)",
	)
	fl.StringVar(
		&f.logs.traces,
		"traces",
		"",
		"tell a collector of traces of each message's life (OpenTelemetry, OTLP over HTTP), like "+
			"http://127.0.0.1:4318 (GULL_TRACES); no addresses, only domains",
	)
	fl.StringVar(&f.setup, "setup", "", "file with the first sign-ins")
	fl.StringArrayVar(
		&f.bind,
		"bind",
		nil,
		"LISTENER=ADDRESS: open a listener elsewhere than the configuration says; may be given "+
			"again",
	)
	for option, variable := range map[string]string{"database": "GULL_DATABASE_URL",
		"http": "GULL_HTTP", "node": "GULL_NODE", "key-file": "GULL_KEY_FILE",
		"log-level": "GULL_LOG_LEVEL", "traces": "GULL_TRACES", "syslog": "GULL_SYSLOG", "read-from": "GULL_READ_URL"} {
		environment(fl, option, variable)
	}
	return c
}

// begunAnew says in the environment that the service took over from itself.
const begunAnew = "GULL_BEGUN_ANEW"

// errAnew ends a service that was asked to begin anew: what stands at the place of its program
// takes its process over, a later program too.
var errAnew = errors.New("asked to begin anew")

// onLoopback reports whether an address is reached from this machine only.
func onLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip, bad := netip.ParseAddr(host)
	return err == nil && (host == "localhost" || bad == nil && ip.IsLoopback())
}

func (f *serveFlags) run(ctx context.Context, w io.Writer, anew func()) error {
	node.TuneMemory()
	var level slog.LevelVar
	if err := level.UnmarshalText([]byte(f.logs.level)); err != nil {
		return usage("--log-level: there are debug, info, warn and error")
	}
	log := slog.New(slog.NewJSONHandler(w, &slog.HandlerOptions{Level: &level}))
	far, err := syslog.Dial(f.logs.syslog, f.node, &level)
	if err != nil {
		return usage("--syslog: %w", err)
	}
	if far != nil {
		log = slog.New(slog.NewMultiHandler(log.Handler(), far))
		defer far.Close()
	}
	days := daylog.New(f.node, &level)
	log = slog.New(slog.NewMultiHandler(log.Handler(), days))
	defer days.Start()() // ends when all else has ended
	if f.database == "" {
		return usage("say where the database is with --database or GULL_DATABASE_URL")
	}
	bind, err := parseBind(f.bind)
	if err != nil {
		return err
	}
	roots, err := readRoots(f.roots)
	if err != nil {
		return err
	}
	db, err := node.Database(ctx, f.database, log)
	if err != nil {
		return err
	}
	defer db.Close()
	reader, err := node.Reader(ctx, db, f.readFrom, f.readBehind)
	if err != nil {
		return usage("--read-from: %w", err)
	}
	defer reader.Close()
	box, err := keyfile.Open(f.keyFile)
	if err != nil {
		return err
	}
	n, err := node.New(
		ctx,
		node.Options{DB: db, Name: f.node, SpoolDir: f.spool, Bind: bind, Roots: roots, Box: box,
			KeyFile: f.keyFile, Reader: reader, ConsoleInClear: f.cert == "" && !onLoopback(f.http), Log: log,
			Version: version(), BeginAnew: anew, DayLog: days},
	)
	if err != nil {
		return err
	}
	err = setUp(ctx, n.Control, f.setup)
	if err != nil && !(os.Getenv(begunAnew) != "" && errors.Is(err, os.ErrNotExist)) {
		return err // one that begins anew may do without a file that was removed, as it should be
	}
	if err := f.adopt(ctx, n.Control, log); err != nil {
		return err
	}
	if err := n.Start(ctx); err != nil {
		return err
	}
	defer n.Stop()
	if far != nil {
		go far.Follow(ctx, n.Engine.Hub)
	}
	go days.Follow(ctx, n.Engine.Hub)
	if f.logs.traces != "" {
		teller, err := otlp.New(ctx, f.logs.traces, f.node, version())
		if err != nil {
			return usage("--traces: %w", err)
		}
		defer teller.Close()
		go teller.Follow(ctx, n.Engine.Hub)
	}
	s, err := service.New(service.Options{
		Control:  n.Control,
		Insight:  n.Insight,
		InForce:  n.InForce,
		Hub:      n.Engine.Hub,
		SignIn:   n.Engine.SignIn,
		Log:      log,
		Level:    &level,
		Address:  f.http,
		CertFile: f.cert,
		KeyFile:  f.key,
	})
	if err != nil {
		return err
	}
	if err := f.sayPolicies(ctx, s, log); err != nil {
		return err
	}
	if f.policies.proofs != "" {
		if err := service.ServeProofs(ctx, s, f.policies.proofs); err != nil {
			return usage("--proofs: %w", err)
		}
	}
	link, err := n.Control.Operators.FirstLink(ctx)
	if err != nil {
		return err
	}
	if link != "" { // not into the log, which others keep
		scheme := "http"
		if f.cert != "" {
			scheme = "https"
		}
		fmt.Fprintf(w, "Nobody administers yet. Make the first administrator within a day at\n\n"+
			"  %s://%s/first#%s\n\n", scheme, s.Address(), link)
	}
	log.Info("ready", "console", s.Address(), "listeners", n.Insight.Nodes.Addresses(),
		"revision", n.InForce.Config().Revision)
	return s.Run(ctx)
}

// logFlags say how much goes to the log, and where besides.
type logFlags struct{ level, syslog, traces string }

// policyFlags say where the TLS policies of our domains are said, and proofs for certificates.
type policyFlags struct{ at, cert, key, proofs string }

func (f *serveFlags) sayPolicies(ctx context.Context, s *service.Service, log *slog.Logger) error {
	if f.policies.at == "" {
		return nil
	}
	p, err := service.ServePolicies(s, f.policies.at, cmp.Or(f.policies.cert, f.cert),
		cmp.Or(f.policies.key, f.key))
	if err != nil {
		return err
	}
	go func() {
		if err := p.Run(ctx); err != nil {
			log.Error("the TLS policies of our domains are not said any more", "error", err)
		}
	}()
	return nil
}

func (a serveCommands) openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use:   "openapi",
		Short: "Print the description of the HTTP interface (OpenAPI 3.1)",
		Args:  exactly(0),
		RunE: func(*cobra.Command, []string) error {
			text, err := service.OpenAPI()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", text)
			}
			return err
		},
	}
}

// adopt begins with the file's configuration if there is none yet.
func (f *serveFlags) adopt(ctx context.Context, c *control.Control, log *slog.Logger) error {
	if f.config == "" {
		return nil
	}
	text, err := os.ReadFile(f.config)
	if err != nil {
		return usage("%w", err)
	}
	taken, err := c.Drafts.Adopt(ctx, "serve --config", string(text))
	if err != nil {
		return fmt.Errorf("%s is not valid:\n%w", f.config, err)
	}
	if !taken {
		log.Info("the database has a configuration; the file is not read again", "file", f.config)
	}
	return nil
}

func parseBind(list []string) (map[string]netip.AddrPort, error) {
	out := map[string]netip.AddrPort{}
	for _, text := range list {
		name, address, _ := strings.Cut(text, "=")
		ap, err := netip.ParseAddrPort(address)
		if err != nil {
			return nil, usage("--bind %q: write LISTENER=ADDRESS:PORT", text)
		}
		out[name] = ap
	}
	return out, nil
}

func readRoots(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, usage("--tls-roots: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, usage("--tls-roots: %s holds no certificate", file)
	}
	return pool, nil
}

// setupFile is the file of the first sign-ins.
type setupFile struct {
	Accounts []struct {
		Name, Role, Password string
	}
	Tokens []struct {
		Name, Role, Token string
	}
	Secrets []struct {
		Name, Value string
	}
}

// minPassword and minToken are the shortest secrets that are taken.
const (
	minPassword = 8
	minToken    = 20
)

func setUp(ctx context.Context, c *control.Control, file string) error {
	if file == "" {
		return nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return usage("--setup: %w", err)
	}
	if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() &&
		info.Mode().Perm()&0o077 != 0 {
		return usage("--setup: %s holds passwords and can be read by others; chmod 600 %s", file,
			file)
	}
	var s setupFile
	if err := yaml.Unmarshal(text, &s); err != nil {
		return usage("--setup: %w", err)
	}
	for _, acc := range s.Accounts {
		if len(acc.Password) < minPassword {
			return usage("--setup: the password of %s has fewer than %d characters", acc.Name,
				minPassword)
		}
		hash, err := signin.Hash(acc.Password)
		if err != nil {
			return err
		}
		_, err = c.Operators.AddPerson(ctx, mail.Person{Name: acc.Name, Role: mail.Role(acc.Role),
			MadeBy: "gull serve --setup"}, hash) // who is there keeps the password that he chose
		if err != nil {
			return setupError(acc.Name, err)
		}
	}
	for _, t := range s.Tokens {
		if len(t.Token) < minToken {
			return usage("--setup: the token of %s has fewer than %d characters", t.Name, minToken)
		}
		if err := c.Operators.SetToken(
			ctx,
			control.HashSecret(t.Token),
			t.Name,
			mail.Role(t.Role),
		); err != nil {
			return setupError(t.Name, err)
		}
	}
	for _, sec := range s.Secrets {
		if err := c.Directory.Secrets.SetSecret(
			ctx,
			"serve --setup",
			sec.Name,
			sec.Value,
		); err != nil {
			return fmt.Errorf("setup of secret %s: %w", sec.Name, err)
		}
	}
	return nil
}

func setupError(name string, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf(
		"setup of %s: %w (roles are administrator, operator, auditor and viewer)",
		name,
		err,
	)
}
