package queue

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"gullroute/internal/core/ident"
)

// The journal is a file of messages that are to be withdrawn and are not yet: a client
// heard 451 while the database was away, and that must hold although the service ends
// before the database is back. A line is an id; the file is gone when nothing is left.

// note writes down what is to be withdrawn, on the disk before its clients are answered.
func (d *doubts) note(u unclear) error {
	if d.Journal == "" {
		return nil
	}
	f, err := os.OpenFile(d.Journal, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	for _, id := range u.ids {
		if _, err = fmt.Fprintln(f, id); err != nil {
			break
		}
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// strike takes the journal away. d.mu is held, and nothing is left to be withdrawn.
func (d *doubts) strike() {
	if d.Journal == "" {
		return
	}
	if err := os.Remove(d.Journal); err != nil && !errors.Is(err, fs.ErrNotExist) {
		d.Log.Warn(
			"the journal of what is withdrawn cannot be removed; it is read again at the next "+
				"start",
			"error",
			err,
		)
	}
}

// openOwn opens a file if it is ours alone: what stands in it is deleted, and it may lie in
// a directory that others write to.
func openOwn(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil {
		owner, known := info.Sys().(*syscall.Stat_t)
		if !info.Mode().IsRegular() || info.Mode().Perm()&0o077 != 0 || !known ||
			int(owner.Uid) != os.Getuid() {
			err = fmt.Errorf("%s is not a file of ours alone", path)
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// takeUpJournal reads what an earlier run could not withdraw.
func (d *doubts) takeUpJournal() {
	if d.Journal == "" {
		return
	}
	f, err := openOwn(d.Journal)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			d.Log.Error("the journal of what is to be withdrawn cannot be read", "error", err)
		}
		return
	}
	defer f.Close()
	var u unclear
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if id, err := ident.Parse(lines.Text()); err == nil { // the last line may be half of one
			u.ids = append(u.ids, id)
		}
	}
	if len(u.ids) == 0 {
		return
	}
	d.Log.Warn("messages are withdrawn that an earlier run refused and could not",
		"messages", len(u.ids))
	d.mu.Lock()
	d.unclear = append(d.unclear, u)
	d.mu.Unlock()
	d.ask()
}
