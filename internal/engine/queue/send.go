package queue

import (
	"fmt"
	"slices"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/deliver"
)

// pace waits for the lane's next place in its rate. It reports false if the
// service stops meanwhile.
func (s *sender) pace(l *lane) bool {
	now := time.Now()
	slot := l.nextSlot(now)
	if !slot.After(now) {
		return true
	}
	timer := time.NewTimer(slot.Sub(now))
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-s.connecting.Done():
		return false
	}
}

// send hands a job's message over to those recipients for whom nothing of ours
// stands against it. On a direct way it goes on to the smart hosts for those
// whom the remote host refuses as it would not refuse a smart host.
func (s *sender) send(
	cfg *config.Compiled,
	r *config.Route,
	conn *deliver.Conn,
	j *job,
) []deliver.Result {
	all := recipients(j)
	results := make([]deliver.Result, len(all))
	var fit []deliver.Recipient
	var at []int
	for i, to := range all {
		if f := unfit(cfg, r, j, to.To); f != nil {
			results[i] = deliver.Result{Reply: f.Reply, Failure: f}
			continue
		}
		fit, at = append(fit, to), append(at, i)
	}
	if len(fit) == 0 {
		return results
	}
	terms, members := groups(cfg, j, fit, at)
	for g, t := range terms {
		same := make([]deliver.Recipient, len(members[g]))
		for k, m := range members[g] {
			same[k] = fit[m]
		}
		for k, one := range s.sendWritten(r, conn, j, t, same) {
			results[at[members[g][k]]] = one
		}
	}
	return results
}

// sendWritten sends to recipients who get the same octets.
func (s *sender) sendWritten(
	r *config.Route,
	conn *deliver.Conn,
	j *job,
	t agreed,
	all []deliver.Recipient,
) []deliver.Result {
	results := make([]deliver.Result, len(all))
	message, done, failure := s.author.outgoing(r, j, t)
	defer done()
	if failure != nil {
		for i := range results {
			results[i] = deliver.Result{Reply: failure.Reply, Failure: failure}
		}
		return results
	}
	copy(results, conn.Send(message, all))
	s.sendToNext(conn, j, message, all, results)
	if conn.Direct() {
		s.sendSecondWay(r, j, message, all, results)
	}
	return results
}

// sendToNext sends what a host refused for good by the hosts behind it, where the
// route says so.
func (s *sender) sendToNext(
	conn *deliver.Conn,
	j *job,
	message *deliver.Message,
	all []deliver.Recipient,
	results []deliver.Result,
) {
	for {
		var rest []deliver.Recipient
		var at []int
		for i, r := range results {
			if r.Failure != nil && r.Failure.Permanent && r.Reply.Code != 0 {
				rest, at = append(rest, all[i]), append(at, i)
			}
		}
		if len(rest) == 0 {
			return
		}
		next, failure := s.client.Load().Next(s.connecting, conn, j.message)
		if next == nil {
			if failure != nil && !failure.Permanent { // a host that may take it cannot be asked now
				for _, i := range at {
					f := *failure
					f.Reply.Tried = append(slices.Clone(f.Reply.Tried), results[i].Reply)
					results[i] = deliver.Result{Reply: f.Reply, Failure: &f}
				}
			}
			return
		}
		next.CloseWith(s.ctx)
		for k, r := range next.Send(message, rest) {
			r.Reply.Tried = append([]mail.LastReply{results[at[k]].Reply}, r.Reply.Tried...)
			if r.Failure != nil {
				r.Failure.Reply.Tried = r.Reply.Tried
			}
			results[at[k]] = r
		}
		next.Quit()
		conn = next
	}
}

// sendSecondWay sends by the smart hosts what the direct way refused.
func (s *sender) sendSecondWay(
	way *config.Route,
	j *job,
	message *deliver.Message,
	all []deliver.Recipient,
	results []deliver.Result,
) {
	var rest []deliver.Recipient
	var at []int
	for i, r := range results {
		if r.Failure != nil && r.Reply.Host != "" && deliver.SmartHostMayHelp(r.Failure.Cause) {
			rest, at = append(rest, all[i]), append(at, i)
		}
	}
	if len(rest) == 0 {
		return
	}
	conn, failure := s.client.Load().ConnectSmartHost(s.connecting, way, j.message)
	if failure != nil { // the direct way's answer stands, unless waiting helps now
		if !failure.Permanent {
			for _, i := range at {
				failure.Reply.Tried = append(
					[]mail.LastReply{results[i].Reply},
					failure.Reply.Tried...)
				results[i] = deliver.Result{Reply: failure.Reply, Failure: failure}
			}
		}
		return
	}
	defer conn.Quit()
	for k, r := range conn.Send(message, rest) {
		r.Reply.Tried = append([]mail.LastReply{results[at[k]].Reply}, r.Reply.Tried...)
		if r.Failure != nil {
			r.Failure.Reply.Tried = r.Reply.Tried
		}
		results[at[k]] = r
	}
}

// unfit finds what of ours stands against a message: the route's or the peer's
// terms.
func unfit(cfg *config.Compiled, r *config.Route, j *job, to address.Address) *deliver.Failure {
	fault := func(enhanced string, cause diagnose.Cause, format string,
		args ...any) *deliver.Failure {
		return &deliver.Failure{
			Cause:     cause,
			Permanent: true,
			Reply: mail.LastReply{
				Stage:    diagnose.StageRoute,
				Enhanced: enhanced,
				Text:     fmt.Sprintf(format, args...),
			},
		}
	}
	if largest, who := route.Largest(cfg, r, to.Domain); largest > 0 && j.size > int64(largest) {
		return fault("5.3.4", diagnose.TooLarge,
			"the message has %d octets; %s takes at most %s", j.size, who, largest)
	}
	p := cfg.Peer(to.Domain)
	switch {
	case p == nil:
	case p.NoUTF8Addresses && (j.utf8 || to.NeedsUTF8() || j.from().NeedsUTF8()):
		return fault("5.6.7", diagnose.NeedsUTF8,
			"the message needs SMTPUTF8, and it was agreed with %s to send none", p.Name)
	}
	return nil
}
