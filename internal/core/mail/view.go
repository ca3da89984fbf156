package mail

import (
	"math"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/smtp"
)

// QueueItem is a delivery in the queue with what one wants to know of its
// message.
type QueueItem struct {
	Delivery   Delivery  `json:"delivery"`
	Sender     string    `json:"sender"`
	Subject    string    `json:"subject"`
	Size       int64     `json:"size"`
	ReceivedAt time.Time `json:"received_at"`
}

// MailboxItem is a message in a mailbox as it is listed.
type MailboxItem struct {
	ID         ident.ID  `json:"id"`
	Sender     string    `json:"sender"`
	Subject    string    `json:"subject"`
	ReceivedAt time.Time `json:"received_at"`
	Size       int64     `json:"size"`
	Folder     string    `json:"folder" doc:"INBOX is where mail comes in"`
	Flags      []string  `json:"flags" doc:"Such as \\Seen, and keywords"`
}

// Count is how often something happened in an hour.
type Count struct {
	Hour  time.Time `json:"hour"`
	Kind  string    `json:"kind" doc:"received, delivered, deferred, bounced, expired or rejected"`
	N     int64     `json:"n"`
	Bytes int64     `json:"bytes"`
}

// Cause is what a cause of failure means.
type Cause struct {
	Cause        string         `json:"cause"`
	Family       string         `json:"family"`
	Title        string         `json:"title"`
	Means        string         `json:"means" doc:"In a sentence or two"`
	Fix          string         `json:"fix"`
	WhoCanFix    string         `json:"who_can_fix" enum:"us,sender,recipient,remote-administrator,provider,block-list,nobody"`
	WaitingHelps diagnose.Helps `json:"waiting_helps" doc:"true, false or \"unknown\""`
	Usually      string         `json:"usually,omitempty" doc:"How long it lasts as a rule, where waiting helps"`
	// Of the very answer, where there is one.
	Sure          string   `json:"sure,omitempty" enum:"certain,likely,not-known"`
	Certainty     float64  `json:"certainty,omitempty" doc:"How probable the cause is, 0 to 1"`
	Evidence      []string `json:"evidence,omitempty" doc:"The words and codes that decided"`
	Against       []string `json:"against,omitempty" doc:"The words that speak for another cause"`
	Contradiction string   `json:"contradiction,omitempty" doc:"What in the reply does not fit together"`
}

// Explain says what a cause means; last is the answer that gave it, if one did, and
// about what it was about.
func Explain(c diagnose.Cause, last *LastReply, about diagnose.About) Cause {
	m := diagnose.Explain(c)
	out := Cause{
		Cause:        string(c),
		Family:       string(m.Family),
		Title:        m.Title,
		Means:        m.Means,
		Fix:          m.Fix,
		WhoCanFix:    m.WhoCanFix,
		WaitingHelps: diagnose.WaitingHelps(c),
		Usually:      m.Usually,
	}
	if last == nil || last.Code == 0 {
		return out
	}
	if v := diagnose.JudgeAbout(
		last.Stage,
		smtp.Reply{Code: last.Code, Enhanced: last.Enhanced, Lines: []string{last.Text}},
		about,
	); v.Cause == c {
		out.Sure, out.Evidence, out.Contradiction = string(v.Sure), v.Evidence, v.Contradiction
		out.Certainty, out.Against = math.Round(v.Certainty*100)/100, v.Against
	}
	return out
}

// BoxUse is how full a mailbox is.
type BoxUse struct {
	Address  string `json:"address"`
	Messages int64  `json:"messages"`
	Used     int64  `json:"used"`
	Quota    int64  `json:"quota" doc:"0 if there is none"`
}
