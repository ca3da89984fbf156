package node

import (
	"os"
	"runtime/debug"
)

// memoryAim is what the service tries to stay under, in octets, by collecting
// garbage sooner. What is in use may be more: it is an aim and no bound.
const memoryAim = 230 << 20

// TuneMemory lets garbage grow to twice what is in use before it is collected,
// up to the aim. A message in passing is garbage a moment later: collecting half
// as often gains a tenth in throughput, and what is in use is bounded by the
// queue's window and the directory. GOMEMLIMIT sets another aim.
func TuneMemory() {
	debug.SetGCPercent(200)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryAim)
	}
}
