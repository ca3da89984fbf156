package insight

import (
	"context"
	"io"
	"strings"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/report"
	"gullroute/internal/core/search"
	"gullroute/internal/core/wording"
	"gullroute/internal/engine/queue"
	"gullroute/internal/engine/sessions"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Records are where tracing and reports look: the service's own, or an archive.
type Records interface {
	Search(ctx context.Context, q search.Query, after ident.ID, limit int) (search.Page, error)
	Message(ctx context.Context, id ident.ID) (mail.Message, error)
	Events(ctx context.Context, id ident.ID) ([]mail.Event, error)
	Generated(ctx context.Context, id ident.ID) ([]mail.Message, error)
	Refusal(ctx context.Context, id ident.ID) (mail.Refusal, error)
	Session(ctx context.Context, id ident.ID) (mail.SessionRecord, error)
	SessionsByID(ctx context.Context, ids []ident.ID) ([]mail.Session, error)
	RefusalsOf(ctx context.Context, session ident.ID, address string,
		ended time.Time) ([]mail.Refusal, error)
	ListSessions(ctx context.Context, f mail.SessionFilter) ([]mail.Session, error)
	Sums(ctx context.Context, dim string, kinds []string, value string, spans []report.Span,
		limit int) ([]report.Sum, error)
	Movers(ctx context.Context, dim string, kinds []string, now, before []report.Span,
		limit int) ([]report.Mover, error)
	SumHours(ctx context.Context, dim, value string, from, to time.Time) ([]report.Hour, error)
	Figure(ctx context.Context, q report.Question) ([]report.Behind, string, error)
}

// Trace finds messages, sessions and refusals, and tells what became of them.
type Trace struct {
	Messages  store.Messages
	Sessions  store.Sessions
	Counts    store.Counts
	Archives  store.Archives
	Mailboxes store.Mailboxes
	InForce   *inforce.State
	Queue     *queue.Queue
	Open      *sessions.Recorder
	Reader    *store.Reader // of a standby; nil if there is none
}

// own are the service's own records.
type own struct {
	store.Messages
	store.Sessions
	store.Counts
}

// Records are the service's own, or those of an opened archive.
func (t *Trace) Records(ctx context.Context, archive int64) (Records, error) {
	if archive == 0 {
		return own{t.Messages, t.Sessions, t.Counts}, nil
	}
	return t.Archives.OpenedArchive(ctx, archive)
}

// Mark adds what only memory knows of the deliveries of a message that wait.
func (t *Trace) Mark(m *mail.Message) {
	for j := range m.Deliveries {
		t.MarkOne(&m.Deliveries[j])
	}
}

// MarkOne adds what only memory knows of a waiting delivery: that it is in a
// transaction now, or that its lane rests beyond its own next attempt.
func (t *Trace) MarkOne(d *mail.Delivery) {
	if d.State.Final() {
		return
	}
	now := t.Queue.Now(d)
	if now.Sending {
		d.State = mail.Sending
	}
	if now.Rest.After(d.NextAttemptAt.Time) {
		d.NextAttemptAt = mail.At(now.Rest)
	}
	if d.Attempts == 0 && d.Cause == diagnose.NoCause && d.State == mail.Waiting &&
		now.Cause != "" {
		d.Cause, d.Last, d.Behind = diagnose.Cause(now.Cause), now.Last, true
	}
}

// Message is a message with all that is known of it. Of an archive, archive is its number.
func (t *Trace) Message(ctx context.Context, archive int64, id ident.ID) (api.Trace, error) {
	r, err := t.Records(ctx, archive)
	if err != nil {
		return api.Trace{}, err
	}
	m, err := r.Message(ctx, id)
	if err != nil {
		return api.Trace{}, err
	}
	live := archive == 0
	if live {
		t.Mark(&m)
	}
	out := api.Trace{
		Message: m,
		Notices: []ident.ID{},
		Causes:  []mail.Cause{},
		Boxes:   []mail.BoxUse{},
	}
	events, err := r.Events(ctx, id)
	if err == nil {
		out.Events = wording.History(&m, events, t.InForce.Node)
		out.Generated, err = r.Generated(ctx, id)
	}
	if err == nil {
		err = t.addSessions(ctx, r, &out, live)
	}
	if err != nil {
		return api.Trace{}, err
	}
	for i := range out.Generated {
		out.Notices = append(out.Notices, out.Generated[i].ID)
		if live {
			t.Mark(&out.Generated[i])
		}
	}
	if m.NoticeOf != 0 {
		if about, err := r.Message(ctx, m.NoticeOf); err == nil {
			out.About = &about
		}
	}
	if live {
		t.addBoxes(ctx, &out)
	}
	seen := map[diagnose.Cause]bool{diagnose.NoCause: true}
	for _, d := range m.Deliveries {
		if !seen[d.Cause] {
			seen[d.Cause] = true
			out.Causes = append(out.Causes, mail.Explain(d.Cause, d.Last,
				diagnose.About{Sender: m.Sender, Recipient: d.Recipient}))
		}
	}
	out.ForUser, out.ForRemote = wording.ForUser(
		&m,
		time.Now(),
	), wording.ForRemote(&m, out.Sessions, string(t.InForce.Config().Service.HostName))
	return out, nil
}

// addSessions finds the session that a message came by, and those in which it was
// tried.
func (t *Trace) addSessions(ctx context.Context, r Records, out *api.Trace, live bool) error {
	ids := []ident.ID{out.Message.SessionID}
	add := func(l mail.LastReply) {
		ids = append(ids, l.SessionID)
		for _, x := range l.Tried {
			ids = append(ids, x.SessionID)
		}
	}
	for i := range out.Message.Deliveries {
		if l := out.Message.Deliveries[i].Last; l != nil {
			add(*l)
		}
	}
	for i := range out.Events {
		if l, ok := out.Events[i].Reply(); ok {
			add(l)
		}
	}
	list, err := r.SessionsByID(ctx, ids)
	if live && err == nil {
		for _, id := range ids {
			if open := t.Open.OpenOne(id); open != nil {
				list = append(list, open.Session)
			}
		}
	}
	out.Sessions = []mail.Session{}
	seen := map[ident.ID]bool{}
	for _, one := range list {
		if seen[one.ID] {
			continue
		}
		seen[one.ID] = true
		if one.ID == out.Message.SessionID {
			out.Session = &one
		} else {
			out.Sessions = append(out.Sessions, one)
		}
	}
	return err
}

func (t *Trace) addBoxes(ctx context.Context, out *api.Trace) {
	seen := map[string]bool{}
	for i := range out.Message.Deliveries {
		d := &out.Message.Deliveries[i]
		a, err := address.Parse(d.Recipient)
		if err != nil || d.NextHop != "local" || seen[d.Recipient] {
			continue
		}
		seen[d.Recipient] = true
		box := t.InForce.Config().Mailbox(a)
		if box == nil {
			continue
		}
		messages, used, err := t.Mailboxes.MailboxUse(ctx, box.Address.String())
		if err == nil {
			out.Boxes = append(out.Boxes, mail.BoxUse{
				Address:  box.Address.String(),
				Messages: messages,
				Used:     used,
				Quota:    int64(box.Quota),
			})
		}
	}
}

// Refusal is a refusal with what it means.
func (t *Trace) Refusal(ctx context.Context, archive int64, id ident.ID) (api.RefusalView, error) {
	r, err := t.Records(ctx, archive)
	if err != nil {
		return api.RefusalView{}, err
	}
	x, err := r.Refusal(ctx, id)
	if err != nil {
		return api.RefusalView{}, err
	}
	v := api.RefusalView{
		Refusal: x,
		Meaning: mail.Explain(x.Cause, nil, diagnose.About{}),
		ForUser: wording.RefusalForUser(&x),
	}
	if list, err := r.SessionsByID(ctx, []ident.ID{x.SessionID}); err == nil && len(list) == 1 {
		v.Session = &list[0]
	} else if open := t.Open.OpenOne(x.SessionID); open != nil && archive == 0 {
		v.Session = &open.Session
	}
	return v, nil
}

// maxMessage is how much of a message is read to be looked at, in octets.
const maxMessage = 4 << 20

// View takes a message apart for people to look at: nothing in it is run or
// fetched, and HTML is shown as its words.
func (t *Trace) View(ctx context.Context, id ident.ID) (api.ContentView, error) {
	r, err := t.Messages.OpenContent(ctx, id)
	if err != nil {
		return api.ContentView{}, err
	}
	return viewOf(id, r)
}

func viewOf(id ident.ID, r io.Reader) (api.ContentView, error) {
	content, err := io.ReadAll(io.LimitReader(r, maxMessage+1))
	if err != nil {
		return api.ContentView{}, err
	}
	l := api.ContentView{
		ID:        id,
		Fields:    []api.HeaderField{},
		Parts:     []api.ContentPart{},
		Truncated: len(content) > maxMessage,
	}
	content = content[:min(len(content), maxMessage)]
	section, _ := message.SplitHeader(content)
	l.Header = strings.ToValidUTF8(string(section), "\uFFFD")
	for _, f := range message.ParseHeader(section) {
		l.Fields = append(l.Fields, api.HeaderField{Name: f.Name, Value: message.Decode(f.Value)})
	}
	parts := message.Structure(content)
	for _, p := range parts {
		l.Parts = append(l.Parts, api.ContentPart{
			Path:        p.Path,
			Type:        p.Type,
			Charset:     p.Charset,
			Encoding:    p.Encoding,
			Name:        p.Name,
			Disposition: p.Disposition,
			Size:        p.Size,
		})
	}
	l.Text, l.TextType = message.Readable(parts)
	l.Truncated = l.Truncated || len(l.Text) >= message.MaxText
	return l, nil
}
