package receive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/repute"
	"gullroute/internal/core/route"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/spool"
	"gullroute/internal/store"
)

// contentTalk is the part of a session in which a message comes.
type contentTalk struct{ *session }

// Loop limits (RFC 5321 section 6.3): trace fields in all, and of our own.
const (
	maxHops    = 100
	maxOwnHops = 5
)

// enterTimeout bounds how long a client waits for our word on its message.
const enterTimeout = 30 * time.Second

// storeTimeout bounds storing large content, with a second more for each MiB.
const storeTimeout = 8 * time.Second

func (se contentTalk) data(arg string) smtp.Reply {
	switch {
	case arg != "":
		return se.fault(smtp.NewReply(501, "5.5.4", "DATA takes no parameter"))
	case se.chunks != nil: // RFC 3030 section 2
		return se.fault(
			smtp.NewReply(503, "5.5.1", "the message comes by BDAT; go on so, or say RSET"),
		)
	}
	if r := se.nobody(); r != nil {
		return *r
	}
	if se.br.Buffered() > 0 {
		return helloTalk(se).outOfTurn("DATA")
	}
	if r := se.closed(); r != nil {
		return *r
	}
	se.reply(smtp.NewReply(354, "", "send the message; end it with a line that holds only a dot"))
	if se.flush() != nil {
		se.closing = true
		return smtp.Reply{}
	}
	return se.receive(smtp.NewContentReader(se.br))
}

// receive takes a message whose content comes from a reader, and answers for it.
func (se contentTalk) receive(content *smtp.ContentReader) smtp.Reply {
	id := se.server.IDs.Next()
	s := spool.New(se.server.SpoolDir, int(se.mail.Size), store.PieceSize)
	defer s.Close()
	return se.answer(se.take(s, id, content))
}

// nobody says that there is nobody yet for whom a message could come.
func (se contentTalk) nobody() *smtp.Reply {
	var r smtp.Reply
	switch {
	case se.mail == nil:
		r = se.fault(smtp.NewReply(503, "5.5.1", "say MAIL first"))
	case len(se.rcpts) > 0:
		return nil
	case se.conf.Kind == config.LMTP: // RFC 2033 section 4.2
		r = se.weigh(smtp.NewReply(503, "5.5.1", "no valid recipients"), 1)
	default:
		r = se.weigh(smtp.NewReply(554, "5.5.1", "no valid recipients"), 1)
	}
	return &r
}

// closed says that no message is taken now.
func (se contentTalk) closed() *smtp.Reply {
	if se.server.Intake.Taking() == nil {
		return nil
	}
	r := smtp.NewReply(451, "4.3.0", "no mail can be taken just now; try again later")
	return &r
}

// answer ends a transaction: it gives the last reply, after those that go before it.
func (se contentTalk) answer(reply smtp.Reply) smtp.Reply {
	if se.conf.Kind == config.LMTP { // RFC 2033 section 4.2: one reply for each recipient
		for i, r := range se.rcpts {
			one := reply
			if r.refusal != nil {
				one = *r.refusal
			}
			if i == len(se.rcpts)-1 {
				reply = one
			} else {
				se.reply(one)
			}
		}
	}
	se.clear()
	return reply
}

