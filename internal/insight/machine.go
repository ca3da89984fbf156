package insight

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/sys/unix"

	"gullroute/internal/api"
	"gullroute/internal/core/machine"
	"gullroute/internal/core/tuning"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Machine looks at what this node runs on.
type Machine struct {
	Store   store.Machines
	Nodes   *Nodes
	Tuner   *Tuner
	InForce *inforce.State
	KeyFile string          // "" if there is none
	Dirs    func() []Folder // that the service writes to
	Trouble func(with, text string, at time.Time)

	last atomic.Pointer[[]machine.Examined] // of the last look without the network
}

// Folder is a directory, and what it is for.
type Folder struct{ What, Dir string }

const (
	askLimit   = 4 * time.Second // of a name server or a port
	portWait   = 3 * time.Second // for a greeting, which may be held back from strangers
	usualSpool = "/var/lib/postgresql"
)

// Round looks, without asking anything of the network, and notes how full places are.
func (m *Machine) Round(ctx context.Context) error {
	f, err := m.facts(ctx)
	if err != nil {
		return err
	}
	checks := machine.Judge(f)
	m.last.Store(&checks)
	for _, p := range f.Places {
		if p.Size > 0 {
			err = errors.Join(err, m.Store.Note(ctx, m.place(p.Dir), p.Size-p.Free, p.Free))
		}
	}
	if f.Database.Wrong == "" {
		err = errors.Join(
			err,
			m.Store.Note(ctx, "the database", f.Database.Size, databaseFree(f.Places)),
		)
	}
	return err
}

// Tell makes snags of what is bad; told every few seconds, they end when it is well.
func (m *Machine) Tell(context.Context) error {
	if checks := m.last.Load(); checks != nil {
		for _, c := range *checks {
			if c.State == machine.Bad && c.What != machine.DatabaseState { // that has snags of its own
				m.Trouble(m.InForce.Node+": "+c.What, c.Found+": "+c.Fix, time.Now())
			}
		}
	}
	return nil
}

// ToLookAt are checks of the last round that are neither well nor bad enough for a snag.
func (m *Machine) ToLookAt() (list []machine.Examined) {
	if checks := m.last.Load(); checks != nil {
		for _, c := range *checks {
			if c.State == machine.Look {
				list = append(list, c)
			}
		}
	}
	return list
}

// Doctor looks at everything, name servers and ports too.
func (m *Machine) Doctor(ctx context.Context) (api.Doctor, error) {
	f, err := m.facts(ctx)
	if err != nil {
		return api.Doctor{}, err
	}
	if f.Database.Wrong == "" {
		check, err := m.Tuner.Look(ctx, 0)
		if err != nil {
			return api.Doctor{}, err
		}
		for _, a := range check.Findings {
			now := a.What + ": " + a.Now
			if a.Better != "" {
				now += ", better " + a.Better
			}
			f.Database.Advice = append(f.Database.Advice, machine.Advice{What: now, Do: a.Do,
				Loses: a.Severity != tuning.Slow})
		}
		nodes, err := m.Nodes.List(ctx)
		if err != nil {
			return api.Doctor{}, err
		}
		for _, n := range nodes {
			if n.State != "silent" && n.Facts != nil {
				f.Programs = append(
					f.Programs,
					machine.Program{Node: n.Name, Version: n.Facts.Version},
				)
			}
		}
	}
	m.names(ctx, &f)
	m.ports(ctx, &f)
	checks := machine.Judge(f)
	return api.Doctor{
		Node:   m.InForce.Node,
		At:     time.Now().UTC(),
		Worst:  machine.Worst(checks),
		Checks: checks,
	}, nil
}

func (m *Machine) place(dir string) string { return placeOn(m.InForce.Node, dir) }

// placeOn is what a directory is called where it is noted how full it was.
func placeOn(node, dir string) string { return node + ": " + dir }

