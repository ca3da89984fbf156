package insight

import (
	"bytes"
	"os"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/store"
)

// Facts is what this node says of itself with each sign of life. It asks nobody: the sign of
// life waits for it.
func (s *Nodes) Facts() mail.NodeFacts {
	f := mail.NodeFacts{
		Version:   s.Version,
		Schema:    store.Schema(),
		Listeners: s.Addresses(),
		Load:      s.used.share(),
		Memory:    residentMemory(),
		Write:     s.Queue.Database().Took.Seconds(),
		NotReady:  s.Ready(),
		Behind:    s.Reader.Behind().Seconds(),
	}
	for _, n := range s.Sessions() {
		f.Sessions += n
	}
	if c := s.InForce.Config(); c != nil {
		f.Revision, f.Role = c.Revision, role(c, s.InForce.Node, len(f.Listeners) > 0)
	}
	return f
}

// role is what a node is for, by the listeners that it opened and the routes that belong to it.
func role(c *config.Compiled, node string, takes bool) string {
	delivers := false
	for i := range c.Routes {
		r := &c.Routes[i]
		delivers = delivers || !r.Off && config.On(r.Nodes, node)
	}
	switch {
	case takes && delivers:
		return "takes and delivers"
	case takes:
		return "takes"
	case delivers:
		return "delivers"
	}
	return "nothing"
}

// processors tells how much of them the service used since it was asked before.
type processors struct {
	mutex sync.Mutex
	at    time.Time
	used  time.Duration
}

func (p *processors) share() float64 {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &u) != nil {
		return 0
	}
	now, used := time.Now(), time.Duration(u.Utime.Nano()+u.Stime.Nano())
	p.mutex.Lock()
	defer p.mutex.Unlock()
	since, more := now.Sub(p.at), used-p.used
	first := p.at.IsZero()
	p.at, p.used = now, used
	if first || since <= 0 {
		return 0
	}
	return min(1, float64(more)/float64(since)/float64(runtime.NumCPU()))
}

// residentMemory is what the process holds of the machine's memory, in octets; 0 where the
// system does not say.
func residentMemory() int64 {
	text, err := os.ReadFile("/proc/self/statm")
	fields := bytes.Fields(text)
	if err != nil || len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(string(fields[1]), 10, 64)
	return pages * int64(os.Getpagesize())
}
