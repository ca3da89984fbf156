package insight

import (
	"context"
	"net"

	"gullroute/internal/api"
	"gullroute/internal/core/tuning"
)

// Tuner tells how the database server is set up for mail.
type Tuner struct {
	Store interface {
		Facts(ctx context.Context) (tuning.Facts, error)
		Hosts() []string
	}
}

// Look judges the database server. Its memory in octets is given by who asks; 0 takes this
// machine's, if the server runs on it.
func (t *Tuner) Look(ctx context.Context, memory int64) (api.DatabaseCheck, error) {
	c := api.DatabaseCheck{Memory: memory, Findings: []tuning.Advice{}}
	if memory == 0 && here(t.Store.Hosts()) {
		c.Memory, c.Here = memoryOfMachine(), true
	}
	f, err := t.Store.Facts(ctx)
	if err != nil {
		return c, err
	}
	f.Memory = c.Memory
	c.Findings = append(c.Findings, tuning.Look(f)...)
	return c, nil
}

// here tells whether all of a database's hosts are this machine.
func here(hosts []string) bool {
	for _, h := range hosts {
		name, _, err := net.SplitHostPort(h)
		if err != nil {
			name = h
		}
		ip := net.ParseIP(name)
		if name != "localhost" && (len(name) == 0 || name[0] != '/') &&
			(ip == nil || !ip.IsLoopback()) {
			return false
		}
	}
	return len(hosts) > 0
}

// memoryOfMachine is this machine's memory in octets; 0 if it can't be read.
func memoryOfMachine() int64 { return meminfo("MemTotal:") }
