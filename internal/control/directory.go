package control

import (
	"context"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"gullroute/internal/api"
	"gullroute/internal/cluster"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/signin"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Directory changes mailboxes and aliases. Every change takes effect immediately, here and on the
// other nodes.
type Directory struct {
	Store   store.Directory
	Names   store.Secrets
	InForce *inforce.State
	Secrets *inforce.Secrets
	Cluster *cluster.Cluster
}

// PutMailbox adds a mailbox, or changes the one with its address. It counts at
// once. The error may be form.Problems.
func (s *Directory) PutMailbox(
	ctx context.Context,
	who string,
	m *directory.Mailbox,
	mustBeNew, dry bool,
) error {
	cfg := s.InForce.Config()
	old := ownMailbox(cfg, m.Address)
	if old != nil && mustBeNew {
		return fault.ErrExists
	}
	if problems := cfg.Directory.CheckMailbox(m, cfg.Kind); len(problems) > 0 {
		return problems
	}
	if dry {
		return nil
	}
	if err := prepare(cfg, cfg.Directory, m); err != nil {
		return err
	}
	r := store.Record{What: "mailbox", Name: m.Address.Display(), After: m.Fields()}
	if m.Hash != "" {
		r.After["password"] = "changed"
	}
	if old != nil {
		r.Before = old.Fields()
	}
	err := s.change(ctx, store.DirectoryChange{
		Who:       who,
		Mailboxes: []*directory.Mailbox{m},
		Records:   []store.Record{r},
	})
	s.Cluster.Changed("directory")
	return err
}

// ownMailbox is the mailbox whose own address it is.
func ownMailbox(cfg *config.Compiled, a address.Address) *directory.Mailbox {
	if m := cfg.Directory.Mailbox(a); m != nil && m.Address.Key() == a.Key() {
		return m
	}
	return nil
}

// prepare makes of a mailbox what is kept: generated addresses and hashes.
func prepare(cfg *config.Compiled, dir *directory.Directory, m *directory.Mailbox) error {
	if d := cfg.Domain(m.Address.Domain); d != nil {
		m.Generated = dir.Generate(m, d.Generated)
	}
	if m.Password == "" {
		return nil
	}
	var err error
	if m.Hash, err = signin.Hash(m.Password); err != nil {
		return err
	}
	m.Scram, err = signin.ScramKeys(m.Address.String(), m.Password)
	m.Password = ""
	return err
}

// WithoutMailbox says what becomes of a mailbox's mail when it is taken out, and what
// names it.
func (s *Directory) WithoutMailbox(ctx context.Context, a address.Address) (string, error) {
	cfg := s.InForce.Config()
	old := ownMailbox(cfg, a)
	if old == nil {
		return "", fault.ErrNotFound
	}
	n, err := s.Store.MailboxCount(ctx, old.Address.String())
	if err != nil {
		return "", err
	}
	what := fmt.Sprintf("its %d messages are", n)
	if n == 1 {
		what = "its 1 message is"
	}
	text := fmt.Sprintf("mailbox %s: %s set aside until its time is over; "+
		"nobody who gets the address later sees them", a.Display(), what)
	if others := slices.Concat(old.Addresses, old.Generated); len(others) > 0 {
		text += "; mail to " + displays(others) + " is refused too"
	}
	return text + naming(cfg, a), nil
}

// WithoutAlias says what names an alias that is to be taken out.
func (s *Directory) WithoutAlias(a address.Address) (string, error) {
	cfg := s.InForce.Config()
	old := cfg.Directory.Alias(a)
	if old == nil {
		return "", fault.ErrNotFound
	}
	return fmt.Sprintf("alias %s: mail to it is refused; it went to %s", a.Display(),
		displays(old.To)) + naming(cfg, a), nil
}

// naming says which aliases lead to an address.
func naming(cfg *config.Compiled, a address.Address) string {
	var by []address.Address
	for _, alias := range cfg.Directory.Naming(a) {
		by = append(by, alias.Address)
	}
	if len(by) == 0 {
		return ""
	}
	return "; these aliases name it: " + displays(by)
}

// displays writes addresses for people: the first few, and how many more.
func displays(list []address.Address) string {
	const most = 5
	var words []string
	for _, a := range list[:min(len(list), most)] {
		words = append(words, a.Display())
	}
	if n := len(list) - most; n > 0 {
		words = append(words, fmt.Sprintf("%d more", n))
	}
	return strings.Join(words, ", ")
}

// RemoveMailbox takes a mailbox out; its messages are set aside until they are
// forgotten. Aliases and forwards to it are told.
func (s *Directory) RemoveMailbox(ctx context.Context, who string, a address.Address) error {
	old := ownMailbox(s.InForce.Config(), a)
	if old == nil {
		return fault.ErrNotFound
	}
	err := s.change(ctx, store.DirectoryChange{Who: who, DropMailboxes: []string{a.Key()},
		Records: []store.Record{{What: "mailbox", Name: a.Display(), Before: old.Fields()}}})
	s.Cluster.Changed("directory")
	return err
}

// PutAlias adds an alias, or changes the one with its address.
func (s *Directory) PutAlias(
	ctx context.Context,
	who string,
	a *directory.Alias,
	mustBeNew, dry bool,
) error {
	cfg := s.InForce.Config()
	old := cfg.Directory.Alias(a.Address)
	if old != nil && mustBeNew {
		return fault.ErrExists
	}
	if problems := cfg.Directory.CheckAlias(a, cfg.Kind); len(problems) > 0 {
		return problems
	}
	if dry {
		return nil
	}
	r := store.Record{What: "alias", Name: a.Address.Display(), After: a.Fields()}
	if old != nil {
		r.Before = old.Fields()
	}
	err := s.change(ctx,
		store.DirectoryChange{Who: who, Aliases: []*directory.Alias{a}, Records: []store.Record{r}})
	s.Cluster.Changed("directory")
	return err
}

// RemoveAlias takes an alias out.
func (s *Directory) RemoveAlias(ctx context.Context, who string, a address.Address) error {
	old := s.InForce.Config().Directory.Alias(a)
	if old == nil {
		return fault.ErrNotFound
	}
	err := s.change(ctx, store.DirectoryChange{Who: who, DropAliases: []string{a.Key()},
		Records: []store.Record{{What: "alias", Name: a.Display(), Before: old.Fields()}}})
	s.Cluster.Changed("directory")
	return err
}

// Bounds of an import.
const (
	maxProblems  = 100
	progressRows = 2000
)

// importer collects an import.
type importer struct {
	cfg      *config.Compiled
	dir      *directory.Directory // as it would be afterwards
	out      api.Imported
	change   store.DirectoryChange
	seen     map[string]int // rows by key
	progress func(done int, what string)
}

func (im *importer) wrong(line int, problems form.Problems) {
	for _, p := range problems {
		if p.Line == 0 {
			p.Line = line
		}
		if len(im.out.Problems) < maxProblems {
			im.out.Problems = append(im.out.Problems, p)
		}
	}
}

func (im *importer) twice(key, name string, line int) bool {
	first, ok := im.seen[key]
	if ok {
		im.wrong(line, form.Problems{
			{
				Line:  line,
				Field: "address",
				Text:  fmt.Sprintf("%s stands already in row %d", name, first),
			},
		})
	} else {
		im.seen[key] = line
	}
	return ok
}

// Import reads mailboxes or aliases from CSV: rows add or change, nobody is
// taken out. With a single row at fault nothing is changed. Columns that are not
// there keep what a mailbox has.
func (s *Directory) Import(
	ctx context.Context,
	who, what string,
	r io.Reader,
	dry bool,
	progress func(done int, what string),
) (api.Imported, error) {
	cfg := s.InForce.Config()
	im := &importer{
		cfg:      cfg,
		dir:      cfg.Directory.Clone(),
		out:      api.Imported{Problems: []form.Problem{}},
		seen:     map[string]int{},
		progress: progress,
	}
	allowed := directory.MailboxColumns
	if what == "alias" {
		allowed = directory.AliasColumns
	}
	rows, err := directory.NewRows(r, allowed)
	var problems form.Problems
	if errors.As(err, &problems) {
		im.out.Problems = problems
		return im.out, nil
	}
	for {
		var end error
		if what == "alias" {
			end = im.alias(rows)
		} else {
			end = im.mailbox(rows)
		}
		if errors.Is(end, io.EOF) {
			break
		}
		if end != nil {
			return im.out, end
		}
		im.out.Rows++
		if im.out.Rows%progressRows == 0 {
			progress(im.out.Rows, "checked")
			if err := ctx.Err(); err != nil {
				return im.out, err
			}
		}
	}
	for _, a := range im.change.Aliases { // loops show only when all are there
		im.wrong(a.Line, im.dir.CheckAlias(a, cfg.Kind))
	}
	if len(im.out.Problems) > 0 || dry {
		return im.out, nil
	}
	return im.out, im.write(ctx, s, who, what)
}

func (im *importer) mailbox(rows *directory.Rows) error {
	m, problems, err := rows.Mailbox()
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		im.wrong(problems[0].Line, problems)
		return nil
	}
	if im.twice(m.Address.Key(), m.Address.Display(), m.Line) {
		return nil
	}
	old := im.dir.Mailbox(m.Address)
	if old != nil && old.Address.Key() != m.Address.Key() {
		old = nil
	}
	if old != nil {
		keepMissing(m, old, rows.Columns())
	}
	if problems := im.dir.CheckMailbox(m, im.cfg.Kind); len(problems) > 0 {
		im.wrong(m.Line, problems)
		return nil
	}
	switch {
	case old == nil:
		im.out.New++
	case m.Password == "" && reflect.DeepEqual(m.Fields(), old.Fields()):
		im.out.Unchanged++
		return nil
	default:
		im.out.Changed++
	}
	if d := im.cfg.Domain(m.Address.Domain); d != nil {
		m.Generated = im.dir.Generate(m, d.Generated)
	}
	kept := *m
	kept.Password = ""
	im.dir.Put(&kept)
	im.change.Mailboxes = append(im.change.Mailboxes, m)
	return nil
}

