package access

import (
	"errors"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/folder"
	"gullroute/internal/store"
)

// sharedPrefix stands before the mailboxes of others (RFC 2342).
const sharedPrefix = "Shared" + folder.Separator

// place is a folder by whose mailbox it is in, and what the reader may do there.
type place struct {
	box    *directory.Mailbox
	name   string // in that mailbox
	may    directory.Rights
	prefix string // before the names of that mailbox; "" of one's own
}

// mailbox is the name of the mailbox in the store.
func (p place) mailbox() string { return p.box.Address.String() }

// shown is a folder's name as the reader sees it.
func (p place) shown(name string) string {
	if p.prefix == "" {
		return name
	}
	if name == folder.Inbox {
		return p.prefix
	}
	return p.prefix + folder.Separator + name
}

// others are the mailboxes that are shared with the reader.
func (r *shelves) others() ([]place, error) {
	own, err := r.box()
	if err != nil {
		return nil, err
	}
	var out []place
	for _, g := range r.server.cfg.Load().Directory.SharedWith(own) {
		name := g.Box.Address.Local
		if g.Box.Address.Domain != own.Address.Domain {
			name = g.Box.Address.Display()
		}
		out = append(out, place{box: g.Box, may: g.May, prefix: sharedPrefix + name})
	}
	return out, nil
}

// place finds where a name leads.
func (r *shelves) place(name string) (place, error) {
	own, err := r.box()
	if err != nil {
		return place{}, err
	}
	if strings.EqualFold(name, strings.TrimSuffix(sharedPrefix, folder.Separator)) {
		return place{}, no(
			imap.ResponseCodeNonExistent,
			"here stand the mailboxes of others; it is no folder",
		)
	}
	if !strings.HasPrefix(name, sharedPrefix) {
		clean, err := folder.CleanName(name)
		if err != nil {
			return place{}, no(imap.ResponseCodeCannot, "%v", err)
		}
		return place{box: own, name: clean, may: directory.MayManage}, nil
	}
	others, err := r.others()
	if err != nil {
		return place{}, err
	}
	for _, p := range others {
		if name == p.prefix {
			p.name = folder.Inbox
			return p, nil
		}
		if rest, under := strings.CutPrefix(name, p.prefix+folder.Separator); under {
			if p.name, err = folder.CleanName(rest); err != nil {
				return place{}, no(imap.ResponseCodeCannot, "%v", err)
			}
			return p, nil
		}
	}
	return place{}, no(imap.ResponseCodeNonExistent, "nobody shares such a folder with you")
}

// open finds a folder and sees that the reader may do something there.
func (r *shelves) open(name string, may directory.Rights) (place, folder.Folder, error) {
	p, err := r.place(name)
	if err != nil {
		return p, folder.Folder{}, err
	}
	if p.may < may {
		return p, folder.Folder{}, no(imap.ResponseCodeNoPerm, "you may not do that in this folder")
	}
	ctx, cancel := asking()
	defer cancel()
	f, err := r.folders.Folder(ctx, p.mailbox(), p.name)
	if errors.Is(err, store.ErrNotFound) && p.name == folder.Inbox {
		err = no(imap.ResponseCodeUnavailable, "the inbox is being made; try again")
	}
	return p, f, r.answered(err)
}

