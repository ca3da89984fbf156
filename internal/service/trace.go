package service

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/report"
	"gullroute/internal/core/search"
	"gullroute/internal/store"
)

// records are where tracing and reports look: the service's own, or an archive.
type records interface {
	Search(ctx context.Context, q search.Query, after ident.ID, limit int) (store.Page, error)
	Message(ctx context.Context, id ident.ID) (mail.Message, error)
	Events(ctx context.Context, id ident.ID) ([]mail.Event, error)
	Begotten(ctx context.Context, id ident.ID) ([]mail.Message, error)
	Refusal(ctx context.Context, id ident.ID) (mail.Refusal, error)
	Session(ctx context.Context, id ident.ID) (mail.SessionRecord, error)
	SessionsByID(ctx context.Context, ids []ident.ID) ([]mail.Session, error)
	RefusalsOf(ctx context.Context, session ident.ID, address string, ended time.Time) ([]mail.Refusal, error)
	ListSessions(ctx context.Context, f store.SessionFilter) ([]mail.Session, error)
	Sums(ctx context.Context, dim string, kinds []string, value string, spans []report.Span, limit int) ([]report.Sum, error)
	SumHours(ctx context.Context, dim, value string, from, to time.Time) ([]report.Hour, error)
	Figure(ctx context.Context, q report.Question) ([]report.Behind, string, error)
}

// From says which records to look in.
type From struct {
	Archive int64 `query:"archive" doc:"Look in this opened archive instead of the service's own records"`
}

func (s *Service) records(ctx context.Context, f From) (records, error) {
	if f.Archive == 0 {
		return s.Store, nil
	}
	a, err := s.Store.OpenedArchive(ctx, f.Archive)
	if err != nil {
		return nil, s.storeError(err, "archive")
	}
	return a, nil
}

// Zone is the time zone of words of time and of days.
type Zone struct {
	Zone string `query:"zone" doc:"Time zone, like Europe/Oslo" default:"UTC"`
}

func (z Zone) location() (*time.Location, error) {
	l, err := time.LoadLocation(z.Zone)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("zone: " + z.Zone + " is no time zone; write one like Europe/Oslo or UTC")
	}
	return l, nil
}

type searchInput struct {
	Q        string    `query:"q" doc:"As people type it: an address or a part of one, a domain, a subject, an id, a network, a host, a state, a cause, times"`
	Sender   string    `query:"from" doc:"Sender: an address, a part of one, a domain, or <>"`
	To       string    `query:"to" doc:"Recipient: an address, a part of one, or a domain"`
	Subject  string    `query:"subject" doc:"A part of the subject"`
	ID       string    `query:"id" doc:"Our id, or a Message-ID"`
	Client   string    `query:"client" doc:"IP address or network of the client"`
	Host     string    `query:"host" doc:"Remote host by name"`
	State    string    `query:"state" enum:"waiting,sending,deferred,held,delivered,bounced,expired,discarded,refused"`
	Cause    string    `query:"cause"`
	Listener string    `query:"listener"`
	Route    string    `query:"route"`
	Account  string    `query:"account"`
	Since    time.Time `query:"since"`
	Until    time.Time `query:"until"`
	Order    string    `query:"order" enum:"newest,oldest" default:"newest" doc:"Which come first"`
	From
	Zone
	Paging
}

// question puts the box and the fields together.
func (in *searchInput) question(now time.Time) (search.Query, error) {
	zone, err := in.location()
	if err != nil {
		return search.Query{}, err
	}
	q, err := search.Parse(in.Q, now, zone)
	if err != nil {
		return q, huma.Error422UnprocessableEntity(err.Error())
	}
	for _, f := range []struct{ field, value string }{{"from", in.Sender}, {"to", in.To}, {"subject", in.Subject}, {"id", in.ID}, {"client", in.Client}, {"host", in.Host},
		{"state", in.State}, {"cause", in.Cause}, {"listener", in.Listener}, {"route", in.Route}, {"account", in.Account}} {
		if err := q.Add(f.field, f.value); err != nil {
			return q, huma.Error422UnprocessableEntity(err.Error())
		}
	}
	q.SetPeriod(in.Since, in.Until, zone)
	return q, nil
}

// foundPage is one page of what a search found.
type foundPage struct {
	Items      []mail.Found `json:"items"`
	Next       string       `json:"next" doc:"Give this as after to go on; empty at the end"`
	Understood []string     `json:"understood" doc:"How the question was understood, condition by condition"`
	Back       mail.OptTime `json:"looked_back_to" nullable:"true" doc:"Set when time ran out before the page was full, to as far as was looked: go on with next"`
}

// search finds letters, and what was refused before it was one.
func (s *Service) search(ctx context.Context, in *searchInput) (*out[foundPage], error) {
	return s.find(ctx, in, false)
}

// findMessages leaves out what was refused.
func (s *Service) findMessages(ctx context.Context, in *searchInput) (*out[foundPage], error) {
	return s.find(ctx, in, true)
}

