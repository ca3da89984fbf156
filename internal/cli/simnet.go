package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"gullroute/internal/client"
	"gullroute/internal/simnet"
)

func (a simnetCommands) command() *cobra.Command {
	return group(
		"simnet",
		"The simulated internet",
		a.simnetServe(),
		a.simnetTraffic(),
		a.simnetReports(),
		a.simnetHistory(),
		a.simnetHosts(),
		a.simnetMessages(),
		a.simnetBehave(),
		a.simnetPublish(),
		a.simnetWithdraw(),
	)
}

func (a simnetCommands) simnetServe() *cobra.Command {
	var o simnet.Options
	var world string
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the simulated internet",
		Args:  exactly(0),
		Example: "  gull simnet serve --world demo/simnet.yaml --dns 127.0.0.1:5355 --mx-port " +
			"2530 --control 127.0.0.1:5380",
		RunE: func(c *cobra.Command, _ []string) error {
			w, err := simnet.Load(world)
			if err != nil {
				return usage("--world: %w", err)
			}
			o.World = w
			n, err := simnet.Start(o)
			if err != nil {
				return err
			}
			defer n.Close()
			fmt.Fprintf(a.out, "simulated internet: DNS at %s, control at http://%s\n", n.DNS,
				n.Control)
			ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			<-ctx.Done()
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&world, "world", "demo/simnet.yaml", "file that describes it")
	f.StringVar(&o.DNS, "dns", "127.0.0.1:5355", "address of the name server")
	f.IntVar(&o.Port, "mx-port", 2530, "port of MX hosts")
	f.StringVar(
		&o.Policy,
		"policies",
		"",
		"where domains' TLS policies and certificates (ACME) are had by HTTPS",
	)
	f.StringVar(
		&o.Proofs,
		"proofs-port",
		"80",
		"where proofs for certificates are looked for by HTTP",
	)
	f.StringVar(&o.Control, "control", "127.0.0.1:5380", "address of the control interface")
	f.StringVar(&o.Edge, "edge", "127.0.0.1:2530",
		"our edge listener, for hosts that send mail back")
	f.StringVar(&o.CAFile, "ca-file", "", "where to write the certificate of its authority")
	return c
}

func (a simnetCommands) simnetTraffic() *cobra.Command {
	var t simnet.Traffic
	c := &cobra.Command{
		Use:     "traffic",
		Short:   "Send messages of the demo world through our listeners",
		Args:    exactly(0),
		Example: "  gull simnet traffic --edge 127.0.0.1:2530 --inside 127.0.0.1:2526 --every 2s",
		RunE: func(c *cobra.Command, _ []string) error {
			if t.Every <= 0 {
				return usage("--every must be more than 0")
			}
			ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			return t.Run(ctx)
		},
	}
	f := c.Flags()
	f.StringVar(&t.Edge, "edge", "127.0.0.1:2530", "our edge listener")
	f.StringVar(&t.Inside, "inside", "127.0.0.1:2526", "our listener for machines")
	f.Uint64Var(&t.Seed, "seed", 1, "the same seed sends the same messages")
	f.IntVar(&t.Burst, "burst", 300, "messages at the start")
	f.DurationVar(&t.Every, "every", 4*time.Second, "then one about so often")
	return c
}

