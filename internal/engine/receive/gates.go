package receive

import (
	"bytes"
	"context"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/rehearse"
	"gullroute/internal/core/reshape"
	"gullroute/internal/core/route"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/scan"
	"gullroute/internal/engine/spool"
	"gullroute/internal/store"
)

// gateTalk is the part of a session in which gates are asked.
type gateTalk struct{ *session }

// Contacts knows who has exchanged mail with whom.
type Contacts interface {
	// Met reports whether mail between two addresses is on record, in either direction.
	Met(ctx context.Context, a, b string) (bool, error)
}

// contactTimeout bounds the question whether two have met.
const contactTimeout = 2 * time.Second

// gateMessage is what gates are asked with before the content.
func (se gateTalk) gateMessage(now time.Time) *gate.Message {
	m := rehearse.GateMessage(se.cfg, se.envelope(), nil, nil, now)
	m.Recipients = len(se.rcpts)
	m.FirstContact = se.firstContact
	return m
}

// firstContact asks the record. What cannot be known now is no first contact: a gate must
// not stop mail because the database is slow.
func (se gateTalk) firstContact(to *gate.Recipient) bool {
	if se.server.Contacts == nil || se.mail.From.IsNull() {
		return false
	}
	ctx, cancel := context.WithTimeout(context.Background(), contactTimeout)
	defer cancel()
	for _, a := range append([]address.Address{to.Given}, to.Finals...) {
		met, err := se.server.Contacts.Met(ctx, se.mail.From.String(), a.String())
		if met || err != nil {
			return false
		}
	}
	return true
}

// refusedEarly asks the gates about a recipient as far as they can be asked before the
// content. It returns the refusal, or nil.
func (se gateTalk) refusedEarly(to address.Address, legs []route.Leg) *refused {
	if se.cfg.Gates.Empty() {
		return nil
	}
	fate, decided := se.cfg.Gates.Early(
		se.gateMessage(time.Now()),
		rehearse.GateRecipient(to, legs),
	)
	if !decided {
		return nil
	}
	return &refused{
		stage:    diagnose.StageRecipient,
		cause:    diagnose.GateRefuses,
		reply:    *fate.Refuse,
		to:       to,
		gate:     fate.By,
		severity: fate.Severity(),
	}
}

// asked is what gates are asked with, and what a stranger is weighed by, but for the header:
// it is parsed only for who looks at it.
func (se gateTalk) asked(
	s *spool.Spool,
	check *senderauth.Assessment,
	now time.Time,
) *gate.Message {
	m := se.gateMessage(now)
	m.Late, m.Size, m.Identity = true, s.Size, check
	m.Parts = func() *parts.Report { return se.scan(s) }
	if se.server.Scanner != nil && len(se.cfg.Scanners) > 0 {
		m.Scan = func() gate.Verdict { // asked before or after our fields stand before it
			return se.server.Scanner.Scan(context.Background(),
				scan.Content{Open: s.Open, Size: s.Size})
		}
	}
	return m
}

// fates asks the gates about every recipient, with the content.
func (se gateTalk) fates(m *gate.Message) []gate.Fate {
	if se.cfg.Gates.Empty() {
		return nil
	}
	out := make([]gate.Fate, len(se.rcpts))
	for i, r := range se.rcpts {
		if r.refusal == nil {
			out[i] = se.cfg.Gates.Decide(m, rehearse.GateRecipient(r.rcpt.To, r.legs))
		}
	}
	return out
}

// scan takes the content apart. What cannot be read at all is told to be unreadable.
func (se gateTalk) scan(s *spool.Spool) *parts.Report {
	report, err := parts.Scan(s.Open(), parts.Options{
		Text:    true,
		Files:   true,
		Links:   strangerTalk(se).wantsLinks(),
		Scratch: func() (parts.Scratch, error) { return newScratch(se.server.SpoolDir), nil },
	})
	if err != nil {
		se.log.Error("the content could not be taken apart", "error", err)
		return &parts.Report{Wrong: []string{"it could not be read: " + err.Error()}}
	}
	return report
}

