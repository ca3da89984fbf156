package access

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"

	"gullroute/internal/core/directory"
	"gullroute/internal/core/folder"
	"gullroute/internal/store"
)

// selected is the folder that a session has open.
type selected struct {
	place    place
	folder   folder.Folder
	readOnly bool
	view     folder.View
	modSeq   int64 // up to which changes are known
	word     chan struct{}
	stop     func()
	saved    folder.Ranges // of the last search that said so (RFC 5182)
	// Known, and not yet told:
	gone    []uint32
	fresh   []uint32
	changed map[uint32]folder.Item
}

// views share what sessions see of a folder as long as they see the same.
type views struct {
	mu   sync.Mutex
	each map[int64]shownAt
}

type shownAt struct {
	modSeq int64
	view   folder.View
}

// maxViews bounds how many are kept.
const maxViews = 2000

// at is the view of a folder at a change number, if it is known.
func (v *views) at(id, modSeq int64) (folder.View, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	known, ok := v.each[id]
	return known.view, ok && known.modSeq == modSeq
}

// keep keeps the view of a folder at a change number, and gives the one that is shared.
func (v *views) keep(id, modSeq int64, view folder.View) folder.View {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.each == nil || len(v.each) > maxViews {
		v.each = map[int64]shownAt{}
	}
	if known, ok := v.each[id]; ok && known.modSeq == modSeq {
		return known.view
	}
	v.each[id] = shownAt{modSeq, view}
	return view
}

// systemFlags are those that every folder has.
var systemFlags = []imap.Flag{
	imap.FlagAnswered,
	imap.FlagFlagged,
	imap.FlagDeleted,
	imap.FlagSeen,
	imap.FlagDraft,
}

// Select is SELECT and EXAMINE.
func (r *desk) Select(name string, o *imap.SelectOptions) (*imap.SelectData, error) {
	r.unselect()
	p, f, err := r.open(name, directory.MayLook)
	if err != nil {
		return nil, err
	}
	at := &selected{
		place:    p,
		readOnly: o.ReadOnly || p.may < directory.MayAdd,
		changed:  map[uint32]folder.Item{},
	}
	at.word, at.stop = r.server.Changes.watch(p.mailbox()) // before looking, or word may be missed
	data, err := r.load(at, f)
	if err != nil {
		at.stop()
		return nil, r.answered(err)
	}
	r.at = at
	return data, nil
}

func (r *desk) load(at *selected, f folder.Folder) (*imap.SelectData, error) {
	ctx, cancel := asking()
	defer cancel()
	at.folder, at.modSeq = f, f.ModSeq
	view, known := r.server.views.at(f.ID, f.ModSeq)
	if !known {
		uids, modSeq, err := r.filed.UIDs(ctx, f.ID)
		if err != nil {
			return nil, err
		}
		view, at.modSeq = r.server.views.keep(f.ID, modSeq, folder.ViewOf(uids)), modSeq
	}
	at.view = view
	if err := r.folders.Opened(ctx, f.ID); err != nil {
		return nil, err
	}
	go func() { // so that the first search need not wait
		if err := r.server.words(context.Background(), f.ID); err != nil {
			r.log.Warn("the words of messages could not be read", "error", err)
		}
	}()
	keywords, err := r.filed.Keywords(ctx, f.ID, 100)
	if err != nil {
		return nil, err
	}
	first, err := r.filed.FirstUnseen(ctx, f.ID)
	if err != nil {
		return nil, err
	}
	flags := slices.Clone(systemFlags)
	for _, k := range keywords {
		flags = append(flags, imap.Flag(k))
	}
	data := &imap.SelectData{
		Flags:             flags,
		NumMessages:       uint32(view.Len()),
		UIDNext:           imap.UID(f.Next),
		UIDValidity:       uint32(f.ID),
		FirstUnseenSeqNum: view.Seq(first),
	}
	if n := view.Len(); n > 0 { // something came while we looked
		data.UIDNext = max(data.UIDNext, imap.UID(view.UIDs()[n-1])+1)
	}
	if !at.readOnly {
		data.PermanentFlags = append(slices.Clone(flags), imap.FlagWildcard)
	}
	return data, nil
}

