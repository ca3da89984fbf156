package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var (
	aHint = regexp.MustCompile(`\bgull ([a-z]+)((?: [^\n"` + "`" + `;,.]*)?)`)
	aFlag = regexp.MustCompile(`--([a-z][a-z-]*)`)
)

// TestHintsNameCommandsAndFlagsThatThereAre reads every text that tells people what to
// type: what it names must be there.
func TestHintsNameCommandsAndFlagsThatThereAre(t *testing.T) {
	a := &app{}
	root := a.root()
	nouns := map[string]bool{}
	for _, c := range root.Commands() {
		nouns[c.Name()] = true
	}
	looked := 0
	for _, dir := range []string{"..", "../../web/src", "../../docs", "../../README.md"} {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.Contains(path, "/dist/") || strings.HasSuffix(path,
				"_test.go") ||
				!regexp.MustCompile(`\.(go|tsx?|md)$`).MatchString(path) {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			for _, m := range aHint.FindAllStringSubmatch(strings.NewReplacer(`\"`, `'`, `\n`, "\n").Replace(string(text)), -1) {
				if !nouns[m[1]] {
					continue // prose
				}
				words := append([]string{m[1]}, strings.Fields(m[2])...)
				c, _, err := root.Find(words[:min(2, len(words))])
				if err != nil || c == root {
					if c, _, err = root.Find(words[:1]); err != nil {
						t.Errorf("%s: there is no %s", path, m[0])
						continue
					}
				}
				looked++
				for _, f := range aFlag.FindAllStringSubmatch(m[2], -1) {
					if c.Flags().Lookup(f[1]) == nil && c.InheritedFlags().Lookup(f[1]) == nil && f[1] != "help" {
						t.Errorf("%s: %s has no flag --%s: %s", path, c.CommandPath(), f[1], m[0])
					}
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if looked < 300 {
		t.Errorf("only %d hints were found", looked)
	}
}
