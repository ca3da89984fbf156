// Package internal holds the rules of the house: which room may use which, what core may
// touch, and how large a type may grow.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

// mayUse are the rooms that each room may import, besides itself. Arrows point one way:
// cli → client → (HTTP) → service → control, insight → what is in force, cluster → engine →
// store → core; node builds all of it.
var mayUse = map[string]string{
	"core":      "",
	"keyfile":   "",
	"backup":    "core store",
	"supervise": "",
	"store":     "core",
	"engine":    "core store supervise",
	"inforce":   "core store engine keyfile",
	"cluster":   "core store engine",
	"api":       "core",
	"insight":   "core api store engine supervise inforce",
	"control":   "core api store engine keyfile inforce cluster",
	"node":      "core api store engine keyfile supervise inforce cluster insight control",
	"service":   "core api engine keyfile inforce insight control",
	"client":    "core api",
	"simnet":    "",
	"virtual":   "core engine store simnet",
	"learn":     "core", // a program of its own: makes the weights of the judge
	"cli":       "core api client",
	// What tests start: everything but cli.
	"teststand": "core api store keyfile node service control",
}

// serves are what the commands that begin something on this machine may import besides.
const serves = "simnet node service keyfile engine control backup"

// engineMayUse are the parts of the engine that each part may import. What takes mail in
// does not know what moves it on.
var engineMayUse = map[string]string{
	"batch": "", "counters": "", "feed": "", "spool": "", "limits": "", "mailbox": "", "resolve": "", "signin": "",
	"senderauth": "resolve", "sources": "", "scan": "",
	"door":     "",
	"access":   "door sessions signin",
	"sessions": "batch counters feed",
	"syslog":   "feed",
	"daylog":   "feed",
	"otlp":     "feed",
	"outside":  "",
	"deliver":  "resolve sessions",
	"policies": "resolve",
	"publish":  "resolve",
	"certify":  "",
	"feedback": "deliver",
	"receive":  "counters door feed scan senderauth sessions signin spool weigh",
	"weigh":    "resolve senderauth",
	"queue":    "batch counters deliver feed mailbox senderauth spool",
}

// ofCore are the packages of others that core may import: computation, no input or output.
var ofCore = []string{"golang.org/x/net/idna", "golang.org/x/net/publicsuffix",
	"golang.org/x/text/unicode/norm", "golang.org/x/text/cases",
	"golang.org/x/text/encoding", "golang.org/x/text/encoding/ianaindex",
	"golang.org/x/net/html", "golang.org/x/net/html/atom", "golang.org/x/net/html/charset",
	"go.yaml.in/yaml/v3", "github.com/goccy/go-json",
	// What files are, what is inside archives, and HTML without what acts.
	"github.com/gabriel-vasile/mimetype", "github.com/bodgit/sevenzip",
	"github.com/nwaples/rardecode/v2", "github.com/microcosm-cc/bluemonday"}

var notOfCore = []string{"net", "net/http", "os", "os/exec", "database/sql", "net/smtp", "syscall", "log/slog"}

// Bounds on a type: declared methods, and fields of a struct that has methods.
const (
	maxMethods = 25
	maxFields  = 15
)

type source struct {
	name, room, dir string
	file            *ast.File
}

func (s source) part() string { return strings.Split(s.dir+"/", "/")[1] }

func sources(t *testing.T) (out []source) {
	t.Helper()
	err := fs.WalkDir(os.DirFS("."), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		room, _, _ := strings.Cut(name, "/")
		out = append(out, source{name, room, name[:strings.LastIndexByte(name, '/')], f})
		return err
	})
	if err != nil || len(out) < 200 {
		t.Fatalf("%d files were read: %v", len(out), err)
	}
	return out
}

func (s source) imports() (paths []string) {
	for _, i := range s.file.Imports {
		path, _ := strconv.Unquote(i.Path.Value)
		paths = append(paths, path)
	}
	return paths
}

