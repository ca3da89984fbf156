package queue

import (
	"net/netip"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/relay"
	core "gullroute/internal/core/senderauth"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/deliver"
	"gullroute/internal/store"
)

// job is what one lane has to do for one message: its deliveries are sent in
// one transaction.
type job struct {
	message  ident.ID
	received time.Time
	origin
	deliveries []*mail.Delivery
	run        int          // that its deliveries are leased to
	content    *keptContent // nil if it must be read from the database
}

// origin is where a message came from and what it is, as deliveries of it need to know.
type origin struct {
	sender     string
	size       int64
	utf8       bool
	eightBit   bool
	ret, envID string
	asked      mail.Demands
	noticeOf   ident.ID
	account    string
	client     string
	listener   string
	direction  string
	proof      core.Result
}

func originOf(m *mail.Message) origin {
	return origin{
		sender:    m.Sender,
		size:      m.Size,
		utf8:      m.UTF8,
		eightBit:  m.EightBit,
		ret:       m.Ret,
		envID:     m.EnvID,
		asked:     m.Asked,
		noticeOf:  m.NoticeOf,
		account:   m.Account,
		client:    m.ClientAddress,
		listener:  m.Listener,
		direction: m.Direction,
		proof:     m.Identity.Proof(),
	}
}

type jobKey struct{ message, lane ident.ID }

func jobOf(d *store.Due) *job {
	return &job{
		run:      d.Run,
		message:  d.Delivery.MessageID,
		received: d.Received,
		origin: origin{
			sender:    d.Sender,
			size:      d.Size,
			utf8:      d.UTF8,
			eightBit:  d.EightBit,
			ret:       d.Ret,
			envID:     d.EnvID,
			asked:     d.Asked,
			noticeOf:  d.NoticeOf,
			account:   d.Account,
			client:    d.Client,
			listener:  d.Listener,
			direction: d.Direction,
			proof:     d.Proof,
		},
	}
}

func (j *job) bulk() bool { return j.deliveries[0].Bulk }

func (j *job) lane() ident.ID { return j.deliveries[0].LaneID }

func (j *job) from() address.Address {
	a, _ := address.Parse(j.sender)
	return a
}

// holder is who sent it, as limits call it: an account, or a client's address.
func (j *job) holder() string {
	account, _ := address.Parse(j.account)
	client, _ := netip.ParseAddr(j.client)
	return relay.Holder(config.Envelope{Account: account, Client: client})
}

func recipients(j *job) []deliver.Recipient {
	list := make([]deliver.Recipient, len(j.deliveries))
	for i, d := range j.deliveries {
		to, _ := address.Parse(d.Recipient)
		list[i] = deliver.Recipient{To: to, Notify: smtp.Notify(d.Notify), ORCPT: d.ORCPT}
	}
	return list
}

// jobsOf makes a job for each lane of the leased deliveries.
func jobsOf(e *store.Entry, run int) []*job {
	var jobs []*job
	for i, d := range e.Deliveries {
		if !e.Leased[i] {
			continue
		}
		var j *job
		for _, known := range jobs {
			if known.lane() == d.LaneID {
				j = known
			}
		}
		if j == nil {
			m := e.Message
			j = &job{
				run:      run,
				message:  m.ID,
				received: m.ReceivedAt,
				origin:   originOf(m),
			}
			jobs = append(jobs, j)
		}
		j.deliveries = append(j.deliveries, d)
	}
	return jobs
}