// refusedByAll is what the client hears if no recipient is left; else nil. By LMTP every
// recipient has an answer of its own.
func (se gateTalk) refusedByAll(fates []gate.Fate, sum message.Summary, size int64) *smtp.Reply {
	left := 0
	var first *smtp.Reply
	for i := range fates {
		f, r := &fates[i], &se.rcpts[i]
		if f.Refuse != nil && se.conf.Kind == config.LMTP {
			r.refusal = f.Refuse
		}
		switch {
		case f.Refuse == nil && r.refusal == nil:
			left++
		case f.Refuse != nil && first == nil:
			first = f.Refuse
		}
	}
	if first == nil || left > 0 && se.conf.Kind != config.LMTP {
		return nil
	}
	for i := range fates {
		if f := &fates[i]; f.Refuse != nil {
			se.refuse(refused{
				stage:    diagnose.StageContent,
				cause:    se.causeOf(i, f),
				reply:    *f.Refuse,
				to:       se.rcpts[i].rcpt.To,
				rule:     se.rcpts[i].decision.Rule,
				gate:     f.By,
				severity: f.Severity(),
				summary:  sum,
				size:     size,
			})
		}
	}
	if left > 0 {
		return nil
	}
	r := se.weigh(*first, 1)
	return &r
}

// causeOf is why a recipient is refused: by a gate, or by who sends.
func (se gateTalk) causeOf(i int, f *gate.Fate) diagnose.Cause {
	if f.By == "" {
		return se.rcpts[i].weighed.cause
	}
	return diagnose.GateRefuses
}

// noRoomToHold reports that a message would be held, and no more may be.
func (se gateTalk) noRoomToHold(fates []gate.Fate, check *senderauth.Assessment) bool {
	if se.server.HeldFull == nil {
		return false
	}
	holds := check != nil && check.Action == senderauth.Hold ||
		slices.ContainsFunc(fates, func(f gate.Fate) bool { return f.Hold })
	return holds && se.server.HeldFull()
}

// made is one message to enter, with its content.
type made struct {
	entry   *store.Entry
	spool   *spool.Spool
	section []byte
	bounced []*mail.Delivery // refused for some recipients while others got it
}

// group is recipients whose content is changed in the same manner.
type group struct {
	changes gate.Changes
	rcpts   []int
}

// groups puts recipients together by what is changed for them. Those that are refused or
// discarded change nothing.
func groups(fates []gate.Fate, n int) []group {
	var out []group
	if fates == nil {
		out = append(out, group{})
		for i := range n {
			out[0].rcpts = append(out[0].rcpts, i)
		}
		return out
	}
	byKey := map[string]int{}
	var rest []int
	for i := range fates {
		f := &fates[i]
		if f.Refuse != nil || f.Discard {
			rest = append(rest, i)
			continue
		}
		key := f.Changes.Key()
		at, ok := byKey[key]
		if !ok {
			at = len(out)
			byKey[key] = at
			out = append(out, group{changes: f.Changes})
		}
		out[at].rcpts = append(out[at].rcpts, i)
	}
	if len(out) == 0 {
		out = append(out, group{})
	}
	out[0].rcpts = append(out[0].rcpts, rest...)
	return out
}

