// Package backup writes all that a server is into files, and makes a server of them again: the
// database by PostgreSQL's own tools, the key file under a passphrase, the configuration. Days of
// history that are over are written once and shared by the backups of a directory.
package backup

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// form is the version of what is written here.
const form = 1

// The files of a backup.
const (
	manifestFile = "manifest.json"
	databaseFile = "database.dump"
	keyFile      = "key.age"
	configFile   = "configuration.yaml"
	daysDir      = "days" // beside the backups
)

// Manifest says what a backup is made of.
type Manifest struct {
	Form     int              `json:"form"`
	Program  string           `json:"program" doc:"Version of the program that made it"`
	Schema   int64            `json:"schema" doc:"Version of the database's schema"`
	Server   string           `json:"server" doc:"Version of PostgreSQL"`
	HostName string           `json:"host_name"`
	MadeAt   time.Time        `json:"made_at"`
	Rows     map[string]int64 `json:"rows" doc:"By table, at the moment of the backup"`
	Waiting  int64            `json:"waiting" doc:"Deliveries that were not finished"`
	Files    []File           `json:"files"`
	Days     []Day            `json:"days,omitempty"`
}

// File is one of a backup's own.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Day is a day of history in a file that backups of a directory share.
type Day struct {
	Day  string `json:"day" doc:"Year, month and day, in UTC"`
	Mark string `json:"mark" doc:"Of what stood in its tables: another one is another file"`
	File
}

// All are a backup's files with those it shares, as paths from the directory of backups.
func (m *Manifest) all(name string) []File {
	var out []File
	for _, f := range m.Files {
		f.Name = filepath.Join(name, f.Name)
		out = append(out, f)
	}
	for _, d := range m.Days {
		f := d.File
		f.Name = filepath.Join(daysDir, f.Name)
		out = append(out, f)
	}
	return out
}

// Has reports whether a backup holds the key file.
func (m *Manifest) Has(name string) bool {
	return slices.ContainsFunc(m.Files, func(f File) bool { return f.Name == name })
}

// HasKey reports whether the key file is in it.
func (m *Manifest) HasKey() bool { return m.Has(keyFile) }

// Size is how much it takes, with what it shares.
func (m *Manifest) Size() (octets int64) {
	for _, f := range m.all("") {
		octets += f.Size
	}
	return octets
}

// ErrNone reports a place where no backup is.
var ErrNone = errors.New("there is no backup here: no manifest.json")

// Find reads the manifest of a backup: of the directory itself, or the latest in a directory of
// backups. name is the one that it found, below root.
func Find(path string) (m *Manifest, root, name string, err error) {
	if _, err := os.Stat(filepath.Join(path, manifestFile)); err == nil {
		path = filepath.Clean(path)
		m, err := read(path)
		return m, filepath.Dir(path), filepath.Base(path), err
	}
	names, err := list(path)
	if err != nil {
		return nil, "", "", err
	}
	if len(names) == 0 {
		return nil, "", "", fmt.Errorf("%s: %w", path, ErrNone)
	}
	name = names[len(names)-1]
	m, err = read(filepath.Join(path, name))
	return m, path, name, err
}

// list are the backups of a directory, the oldest first.
func list(root string) (names []string, err error) {
	entries, err := os.ReadDir(root)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if _, err := os.Stat(filepath.Join(root, e.Name(), manifestFile)); err == nil &&
			e.IsDir() &&
			!strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names, nil // ReadDir sorts, and names are times
}

func read(dir string) (*Manifest, error) {
	text, err := os.ReadFile(filepath.Join(dir, manifestFile))
	if err != nil {
		return nil, err
	}
	var m Manifest
	if err := json.Unmarshal(text, &m); err != nil {
		return nil, fmt.Errorf("%s: %s cannot be read: %w", dir, manifestFile, err)
	}
	if m.Form != form {
		return nil, fmt.Errorf(
			"%s was written in form %d; this program reads form %d",
			dir,
			m.Form,
			form,
		)
	}
	for _, f := range m.all("") {
		if plain := strings.TrimPrefix(f.Name, daysDir+"/"); plain != filepath.Base(plain) ||
			plain == ".." {
			return nil, fmt.Errorf(
				"%s: %s names a file outside of the backup: %s",
				dir,
				manifestFile,
				f.Name,
			)
		}
	}
	return &m, nil
}

// sum is a file's size and hash; tell hears of what was read.
func sum(path string, tell io.Writer) (File, error) {
	f, err := os.Open(path)
	if err != nil {
		return File{}, err
	}
	defer f.Close()
	hash := sha256.New()
	n, err := io.Copy(io.MultiWriter(hash, tell), f)
	return File{Name: filepath.Base(path), Size: n, SHA256: hex.EncodeToString(hash.Sum(nil))}, err
}

// Listed is one of a directory of backups.
type Listed struct {
	Name     string   `json:"name"`
	Manifest Manifest `json:"manifest"`
}

// List are the backups of a directory, the oldest first.
func List(root string) ([]Listed, error) {
	names, err := list(root)
	if err != nil {
		return nil, err
	}
	out := []Listed{}
	for _, name := range names {
		m, err := read(filepath.Join(root, name))
		if err != nil {
			return nil, err
		}
		out = append(out, Listed{name, *m})
	}
	return out, nil
}