func TestArrowsPointOneWay(t *testing.T) {
	for _, s := range sources(t) {
		allowed, known := mayUse[s.room]
		if !known {
			t.Errorf("%s: what room %s may import is not decided here", s.name, s.room)
		}
		if strings.HasPrefix(s.name, "cli/serve") || strings.HasPrefix(s.name, "cli/simnet") {
			allowed += " " + serves
		}
		for _, path := range s.imports() {
			ours, is := strings.CutPrefix(path, "gullroute/internal/")
			room, rest, _ := strings.Cut(ours, "/")
			if is && room != s.room && !slices.Contains(strings.Fields(allowed), room) {
				t.Errorf("%s imports %s; %s may use: %s", s.name, path, s.room, allowed)
			}
			if part := s.part(); is && room == "engine" && s.room == "engine" && part != rest &&
				!slices.Contains(strings.Fields(engineMayUse[part]), rest) {
				t.Errorf("%s imports %s; engine/%s may use: %s", s.name, path, part, engineMayUse[part])
			}
		}
	}
}

func TestCoreIsComputationOnly(t *testing.T) {
	for _, s := range sources(t) {
		if s.room != "core" {
			continue
		}
		for _, path := range s.imports() {
			external := strings.Contains(path, ".") && !strings.HasPrefix(path, "gullroute/")
			if slices.Contains(notOfCore, path) || external && !slices.Contains(ofCore, path) {
				t.Errorf("%s imports %s", s.name, path)
			}
		}
	}
}

func TestNoTypeHoldsEverything(t *testing.T) {
	methods, fields := map[string]int{}, map[string]int{}
	for _, s := range sources(t) {
		for _, d := range s.file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Recv != nil {
					methods[s.dir+"."+receiver(d.Recv.List[0].Type)]++
				}
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					if x, ok := spec.(*ast.TypeSpec); ok {
						if record, ok := x.Type.(*ast.StructType); ok {
							fields[s.dir+"."+x.Name.Name] = record.Fields.NumFields()
						}
					}
				}
			}
		}
	}
	for name, n := range methods {
		if n > maxMethods {
			t.Errorf("%s has %d methods; %d are the most", name, n, maxMethods)
		}
	}
	for name, n := range fields {
		if n > maxFields && methods[name] > 0 && !strings.HasPrefix(name, "core/") {
			t.Errorf("%s has %d fields; %d are the most of what does something", name, n, maxFields)
		}
	}
}

func receiver(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.StarExpr:
		return receiver(e.X)
	case *ast.IndexExpr:
		return receiver(e.X)
	case *ast.Ident:
		return e.Name
	}
	return ""
}

// Bounds on a line, in columns, a tab counted as four. Struct tags cannot be broken, and
// raw strings are texts of another kind.
const (
	maxColumns  = 120
	wideColumns = 100
	widePer1000 = 3
)

func TestLinesAreShort(t *testing.T) {
	lines, wide := 0, 0
	for _, s := range sources(t) {
		text, err := os.ReadFile(s.name)
		if err != nil {
			t.Fatal(err)
		}
		raw := false
		for n, line := range strings.Split(string(text), "\n") {
			columns := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			ticks := strings.Count(line, "`")
			if columns > maxColumns && ticks == 0 && !raw {
				t.Errorf("%s:%d has %d columns", s.name, n+1, columns)
			}
			if columns > wideColumns && ticks == 0 { // tags are sentences of the reference
				wide++
			}
			raw = raw != (ticks%2 == 1)
			lines++
		}
	}
	if wide*1000 > widePer1000*lines {
		t.Errorf("%d of %d lines have more than %d columns", wide, lines, wideColumns)
	}
}

// docs/standards.md names the test of each standard.
func TestStandardsNameTestsThatExist(t *testing.T) {
	text, err := os.ReadFile("../docs/standards.md")
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	err = fs.WalkDir(os.DirFS(".."), ".", func(name string, _ fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(name, "_test.go") {
			source, err := os.ReadFile("../" + name)
			if err != nil {
				return err
			}
			for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(source, -1) {
				there[string(m[1])] = true
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`(Test\\w+)`").FindAllStringSubmatch(string(text), -1)
	for _, m := range named {
		if !there[m[1]] {
			t.Errorf("docs/standards.md names %s, which there is not", m[1])
		}
	}
	if len(named) < 60 {
		t.Errorf("docs/standards.md names %d tests only", len(named))
	}
}