// make makes the messages that come of one: most often one, more where gates change it for
// some recipients in another manner than for others.
func (se gateTalk) make(
	id ident.ID,
	now time.Time,
	s *spool.Spool,
	section []byte,
	fates []gate.Fate,
	asked *gate.Message,
) ([]made, error) {
	var out []made
	for n, g := range groups(fates, len(se.rcpts)) {
		x := made{spool: s, section: section}
		own := id
		var told []string
		if n > 0 {
			own = se.server.IDs.Next()
		}
		if g.changes.Any() || n > 0 {
			fresh, words, err := se.reshape(s, g.changes, asked, id, own)
			if err != nil {
				return out, err
			}
			x.spool, told = fresh, words
			x.section, _ = message.SplitHeader(bytes.Clone(fresh.Head()))
		}
		summary := message.Summarize(x.section, string(se.conf.GreetingName))
		x.entry = &store.Entry{
			Message: contentTalk(se).message(own, now, x.spool, x.section, summary),
		}
		if n == 0 {
			contentTalk(se).tieReport(x.entry, s, section)
		}
		se.deliveries(&x, g.rcpts, fates)
		strangerTalk(se).tell(x.entry)
		se.tellGates(x.entry, g.rcpts, fates, told)
		se.tellHeld(x.entry, g.rcpts, fates)
		out = append(out, x)
	}
	return out, nil
}

// reshape writes a content anew with what gates change in it. own stands in our trace field
// in place of id.
func (se gateTalk) reshape(
	s *spool.Spool,
	changes gate.Changes,
	asked *gate.Message,
	id, own ident.ID,
) (*spool.Spool, []string, error) {
	head := s.Head()
	section, _ := message.SplitHeader(head)
	section = bytes.Clone(section)
	report := asked.Report()
	if report == nil {
		report = se.scan(s)
	}
	edits, told, err := reshape.Plan(s, section, report, &changes)
	if err != nil {
		return nil, nil, err
	}
	if at := bytes.Index(section, []byte(id.String())); own != id && at >= 0 {
		edit := reshape.Edit{From: int64(at), To: int64(at + len(id.String())),
			New: []byte(own.String())}
		edits = slices.Insert(edits, 0, edit)
		slices.SortStableFunc(edits, func(a, b reshape.Edit) int { return int(a.From - b.From) })
	}
	fresh := spool.New(se.server.SpoolDir, int(s.Size), store.PieceSize)
	if _, err := io.Copy(fresh, reshape.Apply(s, s.Size, edits)); err != nil {
		fresh.Close()
		return nil, nil, err
	}
	return fresh, told, nil
}

// deliveries adds the deliveries of some recipients, each final recipient once.
func (se gateTalk) deliveries(x *made, rcpts []int, fates []gate.Fate) {
	seen := map[string]bool{}
	m, e := x.entry.Message, x.entry
	add := func(leg route.Leg, given address.Address, rule string) *mail.Delivery {
		if key := leg.Recipient.Key(); !seen[key] {
			seen[key] = true
			d := plan.NewDelivery(se.cfg, m, len(e.Deliveries)+1, leg, given, rule)
			se.later(m, d)
			inTime(m, d)
			e.Deliveries = append(e.Deliveries, d)
			return d
		}
		return nil
	}
	for _, i := range rcpts {
		r := se.rcpts[i]
		if r.refusal != nil {
			continue
		}
		fate := gate.Fate{}
		if fates != nil {
			fate = fates[i]
		}
		for _, leg := range se.legsOf(r, &fate, m.Size) {
			d := add(leg, r.rcpt.To, r.decision.Rule)
			if d == nil {
				continue
			}
			d.Notify = int16(r.notify())
			if r.rcpt.Orig != "" {
				d.ORCPT = r.rcpt.OrigType + ";" + r.rcpt.Orig
			}
			se.fulfil(d, &fate, m)
			if fate.Refuse != nil {
				d.Cause = se.causeOf(i, &fate)
			}
			if fate.Refuse != nil {
				x.bounced = append(x.bounced, d)
			}
		}
	}
	for _, i := range rcpts { // copies come last: who is written to anyway needs none
		if fates == nil || fates[i].Refuse != nil || fates[i].Discard {
			continue
		}
		for _, to := range fates[i].Copies {
			legs, fault := route.Plan(se.cfg, se.envelope(), to)
			if fault != nil {
				se.log.Error(
					"a gate's copy cannot be sent",
					"to",
					to.String(),
					"reply",
					fault.String(),
				)
				continue
			}
			for _, leg := range legs {
				if d := add(leg, to, "gate"); d != nil {
					d.Notify = int16(smtp.NotifyNever)
				}
			}
		}
	}
}