func (s *Service) find(ctx context.Context, in *searchInput, messagesOnly bool) (*out[foundPage], error) {
	q, err := in.question(time.Now())
	if err != nil {
		return nil, err
	}
	if err := s.mayLookFor(ctx, q); err != nil {
		return nil, err
	}
	q.MessagesOnly, q.OldestFirst = messagesOnly, in.Order == "oldest"
	var after ident.ID
	if in.After != "" {
		if err := after.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	r, err := s.records(ctx, in.From)
	if err != nil {
		return nil, err
	}
	p, err := r.Search(ctx, q, after, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	body := foundPage{Items: p.Items, Understood: q.Understood(), Back: optAt(p.Back)}
	if p.Next != 0 {
		body.Next = p.Next.String()
	}
	if in.Archive == 0 {
		for i := range body.Items {
			s.markAll(&body.Items[i].Message)
		}
	}
	return &out[foundPage]{body}, nil
}

func (s *Service) markAll(m *mail.Message) {
	for j := range m.Deliveries {
		s.markNow(&m.Deliveries[j])
	}
}

// markNow adds what only memory knows of a waiting delivery: that it is in a
// transaction now, or that its lane rests beyond its own next attempt.
func (s *Service) markNow(d *mail.Delivery) {
	if d.State.Final() {
		return
	}
	sending, rest := s.Engine.Queue.Now(d)
	if sending {
		d.State = mail.Sending
	}
	if rest.After(d.NextTryAt.Time) {
		d.NextTryAt = mail.At(rest)
	}
}

type oneOf struct {
	ID string `path:"id"`
	From
}

func (s *Service) one(ctx context.Context, in *oneOf) (records, ident.ID, error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, 0, huma.Error422UnprocessableEntity(err.Error())
	}
	r, err := s.records(ctx, in.From)
	return r, id, err
}

func (s *Service) showMessage(ctx context.Context, in *oneOf) (*out[mail.Trace], error) {
	r, id, err := s.one(ctx, in)
	if err != nil {
		return nil, err
	}
	m, err := r.Message(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message; its day may be past the retention time")
	}
	live := in.Archive == 0
	if live {
		s.markAll(&m)
	}
	t := mail.Trace{Message: m, Notices: []ident.ID{}, Causes: []mail.Cause{}, Boxes: []mail.BoxUse{}}
	events, err := r.Events(ctx, id)
	if err == nil {
		t.Events = m.Story(events, s.Engine.Name)
		t.Begotten, err = r.Begotten(ctx, id)
	}
	if err == nil {
		err = s.addSessions(ctx, r, &t, live)
	}
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	for i := range t.Begotten {
		t.Notices = append(t.Notices, t.Begotten[i].ID)
		if live {
			s.markAll(&t.Begotten[i])
		}
	}
	if m.NoticeOf != 0 {
		if about, err := r.Message(ctx, m.NoticeOf); err == nil {
			t.About = &about
		}
	}
	if live {
		s.addBoxes(ctx, &t)
	}
	seen := map[diagnose.Cause]bool{diagnose.NoCause: true}
	for _, d := range m.Deliveries {
		if !seen[d.Cause] {
			seen[d.Cause] = true
			t.Causes = append(t.Causes, mail.Explain(d.Cause, d.Last))
		}
	}
	t.ForUser, t.ForFar = mail.ForUser(&m, time.Now()), mail.ForFar(&m, t.Sessions, string(s.Engine.Config().Service.HostName))
	return &out[mail.Trace]{t}, nil
}

// addSessions finds the session that a message came by, and those in which it was
// tried.
func (s *Service) addSessions(ctx context.Context, r records, t *mail.Trace, live bool) error {
	ids := []ident.ID{t.Message.SessionID}
	add := func(l mail.LastReply) {
		ids = append(ids, l.SessionID)
		for _, x := range l.Tried {
			ids = append(ids, x.SessionID)
		}
	}
	for i := range t.Message.Deliveries {
		if l := t.Message.Deliveries[i].Last; l != nil {
			add(*l)
		}
	}
	for i := range t.Events {
		if l, ok := t.Events[i].Reply(); ok {
			add(l)
		}
	}
	list, err := r.SessionsByID(ctx, ids)
	if live && err == nil {
		for _, id := range ids {
			if open := s.Engine.Record.OpenOne(id); open != nil {
				list = append(list, open.Session)
			}
		}
	}
	t.Sessions = []mail.Session{}
	seen := map[ident.ID]bool{}
	for _, one := range list {
		if seen[one.ID] {
			continue
		}
		seen[one.ID] = true
		if one.ID == t.Message.SessionID {
			t.Session = &one
		} else {
			t.Sessions = append(t.Sessions, one)
		}
	}
	return err
}

func (s *Service) addBoxes(ctx context.Context, t *mail.Trace) {
	seen := map[string]bool{}
	for i := range t.Message.Deliveries {
		d := &t.Message.Deliveries[i]
		a, err := address.Parse(d.Recipient)
		if err != nil || d.NextHop != "local" || seen[d.Recipient] {
			continue
		}
		seen[d.Recipient] = true
		box := s.Engine.Config().Mailbox(a)
		if box == nil {
			continue
		}
		letters, used, err := s.Store.MailboxUse(ctx, box.Address.String())
		if err == nil {
			t.Boxes = append(t.Boxes, mail.BoxUse{Address: box.Address.String(), Letters: letters, Used: used, Quota: int64(box.Quota)})
		}
	}
}

// refusalView is a refusal as it is shown.
type refusalView struct {
	Refusal mail.Refusal  `json:"refusal"`
	Meaning mail.Cause    `json:"meaning"`
	Session *mail.Session `json:"session,omitempty"`
	ForUser string        `json:"for_user"`
}

func (s *Service) showRefusal(ctx context.Context, in *oneOf) (*out[refusalView], error) {
	r, id, err := s.one(ctx, in)
	if err != nil {
		return nil, err
	}
	x, err := r.Refusal(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "refusal; its day may be past the retention time")
	}
	v := refusalView{Refusal: x, Meaning: mail.Explain(x.Cause, nil), ForUser: mail.RefusalForUser(&x)}
	if list, err := r.SessionsByID(ctx, []ident.ID{x.SessionID}); err == nil && len(list) == 1 {
		v.Session = &list[0]
	} else if open := s.Engine.Record.OpenOne(x.SessionID); open != nil && in.Archive == 0 {
		v.Session = &open.Session
	}
	return &out[refusalView]{v}, nil
}

