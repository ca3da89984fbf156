package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/cluster"
	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/form"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/plan"
	"gullroute/internal/core/route"
	"gullroute/internal/engine/queue"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Steps of an action: so many deliveries in one transaction.
const (
	actAtOnce    = 2000
	planAtOnce   = 500
	restoreBound = 24 * time.Hour
)

// Actions does something with deliveries that wait, and takes it back.
type Actions struct {
	Store   store.Actions
	Waiting store.Queue
	InForce *inforce.State
	Cluster *cluster.Cluster
	Queue   *queue.Queue
	Pauses  *Pauses // of which undoing is a part
	Log     *slog.Logger
}

// act is an action under way.
type act struct {
	on      *Actions
	who     string
	r       api.ActionRequest
	f       mail.Filter
	now     time.Time
	c       store.Change
	cfg     *config.Compiled
	target  *config.Route // of reroute, nil for a host
	host    string
	touched int64
	skipped int64 // that could not be done
	matched int64
	tell    func(done, total int64)
	mu      sync.Mutex // of touched
}

// Act does something with the messages that a selection chooses: it says how many
// they are, goes through them in steps of their own transactions, and keeps on
// record who did it and why.
func (s *Actions) Act(
	ctx context.Context,
	who string,
	r api.ActionRequest,
	tell func(done, total int64),
) (api.Done, error) {
	a := &act{on: s, who: who, r: r, now: time.Now().UTC(), cfg: s.InForce.Config(), tell: tell}
	if err := a.check(); err != nil {
		return api.Done{}, err
	}
	var leased int64
	var err error
	if a.matched, leased, err = s.Waiting.CountQueue(ctx, a.f); err != nil {
		return api.Done{}, err
	}
	if r.DryRun {
		return api.Done{
			DryRun:  true,
			Matched: a.matched,
			Sending: leased,
			Text:    a.wouldText(),
		}, nil
	}
	if r.Verb == mail.VerbDrop && !r.Sure {
		return api.Done{}, fault.Refuse("sure",
			"dropping needs a second confirmation: %s would be dropped; say that you are sure",
			plural(a.matched, "delivery", "deliveries"))
	}
	detail := map[string]any{}
	for k, v := range map[string]string{"route": r.Route, "host": r.Host,
		"expire_after": r.ExpireAfter, "say": r.Say, "domain": r.Domain} {
		if v != "" {
			detail[k] = v
		}
	}
	if r.Verb == mail.VerbReroute {
		detail["keep"] = r.Keep
	}
	id, err := s.Store.BeginAction(ctx, mail.Action{
		Who:    who,
		Verb:   r.Verb,
		On:     r.Selection.String(),
		Told:   a.eventText(),
		Node:   s.InForce.Node,
		Filter: &r.Selection,
		Detail: detail,
		Why:    r.Why,
	})
	if err != nil {
		return api.Done{}, err
	}
	return a.carryOut(ctx, id)
}

// carryOut does it, and records what it came to even if it breaks off.
func (a *act) carryOut(ctx context.Context, id int64) (api.Done, error) {
	a.c = store.Change{
		Verb:     a.r.Verb,
		Action:   id,
		At:       a.now,
		ExpireAt: a.c.ExpireAt,
		ExpireBy: a.c.ExpireBy,
	}
	a.c.Reply = &mail.LastReply{Stage: "route", Enhanced: "5.7.0", Text: a.eventText()}
	// lanes are gone through again for what waits in memory: nothing is done twice
	a.f.NotAction = id
	began := time.Now()
	err := a.run(ctx)
	sending := int64(0)
	if err == nil && a.r.Verb != mail.VerbFlush {
		sending, err = a.leftSending(ctx)
	}
	record, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	err = errors.Join(err, a.on.Store.EndAction(record, id, a.touched, sending))
	a.on.Queue.Wake()
	a.on.Cluster.Tell(record, "wake", nil)
	a.on.Log.Info("action", "id", id, "who", a.who, "verb", a.r.Verb, "on", a.r.Selection.String(),
		"deliveries", a.touched, "sending", sending, "seconds", time.Since(began).Seconds(), "why",
		a.r.Why)
	a.on.Cluster.Changed("queue")
	if err != nil {
		return api.Done{}, fmt.Errorf("after %s: %w", plural(a.touched, "delivery", "deliveries"),
			err)
	}
	return api.Done{
		Action:  id,
		Matched: a.matched,
		Touched: a.touched,
		Sending: sending,
		Text:    a.doneText(sending),
	}, nil
}

