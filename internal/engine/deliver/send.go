package deliver

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
)

// transfer is the part of a connection in which messages go over.
type transfer struct{ *Conn }

// Message is a message to deliver.
type Message struct {
	ID       ident.ID
	Sender   address.Address
	Size     int64
	UTF8     bool // the header may hold UTF-8 (RFC 6532)
	EightBit bool
	Ret      string
	EnvID    string
	Asked    mail.Demands
	Content  func() (io.Reader, error)
	Written  []string // what was changed in it for these recipients, in words
}

// Prepend puts header fields, each with its CRLF, before the content.
func (m *Message) Prepend(fields []byte) {
	if len(fields) == 0 {
		return
	}
	plain := m.Content
	m.Size += int64(len(fields))
	m.Content = func() (io.Reader, error) {
		rest, err := plain()
		return io.MultiReader(bytes.NewReader(fields), rest), err
	}
}

// Recipient is one recipient of a message.
type Recipient struct {
	To     address.Address
	Notify smtp.Notify
	ORCPT  string // type;address
}

// Result is what became of one recipient: Failure nil is a delivery.
type Result struct {
	Reply   mail.LastReply
	Failure *Failure
	// NotifyPassedOn says that the host tells the sender of success if that is
	// requested (RFC 3461 section 5.2.1).
	NotifyPassedOn bool
	// again: the host took others in this transaction and takes this one in another.
	again bool
}

// group is how many commands are sent ahead of their replies (RFC 2920); the
// replies to as many fit any socket's buffer.
const group = 100

// Send hands a message over to recipients and reports each one's result, in their
// order. It takes one transaction, and more for recipients whom the host does not
// take in the same one as others (RFC 5321 section 4.5.3.1.10).
func (c *Conn) Send(message *Message, recipients []Recipient) []Result {
	t := transfer{c}
	results := t.inTurns(message, recipients)
	for !c.broken {
		var rest []Recipient
		var at []int
		for i, r := range results {
			if r.again {
				rest, at = append(rest, recipients[i]), append(at, i)
			}
		}
		if len(rest) == 0 {
			break
		}
		for k, r := range t.inTurns(message, rest) {
			results[at[k]] = r
		}
	}
	taken := 0
	for i, r := range results {
		if r.Failure == nil {
			taken++
			results[i].Reply.Written = message.Written
		}
		c.record.Touch(recipients[i].To.Domain)
	}
	c.record.Change(func(s *mail.Session) {
		s.AddMessage(message.ID)
		s.Recipients += taken
		s.Refused += len(results) - taken
		if taken > 0 {
			s.MessageCount++
		}
	})
	return results
}

// inTurns sends to no more recipients at a time than the host says that it takes (RFC 9422).
func (c transfer) inTurns(message *Message, recipients []Recipient) []Result {
	most := limitOf(c.Conn, "RCPTMAX")
	if most == 0 || len(recipients) <= most {
		return c.transact(message, recipients)
	}
	var results []Result
	for some := range slices.Chunk(recipients, most) {
		results = append(results, c.transact(message, some)...)
	}
	return results
}

func (c transfer) transact(message *Message, recipients []Recipient) []Result {
	results := make([]Result, len(recipients))
	c.about.Sender = message.Sender.String()
	defer func() { c.about.Sender, c.about.Recipient = "", "" }()
	if failure := c.unfit(message, recipients); failure != nil {
		return all(results, failure)
	}
	if failure := c.refusesAsked(message.Asked); failure != nil {
		return all(results, failure)
	}
	for _, told := range message.Written {
		c.record.Note("the message as agreed: %s", told)
	}
	accepted, dataSent, failure := c.envelope(message, recipients, results)
	if failure != nil {
		return all(results, failure)
	}
	if len(accepted) == 0 && !dataSent {
		c.reset()
		return results
	}
	if failure := c.content(message, len(accepted) > 0, dataSent); failure != nil {
		return some(results, accepted, failure)
	}
	if len(accepted) == 0 { // DATA was taken although nobody was: nothing was sent
		_, _ = c.reply(diagnose.StageContent)
		return results
	}
	return separate(c.final(results, accepted), accepted)
}

