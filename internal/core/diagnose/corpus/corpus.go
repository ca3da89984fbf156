// Package corpus holds replies of mail hosts, all written for this project, each
// under the cause that a person gave it. A file is a style: a voice, a language, a
// kind of host. Those in tuned are what the judge learns from; those in kept are
// styles that it has not seen, and are only ever measured by.
package corpus

import (
	"bufio"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"gullroute/internal/core/smtp"
)

//go:embed tuned/*.txt kept/*.txt
var files embed.FS

// Sample is a reply under its cause.
type Sample struct {
	Style, Cause, Stage string
	Line                string // as it stands in the file
	Reply               smtp.Reply
}

var stages = map[byte]string{'g': "greeting", 'h': "hello", 't': "tls", 'a': "sign-in",
	's': "sender", 'r': "recipient", 'c': "content"}

// Read reads all styles of tuned or of kept.
func Read(part string) ([]Sample, error) {
	names, err := fs.Glob(files, part+"/*.txt")
	if err != nil {
		return nil, err
	}
	var list []Sample
	for _, name := range names {
		text, err := files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		style := strings.TrimSuffix(path.Base(name), ".txt")
		cause := ""
		for line := range strings.Lines(string(text)) {
			line = strings.TrimRight(line, "\n")
			if given, ok := strings.CutPrefix(line, "= "); ok {
				cause = given
				continue
			}
			if line == "" || line[0] == '#' {
				continue
			}
			s, err := sample(line)
			if err != nil {
				return nil, fmt.Errorf("%s: %q: %w", name, line, err)
			}
			s.Style, s.Cause = style, cause
			list = append(list, s)
		}
	}
	return list, nil
}

// Sum is a number for what the judge learns from, so that weights can be told to be
// those of the corpus that is there.
func Sum() string {
	h := sha256.New()
	names, _ := fs.Glob(files, "tuned/*.txt")
	for _, name := range names {
		text, _ := files.ReadFile(name)
		h.Write(text)
	}
	return hex.EncodeToString(h.Sum(nil))[:16]
}

// sample reads a line: a letter for the stage, and the reply.
func sample(line string) (Sample, error) {
	stage, ok := stages[line[0]]
	if !ok || len(line) < 6 {
		return Sample{}, fmt.Errorf("a line is one of ghtasrc and a reply")
	}
	r, err := Reply(line[2:])
	return Sample{Stage: stage, Line: line, Reply: r}, err
}

// Reply reads a reply written on one line.
func Reply(text string) (smtp.Reply, error) {
	text = text[:3] + " " + strings.TrimLeft(text[3:], " -")
	return smtp.ReadReply(bufio.NewReader(strings.NewReader(text + "\r\n")))
}