// Create is CREATE.
func (r *shelves) Create(name string, options *imap.CreateOptions) error {
	p, err := r.place(name)
	if err != nil {
		return err
	}
	if p.may < directory.MayManage {
		return no(imap.ResponseCodeNoPerm, "you may not make folders there")
	}
	use := ""
	for _, a := range options.SpecialUse {
		u := strings.ToLower(strings.TrimPrefix(string(a), `\`))
		if !slices.Contains(folder.Uses, u) {
			return no(
				"USEATTR",
				"there is no use %s; there are \\Sent, \\Drafts, \\Trash, \\Junk and \\Archive",
				a,
			)
		}
		use = u
	}
	ctx, cancel := asking()
	defer cancel()
	if err := r.folders.File(ctx, p.mailbox()); err != nil { // the usual folders are there first
		return r.answered(err)
	}
	return r.answered(r.folders.Create(ctx, p.mailbox(), p.name, use))
}

// Delete is DELETE.
func (r *shelves) Delete(name string) error {
	p, f, err := r.open(name, directory.MayManage)
	if err != nil {
		return err
	}
	if p.name == folder.Inbox {
		return no(imap.ResponseCodeCannot, "the inbox cannot be deleted")
	}
	ctx, cancel := asking()
	defer cancel()
	if err := r.folders.Delete(ctx, p.mailbox(), f.Name); err != nil {
		return r.answered(err)
	}
	r.server.Changes.Changed(p.mailbox())
	return nil
}

// Rename is RENAME.
func (r *shelves) Rename(from, to string, _ *imap.RenameOptions) error {
	p, _, err := r.open(from, directory.MayManage)
	if err != nil {
		return err
	}
	target, err := r.place(to)
	switch {
	case err != nil:
		return err
	case target.box != p.box:
		return no(
			imap.ResponseCodeCannot,
			"a folder stays in its mailbox; move its messages instead",
		)
	case target.name == folder.Inbox:
		return no(imap.ResponseCodeAlreadyExists, "there is an inbox already")
	case folder.Under(target.name, p.name) && p.name != folder.Inbox:
		return no(imap.ResponseCodeCannot, "a folder cannot lie in itself")
	}
	ctx, cancel := asking()
	defer cancel()
	if err := r.folders.Rename(ctx, p.mailbox(), p.name, target.name); err != nil {
		return r.answered(err)
	}
	r.server.Changes.Changed(p.mailbox())
	return nil
}

// Subscribe is SUBSCRIBE.
func (r *shelves) Subscribe(name string) error { return r.subscribe(name, true) }

// Unsubscribe is UNSUBSCRIBE.
func (r *shelves) Unsubscribe(name string) error { return r.subscribe(name, false) }

func (r *shelves) subscribe(name string, on bool) error {
	p, _, err := r.open(name, directory.MayLook)
	if err != nil {
		return err
	}
	if p.may < directory.MayManage { // what others share is always shown
		return nil
	}
	ctx, cancel := asking()
	defer cancel()
	return r.answered(r.folders.Subscribe(ctx, p.mailbox(), p.name, on))
}

// Namespace is NAMESPACE (RFC 2342).
func (r *shelves) Namespace() (*imap.NamespaceData, error) {
	delim := rune(folder.Separator[0])
	return &imap.NamespaceData{
		Personal: []imap.NamespaceDescriptor{{Prefix: "", Delim: delim}},
		Shared:   []imap.NamespaceDescriptor{{Prefix: sharedPrefix, Delim: delim}},
	}, nil
}

// listed is a folder as it is listed.
type listed struct {
	place
	folder.Folder
	shown string
	there bool // false of a level that is no folder
}

// all are the folders that the reader sees.
func (r *shelves) all() ([]listed, error) {
	own, err := r.box()
	if err != nil {
		return nil, err
	}
	places, err := r.others()
	if err != nil {
		return nil, err
	}
	places = append([]place{{box: own, may: directory.MayManage}}, places...)
	var out []listed
	for _, p := range places {
		ctx, cancel := asking()
		list, err := r.folders.Folders(ctx, p.mailbox())
		cancel()
		if err != nil {
			return nil, r.answered(err)
		}
		for _, f := range list {
			if p.prefix != "" && f.Use != "" && f.Messages == 0 {
				continue // the usual folders of others, which nobody uses there
			}
			if p.may < directory.MayManage {
				f.Subscribed = true
			}
			out = append(out, listed{p, f, p.shown(f.Name), true})
		}
	}
	known := map[string]bool{}
	for _, l := range out {
		known[l.shown] = true
	}
	for _, l := range slices.Clone(out) { // levels between, which nobody made
		for _, above := range folder.Parents(l.shown) {
			if !known[above] {
				known[above] = true
				out = append(out, listed{place: l.place, shown: above})
			}
		}
	}
	return out, nil
}

// attributes are those of a folder in a list.
func (l *listed) attributes(among []listed) []imap.MailboxAttr {
	var attrs []imap.MailboxAttr
	if !l.there {
		attrs = append(attrs, imap.MailboxAttrNonExistent, imap.MailboxAttrNoSelect)
	}
	if slices.ContainsFunc(among, func(o listed) bool { return folder.Under(o.shown, l.shown) }) {
		attrs = append(attrs, imap.MailboxAttrHasChildren)
	} else {
		attrs = append(attrs, imap.MailboxAttrHasNoChildren)
	}
	if l.Use != "" && l.prefix == "" { // others' folders of a use are not the reader's
		attrs = append(attrs, imap.MailboxAttr(`\`+strings.ToUpper(l.Use[:1])+l.Use[1:]))
	}
	return attrs
}

// List is LIST and LSUB, with RFC 5258, 5819 and 6154.
func (r *shelves) List(
	w *imapserver.ListWriter,
	ref string,
	patterns []string,
	o *imap.ListOptions,
) error {
	if len(patterns) == 1 && patterns[0] == "" { // only the separator is asked for
		return w.WriteList(&imap.ListData{Attrs: []imap.MailboxAttr{imap.MailboxAttrNoSelect},
			Delim: rune(folder.Separator[0])})
	}
	folders, err := r.all()
	if err != nil {
		return err
	}
	slices.SortStableFunc(folders, func(a, b listed) int {
		if (a.shown == folder.Inbox) != (b.shown == folder.Inbox) {
			if a.shown == folder.Inbox {
				return -1
			}
			return 1
		}
		return strings.Compare(a.shown, b.shown)
	})
	for i := range folders {
		l := &folders[i]
		matches := slices.ContainsFunc(patterns, func(p string) bool {
			if strings.EqualFold(ref+p, folder.Inbox) {
				p, ref = folder.Inbox, ""
			}
			return imapserver.MatchList(l.shown, rune(folder.Separator[0]), ref, p)
		})
		if !matches {
			continue
		}
		below := slices.ContainsFunc(folders, func(other listed) bool {
			return other.there && other.Subscribed && folder.Under(other.shown, l.shown)
		})
		if o.SelectSubscribed && !(l.there && l.Subscribed) && !(o.SelectRecursiveMatch && below) ||
			o.SelectSpecialUse && (l.Use == "" || l.prefix != "") || o.SelectRemote {
			continue
		}
		data := &imap.ListData{
			Attrs:   l.attributes(folders),
			Delim:   rune(folder.Separator[0]),
			Mailbox: l.shown,
		}
		if l.there && l.Subscribed && (o.ReturnSubscribed || o.SelectSubscribed) {
			data.Attrs = append(data.Attrs, imap.MailboxAttrSubscribed)
		}
		if o.SelectRecursiveMatch && below {
			data.ChildInfo = &imap.ListDataChildInfo{Subscribed: true}
		}
		if o.ReturnStatus != nil && l.there {
			data.Status = status(l.shown, &l.Folder)
		}
		if err := w.WriteList(data); err != nil {
			return err
		}
	}
	return nil
}

// Status is STATUS.
func (r *shelves) Status(name string, _ *imap.StatusOptions) (*imap.StatusData, error) {
	_, f, err := r.open(name, directory.MayLook)
	if err != nil {
		return nil, err
	}
	return status(name, &f), nil
}

// status is all that can be asked of a folder: it is counted with each change.
func status(name string, f *folder.Folder) *imap.StatusData {
	messages, unseen, deleted, recent := uint32(
		f.Messages,
	), uint32(
		f.Unseen,
	), uint32(
		f.Deleted,
	), uint32(
		0,
	)
	limit := uint32(maxAppend)
	return &imap.StatusData{
		Mailbox:     name,
		NumMessages: &messages,
		NumUnseen:   &unseen,
		NumDeleted:  &deleted,
		NumRecent:   &recent,
		UIDNext:     imap.UID(f.Next),
		UIDValidity: uint32(f.ID),
		Size:        &f.Octets,
		AppendLimit: &limit,
	}
}

// fromUTF16 reads big-endian UTF-16.
func fromUTF16(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = uint16(raw[2*i])<<8 | uint16(raw[2*i+1])
	}
	return string(utf16.Decode(units))
}
