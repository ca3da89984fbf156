package leasing

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
)

// Times, in ticks of the world's clock. They stand to each other as the service's do.
const (
	deadAfter  = 30 // silence after which a node counts as dead
	leaseLost  = 20 // silence of the database after which a node begins no attempt
	blindAfter = 10 // of a watcher's own: then it begins to watch anew
)

// Database is how the database does.
type Database int

// Its states.
const (
	Well    Database = iota
	Away             // nothing reaches it
	Waiting          // it takes effect, and answers to nobody: a standby is away
)

// Answer is what a client was told.
type Answer int

// The answers.
const (
	None Answer = iota
	Taken
	Refused
)

// Faults are mistakes that the protocol could have; the search must find each.
type Faults struct {
	OldRunReturns bool // a node that was taken for dead goes on under its run
	BlindWatcher  bool // a watcher counts time in which it saw nothing
	KeepDoubt     bool // an unclear commit is refused and not withdrawn
	NoLook        bool // nobody compares leases with memory
}

// attempt is a delivery in a node's hands.
type attempt struct {
	run     Run
	arrived bool // the remote host has it, and its reply is not on record
}

// entering is a message that is being entered.
type entering struct {
	m      Message
	lease  Run
	hidden bool // committed, and not to be seen until the standby is back
	seen   bool // committed for all to see
	lost   bool // its answer does not come
}

type node struct {
	run     Run
	up      bool // it runs
	frozen  bool // it runs, and does nothing
	heard   int  // when the database last took a heartbeat
	looked  int  // when it last looked at the others
	others  map[Run][2]int
	memory  map[Message]Run
	hands   map[Message]attempt
	under   []*entering
	doubts  []Message // refused, to be withdrawn
	strays  map[Message]bool
	strayOf Run
}

// World is everything.
type World struct {
	Rows   *Rows
	State  Database
	Faults Faults
	Told   map[Message]Answer
	Far    map[Message]int // how often it arrived
	// Excused arrived, or may arrive, twice: its attempt was open when its run ended.
	Excused map[Message]bool
	// Doubtful were refused by a node that could not reach the database, and another node
	// took them before the withdrawal could be written.
	Doubtful map[Message]bool

	now       int
	wellTicks int         // of them, with a database that is well
	wellAt    map[Run]int // how many there were at a run's last heartbeat
	unfair    error       // somebody was taken for dead who could not be heard
	beats     map[Run]int
	nodes     []*node
	hidden    []*entering // of nodes that are gone
	next      Message
	rnd       *rand.Rand
	trace     []string
}

// NewWorld is a world of n nodes whose chances come from a seed.
func NewWorld(n int, seed uint64, f Faults) *World {
	w := &World{
		Rows:     NewRows(),
		Faults:   f,
		rnd:      rand.New(rand.NewPCG(seed, seed)),
		Told:     map[Message]Answer{},
		Far:      map[Message]int{},
		Excused:  map[Message]bool{},
		Doubtful: map[Message]bool{},
		beats:    map[Run]int{},
		wellAt:   map[Run]int{},
	}
	for range n {
		nd := &node{}
		w.nodes = append(w.nodes, nd)
		w.start(nd)
	}
	return w
}

func (w *World) say(format string, args ...any) {
	if len(w.trace) > 20_000 {
		w.trace = w.trace[10_000:]
	}
	w.trace = append(w.trace, fmt.Sprintf("%d ", w.now)+fmt.Sprintf(format, args...))
}

// Trace is what happened last to a message, and to everything.
func (w *World) Trace(m Message) (out []string) {
	name := fmt.Sprintf("message %d ", m)
	for _, line := range w.trace {
		if _, event, _ := strings.Cut(line, " "); strings.HasPrefix(event, name) ||
			!strings.HasPrefix(event, "message ") {
			out = append(out, line)
		}
	}
	return out
}

func (w *World) start(n *node) {
	*n = node{up: true, doubts: n.doubts, run: w.Rows.Begin(), heard: w.now, looked: w.now,
		others: map[Run][2]int{}, memory: map[Message]Run{}, hands: map[Message]attempt{}}
	w.beats[n.run], w.wellAt[n.run] = w.now, w.wellTicks
}