// legsOf are where a recipient's message goes: as the routes say, or a gate.
func (se gateTalk) legsOf(r recipient, fate *gate.Fate, size int64) []route.Leg {
	legs := contentTalk(se).sized(r.legs, size)
	if fate.Refuse != nil || fate.Discard {
		return legs
	}
	legs, lost := plan.ByGates(se.cfg, se.envelope(), r.rcpt.To, legs, fate)
	for _, to := range lost {
		se.log.Error("a gate's redirection leads nowhere; the message is held", "to", to.String())
		fate.Hold = true
	}
	return legs
}

// fulfil does to a delivery what gates decided of its recipient.
func (se gateTalk) fulfil(d *mail.Delivery, fate *gate.Fate, m *mail.Message) {
	at := mail.At(m.ReceivedAt)
	switch {
	case fate.Refuse != nil:
		r := fate.Refuse
		d.State, d.Cause, d.FinishedAt, d.LastAttemptAt = mail.Bounced, diagnose.GateRefuses, at, at
		d.Last = &mail.LastReply{Stage: diagnose.StageRoute, Code: r.Code, Enhanced: r.Enhanced,
			Text: r.Text()}
		return
	case fate.Discard:
		d.State, d.Cause, d.FinishedAt = mail.Discarded, diagnose.GateDiscards, at
		d.Last = &mail.LastReply{
			Stage: diagnose.StageRoute,
			Text:  "gate " + fate.By + " discards it",
		}
		return
	}
	if fate.Route != "" && d.Route == fate.Route && d.NextHop != "local" {
		d.Detour = mail.DetourKept // it stays when it is planned again
	}
	if !fate.Until.IsZero() {
		d.State, d.Cause, d.NextAttemptAt = mail.Deferred, diagnose.GateDelays, mail.At(fate.Until)
		d.Last = &mail.LastReply{Stage: diagnose.StageRoute,
			Text: "gate " + fate.UntilBy + " keeps it until then"}
		d.ExpiresAt = mail.At(d.ExpiresAt.Add(fate.Until.Sub(m.ReceivedAt)))
	}
	if fate.Hold {
		d.State = mail.Held
	}
}

// tellGates puts on record which gates were met, and what they did.
func (se gateTalk) tellGates(e *store.Entry, rcpts []int, fates []gate.Fate, told []string) {
	if fates == nil {
		return
	}
	type story struct {
		met gate.Met
		to  []string
	}
	var all []*story
	worst := 0
	for _, i := range rcpts {
		f := &fates[i]
		worst = max(worst, f.Severity().Rank())
		for _, met := range f.Met {
			at := slices.IndexFunc(all, func(s *story) bool { return s.met.Gate == met.Gate })
			if at < 0 {
				at = len(all)
				all = append(all, &story{met: met})
			}
			all[at].to = append(all[at].to, se.rcpts[i].rcpt.To.Display())
		}
	}
	slices.SortStableFunc(all, func(a, b *story) int { return a.met.Position - b.met.Position })
	m := e.Message
	m.Severity = mail.SeverityOf(worst)
	for _, s := range all {
		m.Gates = append(m.Gates, s.met.Gate)
		e.Events = append(e.Events, mail.Event{
			At:        m.ReceivedAt,
			Kind:      mail.EventGate,
			MessageID: m.ID,
			Node:      se.server.Node,
			Text:      gateWords(s.met),
			Detail: map[string]any{
				"gate":       s.met.Gate,
				"position":   s.met.Position,
				"watching":   s.met.Watching,
				"severity":   s.met.Severity,
				"why":        s.met.Why,
				"effects":    s.met.Effects,
				"recipients": s.to[:min(len(s.to), maxTold)],
				"revision":   m.Revision,
			},
		})
	}
	for _, text := range told {
		e.Events = append(e.Events, mail.Event{At: m.ReceivedAt, Kind: mail.EventGate,
			MessageID: m.ID, Node: se.server.Node, Text: text})
	}
}