// check reads the request.
func (a *act) check() error {
	var wrong []mail.WordError
	if a.f, wrong = a.r.Selection.Filter(a.now); len(wrong) > 0 {
		return fault.Refuse(wrong[0].Word, "%s", wrong[0].Error())
	}
	if a.r.Selection.Everything() && !a.r.All {
		return fault.Refuse("all",
			"say which messages: a lane, message, sender, recipient domain or another word; or all")
	}
	if a.r.DryRun && a.r.Route+a.r.Host+a.r.ExpireAfter+a.r.Domain == "" {
		return nil // only how many is asked
	}
	switch a.r.Verb {
	case mail.VerbReroute:
		return a.checkTarget()
	case mail.VerbExpire:
		return a.checkExpiry()
	case mail.VerbChangeDomain:
		d, err := address.ParseDomain(strings.TrimPrefix(a.r.Domain, "@"))
		if err != nil {
			return fault.Refuse("domain", "the right domain: %v", err)
		}
		a.host = d
	}
	return nil
}

func (a *act) checkTarget() error {
	switch {
	case (a.r.Route == "") == (a.r.Host == ""):
		return fault.Refuse("route", "say either a route or a host to send by")
	case a.r.Host != "":
		host, port := config.SplitHost(a.r.Host, 25)
		if _, err := address.ParseDomain(host); (err != nil && !isIP(host)) || port < 1 ||
			port > 65535 {
			return fault.Refuse("host", "%q is no host; write name, name:port or an IP address",
				a.r.Host)
		}
		a.target, a.host = a.cfg.Route(config.RouteDetour), fmt.Sprintf("%s:%d", host, port)
		return nil
	}
	a.target = a.cfg.Route(a.r.Route)
	switch {
	case a.target == nil:
		return fault.Refuse("route", "there is no route %s that is on; see gull route list",
			a.r.Route)
	case a.target.NextHop == config.HopMailbox,
		a.target.NextHop == config.HopRefuse,
		a.target.NextHop == config.HopNone,
		a.target.Name == config.RouteDetour:
		return fault.Refuse("route",
			"route %s sends nothing on; choose one with next hop mx, smarthost, direct or lmtp",
			a.r.Route)
	}
	return nil
}

func (a *act) checkExpiry() error {
	text := strings.TrimSpace(a.r.ExpireAfter)
	switch {
	case text == "":
		return fault.Refuse("expire_after",
			"say when: 3d from now, +1d later, -12h earlier, or schedule")
	case text == "schedule":
		return nil
	}
	sign, rest := time.Duration(0), text
	if text[0] == '+' || text[0] == '-' {
		sign, rest = 1, text[1:]
		if text[0] == '-' {
			sign = -1
		}
	}
	d, err := form.ParseDuration(rest)
	if err != nil {
		return fault.Refuse("expire_after", "%v; with + or - before it, so much later or earlier",
			err)
	}
	if sign == 0 {
		a.c.ExpireAt = a.now.Add(d)
	} else {
		a.c.ExpireBy = sign * d
	}
	return nil
}