// facts are those that ask nothing of the network but the database.
func (m *Machine) facts(ctx context.Context) (f machine.Facts, err error) {
	f.Memory.Total, f.Memory.Available = memoryOfMachine(), meminfo("MemAvailable:")
	f.Memory.Limit, f.Memory.Used = groupLimit(), residentMemory()
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) == nil {
		f.Files.Limit = int64(min(limit.Cur, 1<<40))
		if open, err := os.ReadDir("/proc/self/fd"); err == nil {
			f.Files.Open = int64(len(open))
		} else if errors.Is(err, syscall.EMFILE) {
			f.Files.Open = f.Files.Limit
		}
	}
	var one [1]byte
	n, _ := unix.Getrandom(one[:], unix.GRND_NONBLOCK)
	ready := n == 1
	f.Random = &ready
	var clock unix.Timex
	if state, err := unix.Adjtimex(&clock); err == nil {
		kept := state != unix.TIME_ERROR && clock.Status&unix.STA_UNSYNC == 0
		f.Clock.Kept = &kept
	}
	if m.KeyFile != "" {
		k := machine.KeyFile{Path: m.KeyFile}
		if info, err := os.Stat(m.KeyFile); err != nil {
			k.Fault = err.Error()
		} else {
			k.Mode = uint32(info.Mode().Perm())
		}
		f.KeyFile = &k
	}
	f.Database.Wrong = m.Nodes.Ready()
	if f.Database.Wrong == "" {
		if f.Database, f.Clock.Off, err = m.Store.Look(ctx); err != nil {
			return f, err
		}
		if f.Database.Grows, err = m.Store.Foresee(ctx, "the database"); err != nil {
			return f, err
		}
	}
	for _, d := range m.Dirs() {
		f.Places = append(f.Places, placeOf(d))
	}
	if here(m.Tuner.Store.Hosts()) {
		if _, err := os.Stat(usualSpool); err == nil {
			f.Places = append(
				f.Places,
				diskAt(machine.Place{What: "PostgreSQL's usual place", Dir: usualSpool}),
			)
		}
	}
	if f.Database.Wrong != "" {
		return f, nil
	}
	for i := range f.Places {
		if f.Places[i].Fills, err = m.Store.Foresee(ctx, m.place(f.Places[i].Dir)); err != nil {
			return f, err
		}
	}
	return f, nil
}

// databaseFree is what is free where PostgreSQL usually keeps its files, on this machine; else 0.
func databaseFree(places []machine.Place) int64 {
	for _, p := range places {
		if p.Dir == usualSpool {
			return p.Free
		}
	}
	return 0
}

// placeOf looks at a directory that we write to: a file is made and removed.
func placeOf(d Folder) machine.Place {
	p := diskAt(machine.Place{What: d.What, Dir: d.Dir})
	file, err := os.CreateTemp(d.Dir, "gull-try-")
	if err != nil {
		var at *fs.PathError
		if errors.As(err, &at) {
			err = at.Err
		}
		p.Fault = "no file can be made there: " + err.Error()
		return p
	}
	_, err = file.Write([]byte("."))
	err = errors.Join(err, file.Close(), os.Remove(file.Name()))
	if err != nil {
		p.Fault = "nothing can be written there: " + err.Error()
	}
	if info, err := os.Stat(d.Dir); err == nil {
		mode := info.Mode()
		p.Others = mode.Perm()&0o004 != 0 && mode&fs.ModeSticky == 0
	}
	return p
}

func diskAt(p machine.Place) machine.Place {
	var disk syscall.Statfs_t
	if syscall.Statfs(p.Dir, &disk) == nil && disk.Blocks > 0 {
		p.Size, p.Free = int64(disk.Blocks)*disk.Bsize, int64(disk.Bavail)*disk.Bsize
		if disk.Files > 0 {
			p.Inodes = 1 - float64(disk.Ffree)/float64(disk.Files)
		}
	}
	return p
}

