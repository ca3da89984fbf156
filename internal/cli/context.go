package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// contexts are the servers that somebody signed in at, in a file of his own.
type contexts struct {
	Current  string                   `json:"current"`
	Contexts map[string]serverContext `json:"contexts"`
}

// serverContext is one server, and the session there.
type serverContext struct {
	URL   string    `json:"url"`
	Name  string    `json:"name,omitempty"`
	Token string    `json:"token,omitempty"`
	Ends  time.Time `json:"ends_at,omitzero"`
}

// contextsFile is where they are kept: readable by their owner alone.
func contextsFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for what a sign-in leaves behind: %w", err)
	}
	return filepath.Join(dir, "gull-route", "contexts.json"), nil
}

func readContexts() (contexts, error) {
	c := contexts{Contexts: map[string]serverContext{}}
	file, err := contextsFile()
	if err != nil {
		return c, err
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return c, usage("%s holds sessions and can be read by others; chmod 600 %s", file, file)
	}
	if err := json.Unmarshal(text, &c); err != nil {
		return c, usage("%s cannot be read: %w; remove it and sign in again", file, err)
	}
	if c.Contexts == nil {
		c.Contexts = map[string]serverContext{}
	}
	return c, nil
}

// write keeps them: the whole file or none of it.
func (c contexts) write() error {
	file, err := contextsFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	fresh, err := os.CreateTemp(filepath.Dir(file), "contexts-*") // 0600
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(fresh.Name()) }()
	_, err = fresh.Write(append(text, '\n'))
	if err = errors.Join(err, fresh.Sync(), fresh.Close()); err != nil {
		return err
	}
	return os.Rename(fresh.Name(), file)
}

// defaultURL is where a service listens that was told nothing else.
const defaultURL = "http://127.0.0.1:8480"

// server is the service's address and what opens it: what is given counts, then the
// environment, then the context. A context's session goes to its own server only, and a token
// that was given to no context's server that was not chosen.
func (a *app) server() (url, token string, err error) {
	url, token = cmp.Or(a.url, os.Getenv("GULL_URL")), cmp.Or(a.token, os.Getenv("GULL_TOKEN"))
	chosen := cmp.Or(a.context, os.Getenv("GULL_CONTEXT"))
	if chosen == "" && url != "" && token != "" {
		return url, token, nil
	}
	known, err := readContexts()
	if err != nil {
		return "", "", err
	}
	at, ok := known.Contexts[cmp.Or(chosen, known.Current)]
	if chosen != "" && !ok {
		return "", "", usage(
			"there is no context %q; gull context list shows those that are",
			chosen,
		)
	}
	if chosen != "" && a.url == "" {
		url = at.URL
	}
	if url == "" && token != "" && chosen == "" {
		url = defaultURL
	}
	url = cmp.Or(url, at.URL, defaultURL)
	if sameServer(url, at.URL) && (token == "" || chosen != "" && a.token == "") {
		token = at.Token
	}
	return url, token, nil
}

func sameServer(a, b string) bool {
	return strings.TrimRight(a, "/") == strings.TrimRight(b, "/")
}

// contextCommands are those of gull context.
type contextCommands struct{ *app }

type contextLine struct {
	Name    string    `json:"name"`
	Current bool      `json:"current"`
	URL     string    `json:"url"`
	Who     string    `json:"who"`
	Ends    time.Time `json:"ends_at,omitzero"`
}

func (a contextCommands) command() *cobra.Command {
	list := &cobra.Command{
		Use:     "list",
		Short:   "The servers that you signed in at",
		Args:    exactly(0),
		Example: "  gull context list",
		RunE: func(*cobra.Command, []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			var lines []contextLine
			for _, name := range slices.Sorted(maps.Keys(known.Contexts)) {
				at := known.Contexts[name]
				lines = append(
					lines,
					contextLine{name, name == known.Current, at.URL, at.Name, at.Ends},
				)
			}
			return printList(a.app, lines, []column[contextLine]{
				{"NAME", false, func(l contextLine) string { return l.Name }},
				{"CURRENT", false, func(l contextLine) string { return yes(l.Current) }},
				{"SERVER", false, func(l contextLine) string { return l.URL }},
				{"SIGNED IN AS", false, func(l contextLine) string { return dash(l.Who) }},
				{"ENDS", true, func(l contextLine) string {
					if l.Ends.IsZero() {
						return "-"
					}
					return ago(l.Ends)
				}},
			}, "You signed in nowhere yet: gull login --url https://mail.skerryline.example:8480")
		},
	}
	use := &cobra.Command{
		Use:     "use NAME",
		Short:   "The server that commands go to from now on",
		Args:    exactly(1),
		Example: "  gull context use skerry",
		RunE: func(_ *cobra.Command, args []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			at, ok := known.Contexts[args[0]]
			if !ok {
				return usage(
					"there is no context %q; gull context list shows those that are",
					args[0],
				)
			}
			known.Current = args[0]
			if err := known.write(); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Commands go to %s from now on.\n", at.URL)
			return nil
		},
	}
	remove := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Forget a server; gull logout ends the session there first",
		Args:    exactly(1),
		Example: "  gull context remove skerry",
		RunE: func(_ *cobra.Command, args []string) error {
			known, err := readContexts()
			if err != nil {
				return err
			}
			if _, ok := known.Contexts[args[0]]; !ok {
				return usage(
					"there is no context %q; gull context list shows those that are",
					args[0],
				)
			}
			delete(known.Contexts, args[0])
			if known.Current == args[0] {
				known.Current = ""
			}
			if err := known.write(); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Context %s is forgotten.\n", args[0])
			return nil
		},
	}
	return group("context", "Servers that you signed in at", list, use, remove)
}