// Unselect is UNSELECT and the end of CLOSE.
func (r *desk) Unselect() error {
	r.unselect()
	return nil
}

func (r *desk) unselect() {
	if r.at != nil {
		r.at.stop()
		r.at, r.last = nil, lastRead{}
	}
}

// pull asks what became of the folder since the last time.
func (r *desk) pull() error {
	at := r.at
	ctx, cancel := asking()
	defer cancel()
	if at.folder.Name == folder.Inbox {
		if err := r.folders.File(ctx, at.place.mailbox()); err != nil {
			return err
		}
	}
	c, err := r.filed.ChangesSince(ctx, at.folder.ID, at.modSeq)
	if err != nil {
		return err
	}
	if c.Lost {
		r.because("the folder that it had open was deleted")
		r.wire.tell("* BYE this folder was deleted; select another\r\n")
		_ = r.wire.Close() // the session is over all the same
		return errGone
	}
	at.modSeq = c.ModSeq
	at.gone = append(at.gone, c.Gone...)
	for _, i := range c.Changed {
		if at.view.Seq(i.UID) == 0 {
			if !slices.Contains(at.fresh, i.UID) {
				at.fresh = append(at.fresh, i.UID)
			}
			continue
		}
		at.changed[i.UID] = i
	}
	return nil
}

var errGone = errors.New("the folder is gone")

// tell tells the client what is known and was not told; messages that are gone only where
// the client expects it.
func (r *desk) tell(w *imapserver.UpdateWriter, allowExpunge bool) error {
	at := r.at
	if allowExpunge && len(at.gone) > 0 {
		if err := r.expunged(w.WriteExpunge); err != nil {
			return err
		}
	}
	if len(at.fresh) > 0 {
		slices.Sort(at.fresh)
		at.view = at.view.With(at.fresh)
		at.fresh = nil
		if len(at.gone) == 0 {
			at.view = r.server.views.keep(at.folder.ID, at.modSeq, at.view)
		}
		if err := w.WriteNumMessages(uint32(at.view.Len())); err != nil {
			return err
		}
	}
	for uid, i := range at.changed {
		delete(at.changed, uid)
		if seq := at.view.Seq(uid); seq > 0 {
			if err := w.WriteMessageFlags(seq, imap.UID(uid), flagsOf(&i)); err != nil {
				return err
			}
		}
	}
	return nil
}

// expunged tells which messages are gone.
func (r *desk) expunged(write func(uint32) error) error {
	at := r.at
	at.fresh = slices.DeleteFunc(
		at.fresh,
		func(uid uint32) bool { return slices.Contains(at.gone, uid) },
	)
	var places []uint32
	at.view, places = at.view.Without(at.gone)
	for _, uid := range at.gone {
		delete(at.changed, uid)
	}
	at.gone = nil
	for _, seq := range places {
		if err := write(seq); err != nil {
			return err
		}
	}
	return nil
}

func flagsOf(i *folder.Item) []imap.Flag {
	names := i.FlagNames()
	out := make([]imap.Flag, len(names))
	for j, n := range names {
		out[j] = imap.Flag(n)
	}
	return out
}

// Poll tells what changed since the last command.
func (r *desk) Poll(w *imapserver.UpdateWriter, allowExpunge bool) error {
	if r.at == nil {
		return nil
	}
	select {
	case <-r.at.word:
		if err := r.pull(); err != nil {
			return err
		}
	default: // nobody said that anything changed
	}
	return r.tell(w, allowExpunge)
}

// Idle is IDLE (RFC 2177).
func (r *desk) Idle(w *imapserver.UpdateWriter, stop <-chan struct{}) error {
	r.last = lastRead{} // who idles reads nothing, maybe for hours
	r.wire.idle.Store(true)
	defer r.wire.idle.Store(false)
	if r.at == nil {
		<-stop
		return nil
	}
	for {
		select {
		case <-stop:
			return nil
		case <-r.at.word:
			if err := r.pull(); err != nil {
				if errors.Is(err, errGone) {
					return err
				}
				r.log.Error("a mailbox could not be looked at", "error", err)
				time.Sleep(time.Second)
				select { // again
				case r.at.word <- struct{}{}:
				default:
				}
				continue
			}
			if err := r.tell(w, true); err != nil {
				return err
			}
		}
	}
}

