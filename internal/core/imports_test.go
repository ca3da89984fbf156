// Package core_test holds the rule that core is computation only.
package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// imports lists what the files of a directory tree import, tests left out.
func imports(t *testing.T, root string) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := fs.WalkDir(os.DirFS(root), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), filepath.Join(root, name), nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			out[name] = append(out[name], path)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestCoreIsComputationOnly(t *testing.T) {
	allowed := map[string]bool{"golang.org/x/net/idna": true, "golang.org/x/net/publicsuffix": true, "golang.org/x/text/unicode/norm": true, "go.yaml.in/yaml/v3": true, "net/netip": true, "github.com/goccy/go-json": true}
	forbidden := map[string]bool{"net": true, "net/http": true, "os": true, "os/exec": true, "database/sql": true, "net/smtp": true, "syscall": true, "log/slog": true}
	files := imports(t, ".")
	if len(files) < 15 {
		t.Fatalf("only %d files were read", len(files))
	}
	for file, paths := range files {
		for _, p := range paths {
			ours := strings.HasPrefix(p, "gullroute/")
			external := strings.Contains(p, ".")
			if forbidden[p] || ours && !strings.HasPrefix(p, "gullroute/internal/core/") || external && !ours && !allowed[p] {
				t.Errorf("core/%s imports %s", file, p)
			}
		}
	}
}

// Arrows point one way: cli → client → (HTTP) → service → engine → store, core.
func TestArrowsPointOneWay(t *testing.T) {
	for dir, mayUse := range map[string][]string{
		"../store":   {"core", "store"},
		"../engine":  {"core", "store", "engine"},
		"../service": {"core", "store", "engine", "service"},
		"../client":  {"core", "client"},
		"../simnet":  {"simnet"},
	} {
		for file, paths := range imports(t, dir) {
			for _, p := range paths {
				rest, ours := strings.CutPrefix(p, "gullroute/internal/")
				part, _, _ := strings.Cut(rest, "/")
				if ours && !strings.Contains(" "+strings.Join(mayUse, " ")+" ", " "+part+" ") {
					t.Errorf("%s/%s imports %s", dir, file, p)
				}
			}
		}
	}
	for file, paths := range imports(t, "../cli") {
		for _, p := range paths {
			behind := strings.HasPrefix(p, "gullroute/internal/service") || strings.HasPrefix(p, "gullroute/internal/engine") || strings.HasPrefix(p, "gullroute/internal/store")
			if behind && !strings.HasPrefix(file, "serve") {
				t.Errorf("cli/%s imports %s: only serve may", file, p)
			}
		}
	}
}