// Step lets one thing happen.
func (w *World) Step() {
	w.now++
	if w.State == Well {
		w.wellTicks++
	}
	n := w.nodes[w.rnd.IntN(len(w.nodes))]
	switch c := w.rnd.IntN(1000); {
	case c < 4:
		w.fail(n)
	case c < 8:
		w.State = Database(w.rnd.IntN(3))
		w.say("the database is %d", w.State)
	case c < 12:
		w.heal(n)
	default:
		w.act(n, w.rnd.IntN(10))
	}
}

func (w *World) fail(n *node) {
	switch w.rnd.IntN(3) {
	case 0:
		if n.up {
			w.kill(n)
		}
	case 1:
		n.frozen = true
		w.say("run %d is frozen", n.run)
	case 2: // a promotion: what waits for the standby is on it, or is not
		w.say("a standby is promoted")
		for _, e := range w.waiting() {
			if w.rnd.IntN(2) == 0 {
				e.hidden = false
			} else {
				w.reveal(e)
			}
			e.lost = true
		}
		w.State = Well
	}
}

func (w *World) heal(n *node) {
	n.frozen = false
	if !n.up {
		old := n.run
		w.start(n)
		w.Rows.End(old)
		w.say("run %d begins after %d", n.run, old)
	}
}

func (w *World) kill(n *node) {
	w.say("run %d is killed", n.run)
	n.up, n.frozen = false, false
	w.excuse(n.run, n)
	for _, e := range n.under {
		if !e.seen {
			w.hidden = append(w.hidden, e)
		}
	}
	// what is in doubt is written down
	n.memory, n.hands, n.under = map[Message]Run{}, map[Message]attempt{}, nil
}

// excuse notes what was in a transaction as its run ended.
func (w *World) excuse(run Run, n *node) {
	for m, a := range n.hands {
		if a.run == run {
			w.Excused[m] = true
		}
	}
}

// act lets a node do one of its things.
func (w *World) act(n *node, what int) {
	if !n.up || n.frozen {
		return
	}
	switch what {
	case 0:
		w.accept(n)
	case 1, 2:
		w.answer(n)
	case 3:
		w.beat(n)
	case 4:
		w.watch(n)
	case 5:
		w.lease(n)
	case 6:
		w.send(n)
	case 7:
		w.record(n)
	case 8:
		w.look(n)
	case 9:
		w.withdraw(n)
	}
}

// accept begins to enter a message.
func (w *World) accept(n *node) {
	if w.State == Away || len(n.under) > 3 {
		return
	}
	w.next++
	e := &entering{m: w.next, lost: w.rnd.IntN(8) == 0}
	if w.rnd.IntN(2) == 0 {
		e.lease = n.run
	}
	n.under = append(n.under, e)
	defer func() { w.say("message %d enters by run %d: %+v", e.m, n.run, *e) }()
	switch {
	case w.State == Waiting:
		if e.lease == 0 || !w.Rows.Over[e.lease] {
			e.hidden, e.lost = true, true
		}
	case w.Rows.Enter(e.m, e.lease) == nil:
		e.seen = true
	}
}

// answer finds out what became of a message, and answers its client.
func (w *World) answer(n *node) {
	if len(n.under) == 0 {
		return
	}
	e := n.under[0]
	patient := w.rnd.IntN(4) != 0
	_, memory := n.memory[e.m]
	_, hands := n.hands[e.m]
	switch {
	case memory || hands: // the node leased it itself meanwhile: so it is there
		w.Told[e.m] = Taken
	case e.lost && w.State != Well: // the fate cannot be asked for
		if patient {
			return
		}
		w.refuse(n, e.m)
		n.doubts = append(n.doubts, e.m)
		if e.hidden {
			w.hidden = append(w.hidden, e)
		} else if e.seen && w.elsewhere(n, e.m) {
			w.Doubtful[e.m] = true
		}
	case e.hidden:
		if patient {
			return
		}
		w.refuse(n, e.m)
		n.doubts = append(n.doubts, e.m)
		w.hidden = append(w.hidden, e)
		w.withdraw(n)
	case e.seen && !w.Rows.Withdrawn[e.m]:
		w.Told[e.m] = Taken
		if e.lease != 0 && e.lease == n.run {
			n.memory[e.m] = e.lease
		}
	default:
		w.refuse(n, e.m)
	}
	n.under = n.under[1:]
	if w.Faults.KeepDoubt {
		n.doubts = nil
	}
}

