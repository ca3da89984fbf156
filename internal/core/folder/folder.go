// Package folder is what a mailbox is to those who read it: folders with their names and
// uses, messages with their numbers and flags, what a session sees of a folder, and what is
// searched there (RFC 9051). It computes only; messages lie in the store.
package folder

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gullroute/internal/core/ident"
)

// Inbox is the folder into which mail comes.
const Inbox = "INBOX"

// Separator stands between the levels of a name.
const Separator = "/"

// Bounds of names.
const (
	maxName   = 250 // octets
	maxLevels = 12
	// MaxFolders bounds the folders of one mailbox.
	MaxFolders = 2000
)

// Folder is one folder of a mailbox.
type Folder struct {
	ID         int64  `json:"-"`
	Mailbox    string `json:"mailbox"`
	Name       string `json:"name"`
	Use        string `json:"use" enum:",sent,drafts,trash,junk,archive" doc:"What mail programs use it for (RFC 6154)"`
	Subscribed bool   `json:"subscribed"`
	Messages   int64  `json:"messages"`
	Unseen     int64  `json:"unseen"`
	Deleted    int64  `json:"deleted" doc:"Marked as deleted and still there"`
	Octets     int64  `json:"octets"`
	Next       uint32 `json:"-"` // the number that the next message gets
	ModSeq     int64  `json:"-"` // of the last change
}

// The uses of folders (RFC 6154).
const (
	Sent    = "sent"
	Drafts  = "drafts"
	Trash   = "trash"
	Junk    = "junk"
	Archive = "archive"
)

// Usual are the folders that a mailbox has from the start, besides the inbox, with their uses.
var Usual = []struct{ Name, Use string }{
	{"Sent", Sent}, {"Drafts", Drafts}, {"Trash", Trash}, {"Junk", Junk}, {"Archive", Archive},
}

// Uses are all uses.
var Uses = []string{Sent, Drafts, Trash, Junk, Archive}

// CleanName is a name as it is kept: the inbox is the inbox however it is written (RFC 9051
// section 5.1). The error says what is wrong with it.
func CleanName(name string) (string, error) {
	name = strings.TrimSuffix(name, Separator)
	levels := strings.Split(name, Separator)
	if strings.EqualFold(levels[0], Inbox) {
		levels[0] = Inbox
	}
	switch {
	case name == "":
		return "", fmt.Errorf("the folder has no name")
	case len(name) > maxName:
		return "", fmt.Errorf("the folder's name is longer than %d octets", maxName)
	case len(levels) > maxLevels:
		return "", fmt.Errorf("folders lie at most %d deep in each other", maxLevels)
	case slices.Contains(levels, ""):
		return "", fmt.Errorf(
			"the name has an empty level: write no %q at its begin and none twice",
			Separator,
		)
	case !utf8.ValidString(name) || strings.ContainsFunc(name, unicode.IsControl):
		return "", fmt.Errorf("the name holds characters that cannot be written")
	case strings.ContainsAny(name, "*%"):
		return "", fmt.Errorf("the name holds %q or %q, which select many folders", "*", "%")
	}
	return strings.Join(levels, Separator), nil
}

// Parents are the names above a name, the highest first.
func Parents(name string) []string {
	var out []string
	for i := range len(name) {
		if name[i] == Separator[0] {
			out = append(out, name[:i])
		}
	}
	return out
}

// Under reports a name that lies under another.
func Under(name, parent string) bool { return strings.HasPrefix(name, parent+Separator) }

// Flags are the flags of RFC 9051 section 2.3.2 that every folder has.
type Flags int

// The flags.
const (
	Seen Flags = 1 << iota
	Answered
	Flagged
	Deleted
	Draft
)

var flagNames = []string{`\Seen`, `\Answered`, `\Flagged`, `\Deleted`, `\Draft`}

// Names are the flags as they are written, and the keywords after them.
func (f Flags) Names(keywords []string) []string {
	out := make([]string, 0, len(flagNames)+len(keywords))
	for i, name := range flagNames {
		if f&(1<<i) != 0 {
			out = append(out, name)
		}
	}
	return append(out, keywords...)
}

// Bounds of keywords.
const (
	maxKeywords = 50 // of one message
	maxKeyword  = 100
)

// ParseFlags reads flags and keywords. The error names one that cannot be set.
func ParseFlags(names []string) (f Flags, keywords []string, err error) {
	for _, name := range names {
		if i := slices.IndexFunc(flagNames, func(n string) bool { return strings.EqualFold(n, name) }); i >= 0 {
			f |= 1 << i
			continue
		}
		switch {
		case strings.HasPrefix(name, `\`):
			return 0, nil, fmt.Errorf("there is no flag %s", name)
		case len(name) > maxKeyword:
			return 0, nil, fmt.Errorf("a keyword has at most %d octets", maxKeyword)
		}
		name = strings.ToLower(name) // keywords are the same in any case
		if !slices.Contains(keywords, name) {
			keywords = append(keywords, name)
		}
	}
	if len(keywords) > maxKeywords {
		return 0, nil, fmt.Errorf("a message has at most %d keywords", maxKeywords)
	}
	return f, keywords, nil
}

// Item is a message in a folder.
type Item struct {
	UID      uint32    `json:"uid"`
	ID       ident.ID  `json:"id"`
	Sender   string    `json:"sender"`
	Subject  string    `json:"subject"`
	Received time.Time `json:"received_at"`
	Size     int64     `json:"size"`
	Flags    Flags     `json:"-"`
	Keywords []string  `json:"-"`
	Content  ident.ID  `json:"-"` // the message whose content it has
	Plain    bool      `json:"-"` // put there by its reader: no Return-Path before it
	Marks    []string  `json:"flags"`
}

// FlagNames are all flags of the item.
func (i *Item) FlagNames() []string { return i.Flags.Names(i.Keywords) }

// Change is what flags become.
type Change int

// The ways to change flags.
const (
	Set Change = iota
	Add
	Remove
)