// separate finds who was refused only for being one too many beside others that were
// taken: there is progress, so the host may be asked again immediately. RFC 5321 section
// 4.5.3.1.10 has 552 mean that too, as old servers say it.
func separate(results []Result, accepted []int) []Result {
	for i := range results {
		f := results[i].Failure
		if f == nil || f.Reply.Stage != diagnose.StageRecipient {
			continue
		}
		_, detail, _ := strings.Cut(f.Reply.Enhanced, ".")
		tooMany := f.Reply.Code == 452 &&
			(detail == "5.3" || f.Cause == diagnose.TooManyRecipients) ||
			f.Reply.Code == 552 && (detail == "" || detail == "5.3")
		if !tooMany {
			continue
		}
		f.Permanent, f.Cause = false, diagnose.TooManyRecipients
		results[i].again = results[accepted[0]].Failure == nil
	}
	return results
}

func all(results []Result, failure *Failure) []Result {
	for i := range results {
		results[i] = Result{Failure: failure, Reply: failure.Reply}
	}
	return results
}

func some(results []Result, which []int, failure *Failure) []Result {
	for _, i := range which {
		results[i] = Result{Failure: failure, Reply: failure.Reply}
	}
	return results
}

// unfit finds what the host lacks for this message, before anything is sent.
func (c transfer) unfit(l *Message, recipients []Recipient) *Failure {
	utf8 := l.UTF8 || l.Sender.NeedsUTF8()
	for _, r := range recipients {
		utf8 = utf8 || r.To.NeedsUTF8()
	}
	switch limit := c.sizeLimit(); {
	case utf8 && !c.has("SMTPUTF8"):
		return c.failure(diagnose.StageSender, "5.6.7", diagnose.NeedsUTF8,
			"the message needs SMTPUTF8 and the host does not offer it")
	case l.EightBit && !c.has("8BITMIME"):
		return c.failure(diagnose.StageSender, "5.6.1", diagnose.Needs8Bit,
			"the message is 8-bit and the host does not offer 8BITMIME")
	case limit > 0 && l.Size > limit:
		return c.failure(diagnose.StageSender, "5.3.4", diagnose.TooLarge,
			fmt.Sprintf("the message has %d octets and the host takes %d", l.Size, limit))
	}
	return nil
}

// envelope sends MAIL, RCPT and, where commands may be sent ahead, DATA with the
// last group. It fills in the results of refused recipients.
func (c transfer) envelope(
	l *Message,
	recipients []Recipient,
	results []Result,
) (accepted []int, dataSent bool, failure *Failure) {
	c.mails++
	lines := []string{c.mailLine(l, recipients)}
	for _, r := range recipients {
		lines = append(lines, c.rcptLine(r))
	}
	ahead := 1
	if c.has("PIPELINING") {
		ahead = group
	}
	var mailFailure *Failure
	unclear := false // a reply that neither takes nor refuses
	for start := 0; start < len(lines); start += ahead {
		part := lines[start:min(start+ahead, len(lines))]
		last := start+len(part) == len(lines)
		c.deadline(c.timeouts.Command)
		if failure := c.sendGroup(part, last && ahead > 1); failure != nil {
			return nil, false, failure
		}
		dataSent = last && ahead > 1
		for i := range part {
			stage := diagnose.StageRecipient
			if start+i == 0 {
				stage = diagnose.StageSender
			}
			r, failure := c.reply(stage)
			switch n := start + i - 1; {
			case failure != nil:
				return nil, false, failure
			case stage == diagnose.StageSender && !r.Done():
				mailFailure = c.refusal(stage, r)
			case stage == diagnose.StageSender:
			case mailFailure != nil: // says only that MAIL failed
			case r.Done():
				accepted = append(accepted, n)
			default:
				unclear = unclear || r.Positive()
				c.about.Recipient = recipients[n].To.String()
				results[n].Failure = c.refusal(stage, r)
				results[n].Reply = results[n].Failure.Reply
			}
		}
		if mailFailure != nil && !dataSent {
			c.reset()
			return nil, false, mailFailure
		}
	}
	if mailFailure != nil {
		all(results, mailFailure)
	}
	if len(accepted) == 0 && dataSent &&
		(unclear || mailFailure != nil && mailFailure.Reply.Code < 400) {
		// The host may have taken somebody: an empty message must not be delivered.
		c.Close()
		return nil, false, c.failure(diagnose.StageRecipient, "4.5.0", diagnose.NotSMTP,
			"the host's replies neither take nor refuse a recipient")
	}
	return accepted, dataSent, nil
}