// serveContent streams a message as it was stored. Content is people's own: only
// the administrator may read it.
func (s *Service) serveContent(c fiber.Ctx) error {
	if _, err := s.require(c, true); err != nil {
		return err
	}
	id, err := ident.Parse(c.Params("id"))
	if err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	content, err := s.Store.OpenContent(context.WithoutCancel(c.Context()), id)
	if err != nil {
		return s.storeError(err, "message")
	}
	return sendContent(c, content, id)
}

func sendContent(c fiber.Ctx, content *store.Content, id ident.ID) error {
	c.Set("Content-Type", "message/rfc822")
	c.Set("Content-Disposition", `attachment; filename="`+id.String()+`.eml"`)
	return c.SendStream(content)
}

func (s *Service) listMailbox(ctx context.Context, in *struct {
	Address string `path:"address"`
	Paging
}) (*out[page[mail.MailboxItem]], error) {
	a, err := s.mailboxAddress(in.Address)
	if err != nil {
		return nil, err
	}
	var before ident.ID
	if in.After != "" {
		if err := before.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	items, err := s.Store.MailboxMessages(ctx, a, before, in.Limit)
	if err != nil {
		return nil, s.storeError(err, "mailbox")
	}
	body := page[mail.MailboxItem]{Items: items}
	if len(items) == in.Limit {
		body.Next = items[len(items)-1].ID.String()
	}
	return &out[page[mail.MailboxItem]]{body}, nil
}

// mailboxAddress finds the mailbox that an address names.
func (s *Service) mailboxAddress(text string) (string, error) {
	a, err := address.Parse(text)
	if err != nil {
		return "", huma.Error422UnprocessableEntity(err.Error())
	}
	box := s.Engine.Config().Mailbox(a)
	if box == nil {
		return "", huma.Error404NotFound("there is no mailbox " + a.Display())
	}
	return box.Address.String(), nil
}

func (s *Service) serveMailboxContent(c fiber.Ctx) error {
	if _, err := s.require(c, true); err != nil {
		return err
	}
	f := fiberContext{c: c}
	box, err := s.mailboxAddress(f.Param("address"))
	if err != nil {
		return err
	}
	id, err := ident.Parse(c.Params("id"))
	if err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	content, err := s.Store.MailboxContent(context.WithoutCancel(c.Context()), box, id)
	if err != nil {
		return s.storeError(err, "letter in this mailbox")
	}
	return sendContent(c, content, id)
}

// maxLetter is how much of a letter is read to be looked at, in octets.
const maxLetter = 4 << 20

// showLetter takes a letter apart for people to look at: nothing in it is run or
// fetched, and HTML is shown as its words.
func (s *Service) showLetter(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*out[mail.Letter], error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	r, err := s.Store.OpenContent(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message; its day may be past the retention time")
	}
	content, err := io.ReadAll(io.LimitReader(r, maxLetter+1))
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	l := mail.Letter{ID: id, Fields: []mail.HeaderField{}, Parts: []mail.LetterPart{}, Truncated: len(content) > maxLetter}
	content = content[:min(len(content), maxLetter)]
	section, _ := message.SplitHeader(content)
	l.Header = strings.ToValidUTF8(string(section), "\uFFFD")
	for _, f := range message.ParseHeader(section) {
		l.Fields = append(l.Fields, mail.HeaderField{Name: f.Name, Value: message.Decode(f.Value)})
	}
	parts := message.Structure(content)
	for _, p := range parts {
		l.Parts = append(l.Parts, mail.LetterPart{Path: p.Path, Type: p.Type, Charset: p.Charset, Encoding: p.Encoding, Name: p.Name, Disposition: p.Disposition, Size: p.Size})
	}
	l.Text, l.TextType = message.Readable(parts)
	l.Truncated = l.Truncated || len(l.Text) >= message.MaxText
	return &out[mail.Letter]{l}, nil
}