// take reads the content and enters the message.
func (se contentTalk) take(s *spool.Spool, id ident.ID, content *smtp.ContentReader) smtp.Reply {
	now := time.Now()
	received := message.Received{
		Helo:     se.helo,
		Client:   se.client,
		By:       string(se.conf.GreetingName),
		Protocol: se.protocol(),
		ID:       id.String(),
		For:      se.only(),
		At:       now,
	}
	_, _ = s.Write([]byte(received.String()))
	head := s.Size
	if err := se.copyContent(s, content); err != nil {
		return *err
	}
	if fault := content.Fault(); fault != nil {
		se.refuseMessage(refused{cause: diagnose.Malformed, reply: *fault, size: s.Size})
		return se.fault(*fault)
	}
	section, complete := message.SplitHeader(s.Head()[head:])
	if !complete && len(section) >= message.MaxHeader-int(head) {
		r := smtp.NewReply(552, "5.3.4", "%v", message.ErrHeaderTooLarge)
		se.refuseMessage(refused{cause: diagnose.TooLarge, reply: r, size: s.Size})
		return se.weigh(r, 1)
	}
	summary := message.Summarize(section, string(se.conf.GreetingName))
	if summary.Hops > maxHops || summary.OwnHops >= maxOwnHops {
		r := smtp.NewReply(
			554,
			"5.4.6",
			"the message goes round in a loop: it has passed here %d times before, and %d servers "+
				"in all",
			summary.OwnHops,
			summary.Hops,
		)
		se.refuseMessage(refused{cause: diagnose.Loop, reply: r, summary: summary, size: s.Size})
		return r
	}
	strangerTalk(se).meet(section)
	check := se.identify(s, section)
	if no := se.unproved(check, summary, s.Size); no != nil {
		return *no
	}
	gates := gateTalk(se)
	asked := gates.asked(s, check, now)
	if no := strangerTalk(se).weigh(asked, section, check); no != nil {
		se.refuseMessage(
			refused{cause: diagnose.GreylistedHere, reply: *no, summary: summary, size: s.Size},
		)
		return *no
	}
	clean, forged := senderauth.Strip(section, se.ownNames()...)
	if se.endsHere() { // RFC 5321 section 4.4: the one of final delivery is the only one
		var dropped int
		clean, dropped = message.DropFields(clean, "Return-Path")
		forged += dropped
	}
	if !se.trusted() {
		var dropped int
		clean, dropped = message.DropFields(clean, append([]string{repute.FieldName},
			se.cfg.Gates.Fields()...)...)
		forged += dropped
	}
	fixed, changed := se.fix(clean, id, now)
	fixed, named, no := se.ownFrom(fixed)
	if no != nil {
		se.refuseMessage(
			refused{cause: diagnose.RuleRefuses, reply: *no, summary: summary, size: s.Size},
		)
		return se.weigh(*no, 1)
	}
	changed = changed || named
	if changed || forged > 0 || check != nil || se.score != nil {
		before := s.Size
		se.head(slices.Clone(s.Head()[:head]), fixed, check, s, int(head)+len(section))
		if r := asked.Report(); r != nil {
			r.Shift(s.Size - before)
		}
		section = fixed
		summary = message.Summarize(section, string(se.conf.GreetingName))
	}
	if no := (recipientTalk(se)).tooLate(context.Background(), s.Size); no != nil {
		cause := diagnose.MailboxFull
		if no.Enhanced == "5.2.3" {
			cause = diagnose.TooLarge
		}
		se.refuseMessage(refused{cause: cause, reply: *no, summary: summary, size: s.Size})
		return se.weigh(*no, 1)
	}
	if asked.Size = s.Size; !se.cfg.Gates.Empty() {
		asked.Header = message.ParseHeader(section)
	}
	fates := strangerTalk(se).merge(gates.fates(asked))
	if no := gates.refusedByAll(fates, summary, s.Size); no != nil {
		return *no
	}
	if gates.noRoomToHold(fates, check) {
		r := smtp.NewReply(452, "4.3.1", "no more can be held here just now; try again later")
		se.refuseMessage(
			refused{cause: diagnose.OurTrouble, reply: r, summary: summary, size: s.Size},
		)
		return r
	}
	all, err := gates.make(id, now, s, section, fates, asked)
	defer func() {
		for _, x := range all {
			if x.spool != s {
				x.spool.Close()
			}
		}
	}()
	if err != nil {
		se.log.Error("a gate's changes could not be made", "error", err)
		return se.notNow(se.message(id, now, s, section, summary), err)
	}
	for _, x := range all {
		x.entry.Message.Identity = check
		holdUnproved(x.entry, se.server.Node)
	}
	return se.enter(all)
}

// contentStep is how much content renews a client's time.
const contentStep = 64 << 10

