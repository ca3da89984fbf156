package control

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/gate"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/message"
	"gullroute/internal/core/parts"
	"gullroute/internal/core/repute"
	"gullroute/internal/core/reshape"
	"gullroute/internal/engine/queue"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Held looks after what is held.
type Held struct {
	Store      store.Held
	Messages   store.Messages
	Contents   store.Intake
	Actions    *Actions
	Reputation *Reputation
	Queue      *queue.Queue
	InForce    *inforce.State
	IDs        *ident.Maker

	bytes atomic.Int64 // held, at the last look
	plain sync.Mutex   // held while a message is entered anew: who presses twice gets one
}

// heldAtOnce is how many deliveries are ended in one action when their time is over.
const heldAtOnce = 1000

// List reads what is held, newest first.
func (s *Held) List(ctx context.Context, f mail.HeldFilter) ([]mail.HeldItem, error) {
	list, err := s.Store.List(ctx, f)
	keep := s.InForce.Config().Service.Held.Keep
	for i := range list {
		list[i].Expires = mail.At(list[i].Since.Add(keep))
	}
	return list, err
}

// Full reports that no more may be held: what would be is to come again.
func (s *Held) Full() bool {
	c := s.InForce.Config()
	quota := int64(c.Service.Held.Quota)
	return quota > 0 && s.bytes.Load() >= quota
}

// Measure finds how much is held.
func (s *Held) Measure(ctx context.Context) error {
	sum, err := s.Store.Sum(ctx)
	if err == nil {
		s.bytes.Store(sum.Bytes)
	}
	return err
}

// Keep ends what was held for as long as the settings say: what came from the world is dropped,
// as its sender may be forged, or goes back; what our people and machines sent goes back.
func (s *Held) Keep(ctx context.Context) error {
	h := s.InForce.Config().Service.Held
	before := time.Now().Add(-h.Keep)
	for _, fromWorld := range []bool{true, false} {
		verb := mail.VerbReturn
		if fromWorld && h.Then == "drop" {
			verb = mail.VerbDrop
		}
		for {
			ids, err := s.Store.Over(ctx, before, fromWorld, heldAtOnce)
			if err != nil || len(ids) == 0 {
				if err != nil {
					return err
				}
				break
			}
			r := api.ActionRequest{
				Verb: verb,
				Sure: true,
				Say: "it was held for " + lasted(h.Keep) +
					", and nobody released it",
				Why: "held for " + lasted(h.Keep),
			}
			r.Selection.State = mail.Held // what somebody released meanwhile is not meant
			for _, id := range ids {
				r.Selection.Deliveries = append(r.Selection.Deliveries, id.String())
			}
			done, err := s.Actions.Act(ctx, "gull serve", r, nil)
			if err != nil {
				return err
			}
			if done.Touched == 0 { // another node has them
				break
			}
		}
	}
	return nil
}

func lasted(d time.Duration) string {
	if d%(24*time.Hour) == 0 {
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	}
	return d.String()
}

// Release lets held deliveries go on: all at once, with their senders allowed for a time,
// without their attachments.
func (s *Held) Release(ctx context.Context, who string, r api.HeldRelease) (api.Done, error) {
	if len(r.Deliveries) == 0 {
		return api.Done{}, fault.Refuse("delivery", "say which: ids of held deliveries")
	}
	ids := make([]mail.DeliveryID, len(r.Deliveries))
	for i, text := range r.Deliveries {
		id, err := mail.ParseDeliveryID(text)
		if err != nil {
			return api.Done{}, fault.Refuse("delivery", "%v", err)
		}
		ids[i] = id
	}
	text := ""
	if r.AllowSender != "" {
		n, err := s.allowSenders(ctx, who, ids, r)
		if err != nil {
			return api.Done{}, err
		}
		text = fmt.Sprintf(" %s allowed.", plural(int64(n), "sender is", "senders are"))
	}
	var done api.Done
	var err error
	if r.WithoutAttachments {
		done, err = s.releasePlain(ctx, who, ids, r.Why)
	} else {
		a := api.ActionRequest{Verb: mail.VerbRelease, Why: r.Why}
		a.Selection.State, a.Selection.Deliveries = mail.Held, r.Deliveries
		done, err = s.Actions.Act(ctx, who, a, nil)
	}
	done.Text += text
	return done, err
}

// allowSenders allows the senders of held deliveries: where SPF or DMARC proves them.
func (s *Held) allowSenders(
	ctx context.Context,
	who string,
	ids []mail.DeliveryID,
	r api.HeldRelease,
) (int, error) {
	var senders []string
	for _, id := range ids {
		m, err := s.Messages.Message(ctx, id.Message)
		if err != nil {
			return 0, err
		}
		if m.Sender != "" && !slices.Contains(senders, m.Sender) {
			senders = append(senders, m.Sender)
		}
	}
	why := r.Why
	if why == "" {
		why = "its message was released"
	}
	for _, sender := range senders {
		x := api.ExceptionRequest{
			Value: sender,
			Kind:  repute.OfSender,
			Says:  repute.Allow,
			Why:   why,
		}
		if r.AllowSender != "for good" {
			x.For = r.AllowSender
		}
		if _, err := s.Reputation.Except(ctx, who, x); err != nil {
			return 0, err
		}
	}
	return len(senders), nil
}

