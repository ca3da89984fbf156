package queue

import "sync/atomic"

// memory counts what all lanes together hold in memory. It is safe for several goroutines.
type memory struct {
	window atomic.Int64 // deliveries in memory or about to be
	kept   atomic.Int64 // octets of content kept in memory
}

// keptContent is content that stays in memory from entering to sending, shared by the jobs
// of a message.
type keptContent struct {
	data []byte
	jobs atomic.Int32
}

// allowance is how many deliveries one lane may have in memory: a part of what room is
// left, so that there is always some for another lane.
func (m *memory) allowance() int {
	return max(minLaneWindow, min(maxLaneWindow, (maxWindow-int(m.window.Load()))/4))
}

// keep holds content in memory for n jobs if there is room.
func (m *memory) keep(data []byte, n int) *keptContent {
	if data == nil || n == 0 || m.kept.Load()+int64(len(data)) > maxKept {
		return nil
	}
	m.kept.Add(int64(len(data)))
	c := &keptContent{data: data}
	c.jobs.Store(int32(n))
	return c
}

// InMemory is how many deliveries memory holds, and how many octets of content.
func (m *memory) InMemory() (deliveries int, octets int64) {
	return int(m.window.Load()), m.kept.Load()
}