// copyContent reads the content into the spool. Of content that is too large
// the rest is read and forgotten, within bounds, so that the reply is heard.
func (se contentTalk) copyContent(s *spool.Spool, content io.Reader) *smtp.Reply {
	limit := int64(se.conf.Limits.MessageSize)
	if se.buf == nil {
		se.buf = make([]byte, 16<<10)
	}
	buf := se.buf
	var size, step int64
	var trouble error
	se.extend()
	for {
		n, err := content.Read(buf)
		size += int64(n)
		if step += int64(n); step >= contentStep {
			se.extend()
			step = 0
		}
		if n > 0 && size <= limit && trouble == nil {
			_, trouble = s.Write(buf[:n])
		}
		if err == io.EOF {
			break
		}
		if err != nil || size > 2*limit+contentStep {
			se.record.Content(size)
			return se.cutOff(err)
		}
	}
	se.record.Content(size)
	var r smtp.Reply
	switch {
	case size > limit:
		r = smtp.NewReply(552, "5.3.4", "the message has %d octets; %d are allowed here", size,
			limit)
		section, _ := message.SplitHeader(s.Head())
		se.refuseMessage(refused{
			cause:   diagnose.TooLarge,
			reply:   r,
			size:    size,
			summary: message.Summarize(section, string(se.conf.GreetingName)),
		})
		r = se.weigh(r, 1)
	case trouble != nil:
		se.log.Error("content could not be spooled", "error", trouble)
		r = smtp.NewReply(452, "4.3.1", "there is no room for the message now; try again later")
		se.refuseMessage(refused{cause: diagnose.OurTrouble, reply: r, size: size})
	default:
		return nil
	}
	return &r
}

func (se contentTalk) extend() {
	_ = se.conn.SetReadDeadline(time.Now().Add(se.conf.Limits.ContentTimeout))
}

func (se contentTalk) cutOff(err error) *smtp.Reply {
	se.closing, se.why = true, "the connection broke in the middle of a message"
	r := smtp.NewReply(421, "4.4.2", "the message did not come to its end; closing")
	cause := diagnose.Dropped
	if err == nil {
		r, cause = smtp.NewReply(421, "4.3.4",
			"the message is far too large; closing"), diagnose.TooLarge
		se.closeFor("the message was far too large")
	} else if os.IsTimeout(err) {
		r = smtp.NewReply(421, "4.4.2", "the message arrives too slowly; closing")
		se.why = "the message arrives too slowly"
	}
	se.refuseMessage(refused{cause: cause, reply: r})
	return &r
}

// message is what is kept of a message.
func (se contentTalk) message(
	id ident.ID,
	now time.Time,
	s *spool.Spool,
	section []byte,
	sum message.Summary,
) *mail.Message {
	m := &mail.Message{
		ID:            id,
		ReceivedAt:    now.UTC(),
		Sender:        se.mail.From.String(),
		HeaderFrom:    sum.From,
		Subject:       sum.Subject,
		Account:       se.account.String(),
		MessageID:     sum.MessageID,
		Size:          s.Size,
		Listener:      se.conf.Name,
		ClientAddress: se.client.String(),
		Helo:          clip(se.helo),
		SessionID:     se.id,
		Revision:      se.cfg.Revision,
		Protocol:      se.protocol(),
		Hops:          sum.Hops,
		UTF8:          se.mail.UTF8 && !message.IsASCII(section),
		EightBit:      s.EightBit,
		Ret:           se.mail.Ret,
		EnvID:         se.mail.EnvID,
		Asked:         se.asks(now),
		Direction:     mail.In,
	}
	if se.trusted() {
		m.Direction = mail.Out
	}
	return m
}

// notify is what of a recipient's NOTIFY goes on with its deliveries. Behind an
// address that stands for several the sender is told once, that it was passed on
// to them (RFC 3461 section 5.2.7.3).
func (r recipient) notify() smtp.Notify {
	if len(r.legs) < 2 || !r.rcpt.Notify.WantsSuccess() {
		return r.rcpt.Notify
	}
	if left := r.rcpt.Notify &^ smtp.NotifySuccess; left != 0 {
		return left
	}
	return smtp.NotifyNever
}

// expansion is the notice about such addresses, or nil.
func (se contentTalk) expansion(m *mail.Message, section []byte) *store.Entry {
	var expanded []smtp.Rcpt
	for _, r := range se.rcpts {
		if r.notify() != r.rcpt.Notify {
			expanded = append(expanded, r.rcpt)
		}
	}
	if len(expanded) == 0 {
		return nil
	}
	return se.server.Intake.Expansion(se.cfg, m, section, expanded)
}