// tellHeld puts on record that recipients' deliveries are held, and by what.
func (se gateTalk) tellHeld(e *store.Entry, rcpts []int, fates []gate.Fate) {
	for _, i := range rcpts {
		if fates == nil || !fates[i].Hold || fates[i].Refuse != nil || fates[i].Discard {
			continue
		}
		f := &fates[i]
		by, name, text := mail.HeldByGate, f.By, "held by gate "+f.By
		switch {
		case name == "" && se.rcpts[i].weighed.hold && se.score != nil && se.overLimit == "":
			by, text = mail.HeldByScore, "held: "+se.score.Words()
		case name == "" && se.overLimit != "":
			by, text = mail.HeldByLimit, "held: "+se.overLimit
		case name == "":
			by, text = mail.HeldByOther, "held: where a gate sends it leads nowhere"
		}
		for _, met := range f.Met {
			if met.Gate == name && len(met.Why) > 0 {
				text += ": " + strings.Join(met.Why, "; ")
			}
		}
		e.Events = append(e.Events, mail.Event{At: e.Message.ReceivedAt, Kind: mail.EventHeld,
			MessageID: e.Message.ID, Node: se.server.Node, Text: text,
			Detail: map[string]any{"by": by, "name": name}})
		return // one for the message: its recipients share the history
	}
}

// maxTold bounds how many recipients an event names.
const maxTold = 100

// gateWords tell in a sentence what a gate did, or would have done, and why.
func gateWords(met gate.Met) string {
	effects := strings.Join(met.Effects, ", ")
	if effects == "" {
		effects = "on record"
	}
	word := "gate " + met.Gate + ": " + effects
	if met.Watching {
		word = "gate " + met.Gate + " watches; it would have been: " + effects
	}
	if len(met.Why) > 0 {
		word += " (" + strings.Join(met.Why, "; ") + ")"
	}
	return word
}

// tellBounced tells the sender of recipients that a gate refused while others got the
// message: then the client heard 250.
func (se gateTalk) tellBounced(ctx context.Context, x made) {
	if len(x.bounced) == 0 {
		return
	}
	for _, n := range se.server.Intake.Refused(se.cfg, x.entry.Message, x.bounced) {
		if err := se.server.Intake.Enter(ctx, n); err != nil {
			se.log.Error("the sender is not told that a gate refused some recipients",
				"message", x.entry.Message.ID, "error", err)
		}
	}
}

// scratch keeps an archive while it is looked into: in memory while it is small, then in a
// file without a name.
type scratch struct {
	dir    string
	memory []byte
	file   *os.File
}

// scratchMemory is how much of an archive is kept in memory, in octets.
const scratchMemory = 256 << 10

func newScratch(dir string) *scratch { return &scratch{dir: dir} }

// Write adds to it.
func (s *scratch) Write(p []byte) (int, error) {
	if s.file != nil {
		return s.file.Write(p)
	}
	if len(s.memory)+len(p) <= scratchMemory {
		s.memory = append(s.memory, p...)
		return len(p), nil
	}
	f, err := os.CreateTemp(s.dir, "archive-*")
	if err != nil {
		return 0, err
	}
	_ = os.Remove(f.Name())
	s.file = f
	if _, err := f.Write(s.memory); err != nil {
		return 0, err
	}
	s.memory = nil
	return f.Write(p)
}

// ReadAt reads from it.
func (s *scratch) ReadAt(p []byte, off int64) (int, error) {
	if s.file != nil {
		return s.file.ReadAt(p, off)
	}
	return bytes.NewReader(s.memory).ReadAt(p, off)
}

// Close forgets it.
func (s *scratch) Close() error {
	if s.file != nil {
		return s.file.Close()
	}
	return nil
}
