package queue

import (
	"bytes"
	"io"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/store"
)

// notice makes the notification that a failure begets, or nil: none about a
// message from the null sender (RFC 5321 section 6.1), and none that the sender
// asked not to get (RFC 3461), nor that were agreed to be kept back.
func (q *Queue) notice(cfg *config.Compiled, j *job, failed []*mail.Delivery, now time.Time) []*store.Entry {
	to := j.from()
	if to.IsNull() {
		return nil
	}
	if p := cfg.Peer(to.Domain); p != nil && p.NoBounces {
		q.Log.Info("a notice is kept back", "message", j.message, "sender", to.String(), "peer", p.Name)
		return nil
	}
	n := dsn.Notice{HostName: string(cfg.Service.HostName), Postmaster: cfg.Service.Postmaster, To: to, EnvID: j.envID, Arrived: j.received, Now: now}
	for _, d := range failed {
		if smtp.Notify(d.Notify).WantsFailure() {
			n.Recipients = append(n.Recipients, noticeRecipient(d))
		}
	}
	if len(n.Recipients) == 0 {
		return nil
	}
	if err := q.addOriginal(&n, j); err != nil {
		q.Log.Error("a notice goes out without the original's header", "message", j.message, "error", err)
	}
	id := q.IDs.Next()
	n.ID = id.String()
	if e := q.noticeEntry(cfg, n, j, id, now); e != nil {
		return []*store.Entry{e}
	}
	return nil
}

func noticeRecipient(d *mail.Delivery) dsn.Recipient {
	final, _ := address.Parse(d.Recipient)
	r := dsn.Recipient{Final: final, Cause: d.Cause, RemoteHost: d.Last.Host, LastAttempt: d.LastTryAt.Time, Expired: d.State == mail.Expired,
		Reply: smtp.Reply{Code: d.Last.Code, Enhanced: d.Last.Enhanced, Lines: []string{d.Last.Text}}}
	r.OrigType, r.Orig, _ = strings.Cut(d.ORCPT, ";")
	if d.Last.Code == 0 { // nobody said it but we ourselves
		r.RemoteHost = ""
		r.Reply.Code = 550
	}
	switch {
	case r.Expired:
		r.Status = "4.4.7"
	case d.Last.Enhanced != "":
		r.Status = d.Last.Enhanced
	default:
		r.Status = "5.0.0"
	}
	return r
}

// addOriginal reads what of the original goes back.
func (q *Queue) addOriginal(n *dsn.Notice, j *job) error {
	content, err := q.letter(j).Content()
	if err != nil {
		return err
	}
	head := make([]byte, message.MaxHeader)
	size, err := io.ReadFull(content, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return err
	}
	head = head[:size]
	section, _ := message.SplitHeader(head)
	n.Header = bytes.Clone(section)
	n.Subject = message.Summarize(section, n.HostName).Subject
	if j.ret == "FULL" && j.size <= dsn.MaxReturn && int64(size) == j.size {
		n.Content = bytes.Clone(head)
	}
	return nil
}

// noticeEntry makes the message that carries a notice.
func (q *Queue) noticeEntry(cfg *config.Compiled, n dsn.Notice, j *job, id ident.ID, now time.Time) *store.Entry {
	e, fault := beget(cfg, j, id, n.To, dsn.Compose(n), "notice", now)
	if fault != nil {
		q.Log.Warn("a notice cannot be delivered: its sender's address is refused here", "message", j.message, "sender", n.To.String(), "reply", fault.String())
		return nil
	}
	e.Message.UTF8 = n.NeedsUTF8()
	return e
}

// beget makes a message of our own about another, from the null sender. kind is
// the word for it: notice or reply.
func beget(cfg *config.Compiled, j *job, id ident.ID, to address.Address, content []byte, kind string, now time.Time) (*store.Entry, *smtp.Reply) {
	legs, fault := route.Plan(cfg, config.Envelope{Size: int64(len(content))}, to)
	if fault != nil {
		return nil, fault
	}
	host := string(cfg.Service.HostName)
	section, _ := message.SplitHeader(content)
	summary := message.Summarize(section, host)
	m := &mail.Message{ID: id, ReceivedAt: now.UTC(), HeaderFrom: summary.From, Subject: summary.Subject, MessageID: summary.MessageID,
		Size: int64(len(content)), Helo: host, SessionID: id, Revision: cfg.Revision, Protocol: kind,
		EightBit: bytes.ContainsFunc(content, func(r rune) bool { return r >= 0x80 }), NoticeOf: j.message}
	e := &store.Entry{Message: m, Content: content}
	for i, leg := range legs {
		e.Deliveries = append(e.Deliveries, NewDelivery(cfg, m, i+1, leg, to, kind))
	}
	return e, nil
}

// NewDelivery makes the delivery of a leg, due at once. original is the
// recipient as it was given, rule what let it in.
func NewDelivery(cfg *config.Compiled, m *mail.Message, n int, leg route.Leg, original address.Address, rule string) *mail.Delivery {
	d := &mail.Delivery{MessageID: m.ID, N: int16(n), Recipient: leg.Recipient.String(), Original: original.String(), State: mail.Waiting,
		LaneID: ident.ID(leg.Lane()), Route: leg.Route.Name, NextHop: leg.NextHop, Rule: rule, RouteWhy: leg.Why, Revision: cfg.Revision,
		NextTryAt: mail.At(m.ReceivedAt), ExpiresAt: mail.At(cfg.Schedule.Expires(m.ReceivedAt))}
	for _, a := range leg.Via {
		d.Via = append(d.Via, a.String())
	}
	return d
}