// elsewhere reports that another node has a message, or had it.
func (w *World) elsewhere(n *node, m Message) bool {
	row := w.Rows.There[m]
	if row.Done || row.Lease != 0 && row.Lease != n.run || w.Far[m] > 0 {
		return true
	}
	for _, other := range w.nodes {
		if _, has := other.hands[m]; has && other != n {
			return true
		}
	}
	return false
}

func (w *World) refuse(n *node, m Message) {
	w.say("message %d is refused by run %d", m, n.run)
	w.Told[m] = Refused
}

// reveal lets a commit that waited for a standby be seen.
func (w *World) reveal(e *entering) {
	if e.hidden && !e.seen {
		e.hidden, e.seen = false, true
		w.Rows.There[e.m] = Row{Lease: e.lease}
		w.say("message %d comes to light", e.m)
	}
}

// waiting are the commits that wait for a standby.
func (w *World) waiting() (out []*entering) {
	for _, n := range w.nodes {
		out = append(out, n.under...)
	}
	out = append(out, w.hidden...)
	return slices.DeleteFunc(out, func(e *entering) bool { return !e.hidden })
}

func (w *World) withdraw(n *node) {
	if w.State == Away || len(n.doubts) == 0 { // it waits for no standby
		return
	}
	for _, m := range n.doubts {
		w.say("message %d is withdrawn by run %d", m, n.run)
	}
	w.Rows.Withdraw(n.doubts...)
	n.doubts = nil
}

// beat is a heartbeat: a small durable write.
func (w *World) beat(n *node) {
	if w.State != Well {
		return
	}
	if w.Rows.Over[n.run] && !w.Faults.OldRunReturns {
		w.excuse(n.run, n)
		run := w.Rows.Begin()
		w.say("run %d is over; its node goes on as %d", n.run, run)
		n.run, n.memory = run, map[Message]Run{}
	} else if w.Rows.Over[n.run] {
		delete(w.Rows.Over, n.run)
		n.memory = map[Message]Run{}
	}
	n.heard = w.now
	w.beats[n.run], w.wellAt[n.run] = w.now, w.wellTicks
}

// watch looks at the other nodes' heartbeats, and frees what dead ones hold.
func (w *World) watch(n *node) {
	if w.State != Well {
		return
	}
	if w.now-n.looked > blindAfter && !w.Faults.BlindWatcher {
		n.others = map[Run][2]int{}
	}
	n.looked = w.now
	for _, run := range inOrder(w.beats) {
		at := w.beats[run]
		if run == n.run || w.Rows.Over[run] {
			continue
		}
		known, ok := n.others[run]
		if !ok || known[0] != at {
			known = [2]int{at, w.now}
			n.others[run] = known
		}
		if w.now-known[1] > deadAfter {
			if w.wellTicks-w.wellAt[run] < deadAfter/3 {
				w.unfair = fmt.Errorf(
					"run %d is taken for dead though it could hardly be heard: %d ticks",
					run,
					w.wellTicks-w.wellAt[run],
				)
			}
			w.say("run %d takes %d for dead", n.run, run)
			for _, other := range w.nodes {
				w.excuse(run, other)
			}
			w.Rows.End(run)
		}
	}
	w.Rows.Release()
	w.Rows.Drop()
}

// lease takes what is due. Its answer may be lost: then the lease is nobody's.
func (w *World) lease(n *node) {
	if w.State == Away || w.fenced(n) ||
		len(n.doubts) > 0 { // what is to be withdrawn must not be leased
		return
	}
	list, err := w.Rows.Lease(n.run, 3)
	if err != nil {
		return
	}
	for _, m := range list {
		w.say("message %d is leased to run %d", m, n.run)
		for _, other := range w.nodes {
			if slices.Contains(other.doubts, m) {
				w.Doubtful[m] = true
			}
		}
	}
	if w.State == Waiting || w.rnd.IntN(10) == 0 {
		return
	}
	for _, m := range list {
		n.memory[m] = n.run
	}
}

