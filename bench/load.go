package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// load sends messages over so many connections, each message in two round trips
// as PIPELINING allows, and returns messages a second.
type load struct {
	address     string
	connections int
	messages    int
	content     []byte
	from, to    string  // %d in to is the message's number
	pace        float64 // messages a second at most; 0 is as many as can be
	times       *latencies
	began       time.Time
}

// messageOf makes a message of about so many octets that does not compress to
// nothing, like mail with an attachment.
func messageOf(size int) []byte {
	var b bytes.Buffer
	b.WriteString(
		"From: <tickets@skerryline.example>\r\nTo: <x@saltmarsh.example>\r\nSubject: Your ticket " +
			"for the night boat\r\nMIME-Version: 1.0\r\nMessage-ID: " +
			"<bench@skerryline.example>\r\n\r\n",
	)
	const digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"
	state := uint32(2463534242)
	for b.Len() < size-78 {
		for range 76 {
			state ^= state << 13
			state ^= state >> 17
			state ^= state << 5
			b.WriteByte(digits[state&63])
		}
		b.WriteString("\r\n")
	}
	return b.Bytes()
}

func (l load) run() (float64, error) {
	var next atomic.Int64
	var wg sync.WaitGroup
	errs := make(chan error, l.connections)
	l.began = time.Now()
	for range l.connections {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for over := false; !over; {
				var err error
				if over, err = l.connection(&next); err != nil {
					errs <- err
					return
				}
			}
		}()
	}
	wg.Wait()
	took := time.Since(l.began)
	select {
	case err := <-errs:
		return 0, err
	default:
	}
	return float64(l.messages) / took.Seconds(), nil
}

// perConnection is how many messages a connection carries: below what the service allows.
const perConnection = 900

// connection sends messages until all are sent, or as many as one connection carries.
func (l load) connection(next *atomic.Int64) (over bool, err error) {
	conn, err := net.Dial("tcp", l.address)
	if err != nil {
		return false, err
	}
	defer conn.Close()
	br := bufio.NewReader(conn)
	if err := expect(br, "220"); err != nil {
		return false, err
	}
	fmt.Fprint(conn, "EHLO bench.example\r\n")
	if err := expect(br, "250"); err != nil {
		return false, err
	}
	ending := []byte("\r\n.\r\n")
	if bytes.HasSuffix(l.content, []byte("\r\n")) {
		ending = []byte(".\r\n")
	}
	for range perConnection {
		n := next.Add(1)
		if n > int64(l.messages) {
			return true, nil
		}
		if l.pace > 0 {
			time.Sleep(time.Until(l.began.Add(time.Duration(float64(n) / l.pace * float64(time.Second)))))
		}
		to := l.to
		if strings.Contains(to, "%d") {
			to = fmt.Sprintf(to, n)
		}
		fmt.Fprintf(conn, "MAIL FROM:<%s> SIZE=%d\r\nRCPT TO:<%s>\r\nDATA\r\n", l.from,
			len(l.content), to)
		for _, code := range []string{"250", "250", "354"} {
			if err := expect(br, code); err != nil {
				return false, err
			}
		}
		sent := time.Now()
		buffers := net.Buffers{l.content, ending}
		if _, err := buffers.WriteTo(conn); err != nil {
			return false, err
		}
		if err := expect(br, "250"); err != nil {
			return false, err
		}
		l.times.add(time.Since(sent))
	}
	return false, nil
}

func expect(br *bufio.Reader, code string) error {
	for {
		line, err := br.ReadSlice('\n')
		if err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
		if len(line) < 4 || string(line[:3]) != code {
			return fmt.Errorf("expected %s, got %s", code, line)
		}
		if line[3] == ' ' {
			return nil
		}
	}
}
