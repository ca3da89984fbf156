package insight

import (
	"cmp"
	"context"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/folder"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/store"
)

// maxOpen bounds how many open sessions are listed.
const maxOpen = 200

// OpenSessions are those open on this node that match, newest first.
func (t *Trace) OpenSessions(f mail.SessionFilter) []mail.Session {
	list := slices.DeleteFunc(t.Open.Open(), func(x mail.Session) bool {
		var network netip.Prefix
		if f.Address != "" {
			network, _ = netip.ParsePrefix(f.Address)
			if a, err := netip.ParseAddr(f.Address); err == nil {
				network = netip.PrefixFrom(a, a.BitLen())
			}
		}
		a, _ := netip.ParseAddr(x.Address)
		return f.Direction != "" && f.Direction != x.Direction || f.Protocol != "" &&
			f.Protocol != x.Protocol || f.Listener != "" && f.Listener != x.Listener ||
			f.Route != "" && f.Route != x.Route ||
			f.Outcome != "" && f.Outcome != mail.Open && f.Outcome != "trouble" ||
			f.Outcome == "trouble" || f.Address != "" && !network.Contains(a) ||
			f.Name != "" && !strings.Contains(strings.ToLower(x.Name), strings.ToLower(f.Name)) ||
			f.Account != "" && !strings.EqualFold(f.Account, x.Account) ||
			x.Seconds < f.Longer.Seconds() || !f.Since.IsZero() && x.StartedAt.Before(f.Since) ||
			!f.Until.IsZero() && !x.StartedAt.Before(f.Until)
	})
	slices.SortFunc(list, func(a, b mail.Session) int { return cmp.Compare(b.ID, a.ID) })
	return list[:min(len(list), maxOpen)]
}

// maxLinks is how many of a session's messages are shown with their subjects.
const maxLinks = 20

// Session is a session with its transcript, its messages and its refusals.
func (t *Trace) Session(ctx context.Context, archive int64, id ident.ID) (api.SessionView, error) {
	r, err := t.Records(ctx, archive)
	if err != nil {
		return api.SessionView{}, err
	}
	var rec mail.SessionRecord
	// What is not yet on record is in memory: first there, then in the records.
	if open := t.Open.OpenOne(id); open != nil && archive == 0 {
		rec = *open
	} else {
		rec, err = r.Session(ctx, id)
	}
	if err != nil {
		return api.SessionView{}, err
	}
	v := api.SessionView{
		Session:  rec.Session,
		Lines:    []transcript.Line{},
		Refusals: []mail.Refusal{},
		Subjects: []api.MessageLink{},
	}
	switch {
	case rec.Transcript != nil:
		v.Lines, err = transcript.Read(rec.Transcript)
		if err != nil {
			v.Missing = err.Error()
		}
	case rec.TranscriptKept:
		v.Missing = "The transcript is past the time for which transcripts are kept " +
			"(service.transcripts_kept)."
	default:
		v.Missing = "The settings do not keep this transcript (transcript of the listener, route " +
			"or peer). Watch the client or domain to keep the next ones."
	}
	if rec.Refused > 0 && rec.Direction == mail.In {
		end := time.Now()
		if !rec.EndedAt.IsZero() {
			end = rec.EndedAt.Time
		}
		list, err := r.RefusalsOf(ctx, id, rec.Address, end)
		if err != nil {
			return api.SessionView{}, err
		}
		v.Refusals = append(v.Refusals, list...)
	}
	for _, l := range rec.Messages[:min(len(rec.Messages), maxLinks)] {
		if m, err := r.Message(ctx, l); err == nil {
			link := api.MessageLink{ID: l, Sender: m.Sender, Subject: m.Subject}
			if len(m.Deliveries) > 0 {
				link.State = m.Deliveries[0].State
			}
			v.Subjects = append(v.Subjects, link)
		}
	}
	return v, nil
}

// Watches are whose sessions are recorded in full.
func (t *Trace) Watches(ctx context.Context) ([]mail.Watch, error) {
	return t.Sessions.Watches(ctx)
}

// SetWatch records somebody's sessions in full for a while.
func (t *Trace) SetWatch(ctx context.Context, w mail.Watch) error {
	return t.Sessions.SetWatch(ctx, w)
}

// OpenContent reads the content of a message.
func (t *Trace) OpenContent(ctx context.Context, id ident.ID) (io.Reader, error) {
	return t.Messages.OpenContent(ctx, id)
}

// MailboxMessages lists the messages in a mailbox, newest first.
func (t *Trace) MailboxMessages(
	ctx context.Context,
	mailbox, folder string,
	before ident.ID,
	limit int,
) ([]mail.MailboxItem, error) {
	return t.Mailboxes.MailboxMessages(ctx, mailbox, folder, before, limit)
}

// MailboxFolders are the folders of a mailbox.
func (t *Trace) MailboxFolders(ctx context.Context, mailbox string) ([]folder.Folder, error) {
	return store.Folders{DB: t.Mailboxes.DB}.Folders(ctx, mailbox)
}

// MailboxView takes a message in a mailbox apart for people to look at.
func (t *Trace) MailboxView(
	ctx context.Context,
	mailbox string,
	id ident.ID,
) (api.ContentView, error) {
	content, err := t.Mailboxes.MailboxContent(ctx, mailbox, id)
	if err != nil {
		return api.ContentView{}, err
	}
	return viewOf(id, content)
}

// MailboxContent reads a message in a mailbox.
func (t *Trace) MailboxContent(
	ctx context.Context,
	mailbox string,
	id ident.ID,
) (io.Reader, error) {
	return t.Mailboxes.MailboxContent(ctx, mailbox, id)
}
