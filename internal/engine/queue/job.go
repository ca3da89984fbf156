package queue

import (
	"bytes"
	"errors"
	"io"
	"net/netip"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	"gullroute/internal/core/route"
	core "gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/engine/senderauth"
	"gullroute/internal/store"
)

// job is what one lane has to do for one message: its deliveries are sent in
// one transaction.
type job struct {
	message    ident.ID
	received   time.Time
	sender     string
	size       int64
	utf8       bool
	eightBit   bool
	ret, envID string
	noticeOf   ident.ID
	account    string
	client     string
	listener   string
	direction  string
	proof      core.Result
	deliveries []*mail.Delivery
	in         ident.ID     // the lane it was placed in
	run        int          // that its deliveries are leased to
	content    *keptContent // nil if it must be read from the database
}

type jobKey struct{ message, lane ident.ID }

func jobOf(d *store.Due) *job {
	return &job{run: d.Run, message: d.Delivery.MessageID, received: d.Received, sender: d.Sender, size: d.Size, utf8: d.UTF8,
		eightBit: d.EightBit, ret: d.Ret, envID: d.EnvID, noticeOf: d.NoticeOf,
		account: d.Account, client: d.Client, listener: d.Listener, direction: d.Direction, proof: d.Proof}
}

func (j *job) bulk() bool { return j.deliveries[0].Bulk }

func (j *job) lane() ident.ID { return j.deliveries[0].LaneID }

func (j *job) from() address.Address {
	a, _ := address.Parse(j.sender)
	return a
}

// letter is the job as the dialogue needs it.
func (q *Queue) letter(j *job) *deliver.Letter {
	return &deliver.Letter{ID: j.message, Sender: j.from(), Size: j.size, UTF8: j.utf8, EightBit: j.eightBit, Ret: j.ret, EnvID: j.envID,
		Content: func() (io.Reader, error) {
			if j.content != nil {
				return bytes.NewReader(j.content.data), nil
			}
			return q.Store.OpenContent(q.ctx, j.message)
		}}
}

// mayWriteAs says of an address in From whether who signed in may use it; nil, of
// machines and of ourselves, asks nothing.
func (j *job) mayWriteAs(cfg *config.Compiled) func(address.Address) bool {
	account, err := address.Parse(j.account)
	if err != nil {
		return nil
	}
	return func(from address.Address) bool {
		return relay.Belongs(cfg, config.Envelope{Account: account, Sender: from})
	}
}

// signed is the letter with the signatures of the domain it is from. Only what our
// people, our machines and we ourselves wrote is signed: a stranger may write any
// From. Towards our own mailbox servers nothing is.
func (q *Queue) signed(r *config.Route, j *job) (*deliver.Letter, *deliver.Failure) {
	l := q.letter(j)
	if q.Signer == nil || !q.Signer.Any() || j.direction == mail.In || r.NextHop == config.HopLMTP {
		return l, nil
	}
	cfg := q.cfg.Load()
	fields, err := q.Signer.Sign(q.ctx, j.mayWriteAs(cfg), l.Content)
	if errors.Is(err, senderauth.ErrLocked) && cfg.Service.WithoutKey == config.SendUnsigned {
		return l, nil
	}
	if err != nil {
		return nil, &deliver.Failure{Cause: diagnose.OurTrouble, Reply: mail.LastReply{Stage: diagnose.StageRoute, Enhanced: "4.3.0", Text: "the letter could not be signed: " + err.Error()}}
	}
	if len(fields) > 0 {
		plain := l.Content
		l.Size += int64(len(fields))
		l.Content = func() (io.Reader, error) {
			rest, err := plain()
			return io.MultiReader(bytes.NewReader(fields), rest), err
		}
	}
	return l, nil
}

func recipients(j *job) []deliver.Recipient {
	list := make([]deliver.Recipient, len(j.deliveries))
	for i, d := range j.deliveries {
		to, _ := address.Parse(d.Recipient)
		list[i] = deliver.Recipient{To: to, Notify: smtp.Notify(d.Notify), ORCPT: d.ORCPT}
	}
	return list
}

// keptContent is content that stays in memory from entering to sending, shared
// by the jobs of a message. Guarded by Queue.mu.
type keptContent struct {
	data []byte
	jobs int
}

// keep holds content in memory for n jobs if there is room.
func (q *Queue) keep(data []byte, n int) *keptContent {
	if data == nil || q.kept.Load()+int64(len(data)) > maxKept {
		return nil
	}
	q.kept.Add(int64(len(data)))
	return &keptContent{data, n}
}

// done lets go of a job's share of the window and of kept content. Queue.mu is
// held.
func (q *Queue) done(j *job) {
	q.window -= len(j.deliveries)
	if l := q.lanes[j.in]; l != nil {
		l.window -= len(j.deliveries)
	}
	if j.content == nil {
		return
	}
	if j.content.jobs--; j.content.jobs == 0 {
		q.kept.Add(-int64(len(j.content.data)))
	}
	j.content = nil
}

// replan finds the route of a delivery that was planned under another revision.
// It reports false if the configuration now refuses it; then it has bounced.
func (q *Queue) replan(cfg *config.Compiled, d *store.Due) bool {
	if d.Delivery.Detour != mail.NoDetour && cfg.Route(d.Delivery.Route) != nil {
		return true // a person chose its way
	}
	d.Delivery.Detour = mail.NoDetour
	leg, fault, ok := Plan(cfg, d)
	if !ok {
		return true
	}
	d.Delivery.Revision = cfg.Revision
	if fault != nil {
		q.finishRefused(d, fault)
		return false
	}
	lane := ident.ID(leg.Lane())
	if lane == d.Delivery.LaneID {
		return true
	}
	d.Delivery.LaneID, d.Delivery.Route, d.Delivery.NextHop, d.Delivery.RouteWhy = lane, leg.Route.Name, leg.NextHop, leg.Why
	if d.Delivery.Cause == diagnose.NoRoute {
		d.Delivery.Cause, d.Delivery.Last = diagnose.NoCause, nil
	}
	return true
}

// Plan finds the leg of a delivery that waits, or the reply that refuses it. It
// reports false if its recipient cannot be read.
func Plan(cfg *config.Compiled, d *store.Due) (route.Leg, *smtp.Reply, bool) {
	to, err := address.Parse(d.Delivery.Recipient)
	if err != nil {
		return route.Leg{}, nil, false
	}
	leg, fault := route.Find(cfg, Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size), to)
	return leg, fault, true
}

// Envelope is what is on record of a message, as decisions are made on it.
func Envelope(sender, account, client, listener string, size int64) config.Envelope {
	e := config.Envelope{Listener: listener, Size: size}
	e.Sender, _ = address.Parse(sender)
	e.Account, _ = address.Parse(account)
	e.Client, _ = netip.ParseAddr(client)
	return e
}