// tieReport finds what a notification from elsewhere is about, and puts it on
// record there.
func (se contentTalk) tieReport(e *store.Entry, s *spool.Spool, section []byte) {
	if !se.mail.From.IsNull() || se.server.Originals == nil || !dsn.IsReport(section) {
		return
	}
	report, err := dsn.Read(s.Head(), string(se.conf.GreetingName))
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
	defer cancel()
	e.Message.NoticeOf, e.Events = se.server.Originals.Original(ctx,
		string(se.cfg.Service.HostName), report, e.Message.ID)
}

// sized plans legs again where routes ask for the size, which is known only now.
func (se contentTalk) sized(legs []route.Leg, size int64) []route.Leg {
	if !se.cfg.Sized() {
		return legs
	}
	e := se.envelope()
	e.Size = size
	for i, leg := range legs {
		if fresh, fault := route.Find(se.cfg, e, leg.Recipient); fault == nil {
			fresh.Via = leg.Via
			legs[i] = fresh
		}
	}
	return legs
}

// clip keeps a client's own words printable and short.
func clip(helo string) string { return fmt.Sprintf("%.255s", message.Decode(helo)) }

// enter commits what came of the message, all or none. 250 is said only when it is safe.
func (se contentTalk) enter(all []made) smtp.Reply {
	ctx, cancel := context.WithTimeout(context.Background(), enterTimeout)
	defer cancel()
	var entries []*store.Entry
	var ahead []ident.ID
	first := all[0].entry.Message
	fail := func(err error) smtp.Reply {
		for _, id := range ahead {
			_ = se.server.Contents.DropContent(ctx, id)
		}
		return se.notNow(first, err)
	}
	for _, x := range all {
		if content, ok := x.spool.Memory(); ok {
			x.entry.Content = content
		} else {
			ahead = append(ahead, x.entry.Message.ID)
			if err := se.storeAhead(x.spool, x.entry.Message.ID); err != nil {
				return fail(err)
			}
		}
		entries = append(entries, x.entry)
	}
	began := time.Now()
	if err := se.server.Intake.Enter(ctx, entries...); err != nil {
		return fail(err)
	}
	if se.server.Tally != nil {
		counters.Took(se.server.Tally.Accept, time.Since(began), first.ID.String())
	}
	se.record.Change(func(b *mail.Session) {
		b.MessageCount++
		b.Recipients += len(se.rcpts)
		for _, e := range entries {
			b.AddMessage(e.Message.ID)
		}
	})
	if n := se.expansion(first, all[0].section); n != nil {
		if err := se.server.Intake.Enter(ctx, n); err != nil {
			se.log.Warn("the sender is not told of an expansion", "message", first.ID,
				"error", err)
		}
	}
	for _, x := range all {
		gateTalk(se).tellBounced(ctx, x)
	}
	se.messages++
	se.octets += first.Size
	se.reserved = nil // they are sent
	return smtp.NewReply(250, "2.0.0", "accepted as %s", first.ID)
}

// storeAhead stores content that is too large for one piece. It may take longer the
// larger it is, and not for ever: the database's host may be frozen.
func (se contentTalk) storeAhead(s *spool.Spool, id ident.ID) error {
	ctx, cancel := context.WithTimeout(context.Background(),
		storeTimeout+time.Duration(s.Size>>20)*time.Second)
	defer cancel()
	return se.server.Contents.StoreContent(ctx, id, s.Open())
}

func (se contentTalk) notNow(m *mail.Message, err error) smtp.Reply {
	r := smtp.NewReply(451, "4.3.0", "the message could not be stored just now; try again later")
	switch {
	case errors.Is(err, fault.ErrStopping):
		se.closeFor("this server was going down")
		r = smtp.NewReply(421, "4.3.2", "%s is going down; try again soon", se.conf.GreetingName)
	case errors.Is(err, store.ErrData):
		r = smtp.NewReply(550, "5.6.0",
			"the message holds what cannot be stored; it will never be taken as it is")
	case errors.Is(err, store.ErrFull):
		r = smtp.NewReply(452, "4.3.1", "there is no room for the message now; try again later")
	}
	se.log.Error("message could not be entered", "error", err)
	se.refuseMessage(refused{
		cause: diagnose.OurTrouble,
		reply: r,
		size:  m.Size,
		summary: message.Summary{
			From:      m.HeaderFrom,
			Subject:   m.Subject,
			MessageID: m.MessageID,
		},
	})
	return r
}
