package backup

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// tool finds one of PostgreSQL's programs: in the search path, or the latest that Debian keeps.
func tool(name string) (string, error) {
	if list, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name); len(list) > 0 {
		slices.SortFunc(
			list,
			func(a, b string) int { return len(a) - len(b) + strings.Compare(a, b) },
		)
		return list[len(list)-1], nil
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", fmt.Errorf(
			"%s of PostgreSQL is needed on this machine: apt install postgresql-client",
			name,
		)
	}
	return path, nil
}

// server is a database as PostgreSQL's programs are told of it: the password is not in their
// arguments, where everybody on the machine could read it.
type server struct {
	address string
	env     []string
}

func serverAt(database string) (server, error) {
	u, err := url.Parse(database)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return server{address: database}, nil // key=value: PostgreSQL's programs read that too
	}
	s := server{}
	if password, ok := u.User.Password(); ok {
		s.env = append(s.env, "PGPASSWORD="+password)
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	for name := range q {
		if strings.HasPrefix(name, "pool_") || name == "default_query_exec_mode" {
			q.Del(name) // of our own connections
		}
	}
	u.RawQuery = q.Encode()
	s.address = u.String()
	return s, nil
}

// run runs one of PostgreSQL's programs; out gets what it writes, if it is not nil.
func (s server) run(ctx context.Context, out io.Writer, name string, args ...string) error {
	path, err := tool(name)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, path, args...)
	c.Env = append(os.Environ(), s.env...)
	c.Stdout = out
	said, err := c.StderrPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	var last bytes.Buffer
	for in := bufio.NewScanner(said); in.Scan(); {
		text := in.Text()
		if strings.Contains(text, "error:") || strings.Contains(text, "ERROR:") ||
			strings.Contains(text, "detail:") {
			last.WriteString(strings.TrimSpace(text) + "\n")
		}
	}
	if err := c.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%s: %w\n%s", name, err, strings.TrimSpace(last.String()))
	}
	return nil
}
