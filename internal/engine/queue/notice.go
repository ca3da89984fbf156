package queue

import (
	"bytes"
	"context"
	"io"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/dsn"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/route"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/store"
)

// contentStore reads what was stored of messages.
type contentStore interface {
	OpenContent(ctx context.Context, id ident.ID) (*store.Content, error)
}

// author writes messages of our own, and what goes out of others: notices, automatic
// replies, signatures.
type author struct {
	*base

	mu     sync.Mutex
	copies copies
}

// notice makes the notifications that outcomes call for: to the sender, and where
// that is wanted a copy to the postmaster. There is none about a message from the
// null sender (RFC 5321 section 6.1), and none that the sender asked not to get
// (RFC 3461 section 4.1), nor that were agreed to be kept back.
func (a *author) notice(
	cfg *config.Compiled,
	j *job,
	about []*mail.Delivery,
	now time.Time,
) []*store.Entry {
	to := j.from()
	if to.IsNull() {
		return nil
	}
	unsent := j.whyNoAnswer(cfg)
	n := dsn.Notice{
		HostName:   string(cfg.Service.HostName),
		Postmaster: cfg.Service.Postmaster,
		To:         to,
		EnvID:      j.envID,
		Arrived:    j.received,
		Now:        now,
	}
	peer := cfg.Peer(to.Domain)
	for _, d := range about {
		r := noticeRecipient(d)
		notify := smtp.Notify(d.Notify)
		switch {
		case r.Action == dsn.Failed && !notify.WantsFailure(),
			r.Action == dsn.Delayed && !notify.WantsDelay():
		case r.Action == dsn.Failed && peer != nil && peer.NoBounces,
			r.Action == dsn.Delayed && peer != nil && peer.NoDelayNotices:
			a.Log.Info("a notice is kept back", "message", j.message, "sender", to.String(),
				"peer", peer.Name)
		default:
			n.Recipients = append(n.Recipients, r)
		}
	}
	if len(n.Recipients) == 0 {
		return nil
	}
	if err := a.addOriginal(cfg, &n, j); err != nil {
		a.Log.Error("a notice goes out without the original's header", "message", j.message,
			"error", err)
	}
	var out []*store.Entry
	if unsent != "" {
		a.Log.Info("no notice: "+unsent, "message", j.message, "sender", to.String())
	} else if e := a.noticeEntry(cfg, n, j, now); e != nil {
		out = append(out, e)
	}
	if missed, ok := a.copyWanted(cfg, n, now); ok {
		n.CopyOf, n.To, n.Uncopied = n.To, cfg.Service.Postmaster, missed
		if e := a.noticeEntry(cfg, n, j, now); e != nil {
			out = append(out, e)
		}
	}
	return out
}

// whyNoAnswer says why nothing of ours goes back to the sender of a message, "" if
// it may: it would hit somebody who never wrote it. What a sender's domain says of the
// message counts, and a stranger who writes as one of ours and proves nothing is none.
func (j *job) whyNoAnswer(cfg *config.Compiled) string {
	if j.proof == senderauth.Fail {
		return "its sender is forged, by what SPF or DMARC says"
	}
	stranger := j.direction == mail.In && len(j.deliveries) > 0 &&
		j.deliveries[0].Rule == config.RuleOurDomain
	if d := cfg.Domain(j.from().Domain); stranger && d != nil && d.Kind == config.Local &&
		j.proof != senderauth.Pass {
		if l := cfg.Listener(j.listener); l == nil || l.Kind != config.LMTP {
			return "a stranger wrote it in the name of one of ours"
		}
	}
	return ""
}

// copies counts the postmaster's copies, hour by hour.
type copies struct {
	hour         int64
	made, missed int
}

