package access

import (
	"context"
	"slices"
	"sync"
	"time"
)

// Changes is word of changes in mailboxes, for the sessions that have them open here.
type Changes struct {
	tell func(ctx context.Context, mailboxes []string)

	mu       sync.Mutex
	watchers map[string][]chan struct{}
	due      map[string]bool // to be told to the other nodes
	came     map[string]int  // messages that came into mailboxes since they were filed
	wake     chan struct{}
}

func newChanges(tell func(context.Context, []string)) *Changes {
	return &Changes{tell: tell, watchers: map[string][]chan struct{}{}, due: map[string]bool{},
		came: map[string]int{},
		wake: make(chan struct{}, 1)}
}

// watch gives a channel on which word comes that something changed in a mailbox.
func (c *Changes) watch(mailbox string) (word chan struct{}, stop func()) {
	word = make(chan struct{}, 1)
	c.mu.Lock()
	c.watchers[mailbox] = append(c.watchers[mailbox], word)
	c.mu.Unlock()
	return word, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		left := slices.DeleteFunc(
			c.watchers[mailbox],
			func(w chan struct{}) bool { return w == word },
		)
		if c.watchers[mailbox] = left; len(left) == 0 {
			delete(c.watchers, mailbox)
		}
	}
}

// Heard passes on that something changed in mailboxes: another node said so. None stands for
// all of them.
func (c *Changes) Heard(mailboxes ...string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(mailboxes) == 0 {
		for _, list := range c.watchers {
			ring(list)
		}
	}
	for _, m := range mailboxes {
		ring(c.watchers[m])
	}
}

func ring(list []chan struct{}) {
	for _, w := range list {
		select {
		case w <- struct{}{}:
		default: // it has word already
		}
	}
}

// Changed passes on that something changed in mailboxes here, also to the other nodes.
func (c *Changes) Changed(mailboxes ...string) {
	if len(mailboxes) == 0 {
		return
	}
	c.Heard(mailboxes...)
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.due) < maxDue {
		for _, m := range mailboxes {
			c.due[m] = true
		}
	}
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Arrived passes on that messages came into mailboxes here, one into each.
func (c *Changes) Arrived(mailboxes ...string) {
	c.mu.Lock()
	for _, m := range mailboxes {
		c.came[m]++
	}
	c.mu.Unlock()
	c.Changed(mailboxes...)
}

// fileFrom is from how many messages on they are filed before anybody looks: to file a
// hundred thousand takes a second, for which nobody should wait.
const fileFrom = 2000

// unfiled are the mailboxes into which much came.
func (c *Changes) unfiled() (out []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for m, n := range c.came {
		if n >= fileFrom {
			out = append(out, m)
			delete(c.came, m)
		}
	}
	if len(c.came) > maxCame { // of each very little came
		clear(c.came)
	}
	return out
}

const maxCame = 100_000

// Other nodes hear of changes in groups: notices of one transaction each would make writers
// wait for each other.
const (
	maxDue   = 5000
	tellWait = 100 * time.Millisecond
)

// Run tells the other nodes until ctx ends.
func (c *Changes) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
		}
		c.mu.Lock()
		list := make([]string, 0, len(c.due))
		for m := range c.due {
			list = append(list, m)
		}
		clear(c.due)
		c.mu.Unlock()
		if c.tell != nil && len(list) > 0 {
			c.tell(ctx, list)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(tellWait):
		}
	}
}
