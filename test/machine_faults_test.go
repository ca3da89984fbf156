package test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

// small mounts a disk of so many megabytes.
func small(t *testing.T, megabytes int) string {
	t.Helper()
	place := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm,mode=700", megabytes),
		"none", place).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be made here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", place).Run() })
	return place
}

// fill takes all the room of a disk; what it returns gives it back.
func fill(t *testing.T, place string) func() {
	t.Helper()
	f, err := os.Create(filepath.Join(place, "ballast"))
	if err != nil {
		t.Fatal(err)
	}
	block := make([]byte, 64<<10)
	for err == nil {
		_, err = f.Write(block)
	}
	f.Close()
	return func() { _ = os.Remove(f.Name()) }
}

// With no room for spool and text log, what fits into memory is taken and the rest deferred;
// with room again it goes on by itself.
func TestFaultTheDiskOfSpoolAndLogIsFull(t *testing.T) {
	takesLong(t)
	place := small(t, 24)
	s := own(t, "spoolfull", nil, "--spool", place)
	s.run(t, "service", "set", "--log-directory", filepath.Join(place, "log"))
	s.run(t, "draft", "apply")
	se := startSenders(s, 2)
	se.more(t, 50)
	empty := fill(t, place)
	se.more(t, 200) // small ones need no spool
	large := "Subject: large\r\n\r\n" + strings.Repeat(strings.Repeat("x", 76)+"\r\n", 40_000)
	send := func() string {
		c := dial(t, s.inside, "127.0.0.1")
		c.hear()
		for _, line := range []string{"EHLO sender.example", "MAIL FROM:<tickets@skerryline.example>",
			"RCPT TO:<survivor@barelock.example>", "DATA"} {
			c.say(line)
		}
		return c.say(large + ".")
	}
	if reply := send(); !strings.HasPrefix(reply, "452 4.3.1") {
		t.Errorf("a large message without room for it: %s", reply)
	}
	empty()
	reply := send()
	id, ok := strings.CutPrefix(reply, "250 2.0.0 accepted as ")
	if !ok {
		t.Errorf("with room again: %s", reply)
	}
	se.taken["large"] = id
	se.more(t, 50)
	se.end()
	se.account(t, "disk of spool and text log full")
}

// All descriptors are taken by clients that say nothing: mail waits, nothing breaks, and when they
// leave it goes on.
func TestFaultDescriptorsRunOut(t *testing.T) {
	takesLong(t)
	s := own(t, "descriptors", nil)
	se := startSenders(s, 2)
	se.more(t, 50)
	pid := s.serve.Process.Pid
	open, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	if err != nil {
		t.Fatal(err)
	}
	limit := func(n int) {
		t.Helper()
		if out, err := exec.Command("prlimit", "--pid", strconv.Itoa(pid),
			fmt.Sprintf("--nofile=%d:4096", n)).CombinedOutput(); err != nil {
			t.Skipf("descriptors cannot be limited here: %s", out)
		}
	}
	limit(len(open) + 10)
	var idle []net.Conn
	for range 60 {
		if c, err := net.DialTimeout("tcp", s.inside, time.Second); err == nil {
			idle = append(idle, c)
		}
	}
	before := processorTime(t, pid)
	time.Sleep(5 * time.Second)
	if used := processorTime(t, pid) - before; used > 3*time.Second && !raced {
		t.Errorf("without descriptors it turned in circles: %s of 5 s", used)
	}
	for _, c := range idle {
		c.Close()
	}
	se.more(t, 20) // with as few
	limit(4096)
	se.more(t, 100)
	se.end()
	se.account(t, "descriptors of the service exhausted")
}

