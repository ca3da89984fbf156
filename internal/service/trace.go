package service

import (
	"context"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/store"
)

type traceInput struct {
	From    string     `query:"from" doc:"Sender: an address, a part of one, or <>"`
	To      string     `query:"to" doc:"Recipient: an address or a part of one"`
	Subject string     `query:"subject" doc:"A part of the subject"`
	ID      string     `query:"id" doc:"Our id, or a Message-ID"`
	Client  string     `query:"client" doc:"IP address of the client"`
	State   mail.State `query:"state" enum:"waiting,sending,deferred,held,delivered,bounced,expired,discarded"`
	Since   time.Time  `query:"since"`
	Until   time.Time  `query:"until"`
	Paging
}

func (s *Service) findMessages(ctx context.Context, in *traceInput) (*out[page[mail.Message]], error) {
	f := store.TraceFilter{From: searchForm(in.From), To: searchForm(in.To), Subject: in.Subject, State: in.State, Since: in.Since, Until: in.Until, Limit: in.Limit}
	if in.ID != "" {
		if err := f.ID.UnmarshalText([]byte(in.ID)); err != nil {
			f.ID, f.MessageID = 0, in.ID
		}
	}
	if in.Client != "" {
		ip, err := netip.ParseAddr(in.Client)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("client: " + strconv.Quote(in.Client) + " is not an IP address")
		}
		f.Client = ip.Unmap().String()
	}
	if in.After != "" {
		if err := f.After.UnmarshalText([]byte(in.After)); err != nil {
			return nil, huma.Error422UnprocessableEntity("after: " + err.Error())
		}
	}
	messages, err := s.Store.Find(ctx, f)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	s.markAll(messages)
	body := page[mail.Message]{Items: messages}
	if len(messages) == in.Limit {
		body.Next = messages[len(messages)-1].ID.String()
	}
	return &out[page[mail.Message]]{body}, nil
}

func (s *Service) markAll(messages []mail.Message) {
	for i := range messages {
		for j := range messages[i].Deliveries {
			s.markNow(&messages[i].Deliveries[j])
		}
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

func (s *Service) showMessage(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*out[mail.Trace], error) {
	id, err := ident.Parse(in.ID)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	m, err := s.Store.Message(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message; its day may be past the retention time")
	}
	events, err := s.Store.Events(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	notices, err := s.Store.Notices(ctx, id)
	if err != nil {
		return nil, s.storeError(err, "message")
	}
	one := []mail.Message{m}
	s.markAll(one)
	t := mail.Trace{Message: one[0], Events: m.Story(events, s.Engine.Name), Notices: append([]ident.ID{}, notices...), Causes: []mail.Cause{}}
	seen := map[diagnose.Cause]bool{diagnose.NoCause: true}
	for _, d := range m.Deliveries {
		if !seen[d.Cause] {
			seen[d.Cause] = true
			meaning := diagnose.Explain(d.Cause)
			t.Causes = append(t.Causes, mail.Cause{Cause: string(d.Cause), Title: meaning.Title, Mend: meaning.Mend, WhoCanMend: meaning.WhoCanMend, WaitingHelps: meaning.WaitingHelps})
		}
	}
	return &out[mail.Trace]{t}, nil
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
