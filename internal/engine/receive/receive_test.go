package receive

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/fault"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/engine/counters"
	"gullroute/internal/engine/feed"
	"gullroute/internal/store"
)

// keeper takes messages, or refuses them when err is set.
type keeper struct {
	err     error
	entries chan *store.Entry
	stored  chan string
	dropped chan ident.ID
}

func newKeeper() *keeper {
	return &keeper{
		entries: make(chan *store.Entry, 10),
		stored:  make(chan string, 10),
		dropped: make(chan ident.ID, 10),
	}
}

func (k *keeper) Enter(_ context.Context, entries ...*store.Entry) error {
	for _, e := range entries {
		if k.err == nil {
			k.entries <- e
		}
	}
	return k.err
}

func (k *keeper) Refused(*config.Compiled, *mail.Message, []*mail.Delivery) []*store.Entry {
	return nil
}

func (k *keeper) Taking() error { return nil }

func (k *keeper) Expansion(*config.Compiled, *mail.Message, []byte, []smtp.Rcpt) *store.Entry {
	return nil
}

func (k *keeper) StoreContent(_ context.Context, _ ident.ID, r io.Reader) error {
	text, err := io.ReadAll(r)
	k.stored <- string(text)
	return err
}

func (k *keeper) DropContent(_ context.Context, id ident.ID) error {
	k.dropped <- id
	return nil
}

const settings = `
service: {host_name: mail.skerryline.example, postmaster: keeper@skerryline.example}
listeners:
  - {name: inside, address: "127.0.0.1:0", kind: inside, limits: {message_size: 2 MB}}
domains:
  - {name: skerryline.example, kind: local}
mailboxes:
  - {address: keeper@skerryline.example}
aliases:
  - {address: us@skerryline.example, to: [keeper@skerryline.example]}
`

func serve(t *testing.T, k *keeper, text string) *Server {
	t.Helper()
	c, err := config.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	s := New(Options{
		Intake:   k,
		Contents: k,
		IDs:      ident.NewMaker(1, time.Now),
		Hub:      feed.NewHub(),
		Tally:    counters.New(),
		Log:      slog.New(slog.DiscardHandler),
		Node:     "test",
		SpoolDir: t.TempDir(),
	})
	if err := s.Apply(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases))); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop(time.Second) })
	return s
}

type talk struct {
	t  *testing.T
	c  net.Conn
	br *bufio.Reader
}

func dial(t *testing.T, s *Server) *talk {
	t.Helper()
	c, err := net.Dial("tcp", s.Addresses()["inside"])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	return &talk{t, c, bufio.NewReader(c)}
}

// say sends text and checks the head of each reply.
func (c *talk) say(text string, heads ...string) {
	c.t.Helper()
	fmt.Fprint(c.c, text)
	for _, head := range heads {
		for {
			line, err := c.br.ReadString('\n')
			if err != nil || len(line) < 4 {
				c.t.Fatalf("%.40q: %q %v", text, line, err)
			}
			if line[3] == ' ' {
				if !strings.HasPrefix(line, head) {
					c.t.Fatalf("%.40q: %q, want %s", text, line, head)
				}
				break
			}
		}
	}
}

func TestAMessageIsHandedInWithAllThatIsKnownOfIt(t *testing.T) {
	k := newKeeper()
	c := dial(t, serve(t, k, settings))
	c.say("", "220")
	c.say("EHLO machine\r\n", "250")
	c.say(
		"MAIL FROM:<ada@saltmarsh.example> RET=HDRS ENVID=Q1 BODY=8BITMIME\r\nRCPT "+
			"TO:<us@skerryline.example> NOTIFY=FAILURE,DELAY ORCPT=rfc822;o@x.example\r\nRCPT "+
			"TO:<Keeper@skerryline.example>\r\nDATA\r\n",
		"250",
		"250",
		"250",
		"354",
	)
	c.say(
		"Subject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=\r\nFrom: Ada <ada@saltmarsh.example>\r\n\r\n..dot and ø\r\n.\r\n",
		"250 2.0.0 accepted as ",
	)
	e := <-k.entries
	m, d := e.Message, e.Deliveries
	if m.Sender != "ada@saltmarsh.example" || m.Subject != "Grüße" || m.Ret != "HDRS" ||
		m.EnvID != "Q1" ||
		!m.EightBit ||
		m.UTF8 ||
		m.Size != int64(len(e.Content)) ||
		m.Protocol != "ESMTP" ||
		m.Helo != "machine" {
		t.Errorf("%+v", m)
	}
	if len(d) != 1 || d[0].Recipient != "keeper@skerryline.example" ||
		d[0].Original != "us@skerryline.example" ||
		d[0].Notify != 12 ||
		d[0].ORCPT != "rfc822;o@x.example" ||
		d[0].Rule != "our-domain" {
		t.Errorf("%+v", d)
	}
	if !strings.HasSuffix(string(e.Content), "\r\n\r\n.dot and ø\r\n") ||
		strings.Contains(string(e.Content), "\r\n\tfor <") {
		t.Errorf("%q", e.Content)
	}
}

