package queue

import "slices"

// turns are a lane's jobs in the order in which senders have their turn: one
// message of each sender after the other, and those of bulk senders behind, but
// not for ever: of several messages in a row one is theirs. Those whose senders gave them a high
// priority (RFC 6710) go before all others, the highest first.
type turns struct {
	high        []*job
	front, back circle
	inRow       int // messages taken from the front since the last from the back
	others      int // turns that those had which are not of high priority, while such were there
}

// frontInRow is how many messages of the front go before one of the back.
const frontInRow = 7

func (t *turns) len() int { return len(t.high) + t.front.n + t.back.n }

func (t *turns) add(j *job) {
	if p := j.asked.Priority; p > 0 && !j.bulk() {
		at := slices.IndexFunc(t.high, func(o *job) bool { return o.asked.Priority < p })
		if at < 0 {
			at = len(t.high)
		}
		t.high = slices.Insert(t.high, at, j)
		return
	}
	if j.bulk() {
		t.back.add(j)
		return
	}
	t.front.add(j)
}

// putBack gives a job the next turn.
func (t *turns) putBack(j *job) {
	if j.asked.Priority > 0 {
		t.high = slices.Insert(t.high, 0, j)
		return
	}
	t.front.first = append(t.front.first, j)
	t.front.n++
}

// next takes the job whose turn it is, nil if there is none.
func (t *turns) next() *job {
	if len(t.high) > 0 {
		return t.nextHigh()
	}
	if t.front.n == 0 || t.back.n > 0 && t.inRow >= frontInRow {
		t.inRow = 0
		if j := t.back.next(); j != nil {
			return j
		}
	}
	t.inRow++
	return t.front.next()
}

// nextHigh takes a job of high priority, or after several in a row one of the others.
func (t *turns) nextHigh() *job {
	if t.inRow >= frontInRow && t.front.n+t.back.n > 0 {
		t.inRow = 0
		if t.others++; t.front.n == 0 || t.back.n > 0 && t.others%frontInRow == 0 {
			return t.back.next()
		}
		return t.front.next()
	}
	j := t.high[0]
	t.high[0] = nil
	t.high = t.high[1:]
	t.inRow++
	return j
}

// each calls f with every job.
func (t *turns) each(f func(*job)) {
	for _, j := range t.high {
		f(j)
	}
	for _, c := range []*circle{&t.front, &t.back} {
		for _, j := range c.first {
			f(j)
		}
		for _, l := range c.senders {
			for _, j := range l.jobs {
				f(j)
			}
		}
	}
}

// takeAll empties the lane's memory.
func (t *turns) takeAll() []*job {
	var all []*job
	for j := t.next(); j != nil; j = t.next() {
		all = append(all, j)
	}
	*t = turns{}
	return all
}

// circle is jobs by sender; the senders have their turn in a circle.
type circle struct {
	n       int
	first   []*job // go before all others
	senders map[string]*line
	around  []string // senders in the order of their turns
}

// line is one sender's jobs, in order.
type line struct{ jobs []*job }

func (c *circle) add(j *job) {
	if c.senders == nil {
		c.senders = map[string]*line{}
	}
	l := c.senders[j.sender]
	if l == nil {
		l = &line{}
		c.senders[j.sender] = l
		c.around = append(c.around, j.sender)
	}
	l.jobs = append(l.jobs, j)
	c.n++
}

func (c *circle) next() *job {
	if c.n == 0 {
		return nil
	}
	c.n--
	if k := len(c.first) - 1; k >= 0 {
		j := c.first[k]
		c.first = c.first[:k]
		return j
	}
	sender := c.around[0]
	c.around[0] = ""
	c.around = c.around[1:]
	l := c.senders[sender]
	j := l.jobs[0]
	l.jobs[0] = nil
	if l.jobs = l.jobs[1:]; len(l.jobs) == 0 {
		delete(c.senders, sender)
	} else {
		c.around = append(c.around, sender)
	}
	return j
}

// volume counts messages by lane and sender, to know bulk senders. It is bounded
// and begins anew from time to time.
type volume struct {
	period int64
	count  map[volumeKey]int
}

type volumeKey struct {
	lane   int64
	sender string
}

// Bounds of what counts as bulk: more messages than this from one sender into one
// lane in a period.
const (
	bulkAfter   = 50
	bulkPeriod  = 600 // seconds
	maxCounters = 100_000
)

// add counts a delivery and reports whether it is one of very many.
func (v *volume) add(lane int64, sender string, unix int64) bool {
	if sender == "" { // a notice: each is a message of its own
		return false
	}
	if p := unix / bulkPeriod; p != v.period || len(v.count) >= maxCounters {
		v.period, v.count = p, map[volumeKey]int{}
	}
	k := volumeKey{lane, sender}
	v.count[k]++
	return v.count[k] > bulkAfter
}