// processorTime is what a process used of the processors.
func processorTime(t *testing.T, pid int) time.Duration {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// A control group gives the service hardly more than it has, and large messages come: if it is ended
// for that, nothing is lost.
func TestFaultMemoryRunsOut(t *testing.T) {
	takesLong(t)
	if raced {
		t.Skip("with the race detector it takes several times as much")
	}
	group := filepath.Join("/sys/fs/cgroup/memory", fmt.Sprintf("gull-test-%d", os.Getpid()))
	file := "memory.limit_in_bytes"
	if _, err := os.Stat("/sys/fs/cgroup/memory"); err != nil {
		group, file = filepath.Join("/sys/fs/cgroup", filepath.Base(group)), "memory.max"
	}
	if err := os.Mkdir(group, 0o755); err != nil {
		t.Skipf("no control group can be made here: %v", err)
	}
	t.Cleanup(func() { _ = os.Remove(group) })
	s := own(t, "memory", nil)
	confine := func(octets int64) {
		t.Helper()
		for name, value := range map[string]int64{file: octets, "cgroup.procs": int64(s.serve.Process.Pid)} {
			if err := os.WriteFile(filepath.Join(group, name), []byte(strconv.FormatInt(value, 10)), 0o644); err != nil {
				t.Skipf("a control group cannot be used here: %v", err)
			}
		}
	}
	se := startSenders(s, 4)
	se.more(t, 50)
	ended := 0
	for range 3 {
		confine(3 << 20) // what it has by now is counted elsewhere
		large := make(chan bool)
		for range 12 { // while they come in, each is in memory up to 256 KiB
			go func() {
				defer func() { large <- true }()
				c, err := net.Dial("tcp", s.inside)
				if err != nil {
					return
				}
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(8 * time.Second))
				fmt.Fprint(c, "EHLO x\r\nMAIL FROM:<tickets@skerryline.example>\r\nRCPT TO:<a@sunkenpier.example>\r\nDATA\r\n")
				for range 30_000 {
					if _, err := fmt.Fprintf(c, "%s\r\n", strings.Repeat("y", 300)); err != nil {
						return
					}
				}
			}()
		}
		for range 12 {
			<-large
		}
		gone := make(chan struct{})
		go func() { _ = s.serve.Wait(); close(gone) }()
		select {
		case <-gone: // as its supervisor would
			ended++
		case <-time.After(2 * time.Second):
			s.kill() // it lived through that
			<-gone
		}
		if err := s.start(); err != nil {
			t.Fatal(err)
		}
		se.more(t, 30)
	}
	se.end()
	se.account(t, fmt.Sprintf("too little memory, 3 times (ended for it %d times)", ended))
}

// The database's clock is set a day forward, back, and back further, while mail goes through.
func TestFaultTheDatabasesClockIsSet(t *testing.T) {
	takesLong(t)
	_, do, port, _ := cluster(t, "test-clock")
	offset := filepath.Join(t.TempDir(), "offset")
	for dir := filepath.Dir(offset); dir != "/"; dir = filepath.Dir(dir) {
		_ = os.Chmod(dir, 0o755)
	}
	set := func(text string) {
		t.Helper()
		if err := os.WriteFile(offset, []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	set("+0")
	do("clock", "test-clock", port, offset)
	s := own(t, "clock", nil)
	se := startSenders(s, 3)
	se.more(t, 50)
	for _, to := range []string{"+26h", "+0", "-26h", "+40m", "+0"} {
		set(to)
		se.more(t, 150)
		if to == "+26h" {
			if c, _ := s.doctor(t); !strings.Contains(c["clock against the database's"].Found, "behind") {
				t.Errorf("the doctor does not see it: %+v", c["clock against the database's"])
			}
		}
	}
	se.end()
	se.account(t, "the database's clock set 26 h forward, back, 26 h back, 40 min forward")
}

// DNS takes seconds for each answer, for as long as GULL_FAULT_SLOW says: mail goes on, later.
func TestFaultDNSIsSlowForLong(t *testing.T) {
	takesLong(t)
	long, err := time.ParseDuration(os.Getenv("GULL_FAULT_SLOW"))
	if err != nil {
		long = 6 * time.Second
	}
	t.Parallel()
	s := own(t, "dnsslow", nil)
	s.dns(t, "slow")
	var ids []string
	for end := time.Now().Add(long); time.Now().Before(end); {
		for _, host := range []string{"saltmarsh", "barelock", "dunlin"} {
			ids = append(ids, s.out(t, fmt.Sprintf("n%d@%s.example", time.Now().UnixNano(), host)))
		}
		if err := eventually(time.Minute, func() error {
			tr, err := s.client().Trace(context.Background(), ids[len(ids)-1], nil)
			if err == nil && !tr.Message.Deliveries[0].State.Final() {
				err = fmt.Errorf("it is %s", tr.Message.Deliveries[0].State)
			}
			return err
		}); err != nil {
			t.Fatalf("while DNS is slow: %v", err)
		}
		time.Sleep(min(5*time.Second, time.Until(end)/2))
	}
	s.dns(t, "well")
	for _, id := range ids {
		s.until(t, id, mail.Delivered)
	}
	s.row(t, fmt.Sprintf("DNS slow (1.5 s an answer) for %s", long), ids, 0)
}