// run goes through the messages that nobody works on, and then lane by lane
// through those that wait in a node's memory.
func (a *act) run(ctx context.Context) error {
	if a.r.Verb == mail.VerbFlush {
		return a.flush(ctx)
	}
	if err := a.pass(ctx, a.f); err != nil {
		return err
	}
	leased, err := a.on.Store.LeasedLanes(ctx, a.f)
	if err != nil {
		return err
	}
	for id := range leased {
		if err := a.recall(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// recall gets a lane's messages out of the nodes' memory, does the action with
// them and lets the lane go on. It stops for as long as that takes: some
// hundredths of a second.
func (a *act) recall(ctx context.Context, lane ident.ID) error {
	lanes := []ident.ID{lane}
	a.on.Queue.Freeze(lanes)
	defer func() {
		a.on.Queue.Unfreeze(lanes)
		a.on.Cluster.Tell(context.WithoutCancel(ctx), "unfreeze", lanes)
	}()
	a.on.Cluster.Tell(ctx, "freeze", lanes)
	f := a.f
	f.Lane = lane
	if a.on.Cluster.Alone(ctx) {
		return a.pass(ctx, f)
	}
	for range 10 { // other nodes hear of it within milliseconds
		if err := a.pass(ctx, f); err != nil {
			return err
		}
		left, err := a.on.Store.LeasedLanes(ctx, f)
		if err != nil || len(left) == 0 {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return nil
}

// pass goes through what a filter selects, step by step.
func (a *act) pass(ctx context.Context, f mail.Filter) error {
	if a.simple() {
		return a.passSimple(ctx, f)
	}
	for {
		n, last, more, err := a.step(ctx, f)
		a.add(n)
		if err != nil || !more {
			return err
		}
		f.After = last
	}
}

// add counts what was touched and tells of it.
func (a *act) add(n int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.touched += n
	if a.tell != nil {
		a.tell(a.touched, a.matched)
	}
}

// simple reports whether the database can do it alone.
func (a *act) simple() bool {
	switch a.r.Verb {
	case mail.VerbHold, mail.VerbRelease, mail.VerbFlush, mail.VerbDrop:
		return true
	}
	return a.r.Verb == mail.VerbExpire && a.r.ExpireAfter != "schedule"
}

// actWorkers do the steps of a simple action side by side.
const actWorkers = 2

// passSimple reads ids page by page and lets workers do the steps.
func (a *act) passSimple(ctx context.Context, f mail.Filter) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	pages := make(chan []mail.DeliveryID)
	var workers sync.WaitGroup
	for range actWorkers {
		workers.Add(1)
		go func() {
			defer workers.Done()
			for ids := range pages {
				n, err := a.on.Store.Act(ctx, a.c, ids)
				a.add(n)
				if err != nil {
					cancel(err)
				}
			}
		}()
	}
	err := a.eachPage(ctx, f, pages)
	close(pages)
	workers.Wait()
	if cause := context.Cause(ctx); cause != nil {
		return cause
	}
	return err
}

func (a *act) eachPage(ctx context.Context, f mail.Filter, pages chan<- []mail.DeliveryID) error {
	for {
		ids, err := a.on.Store.Pick(ctx, f, actAtOnce)
		if err != nil || len(ids) == 0 {
			return err
		}
		select {
		case pages <- ids:
		case <-ctx.Done():
			return ctx.Err()
		}
		if f.After = ids[len(ids)-1]; len(ids) < actAtOnce {
			return nil
		}
	}
}

// step does one step of an action that needs the configuration's word on each
// message.
func (a *act) step(ctx context.Context, f mail.Filter) (int64, mail.DeliveryID, bool, error) {
	due, err := a.on.Store.LeaseSelected(ctx, a.on.Queue.RunNumber(), a.c.Action, f, planAtOnce)
	if err != nil {
		a.on.Queue.Suspect()
	}
	if err != nil || len(due) == 0 {
		return 0, mail.DeliveryID{}, false, err
	}
	last := due[len(due)-1].Delivery.ID()
	if a.r.Verb == mail.VerbReturn {
		a.on.Queue.Return(due, a.say())
		return int64(len(due)), last, true, nil
	}
	var moved []*mail.Delivery
	var all, left []mail.DeliveryID
	for i := range due {
		id := due[i].Delivery.ID()
		all = append(all, id)
		if a.move(&due[i]) {
			moved = append(moved, &due[i].Delivery)
		} else {
			left = append(left, id)
		}
	}
	a.skipped += int64(len(left))
	if a.r.Verb == mail.VerbExpire {
		err = a.on.Store.SetExpiry(ctx, a.on.Queue.RunNumber(), moved)
	} else {
		err = a.on.Store.Redirect(ctx, a.on.Queue.RunNumber(), a.now, moved)
	}
	if err != nil { // nobody works on them: they must not stay leased
		left, moved = all, nil
	}
	a.on.Queue.GiveBack(left)
	return int64(len(moved)), last, err == nil, err
}

// move gives a delivery its new way; false if it has none.
func (a *act) move(d *store.Due) bool {
	to, err := address.Parse(d.Delivery.Recipient)
	if err != nil {
		return false
	}
	envelope := plan.Envelope(d.Sender, d.Account, d.Client, d.Listener, d.Size)
	switch a.r.Verb {
	case mail.VerbExpire:
		d.Delivery.ExpiresAt = mail.At(
			a.cfg.ScheduleOf(a.cfg.Route(d.Delivery.Route), to.Domain,
				d.Sender == "").Expires(d.Received),
		)
	case mail.VerbReroute:
		nextHop := a.host
		if nextHop == "" {
			nextHop = route.NextHop(a.target, to)
		}
		d.Delivery.Detour = mail.DetourOnce
		if a.r.Keep {
			d.Delivery.Detour = mail.DetourKept
		}
		plan.SetLeg(
			&d.Delivery,
			route.Leg{
				Route:     a.target,
				NextHop:   nextHop,
				Recipient: to,
				Why:       "sent by this route by " + a.who,
			},
			a.cfg.Revision,
		)
	case mail.VerbChangeDomain:
		to.Domain = a.host
		legs, fault := route.Plan(a.cfg, envelope, to)
		if fault != nil || len(legs) != 1 {
			return false
		}
		d.Delivery.Via = append(d.Delivery.Via, d.Delivery.Recipient)
		d.Delivery.Recipient, d.Delivery.Detour = legs[0].Recipient.String(), mail.NoDetour
		plan.SetLeg(&d.Delivery, legs[0], a.cfg.Revision)
	case mail.VerbUndo: // of a way that a person chose
		if n := len(d.Delivery.Via); a.r.Domain != "" && n > 0 {
			if old, err := address.Parse(d.Delivery.Via[n-1]); err == nil {
				to, d.Delivery.Recipient, d.Delivery.Via = old, old.String(), d.Delivery.Via[:n-1]
			}
		}
		d.Delivery.Detour = mail.NoDetour
		if leg, fault := route.Find(a.cfg, envelope, to); fault == nil {
			plan.SetLeg(&d.Delivery, leg, a.cfg.Revision)
		}
	}
	return true
}

// flush makes messages due now and lets their lanes try immediately. Their lanes'
// limits count as ever, and so does when they expire.
func (a *act) flush(ctx context.Context) error {
	lanes, err := a.on.Store.LanesOf(ctx, a.f)
	if err != nil {
		return err
	}
	if err := a.pass(ctx, a.f); err != nil {
		return err
	}
	a.on.Queue.EndRest(lanes)
	a.on.Cluster.Tell(ctx, "flush", lanes)
	return nil
}

// leftSending counts what was in a transaction at that moment.
func (a *act) leftSending(ctx context.Context) (int64, error) {
	leased, err := a.on.Store.LeasedLanes(ctx, a.f)
	n := int64(0)
	for _, k := range leased {
		n += k
	}
	return n, err
}

// List lists what people did, newest first, with what can be taken back.
func (s *Actions) List(ctx context.Context, before int64, limit int) ([]mail.Action, error) {
	list, err := s.Store.List(ctx, before, limit)
	for i := range list {
		var u undoing
		_, u = undoOf(list[i], time.Now())
		list[i].CanUndo, list[i].Undo = u.can, u.text
	}
	return list, err
}
