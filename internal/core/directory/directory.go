// Package directory is who has mail here: mailboxes, aliases and the addresses
// generated from people's names, with the checks that keep it sound and the
// lookups that decisions are made on.
package directory

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"gullroute/internal/core/address"
	"gullroute/internal/core/form"
)

// Mailbox is a person's or a function's.
type Mailbox struct {
	Line      int
	Address   address.Address   `yaml:"address" required:"true"`
	Name      string            `yaml:"name" doc:"Of the person: addresses are generated from it"`
	Addresses []address.Address `yaml:"addresses" doc:"Further ones under which it is reached"`
	Quota     form.Size         `yaml:"quota" doc:"Octets it holds at most; not limited if not given"`
	ForwardTo []address.Address `yaml:"forward_to" doc:"Where its mail goes on to"`
	KeepCopy  bool              `yaml:"keep_copy" doc:"What is forwarded stays here too"`
	Reply     *Reply            `yaml:"automatic_reply" doc:"Sent once a week to each who writes (RFC 3834)"`
	MaySubmit bool              `yaml:"may_submit" doc:"May sign in and send"`
	SendAs    address.Patterns  `yaml:"send_as" doc:"Further senders it may use: addresses or whole domains"`
	Reading   Reading           `yaml:"reading" doc:"How it is read, by its owner and by others"`
	// Password is written only: of it hashes are kept.
	Password string `yaml:"password" doc:"Written only; of it hashes are kept"`
	// Hash and Scram stand in an export with secrets only.
	Hash  string `yaml:"password_hash" doc:"In an export with secrets"`
	Scram string `yaml:"scram_keys" doc:"In an export with secrets"`
	// Generated are addresses made from Name; they are kept with the mailbox, so
	// that they stay the same whoever comes or goes.
	Generated []address.Address
}

// Reply is an automatic reply.
type Reply struct {
	Inside  string   `yaml:"inside" doc:"For our own people"`
	Outside string   `yaml:"outside" doc:"For everybody else; without it they get none"`
	From    form.Day `yaml:"from" doc:"First day"`
	Until   form.Day `yaml:"until" doc:"Last day"`
}

// Alias passes mail on to other addresses.
type Alias struct {
	Line    int
	Address address.Address   `yaml:"address" required:"true"`
	To      []address.Address `yaml:"to" required:"true" doc:"One or many; other aliases too"`
	About   string            `yaml:"about" doc:"What it is for"`
}

// May reports whether the mailbox's owner may send as an address: his own ones,
// generated ones too, and those he was given.
func (m *Mailbox) May(sender address.Address) bool {
	own := func(a address.Address) bool { return a.Key() == sender.Key() }
	if own(m.Address) || slices.ContainsFunc(m.Addresses, own) ||
		slices.ContainsFunc(m.Generated, own) {
		return true
	}
	_, ok := m.SendAs.Match(sender)
	return ok && len(m.SendAs) > 0
}

// keys are all addresses under which a mailbox is reached.
func (m *Mailbox) keys() []string {
	keys := make([]string, 0, 1+len(m.Addresses)+len(m.Generated))
	keys = append(keys, m.Address.Key())
	for _, a := range m.Addresses {
		keys = append(keys, a.Key())
	}
	for _, a := range m.Generated {
		keys = append(keys, a.Key())
	}
	return keys
}

// Directory looks mailboxes and aliases up. It is safe for several goroutines;
// what it returns is not to be changed.
type Directory struct {
	mu      sync.RWMutex
	boxes   map[string]*Mailbox // under every address
	aliases map[string]*Alias
	count   int            // mailboxes
	domains map[string]int // mailboxes at each
	shared  map[string]*Mailbox
}

// New makes an empty directory.
func New() *Directory {
	return &Directory{
		boxes:   map[string]*Mailbox{},
		aliases: map[string]*Alias{},
		domains: map[string]int{},
		shared:  map[string]*Mailbox{},
	}
}

// Counts are how many mailboxes and aliases there are.
func (d *Directory) Counts() (mailboxes, aliases int) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.count, len(d.aliases)
}

// Domains are how many mailboxes each domain has.
func (d *Directory) Domains() map[string]int {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return maps.Clone(d.domains)
}