// ranges are the messages that a command names, of those that the client knows.
func (r *desk) ranges(set imap.NumSet) (folder.Ranges, error) {
	switch set := set.(type) {
	case imap.SeqSet:
		places := make(folder.Ranges, len(set))
		for i, x := range set {
			places[i] = folder.Range{Low: x.Start, High: x.Stop}
		}
		if !r.at.view.Known(places) {
			return nil, &imap.Error{Type: imap.StatusResponseTypeBad, Code: imap.ResponseCodeClientBug,
				Text: "there is no message at that place"}
		}
		return r.at.view.BySeq(places), nil
	case imap.UIDSet:
		return r.at.view.ByUID(r.numbers(set)), nil
	}
	return nil, no(imap.ResponseCodeCannot, "there are no such numbers")
}

// numbers are the numbers of a set; the saved result stands for itself.
func (r *desk) numbers(set imap.UIDSet) folder.Ranges {
	if imap.IsSearchRes(set) {
		return r.at.saved
	}
	out := make(folder.Ranges, len(set))
	for i, x := range set {
		out[i] = folder.Range{Low: uint32(x.Start), High: uint32(x.Stop)}
	}
	return out
}

// may sees that the folder is open for something.
func (r *desk) may(right directory.Rights) error {
	if r.at.readOnly {
		return no(imap.ResponseCodeNoPerm, "this folder is open for reading only")
	}
	if r.at.place.may < right {
		return no(imap.ResponseCodeNoPerm, "you may not do that in this folder")
	}
	return nil
}

// changedHere notes that we ourselves changed the folder.
func (r *desk) changedHere(mailboxes ...string) {
	r.server.Changes.Changed(mailboxes...)
}

// Expunge is EXPUNGE, UID EXPUNGE (RFC 4315) and the first half of CLOSE.
func (r *desk) Expunge(w *imapserver.ExpungeWriter, uids *imap.UIDSet) error {
	which := r.at.view.ByUID(folder.Ranges{{Low: 1, High: folder.Star}})
	if uids != nil {
		which = r.at.view.ByUID(r.numbers(*uids))
	}
	if err := r.may(directory.MayRemove); err != nil {
		if uids == nil && r.at.readOnly { // CLOSE of a folder that is open for reading
			return nil
		}
		return err
	}
	if len(which) == 0 {
		return nil
	}
	ctx, cancel := asking()
	defer cancel()
	if err := r.filed.Expunge(ctx, r.at.folder.ID, which, true); err != nil {
		return r.answered(err)
	}
	if err := r.pull(); err != nil {
		return r.answered(err)
	}
	r.changedHere(r.at.place.mailbox())
	return r.expunged(w.WriteExpunge)
}

// Store is STORE.
func (r *desk) Store(
	w *imapserver.FetchWriter,
	set imap.NumSet,
	f *imap.StoreFlags,
	_ *imap.StoreOptions,
) error {
	which, err := r.ranges(set)
	if err != nil {
		return err
	}
	if err := r.may(directory.MayAdd); err != nil {
		return err
	}
	names := make([]string, len(f.Flags))
	for i, n := range f.Flags {
		names[i] = string(n)
	}
	flags, keywords, err := folder.ParseFlags(names)
	if err != nil {
		return no(imap.ResponseCodeCannot, "%v", err)
	}
	if flags&folder.Deleted != 0 && r.at.place.may < directory.MayRemove {
		return no(imap.ResponseCodeNoPerm, "you may not delete in this folder")
	}
	if len(which) == 0 {
		return nil
	}
	how := map[imap.StoreFlagsOp]folder.Change{imap.StoreFlagsSet: folder.Set, imap.StoreFlagsAdd: folder.Add,
		imap.StoreFlagsDel: folder.Remove}[f.Op]
	ctx, cancel := asking()
	defer cancel()
	changed, err := r.filed.Mark(ctx, r.at.folder.ID, which, how, flags, keywords)
	if err != nil {
		return r.answered(err)
	}
	if len(changed) > 0 {
		r.changedHere(r.at.place.mailbox())
	}
	if err := r.pull(); err != nil {
		return r.answered(err)
	}
	for i := range changed { // told below, or not wanted
		delete(r.at.changed, changed[i].UID)
	}
	if f.Silent {
		return nil
	}
	return r.each(which, func(i *folder.Item) error {
		seq := r.at.view.Seq(i.UID)
		if seq == 0 {
			return nil
		}
		m := w.CreateMessage(seq)
		m.WriteUID(imap.UID(i.UID))
		m.WriteFlags(flagsOf(i))
		return m.Close()
	})
}