func (a simnetCommands) simnetReports() *cobra.Command {
	var r simnet.Reports
	c := &cobra.Command{
		Use:     "reports",
		Short:   "Send what hosts of the simulated internet report of a domain (DMARC, TLS)",
		Args:    exactly(0),
		Example: "  gull simnet reports --edge 127.0.0.1:2530 --days 14 --stranger 5",
		RunE: func(*cobra.Command, []string) error {
			n, err := r.Run()
			if err == nil {
				fmt.Fprintf(a.out, "%d reports were sent.\n", n)
			}
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&r.Edge, "edge", "127.0.0.1:2530", "our edge listener")
	f.StringVar(&r.To, "to", "reports@skerryline.example", "where reports are read")
	f.StringVar(&r.Domain, "domain", "skerryline.example", "about which they are")
	f.IntVar(&r.Days, "days", 14, "of so many days")
	f.IntVar(&r.Stranger, "stranger", 0, "a stranger sends in its name since so many days")
	f.IntVar(
		&r.Newsletter,
		"newsletter",
		0,
		"a newsletter goes out without proof since so many days",
	)
	return c
}

func controlURL() string {
	return "http://" + strings.TrimPrefix(cmp.Or(os.Getenv("GULL_SIMNET"), "127.0.0.1:5380"),
		"http://")
}

// callSimnet calls the simulated internet's control interface.
func callSimnet(method, path string, body []byte, out any) error {
	req, err := http.NewRequest(method, controlURL()+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	if bytes.HasPrefix(body, []byte("{")) {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return &client.Unreachable{Base: controlURL(), Err: err}
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 256<<20))
	if err != nil {
		return err
	}
	switch {
	case resp.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w: %s", errNotFound, strings.TrimSpace(string(text)))
	case resp.StatusCode >= 300:
		return usage("%s", strings.TrimSpace(string(text)))
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(text, out)
}

func (a simnetCommands) simnetPublish() *cobra.Command {
	var e simnet.Entry
	c := &cobra.Command{
		Use:   "publish [LINE]",
		Short: "Publish a DNS record, as a line of a zone file or as an editor's form takes it",
		Args:  cobra.MaximumNArgs(1),
		Long: "Publish a DNS record in the simulated internet: a line of a zone file (- reads " +
			"lines from standard input), or host, type and value as they are put into the form of " +
			"an editor.",
		Example: "  gull simnet publish '_dmarc.skerryline.example. 3600 IN TXT \"v=DMARC1; " +
			"p=quarantine\"' --replace\n" +
			"  gull simnet publish --zone skerryline.example --host @ --type TXT --value 'v=spf1 " +
			"mx -all' --replace",
		RunE: func(_ *cobra.Command, args []string) error {
			var lines []string
			if len(args) == 0 {
				if e.Type == "" || e.Value == "" {
					return usage("give a line of a zone file, or --host, --type and --value")
				}
				body, err := json.Marshal(e)
				if err != nil {
					return err
				}
				if err := callSimnet(http.MethodPost, "/dns/records", body, &lines); err != nil {
					return err
				}
			} else {
				text := args[0]
				if text == "-" {
					all, err := io.ReadAll(a.in)
					if err != nil {
						return err
					}
					text = string(all)
				}
				if err := callSimnet(
					http.MethodPost,
					fmt.Sprintf("/dns/records?replace=%t", e.Replace),
					[]byte(text),
					&lines,
				); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.out, "Published: %s\n", strings.Join(lines, "\n"))
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&e.Zone, "zone", "", "zone that the host is in")
	f.StringVar(&e.Host, "host", "", "name within the zone, @ for the zone itself, or a whole name")
	f.StringVar(&e.Type, "type", "", "such as TXT or MX")
	f.StringVar(&e.Value, "value", "", "as an editor's form takes it")
	f.BoolVar(&e.Replace, "replace", false,
		"in place of the records of that name and type; of TXT of those that begin alike")
	return c
}

func (a simnetCommands) simnetWithdraw() *cobra.Command {
	return &cobra.Command{
		Use:     "withdraw NAME TYPE",
		Short:   "Take DNS records out",
		Args:    exactly(2),
		Example: "  gull simnet withdraw _dmarc.skerryline.example TXT",
		RunE: func(_ *cobra.Command, args []string) error {
			if err := callSimnet(
				http.MethodDelete,
				"/dns/records/"+args[0]+"/"+args[1],
				nil,
				nil,
			); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s has no %s record any more.\n", args[0], args[1])
			return nil
		},
	}
}

func (a simnetCommands) simnetHosts() *cobra.Command {
	return &cobra.Command{
		Use: "hosts", Short: "Its mail hosts, how they act and what they saw", Args: exactly(0),
		RunE: func(*cobra.Command, []string) error {
			var hosts []simnet.HostView
			if err := callSimnet(http.MethodGet, "/hosts", nil, &hosts); err != nil {
				return err
			}
			return printList(a.app, hosts, []column[simnet.HostView]{
				{"HOST", false, func(h simnet.HostView) string { return h.Name }},
				{"LISTENS", false, func(h simnet.HostView) string { return h.Listens }},
				{
					"CONNECTIONS",
					true,
					func(h simnet.HostView) string { return fmt.Sprint(h.Stats.Connections) },
				},
				{
					"MESSAGES",
					true,
					func(h simnet.HostView) string { return fmt.Sprint(h.Stats.Messages) },
				},
				{
					"BEHAVIOUR",
					false,
					func(h simnet.HostView) string { return behaviourText(h.Behaviour) },
				},
			}, "There are no hosts.")
		},
	}
}

// behaviourText lists the fields that are set.
func behaviourText(b simnet.Behaviour) string {
	text, err := json.Marshal(b)
	if err != nil {
		return ""
	}
	fields := map[string]any{}
	_ = json.Unmarshal(text, &fields)
	var words []string
	for _, name := range fieldOrder(text) {
		switch v := fields[name]; v {
		case nil, "", false, 0.0, "0s":
		default:
			words = append(words, fmt.Sprintf("%s: %v", name, v))
		}
	}
	if len(words) == 0 {
		return "takes everything"
	}
	return strings.Join(words, "; ")
}

func (a simnetCommands) simnetMessages() *cobra.Command {
	var raw int
	c := &cobra.Command{
		Use:   "messages HOST",
		Short: "What a host received, newest last",
		Args:  exactly(1),
		Example: "  gull simnet messages mx.saltmarsh.example\n  gull simnet messages " +
			"mx.saltmarsh.example --raw 1",
		RunE: func(_ *cobra.Command, args []string) error {
			var messages []simnet.Message
			if err := callSimnet(
				http.MethodGet,
				"/hosts/"+args[0]+"/messages",
				nil,
				&messages,
			); err != nil {
				return err
			}
			if raw > 0 {
				for _, l := range messages {
					if l.N == raw {
						_, err := a.raw.Write(l.Content)
						return err
					}
				}
				return fmt.Errorf("%w: the host has no message %d", errNotFound, raw)
			}
			return printList(a.app, messages, []column[simnet.Message]{
				{"N", true, func(l simnet.Message) string { return fmt.Sprint(l.N) }},
				{"RECEIVED", true, func(l simnet.Message) string { return ago(l.At) }},
				{"FROM", false, func(l simnet.Message) string { return shown(l.Sender) }},
				{
					"TO",
					false,
					func(l simnet.Message) string { return strings.Join(l.Recipients, ", ") },
				},
				{"SIZE", true, func(l simnet.Message) string { return octets(int64(l.Size)) }},
				{
					"TLS",
					false,
					func(l simnet.Message) string {
						return map[bool]string{true: "yes",
							false: "no"}[l.TLS]
					},
				},
			}, "The host received nothing.")
		},
	}
	c.Flags().IntVar(&raw, "raw", 0, "print the content of message N")
	return c
}

func (a simnetCommands) simnetBehave() *cobra.Command {
	return &cobra.Command{
		Use:   "behave HOST FIELD=VALUE…",
		Short: "Change how a host acts while it runs",
		Args:  cobra.MinimumNArgs(2),
		Example: "  gull simnet behave mx.sunkenpier.example closed=false\n  gull simnet behave " +
			"mx.saltmarsh.example rcpt=\"450 4.2.1 not now\"",
		RunE: func(_ *cobra.Command, args []string) error {
			fields := map[string]any{}
			for _, arg := range args[1:] {
				name, text, ok := strings.Cut(arg, "=")
				var value any
				if !ok || yaml.Unmarshal([]byte(text), &value) != nil {
					return usage("%q: write FIELD=VALUE", arg)
				}
				if s, isText := value.(string); isText || value == nil {
					value = s
				}
				if strings.HasPrefix(text, "2") || strings.HasPrefix(text, "4") ||
					strings.HasPrefix(text, "5") {
					if _, number := value.(int); !number {
						value = text
					}
				}
				fields[name] = value
			}
			body, err := json.Marshal(fields)
			if err != nil {
				return usage("%w", err)
			}
			var h simnet.HostView
			if err := callSimnet(http.MethodPatch, "/hosts/"+args[0], body, &h); err != nil {
				return err
			}
			if a.format != "table" {
				return a.printValue(h)
			}
			fmt.Fprintf(a.out, "%s: %s\n", h.Name, behaviourText(h.Behaviour))
			return nil
		},
	}
}
