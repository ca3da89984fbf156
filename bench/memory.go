package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
)

// Sizes of the memory bench.
const (
	largeSize        = 20_000_000
	largeConnections = 20
	largeMessages    = 60
)

// memory compares the peak memory of a node that takes messages of 4 KB with one
// that takes messages of 20 MB.
func (b *bench) memory() ([]result, error) {
	small, err := b.peak(
		load{connections: connections, messages: messages, content: messageOf(4096)},
	)
	if err != nil {
		return nil, err
	}
	large, err := b.peak(
		load{connections: largeConnections, messages: largeMessages, content: messageOf(largeSize)},
	)
	if err != nil {
		return nil, err
	}
	return []result{
		{
			"peak memory, 20 MB messages, 20 connections",
			"4 KB messages, 50 connections",
			large,
			small,
			"MB",
			large / small,
			[]float64{large / small},
			"adds < 150 MB",
			large-small < 150,
		},
	}, nil
}

// peak runs a node in a process of its own and returns its largest resident
// size in MB.
func (b *bench) peak(l load) (float64, error) {
	st, _, err := b.fresh()
	if err != nil {
		return 0, err
	}
	st.Close()
	c := exec.Command(os.Args[0], "-node", "-database", b.database)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := c.Start(); err != nil {
		return 0, err
	}
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	address, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return 0, err
	}
	l.address, l.from, l.to = strings.TrimSpace(
		address,
	), "tickets@skerryline.example", "x%d@saltmarsh.example"
	if _, err := l.run(); err != nil {
		return 0, err
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.Process.Pid))
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	kb, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	return kb / 1000, err
}

// serveNode is the process of peak: it runs until it is killed.
func (b *bench) serveNode() error {
	st, id, err := b.open()
	if err != nil {
		return err
	}
	nd, err := startNode(st, id, "127.0.0.1:9", false, nil)
	if err != nil {
		return err
	}
	fmt.Println(nd.address)
	select {}
}