// itemsAtOnce is how many messages are read from the store at once.
const itemsAtOnce = 500

// each visits messages in the order of their numbers.
func (r *desk) each(which folder.Ranges, visit func(i *folder.Item) error) error {
	for len(which) > 0 {
		var some folder.Ranges
		some, which = which.Take(itemsAtOnce)
		ctx, cancel := asking()
		items, err := r.filed.Items(ctx, r.at.folder.ID, some)
		cancel()
		if err != nil {
			return r.answered(err)
		}
		for i := range items {
			if err := visit(&items[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// target is the folder that a command puts messages into.
func (r *desk) target(name string) (place, folder.Folder, error) {
	p, f, err := r.open(name, directory.MayAdd)
	var told *imap.Error
	if errors.As(err, &told) && told.Code == imap.ResponseCodeNonExistent {
		err = no(imap.ResponseCodeTryCreate, "there is no folder %s; make it first", name)
	}
	return p, f, err
}

// Copy is COPY.
func (r *desk) Copy(set imap.NumSet, dest string) (*imap.CopyData, error) {
	which, err := r.ranges(set)
	if err != nil {
		return nil, err
	}
	p, f, err := r.target(dest)
	if err != nil || len(which) == 0 {
		return nil, err
	}
	var octets int64
	if err := r.each(which, func(i *folder.Item) error { octets += i.Size; return nil }); err != nil {
		return nil, err
	}
	if err := r.room(p.box, octets, which.Count()); err != nil {
		return nil, err
	}
	ctx, cancel := asking()
	defer cancel()
	moved, err := r.filed.Copy(ctx, r.at.folder, f, which, r.server.IDs)
	if err != nil {
		return nil, r.answered(err)
	}
	r.changedHere(p.mailbox())
	return copyData(f, moved), nil
}

func copyData(f folder.Folder, m store.Moved) *imap.CopyData {
	if len(m.From) == 0 {
		return nil
	}
	return &imap.CopyData{UIDValidity: uint32(f.ID), SourceUIDs: uidSet(folder.RangesOf(m.From)),
		DestUIDs: uidSet(folder.RangesOf(m.To))}
}

func uidSet(r folder.Ranges) imap.UIDSet {
	out := make(imap.UIDSet, len(r))
	for i, x := range r {
		out[i] = imap.UIDRange{Start: imap.UID(x.Low), Stop: imap.UID(x.High)}
	}
	return out
}

// Move is MOVE (RFC 6851).
func (r *desk) Move(w *imapserver.MoveWriter, set imap.NumSet, dest string) error {
	which, err := r.ranges(set)
	if err != nil {
		return err
	}
	if err := r.may(directory.MayRemove); err != nil {
		return err
	}
	p, f, err := r.target(dest)
	switch {
	case err != nil || len(which) == 0:
		return err
	case f.ID == r.at.folder.ID:
		return no(imap.ResponseCodeCannot, "the messages are in this folder already")
	}
	if p.box != r.at.place.box {
		var octets int64
		if err := r.each(which, func(i *folder.Item) error { octets += i.Size; return nil }); err != nil {
			return err
		}
		if err := r.room(p.box, octets, which.Count()); err != nil {
			return err
		}
	}
	ctx, cancel := asking()
	defer cancel()
	moved, err := r.filed.Move(ctx, r.at.folder, f, which, r.server.IDs)
	if err != nil {
		return r.answered(err)
	}
	if err := r.pull(); err != nil {
		return r.answered(err)
	}
	r.changedHere(r.at.place.mailbox(), p.mailbox())
	if data := copyData(f, moved); data != nil {
		if err := w.WriteCopyData(data); err != nil {
			return err
		}
	}
	return r.expunged(w.WriteExpunge)
}