// keepMissing fills in what the CSV has no column for.
func keepMissing(m, old *directory.Mailbox, columns []string) {
	has := map[string]bool{}
	for _, c := range columns {
		has[c] = true
		if strings.HasPrefix(c, "reply_") {
			has["automatic_reply"] = true
		}
	}
	into, from := reflect.ValueOf(m).Elem(), reflect.ValueOf(old).Elem()
	for i := range into.NumField() {
		if name := into.Type().Field(i).Tag.Get("yaml"); name != "" && !has[name] &&
			name != "password" {
			into.Field(i).Set(from.Field(i))
		}
	}
}

func (im *importer) alias(rows *directory.Rows) error {
	a, problems, err := rows.Alias()
	if err != nil {
		return err
	}
	if len(problems) > 0 {
		im.wrong(problems[0].Line, problems)
		return nil
	}
	if im.twice(a.Address.Key(), a.Address.Display(), a.Line) {
		return nil
	}
	switch old := im.dir.Alias(a.Address); {
	case old == nil:
		im.out.New++
	case reflect.DeepEqual(a.Fields(), old.Fields()):
		im.out.Unchanged++
		return nil
	default:
		im.out.Changed++
	}
	im.dir.PutAlias(a)
	im.change.Aliases = append(im.change.Aliases, a)
	return nil
}