// Mailbox is the one reached under an address, or nil.
func (d *Directory) Mailbox(a address.Address) *Mailbox {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.boxes[a.Key()]
}

// Alias is the one with an address, or nil.
func (d *Directory) Alias(a address.Address) *Alias {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.aliases[a.Key()]
}

// Put adds a mailbox or takes it in place of the one with its address.
func (d *Directory) Put(m *Mailbox) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.drop(m.Address.Key())
	d.count++
	d.domains[m.Address.Domain]++
	if len(m.Reading.Shared) > 0 {
		d.shared[m.Address.Key()] = m
	}
	for _, k := range m.keys() {
		d.boxes[k] = m
	}
}

// drop removes a mailbox. mu is held.
func (d *Directory) drop(key string) {
	old := d.boxes[key]
	if old == nil || old.Address.Key() != key {
		return
	}
	d.count--
	if d.domains[old.Address.Domain]--; d.domains[old.Address.Domain] == 0 {
		delete(d.domains, old.Address.Domain)
	}
	delete(d.shared, key)
	for _, k := range old.keys() {
		if d.boxes[k] == old {
			delete(d.boxes, k)
		}
	}
}

// PutAlias adds an alias or takes it in place of the one with its address.
func (d *Directory) PutAlias(a *Alias) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.aliases[a.Address.Key()] = a
}

// Mailboxes are all of them, in the order of their addresses.
func (d *Directory) Mailboxes() []*Mailbox {
	d.mu.RLock()
	out := make([]*Mailbox, 0, d.count)
	for k, m := range d.boxes {
		if m.Address.Key() == k {
			out = append(out, m)
		}
	}
	d.mu.RUnlock()
	slices.SortFunc(out,
		func(a, b *Mailbox) int { return strings.Compare(a.Address.Key(), b.Address.Key()) })
	return out
}

// Aliases are all of them, in the order of their addresses.
func (d *Directory) Aliases() []*Alias {
	d.mu.RLock()
	out := make([]*Alias, 0, len(d.aliases))
	for _, a := range d.aliases {
		out = append(out, a)
	}
	d.mu.RUnlock()
	slices.SortFunc(out,
		func(a, b *Alias) int { return strings.Compare(a.Address.Key(), b.Address.Key()) })
	return out
}

// Naming are the aliases that name an address among others, in the order of their
// own.
func (d *Directory) Naming(a address.Address) []*Alias {
	d.mu.RLock()
	var out []*Alias
	for _, alias := range d.aliases {
		if slices.ContainsFunc(
			alias.To,
			func(to address.Address) bool { return to.Key() == a.Key() },
		) {
			out = append(out, alias)
		}
	}
	d.mu.RUnlock()
	slices.SortFunc(out,
		func(a, b *Alias) int { return strings.Compare(a.Address.Key(), b.Address.Key()) })
	return out
}

// Holder tells who has an address, in words; "" if it is free.
func (d *Directory) Holder(a address.Address) string {
	if m := d.Mailbox(a); m != nil {
		if m.Address.Key() == a.Key() {
			return "a mailbox"
		}
		return "an address of mailbox " + m.Address.Display()
	}
	if d.Alias(a) != nil {
		return "an alias"
	}
	return ""
}

// RemoveKey takes out the mailbox whose own address has a key.
func (d *Directory) RemoveKey(key string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.drop(key)
}

// RemoveAliasKey takes out the alias with a key.
func (d *Directory) RemoveAliasKey(key string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.aliases, key)
}

// Become takes the contents of another directory, which is not used any more.
func (d *Directory) Become(other *Directory) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.boxes, d.aliases, d.count, d.domains = other.boxes, other.aliases, other.count, other.domains
	d.shared = other.shared
}

// Clone is a copy that can be changed by itself.
func (d *Directory) Clone() *Directory {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return &Directory{
		boxes:   maps.Clone(d.boxes),
		aliases: maps.Clone(d.aliases),
		count:   d.count,
		domains: maps.Clone(d.domains),
		shared:  maps.Clone(d.shared),
	}
}

// Of makes a directory of what stands in one text with a configuration.
func Of(mailboxes []Mailbox, aliases []Alias) *Directory {
	d := New()
	for i := range mailboxes {
		d.Put(&mailboxes[i])
	}
	for i := range aliases {
		d.PutAlias(&aliases[i])
	}
	return d
}