// groupLimit is the memory that the control groups allow, of either version of them, in octets; 0
// for no limit.
func groupLimit() int64 {
	text, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return 0
	}
	least := int64(0)
	for line := range strings.Lines(string(text)) {
		root, file := "/sys/fs/cgroup", "memory.max"
		_, path, ok := strings.Cut(strings.TrimSpace(line), "0::")
		if !ok {
			root, file = "/sys/fs/cgroup/memory", "memory.limit_in_bytes"
			_, path, ok = strings.Cut(strings.TrimSpace(line), ":memory:")
		}
		for ok && path != "" {
			value, err := os.ReadFile(filepath.Join(root, path, file))
			n, bad := strconv.ParseInt(strings.TrimSpace(string(value)), 10, 64)
			if err == nil && bad == nil && (least == 0 || n < least) {
				least = n
			}
			if path == "/" {
				break
			}
			path = filepath.Dir(path)
		}
	}
	return least
}

// meminfo is a line of what the kernel says of memory, in octets.
func meminfo(name string) int64 {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	for line := range bytes.Lines(text) {
		if fields := bytes.Fields(line); len(fields) > 1 && string(fields[0]) == name {
			kb, _ := strconv.ParseInt(string(fields[1]), 10, 64)
			return kb << 10
		}
	}
	return 0
}

// names asks each name server, and looks at our own names.
func (m *Machine) names(ctx context.Context, f *machine.Facts) {
	c := m.InForce.Config().Service
	host, r := string(c.HostName), m.InForce.FreshResolver()
	for _, one := range r.Each() {
		asking, cancel := context.WithTimeout(ctx, askLimit)
		began := time.Now()
		_, err := one.Records(asking, ".", dns.TypeNS)
		cancel()
		s := machine.Server{At: one.At(), Took: time.Since(began)}
		if err != nil && one.Down() {
			s.Fault = "it does not answer: " + err.Error()
		}
		f.Servers = append(f.Servers, s)
	}
	asking, cancel := context.WithTimeout(ctx, 2*askLimit)
	defer cancel()
	n := machine.Name{Name: host}
	addrs, err := r.Addrs(asking, host)
	switch {
	case err != nil:
		n.Fault = "our host name: " + err.Error()
	case len(c.Addresses) > 0 && !slices.ContainsFunc(c.Addresses,
		func(a netip.Addr) bool { return slices.Contains(addrs, a) }):
		n.Fault = fmt.Sprintf(
			"our host name leads to %v, and none of these is an address of ours",
			addrs,
		)
	}
	f.Names = append(f.Names, n)
}

// ports connects to each listener as others do, and reads its greeting.
func (m *Machine) ports(ctx context.Context, f *machine.Facts) {
	open := m.Nodes.Addresses()
	names := make([]string, 0, len(open))
	for name := range open {
		names = append(names, name)
	}
	slices.Sort(names)
	found := make([]machine.Port, len(names))
	done := make(chan struct{})
	for i, name := range names {
		go func() {
			at := open[name]
			if ap, err := netip.ParseAddrPort(at); err == nil && ap.Addr().IsUnspecified() {
				if ours := m.InForce.Config().Service.Addresses; len(ours) > 0 {
					at = netip.AddrPortFrom(ours[0], ap.Port()).String()
				} else {
					at = net.JoinHostPort(string(m.InForce.Config().Service.HostName), fmt.Sprint(ap.Port()))
				}
			}
			found[i] = machine.Port{Listener: name, At: at, Fault: reach(ctx, at)}
			done <- struct{}{}
		}()
	}
	for range names {
		<-done
	}
	f.Ports = append(f.Ports, found...)
}

// reach connects to an address; it says why that does not go.
func reach(ctx context.Context, at string) string {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		var op *net.OpError
		if errors.As(err, &op) && op.Err != nil {
			return op.Err.Error()
		}
		return err.Error()
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(portWait))
	var greeting [4]byte
	if n, err := conn.Read(greeting[:]); err == nil && string(greeting[:n]) == "220 " {
		_, _ = conn.Write([]byte("QUIT\r\n"))
		_, _ = conn.Read(greeting[:])
	}
	return ""
}