// write hashes passwords and writes everything in one transaction.
func (im *importer) write(ctx context.Context, e *Directory, who, what string) error {
	for i, m := range im.change.Mailboxes {
		if m.Password == "" {
			continue
		}
		var err error
		if m.Hash, err = signin.Hash(m.Password); err != nil {
			return err
		}
		if m.Scram, err = signin.ScramKeys(m.Address.String(), m.Password); err != nil {
			return err
		}
		m.Password = ""
		if i%20 == 0 {
			im.progress(i, "passwords hashed")
		}
	}
	im.change.Who = who
	im.change.Records = []store.Record{
		{
			What: what,
			Name: "import",
			After: map[string]any{
				"rows":    im.out.Rows,
				"new":     im.out.New,
				"changed": im.out.Changed,
			},
		},
	}
	im.progress(im.out.Rows, "writing")
	if err := e.change(ctx, im.change); err != nil {
		return err
	}
	im.out.Written = true
	e.Cluster.Changed("directory")
	return nil
}

// directoryOf makes of the mailboxes and aliases that stand in a configuration's
// text a change of the directory: they add or change. Encrypted secrets come with
// them.
func (d *Directory) directoryOf(
	ctx context.Context,
	who string,
	cfg *config.Compiled,
	c *config.Config,
) (*store.DirectoryChange, error) {
	for _, s := range c.Secrets {
		if err := d.Secrets.SetSecret(ctx, who, s.Name, s.Value); err != nil {
			return nil, fmt.Errorf("secret %s: %w", s.Name, err)
		}
	}
	if len(c.Mailboxes)+len(c.Aliases) == 0 {
		return nil, nil
	}
	scratch := cfg.Directory.Clone()
	change := &store.DirectoryChange{
		Who: who,
		Records: []store.Record{
			{
				What:  "mailbox",
				Name:  "import",
				After: map[string]any{"mailboxes": len(c.Mailboxes), "aliases": len(c.Aliases)},
			},
		},
	}
	var problems form.Problems
	for i := range c.Mailboxes {
		m := c.Mailboxes[i]
		problems = append(problems, scratch.CheckMailbox(&m, cfg.Kind)...)
		if err := prepare(cfg, scratch, &m); err != nil {
			return nil, err
		}
		kept := m
		scratch.Put(&kept)
		change.Mailboxes = append(change.Mailboxes, &m)
	}
	for i := range c.Aliases {
		scratch.PutAlias(&c.Aliases[i])
		change.Aliases = append(change.Aliases, &c.Aliases[i])
	}
	for i := range c.Aliases {
		problems = append(problems, scratch.CheckAlias(&c.Aliases[i], cfg.Kind)...)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return change, nil
}

// regenerate makes the generated addresses that the patterns in force ask for.
func (s *Directory) regenerate(ctx context.Context, who string) error {
	cfg := s.InForce.Config()
	var change store.DirectoryChange
	scratch := cfg.Directory.Clone()
	for _, m := range cfg.Directory.Mailboxes() {
		d := cfg.Domain(m.Address.Domain)
		if d == nil || len(d.Generated)+len(m.Generated) == 0 {
			continue
		}
		fresh := *m
		fresh.Generated = scratch.Generate(m, d.Generated)
		if !sameAddresses(fresh.Generated, m.Generated) {
			scratch.Put(&fresh)
			change.Mailboxes = append(change.Mailboxes, &fresh)
		}
	}
	if len(change.Mailboxes) == 0 {
		return nil
	}
	change.Who = who
	change.Records = []store.Record{
		{
			What:  "mailbox",
			Name:  "generated addresses",
			After: map[string]any{"mailboxes": len(change.Mailboxes)},
		},
	}
	return s.change(ctx, change)
}

func sameAddresses(a, b []address.Address) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Key() != b[i].Key() {
			return false
		}
	}
	return true
}