func (w *World) fenced(n *node) bool { return w.now-n.heard > leaseLost }

// send begins an attempt, or ends one: the remote host has the message.
func (w *World) send(n *node) {
	for _, m := range inOrder(n.hands) {
		if a := n.hands[m]; !a.arrived {
			w.Far[m]++
			w.say("message %d arrives from run %d", m, a.run)
			n.hands[m] = attempt{a.run, true}
			return
		}
	}
	if w.fenced(n) {
		return
	}
	for _, m := range inOrder(n.memory) {
		n.hands[m] = attempt{n.memory[m], false}
		delete(n.memory, m)
		return
	}
}

// inOrder are a map's keys in order: chances come from the seed alone.
func inOrder[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }

// record puts outcomes on record. Its answer may be lost; then it comes again.
func (w *World) record(n *node) {
	for _, m := range inOrder(n.hands) {
		a := n.hands[m]
		if !a.arrived || w.State == Away {
			continue
		}
		w.say("message %d is on record", m)
		w.Rows.Finish(a.run, m, true)
		if w.State == Well && w.rnd.IntN(10) != 0 {
			delete(n.hands, m)
		}
		return
	}
}

// look compares leases with memory.
func (w *World) look(n *node) {
	if w.State != Well || w.fenced(n) || w.Faults.NoLook {
		return
	}
	fresh := map[Message]bool{}
	for _, m := range w.Rows.Held(n.run) {
		_, mem := n.memory[m]
		_, hand := n.hands[m]
		under := slices.ContainsFunc(n.under, func(e *entering) bool { return e.m == m })
		switch {
		case mem, hand, under:
		case n.strayOf == n.run && n.strays[m]:
			w.say("message %d was in nobody's hands", m)
			w.Rows.Return(n.run, m)
		default:
			fresh[m] = true
		}
	}
	n.strays, n.strayOf = fresh, n.run
}

// Broken is a promise that did not hold.
type Broken struct {
	Message Message
	Text    string
}

func (b *Broken) Error() string { return fmt.Sprintf("message %d %s", b.Message, b.Text) }

// Check is nil as long as every promise holds.
func (w *World) Check() error {
	for m, told := range w.Told {
		_, there := w.Rows.There[m]
		switch {
		case told == Taken && !there:
			return &Broken{m, "was taken and is lost"}
		case told == Refused && w.Far[m] > 0 && !w.Doubtful[m]:
			return &Broken{m, "was refused and arrived"}
		}
	}
	if w.unfair != nil {
		return w.unfair
	}
	for m, times := range w.Far {
		if times > 1 && !w.Excused[m] {
			return &Broken{m, fmt.Sprintf("arrived %d times", times)}
		}
	}
	return nil
}

// Settle ends all faults, lets everybody work for long enough, and checks that nothing
// that was taken is left.
func (w *World) Settle() error {
	w.State = Well
	for _, e := range w.waiting() {
		w.reveal(e)
	}
	w.hidden = nil
	for _, n := range w.nodes {
		w.heal(n)
	}
	for range 600 {
		w.now++
		w.wellTicks++
		for _, n := range w.nodes {
			for what := 1; what < 10; what++ {
				w.act(n, what)
			}
		}
		if err := w.Check(); err != nil {
			return err
		}
	}
	for m, told := range w.Told {
		if row := w.Rows.There[m]; told == Taken && !row.Done {
			return &Broken{m, fmt.Sprintf("was taken and is stranded: %+v", row)}
		}
	}
	for m := range maps.Clone(w.Told) { // what has come to its end is forgotten
		delete(w.Told, m)
		delete(w.Far, m)
		delete(w.Rows.There, m)
	}
	clear(w.Rows.Withdrawn)
	maps.DeleteFunc(w.beats, func(r Run, _ int) bool { return w.Rows.Over[r] })
	return nil
}