// copyWanted reports whether the postmaster gets a copy, and how many notices
// were not copied since the last one.
func (a *author) copyWanted(
	cfg *config.Compiled,
	n dsn.Notice,
	now time.Time,
) (missed int, ok bool) {
	wanted := cfg.Service.Notices.CopyTo
	if wanted == "" || wanted == "nobody" || wanted == "failures" && n.Worst() != dsn.Failed ||
		n.To.Key() == cfg.Service.Postmaster.Key() {
		return 0, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	c := &a.copies
	if hour := now.Unix() / 3600; hour != c.hour {
		c.hour, c.made = hour, 0
	}
	if c.made >= cfg.Service.Notices.CopiesPerHour {
		c.missed++
		return 0, false
	}
	c.made++
	missed, c.missed = c.missed, 0
	return missed, true
}

// requested are the deliveries of a job whose sender asked to be told of success,
// and whose next server does not take that notify over (RFC 3461 section 5.2.2).
func requested(j *job, results []deliver.Result) []*mail.Delivery {
	var out []*mail.Delivery
	for i, d := range j.deliveries {
		if d.State == mail.Delivered && smtp.Notify(d.Notify).WantsSuccess() &&
			!results[i].NotifyPassedOn {
			out = append(out, d)
		}
	}
	return out
}

// unsure reports that a delivery's cause is read from what a host said, and not beyond
// doubt: the sender is told so.
func unsure(d *mail.Delivery) bool {
	if d.Last == nil || d.Last.Code == 0 || d.Cause == diagnose.Unknown {
		return false
	}
	v := diagnose.JudgeAbout(d.Last.Stage,
		smtp.Reply{Code: d.Last.Code, Enhanced: d.Last.Enhanced, Lines: []string{d.Last.Text}},
		diagnose.About{Recipient: d.Recipient})
	return v.Cause == d.Cause && v.Sure == diagnose.Likely
}

func noticeRecipient(d *mail.Delivery) dsn.Recipient {
	final, _ := address.Parse(d.Recipient)
	last := mail.LastReply{}
	if d.Last != nil {
		last = *d.Last
	}
	if len(d.Via) > 0 {
		// Where an address of ours is passed on to is its owner's business: the sender is
		// told of the address that was written to, and no reply that may name the other.
		if given, err := address.Parse(d.Original); err == nil {
			final = given
			last.Host, last.Text = "", passedOnReply(d, last)
		}
	}
	r := dsn.Recipient{
		Final:       final,
		Cause:       d.Cause,
		RemoteHost:  last.Host,
		LastAttempt: d.LastAttemptAt.Time,
		Expired:     d.State == mail.Expired,
		Reply: smtp.Reply{
			Code:     last.Code,
			Enhanced: last.Enhanced,
			Lines:    []string{last.Text},
		},
	}
	r.OrigType, r.Orig, _ = strings.Cut(d.ORCPT, ";")
	r.Unsure = unsure(d)
	ours := last.Stage == diagnose.StageMailbox || last.Stage == diagnose.StageRoute
	if last.Code == 0 || ours { // nobody said it but we ourselves
		r.RemoteHost = ""
	}
	switch d.State {
	case mail.Delivered:
		// RFC 3463: relayed to a host without notifications
		r.Action, r.Status = dsn.Relayed, "2.1.9"
		if last.Stage == diagnose.StageMailbox || d.NextHop == "local" {
			r.Action, r.Status = dsn.Delivered, "2.1.5"
		} else {
			r.RemoteHost = last.Host
		}
	case mail.Bounced, mail.Expired:
		r.Action, r.Status = dsn.Failed, last.Enhanced
		if r.Reply.Code == 0 && last.Text != "" {
			r.Reply.Code = 550
		}
		if r.Status == "" {
			r.Status = "5.0.0"
		}
		if r.Expired {
			r.Status = "4.4.7"
		}
		if d.Cause == diagnose.Returned || d.Cause == diagnose.GateRefuses {
			r.Words = last.Text
		}
	default:
		r.Action, r.Status, r.RetryUntil = dsn.Delayed, "4.4.7", d.ExpiresAt.Time
	}
	return r
}

// passedOnReply is what is told of the reply to a delivery that was passed on.
func passedOnReply(d *mail.Delivery, last mail.LastReply) string {
	if d.Cause == diagnose.Returned || last.Text == "" { // a person's sentence
		return last.Text
	}
	return "said where it was passed on to"
}

// addOriginal reads what of the original goes back.
func (a *author) addOriginal(cfg *config.Compiled, n *dsn.Notice, j *job) error {
	content, err := a.message(j).Content()
	if err != nil {
		return err
	}
	whole := j.ret == "FULL" && !j.asked.TLS && // RFC 8689 section 5
		j.size <= int64(cfg.Service.Notices.ReturnUpTo) &&
		n.Worst() == dsn.Failed
	room := int64(message.MaxHeader)
	if whole {
		room = max(room, j.size+1)
	}
	head := make([]byte, room)
	size, err := io.ReadFull(content, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return err
	}
	head = head[:size]
	section, _ := message.SplitHeader(head)
	n.Header = bytes.Clone(section)
	n.Subject = message.Summarize(section, n.HostName).Subject
	n.Language = languageOf(section, cfg.Service.Notices.Language)
	if whole && int64(size) == j.size {
		n.Content = bytes.Clone(head)
	}
	return nil
}

// languageOf is the language that a sender is told something in: the one that is set, or
// that of the message (RFC 3282).
func languageOf(section []byte, set string) string {
	if set != "as_sent" && set != "" {
		return set
	}
	for tag := range strings.SplitSeq(message.ParseHeader(section).First("Content-Language"), ",") {
		tag, _, _ = strings.Cut(strings.ToLower(strings.TrimSpace(tag)), "-")
		if tag == diagnose.German || tag == diagnose.English {
			return tag
		}
	}
	return diagnose.English
}

// noticeEntry makes the message that carries a notice.
func (a *author) noticeEntry(
	cfg *config.Compiled,
	n dsn.Notice,
	j *job,
	now time.Time,
) *store.Entry {
	id := a.IDs.Next()
	n.ID = id.String()
	e, fault := generate(cfg, j, id, n.To, dsn.Compose(n), "notice", now)
	if fault != nil {
		a.Log.Warn("a notice cannot be delivered: its sender's address is refused here",
			"message", j.message, "sender", n.To.String(), "reply", fault.String())
		return nil
	}
	e.Message.UTF8 = n.NeedsUTF8()
	return e
}

// Expansion makes the notice that a message was passed on to all behind an alias
// (RFC 3461 section 5.2.7.3), or nil.
func (a *author) Expansion(
	cfg *config.Compiled,
	m *mail.Message,
	section []byte,
	expanded []smtp.Rcpt,
) *store.Entry {
	to := m.From()
	if to.IsNull() || len(expanded) == 0 {
		return nil
	}
	n := dsn.Notice{
		HostName:   string(cfg.Service.HostName),
		Postmaster: cfg.Service.Postmaster,
		To:         to,
		EnvID:      m.EnvID,
		Arrived:    m.ReceivedAt,
		Now:        m.ReceivedAt,
		Subject:    m.Subject,
		Header:     bytes.Clone(section),
		Language:   languageOf(section, cfg.Service.Notices.Language),
	}
	for _, r := range expanded {
		n.Recipients = append(n.Recipients, dsn.Recipient{
			Action:   dsn.Expanded,
			Final:    r.To,
			OrigType: r.OrigType,
			Orig:     r.Orig,
			Status:   "2.0.0",
		})
	}
	return a.noticeEntry(cfg, n, &job{message: m.ID}, m.ReceivedAt)
}

// Refused makes the notices about recipients for whom a gate refused a message that others
// got.
func (a *author) Refused(
	cfg *config.Compiled,
	m *mail.Message,
	about []*mail.Delivery,
) []*store.Entry {
	j := &job{message: m.ID, received: m.ReceivedAt, origin: originOf(m), deliveries: about}
	return a.notice(cfg, j, about, time.Now())
}

// generate makes a message of our own about another, from the null sender. kind is
// the word for it: notice or reply.
func generate(
	cfg *config.Compiled,
	j *job,
	id ident.ID,
	to address.Address,
	content []byte,
	kind string,
	now time.Time,
) (*store.Entry, *smtp.Reply) {
	legs, fault := route.Plan(cfg, config.Envelope{Size: int64(len(content))}, to)
	if fault != nil {
		return nil, fault
	}
	host := string(cfg.Service.HostName)
	section, _ := message.SplitHeader(content)
	summary := message.Summarize(section, host)
	m := &mail.Message{
		ID:         id,
		ReceivedAt: now.UTC(),
		HeaderFrom: summary.From,
		Subject:    summary.Subject,
		MessageID:  summary.MessageID,
		Size:       int64(len(content)),
		Helo:       host,
		SessionID:  id,
		Revision:   cfg.Revision,
		Protocol:   kind,
		EightBit:   bytes.ContainsFunc(content, func(r rune) bool { return r >= 0x80 }),
		NoticeOf:   j.message,
		Direction:  mail.Own,
	}
	e := &store.Entry{Message: m, Content: content}
	for i, leg := range legs {
		e.Deliveries = append(e.Deliveries, plan.NewDelivery(cfg, m, i+1, leg, to, kind))
	}
	return e, nil
}

// Own makes a message of our own that is about no other.
func (a *author) Own(
	cfg *config.Compiled,
	id ident.ID,
	to address.Address,
	content []byte,
	kind string,
	now time.Time,
) (*store.Entry, *smtp.Reply) {
	return generate(cfg, &job{}, id, to, content, kind, now)
}