// releasePlain enters each message anew without its attachments, for the recipients that are
// meant, and drops what was held. The original stays on record as long as messages do.
func (s *Held) releasePlain(
	ctx context.Context,
	who string,
	ids []mail.DeliveryID,
	why string,
) (api.Done, error) {
	slices.SortFunc(ids, func(a, b mail.DeliveryID) int {
		if a.Message != b.Message {
			return int(a.Message - b.Message)
		}
		return int(a.N - b.N)
	})
	var all api.Done
	for len(ids) > 0 {
		n := 1
		for n < len(ids) && ids[n].Message == ids[0].Message {
			n++
		}
		fresh, touched, err := s.enterPlain(ctx, who, ids[:n], why)
		if err != nil {
			return all, err
		}
		if touched > 0 {
			all.Touched += int64(touched)
			all.Text += fmt.Sprintf(
				"%s goes on as %s, without its attachments. ",
				ids[0].Message,
				fresh,
			)
		}
		ids = ids[n:]
	}
	all.Matched = all.Touched
	if all.Touched == 0 {
		all.Text = "Nothing that is held matches. "
	}
	all.Text = all.Text[:len(all.Text)-1]
	return all, nil
}

func (s *Held) enterPlain(
	ctx context.Context,
	who string,
	ids []mail.DeliveryID,
	why string,
) (ident.ID, int, error) {
	s.plain.Lock()
	defer s.plain.Unlock()
	m, err := s.Messages.Message(ctx, ids[0].Message)
	if err != nil {
		return 0, 0, err
	}
	var meant []mail.Delivery
	for _, d := range m.Deliveries {
		if d.State == mail.Held && slices.Contains(ids, d.ID()) {
			meant = append(meant, d)
		}
	}
	if len(meant) == 0 {
		return 0, 0, nil
	}
	content, told, err := s.withoutAttachments(ctx, m.ID)
	if err != nil {
		return 0, 0, err
	}
	e := &store.Entry{Message: &m}
	old := m.ID
	now := time.Now().UTC()
	m.ID, m.ReceivedAt, m.Size, m.Deliveries = s.IDs.Next(), now, int64(len(content)), nil
	m.Gates, m.Severity, m.Score = nil, "", nil // they were met, and are counted, once
	for i := range meant {
		d := meant[i]
		life := max(d.ExpiresAt.Sub(now), 24*time.Hour)
		d.MessageID, d.N, d.State, d.NextAttemptAt = m.ID, int16(i+1), mail.Waiting, mail.At(now)
		d.ExpiresAt, d.Attempts, d.Last, d.Cause = mail.At(now.Add(life)), 0, nil, ""
		e.Deliveries = append(e.Deliveries, &d)
	}
	words := "made of " + old.String() + ", which was held, and released without its attachments by " + who
	for _, text := range append([]string{words}, told...) {
		e.Events = append(e.Events, mail.Event{At: now, Kind: mail.EventGate, MessageID: m.ID,
			Node: s.InForce.Node, Text: text})
	}
	if len(content) <= store.PieceSize {
		e.Content = content
	} else if err := s.Contents.StoreContent(ctx, m.ID, bytes.NewReader(content)); err != nil {
		return 0, 0, err
	}
	if err := s.Queue.Enter(ctx, e); err != nil {
		return 0, 0, err
	}
	r := api.ActionRequest{Verb: mail.VerbDrop, Sure: true,
		Why: "released without its attachments as " + m.ID.String()}
	if why != "" {
		r.Why += ": " + why
	}
	r.Selection.State = mail.Held
	for _, d := range meant {
		id := mail.DeliveryID{Message: old, N: d.N}
		r.Selection.Deliveries = append(r.Selection.Deliveries, id.String())
	}
	_, err = s.Actions.Act(ctx, who, r, nil)
	return m.ID, len(meant), err
}

// withoutAttachments is a message's content with a note in the place of every attachment.
func (s *Held) withoutAttachments(ctx context.Context, id ident.ID) ([]byte, []string, error) {
	c, err := s.Messages.OpenContent(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	whole, err := io.ReadAll(c)
	if err != nil {
		return nil, nil, err
	}
	report, err := parts.Scan(bytes.NewReader(whole), parts.Options{Files: true})
	if err != nil {
		return nil, nil, err
	}
	section, _ := message.SplitHeader(whole)
	changes := gate.Changes{Remove: []gate.Removal{gate.RemoveAll()}}
	edits, told, err := reshape.Plan(stretches(whole), section, report, &changes)
	if err != nil {
		return nil, nil, err
	}
	var out bytes.Buffer
	_, err = io.Copy(&out, reshape.Apply(stretches(whole), int64(len(whole)), edits))
	return out.Bytes(), told, err
}

// stretches is a content in memory.
type stretches []byte

// Stretch is what stands between two places.
func (s stretches) Stretch(from, to int64) io.Reader { return bytes.NewReader(s[from:to]) }