func TestNoFalse250(t *testing.T) {
	for err, want := range map[error]string{errors.New("the disk is gone"): "451 4.3.0",
		fault.ErrStopping: "421 4.3.2"} {
		k := newKeeper()
		k.err = err
		c := dial(t, serve(t, k, settings))
		c.say("", "220")
		c.say("EHLO a\r\n", "250")
		c.say(
			"MAIL FROM:<>\r\nRCPT TO:<keeper@skerryline.example>\r\nDATA\r\n",
			"250",
			"250",
			"354",
		)
		c.say("hi\r\n.\r\n", want)
	}
}

func TestLargeContentIsSpooledAndDroppedOnFailure(t *testing.T) {
	k := newKeeper()
	body := strings.Repeat("0123456789012345678901234567890123456789\r\n", 20_000)
	for _, fails := range []bool{false, true} {
		if fails {
			k.err = errors.New("no")
		}
		c := dial(t, serve(t, k, settings))
		c.say("", "220")
		c.say("EHLO a\r\n", "250")
		c.say(
			"MAIL FROM:<>\r\nRCPT TO:<keeper@skerryline.example>\r\nDATA\r\n",
			"250",
			"250",
			"354",
		)
		c.say(body+".\r\n", map[bool]string{false: "250", true: "451 4.3.0"}[fails])
		stored := <-k.stored
		if !strings.HasSuffix(stored, body) || !strings.HasPrefix(stored, "Received: from a (") {
			t.Errorf("%d octets were stored", len(stored))
		}
		if fails {
			<-k.dropped
		} else if e := <-k.entries; e.Content != nil || e.Message.Size != int64(len(stored)) {
			t.Errorf("%+v", e.Message)
		}
	}
}

func TestListenersFollowTheConfiguration(t *testing.T) {
	s := serve(t, newKeeper(), settings)
	old := dial(t, s)
	old.say("", "220 mail.skerryline.example")
	c, err := config.Parse(
		[]byte(strings.ReplaceAll(settings, "name: inside",
			"name: other, greeting_name: new.skerryline.example")),
	)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Apply(config.Compile(c, 2, directory.Of(c.Mailboxes, c.Aliases))); err != nil {
		t.Fatal(err)
	}
	addresses := s.Addresses()
	if len(addresses) != 1 || addresses["other"] == "" {
		t.Fatalf("%v", addresses)
	}
	old.say("NOOP\r\n", "250") // it goes on under what it began with
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	c, _ = config.Parse([]byte(strings.Replace(settings, "127.0.0.1:0", taken.Addr().String(), 1)))
	if err := s.Apply(config.Compile(c, 3, directory.Of(c.Mailboxes, c.Aliases))); err == nil ||
		!strings.Contains(err.Error(), "listener inside") {
		t.Errorf("an address in use: %v", err)
	}
}

func TestAStopWaitsForTheMessageUnderWay(t *testing.T) {
	k := newKeeper()
	s := serve(t, k, settings)
	busy, idle := dial(t, s), dial(t, s)
	busy.say("", "220")
	idle.say("", "220")
	busy.say("EHLO a\r\n", "250")
	busy.say("MAIL FROM:<>\r\nRCPT TO:<keeper@skerryline.example>\r\nDATA\r\n", "250", "250", "354")
	time.Sleep(20 * time.Millisecond)
	stopped := make(chan struct{})
	go func() { s.Stop(5 * time.Second); close(stopped) }()
	idle.say("", "421 4.3.2")
	busy.say("hi\r\n.\r\n", "250", "421 4.3.2")
	<-stopped
	if len(k.entries) != 1 {
		t.Error("the message under way was lost")
	}
}
