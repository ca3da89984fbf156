package queue

import "sync"

// crew counts connections, of all lanes together.
type crew struct {
	mu     sync.Mutex
	n      int // open or being opened
	closed bool
	all    sync.WaitGroup
}

// hire takes one more connection on, if there are fewer than limit and the crew is not
// dismissed.
func (c *crew) hire(limit int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed || c.n >= limit {
		return false
	}
	c.n++
	c.all.Add(1)
	return true
}

// leave ends one, and reports whether there were as many as limit.
func (c *crew) leave(limit int) (full bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	full = c.n >= limit
	c.n--
	c.all.Done()
	return full
}

// dismiss takes nobody on any more, and waits for all to leave.
func (c *crew) dismiss() {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	c.all.Wait()
}