func (c transfer) sendGroup(lines []string, withData bool) *Failure {
	var err error
	for _, line := range lines {
		if err == nil {
			err = c.say(line)
		}
	}
	if err == nil && withData {
		err = c.say("DATA")
	}
	if err == nil {
		err = c.bw.Flush()
	}
	if err != nil {
		return c.ioFailure(diagnose.StageSender, err)
	}
	return nil
}

func (c transfer) mailLine(l *Message, recipients []Recipient) string {
	var b strings.Builder
	b.WriteString("MAIL FROM:<" + l.Sender.String() + ">")
	if c.has("SIZE") {
		fmt.Fprintf(&b, " SIZE=%d", l.Size)
	}
	if l.EightBit {
		b.WriteString(" BODY=8BITMIME")
	}
	if l.UTF8 || l.Sender.NeedsUTF8() ||
		slices.ContainsFunc(recipients, func(r Recipient) bool { return r.To.NeedsUTF8() }) {
		b.WriteString(" SMTPUTF8")
	}
	if c.has("DSN") && l.Ret != "" {
		b.WriteString(" RET=" + l.Ret)
	}
	if c.has("DSN") && l.EnvID != "" {
		b.WriteString(" ENVID=" + smtp.EncodeXtext(l.EnvID))
	}
	b.WriteString(c.passOn(l.Asked, time.Now()))
	return b.String()
}

func (c transfer) rcptLine(r Recipient) string {
	line := "RCPT TO:<" + r.To.String() + ">"
	if !c.has("DSN") {
		return line
	}
	if n := r.Notify.String(); n != "" {
		line += " NOTIFY=" + n
	}
	if kind, text, ok := strings.Cut(r.ORCPT, ";"); ok {
		line += " ORCPT=" + kind + ";" + smtp.EncodeXtext(text)
	}
	return line
}

// content waits for 354 and sends the content, or only its end when nobody is
// there to get it.
func (c transfer) content(l *Message, wanted, dataSent bool) *Failure {
	var r smtp.Reply
	var failure *Failure
	c.deadline(c.timeouts.Command)
	if dataSent {
		r, failure = c.reply(diagnose.StageContent)
	} else {
		r, failure = c.command(diagnose.StageContent, "DATA", c.timeouts.Command)
	}
	if failure != nil {
		return failure
	}
	if r.Code != 354 {
		c.reset()
		return c.refusal(diagnose.StageContent, r)
	}
	w := smtp.NewContentWriter(c.bw)
	if wanted {
		content, err := l.Content()
		if err != nil { // ours, and the host must not take half of it for a message
			c.Close()
			return c.failure(diagnose.StageContent, "4.3.0", diagnose.OurTrouble,
				"the content could not be read: "+err.Error())
		}
		if failure := c.copyContent(w, content); failure != nil {
			return failure
		}
		c.record.Content(l.Size)
	}
	c.deadline(c.timeouts.Final)
	if err := w.Close(); err != nil {
		return c.ioFailure(diagnose.StageContent, err)
	}
	return nil
}

func (c transfer) copyContent(w io.Writer, content io.Reader) *Failure {
	buf := make([]byte, 32<<10)
	for {
		n, err := content.Read(buf)
		if n > 0 {
			c.deadline(c.timeouts.Content)
			if _, err := w.Write(buf[:n]); err != nil {
				return c.ioFailure(diagnose.StageContent, err)
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			c.Close()
			return c.failure(diagnose.StageContent, "4.3.0", diagnose.OurTrouble,
				"the content could not be read: "+err.Error())
		}
	}
}

// final reads the answer to the content: one, or by LMTP one a recipient.
func (c transfer) final(results []Result, accepted []int) []Result {
	for k, i := range accepted {
		r, failure := c.reply(diagnose.StageContent)
		if failure == nil && !r.Done() {
			failure = c.refusal(diagnose.StageContent, r)
		}
		result := Result{
			Reply:          c.lastReply(diagnose.StageContent, r),
			Failure:        failure,
			NotifyPassedOn: c.has("DSN") && !c.lmtp,
		}
		if failure != nil {
			result.Reply = failure.Reply
		}
		if !c.lmtp {
			for _, j := range accepted {
				results[j] = result
			}
			return results
		}
		results[i] = result
		if c.broken && failure != nil {
			return some(results, accepted[k:], failure)
		}
	}
	return results
}

// reset clears a transaction that did not come to its end.
func (c transfer) reset() {
	if c.broken {
		return
	}
	if r, failure := c.command(diagnose.StageSender, "RSET", c.timeouts.Command); failure != nil ||
		!r.Done() {
		c.broken = true
	}
}