// change writes a change and follows it here immediately.
func (s *Directory) change(ctx context.Context, c store.DirectoryChange) error {
	if err := s.Store.ChangeDirectory(ctx, c); err != nil {
		return err
	}
	s.known(c)
	return nil
}

// known takes a change that is written into what is in force here.
func (s *Directory) known(c store.DirectoryChange) {
	dir := s.InForce.Config().Directory
	for _, m := range c.Mailboxes {
		kept := *m
		kept.Password, kept.Hash, kept.Scram = "", "", ""
		dir.Put(&kept)
	}
	for _, a := range c.Aliases {
		dir.PutAlias(a)
	}
	for _, k := range c.DropMailboxes {
		dir.RemoveKey(k)
	}
	for _, k := range c.DropAliases {
		dir.RemoveAliasKey(k)
	}
}

// List lists mailboxes with how full they are.
func (s *Directory) List(ctx context.Context, l mail.MailboxList) ([]mail.MailboxLine, error) {
	return s.Store.ListMailboxes(ctx, l)
}

// Records are what was changed in the directory, newest first.
func (s *Directory) Records(
	ctx context.Context,
	what, name string,
	before int64,
	limit int,
) ([]mail.Record, error) {
	return s.Store.Records(ctx, what, name, before, limit)
}

// SecretNames are the names of the passwords kept for others' servers.
func (s *Directory) SecretNames(ctx context.Context) ([]mail.SecretLine, error) {
	return s.Names.List(ctx)
}

// RemoveSecret forgets a password.
func (s *Directory) RemoveSecret(ctx context.Context, who, name string) error {
	return s.Names.RemoveSecret(ctx, who, name)
}
