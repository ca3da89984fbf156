package deliver

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/smtp"
)

// script is a host that answers each line by its verb, and keeps what it heard.
type script struct {
	greeting string
	ehlo     []string          // extensions
	replies  map[string]string // by verb; default 250, DATA 354
	after    string            // to the content
	heard    []string
	mu       sync.Mutex
	content  string
	silent   bool
}

func (s *script) serve(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go s.talk(conn)
		}
	}()
	return l.Addr().String()
}

func (s *script) talk(conn net.Conn) {
	defer conn.Close()
	if s.silent {
		_, _ = io.Copy(io.Discard, conn)
		return
	}
	br := bufio.NewReader(conn)
	greeting := s.greeting
	if greeting == "" {
		greeting = "220 host"
	}
	fmt.Fprintf(conn, "%s\r\n", greeting)
	for {
		line, err := br.ReadString('\n')
		if err != nil {
			return
		}
		line = strings.TrimSpace(line)
		s.heard = append(s.heard, line)
		verb, _, _ := strings.Cut(line, " ")
		if i := strings.Index(line, "<"); verb == "RCPT" && i > 0 &&
			s.replies[line[i:strings.Index(line, ">")+1]] != "" {
			verb = line[i : strings.Index(line, ">")+1]
		}
		reply, ok := s.replies[verb]
		switch {
		case ok && reply == "hang up":
			return
		case ok:
			fmt.Fprintf(conn, "%s\r\n", reply)
		case verb == "EHLO" || verb == "LHLO":
			fmt.Fprintf(conn, "250%shost\r\n", map[bool]string{true: " ", false: "-"}[len(s.ehlo) == 0])
			for i, e := range s.ehlo {
				fmt.Fprintf(conn, "250%s%s\r\n", map[bool]string{true: " ", false: "-"}[i == len(s.ehlo)-1], e)
			}
		case verb == "DATA":
			fmt.Fprint(conn, "354 go\r\n")
			r := smtp.NewContentReader(br)
			content, _ := io.ReadAll(r)
			s.mu.Lock()
			s.content = string(content)
			s.mu.Unlock()
			after := s.after
			if after == "" {
				after = "250 2.0.0 taken"
			}
			fmt.Fprintf(conn, "%s\r\n", after)
		default:
			fmt.Fprint(conn, "250 2.0.0 ok\r\n")
		}
	}
}

// sendTo delivers to a scripted host by a route and returns the results, or the
// failure of the connection.
func sendTo(t *testing.T, s *script, route config.Route, l Message, to ...string) ([]Result, *Failure) {
	t.Helper()
	c, err := config.Parse(
		[]byte(
			"service:\n  host_name: mail.skerryline.example\n  postmaster: a@saltmarsh.example\n  " +
				"timeouts: {connect: 1s, greeting: 300ms, command: 300ms, content: 300ms, final: 300ms}\n",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	if route.NextHop == "" {
		route.NextHop = "smarthost"
	}
	conn, failure := NewClient(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)),
		Options{}).Connect(context.Background(), &route, s.serve(t), 0)
	if failure != nil {
		return nil, failure
	}
	defer conn.Quit()
	if l.Content == nil {
		l.Content = func() (io.Reader, error) { return strings.NewReader("Subject: a\r\n\r\n.dot\r\n"), nil }
	}
	return conn.Send(&l, recipientsOf(t, to...)), nil
}

func recipientsOf(t *testing.T, to ...string) (recipients []Recipient) {
	t.Helper()
	for _, text := range to {
		a, err := address.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		recipients = append(recipients, Recipient{To: a, Notify: smtp.NotifyDelay, ORCPT: "rfc822;o+" + text})
	}
	return recipients
}

// got is the content that the host has.
func (s *script) got() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.content
}

func messageOf(body string) *Message {
	return &Message{
		Content: func() (io.Reader, error) {
			return strings.NewReader("Subject: a\r\n\r\n" + body + "\r\n"),
				nil
		},
	}
}

func from(s string) address.Address { a, _ := address.Parse(s); return a }

var everything = []string{"PIPELINING", "SIZE 1000", "8BITMIME", "SMTPUTF8", "DSN"}

func TestParametersGoOnlyToHostsThatKnowThem(t *testing.T) {
	for _, c := range []struct {
		name  string
		ehlo  []string
		l     Message
		heard []string
	}{
		{"a plain host", nil, Message{Sender: from("a@b.example"), Size: 99, Ret: "FULL", EnvID: "Q 1"},
			[]string{"MAIL FROM:<a@b.example>", "RCPT TO:<x@y.example>"}},
		{"a host that knows all", everything, Message{Sender: from("a@b.example"), Size: 99, Ret: "HDRS",
			EnvID: "Q 1", EightBit: true},
			[]string{"MAIL FROM:<a@b.example> SIZE=99 BODY=8BITMIME RET=HDRS ENVID=Q+201",
				"RCPT TO:<x@y.example> NOTIFY=DELAY ORCPT=rfc822;o+2Bx@y.example"}},
		{"the null sender", everything, Message{}, []string{"MAIL FROM:<> SIZE=0"}},
		{"another script", everything, Message{Sender: from("søren@bølgevik.example"), UTF8: true},
			[]string{"MAIL FROM:<søren@xn--blgevik-q1a.example> SIZE=0 SMTPUTF8"}},
	} {
		s := &script{ehlo: c.ehlo}
		results, failure := sendTo(t, s, config.Route{}, c.l, "x@y.example")
		if failure != nil || results[0].Failure != nil || s.got() != "Subject: a\r\n\r\n.dot\r\n" {
			t.Errorf("%s: %v %+v %q", c.name, failure, results, s.got())
		}
		for _, want := range c.heard {
			if !strings.Contains("\n"+strings.Join(s.heard, "\n")+"\n", "\n"+want+"\n") {
				t.Errorf("%s: %q was not said, but %q", c.name, want, s.heard)
			}
		}
	}
}

func TestEachRecipientHasItsOwnResult(t *testing.T) {
	for _, ehlo := range [][]string{nil, {"PIPELINING"}} {
		s := &script{
			ehlo: ehlo,
			replies: map[string]string{"<b@y.example>": "550 5.1.1 nobody",
				"<c@y.example>": "451 4.7.1 greylisted"},
		}
		results, failure := sendTo(t, s, config.Route{}, Message{}, "a@y.example", "b@y.example", "c@y.example")
		if failure != nil {
			t.Fatal(failure)
		}
		if results[0].Failure != nil || results[0].Reply.Text != "taken" {
			t.Errorf("%v: the first: %+v", ehlo, results[0])
		}
		if f := results[1].Failure; f == nil || !f.Permanent || f.Cause != diagnose.NoSuchUser ||
			f.Reply.Stage != diagnose.StageRecipient {
			t.Errorf("%v: the second: %+v", ehlo, f)
		}
		if f := results[2].Failure; f == nil || f.Permanent || f.Cause != diagnose.Greylisted {
			t.Errorf("%v: the third: %+v", ehlo, f)
		}
	}
}

func TestNothingIsSentWhenNobodyIsTaken(t *testing.T) {
	for _, ehlo := range [][]string{nil, {"PIPELINING"}} {
		s := &script{ehlo: ehlo, replies: map[string]string{"RCPT": "550 5.1.1 nobody"}}
		results, _ := sendTo(t, s, config.Route{}, Message{}, "a@y.example", "b@y.example")
		if results[0].Failure == nil || results[1].Failure == nil || s.got() != "" {
			t.Errorf("%v: %+v, the host has %q", ehlo, results, s.got())
		}
	}
}

func TestStagesOfFailure(t *testing.T) {
	for _, c := range []struct {
		name      string
		s         *script
		l         Message
		stage     diagnose.Stage
		cause     diagnose.Cause
		permanent bool
	}{
		{name: "a silent host", s: &script{silent: true}, stage: diagnose.StageGreeting,
			cause: diagnose.NoAnswer},
		{name: "a busy host", s: &script{greeting: "421 4.3.2 later"}, stage: diagnose.StageGreeting,
			cause: diagnose.HostBusy},
		{name: "a host that refuses all",
			s: &script{greeting: "554 5.7.1 no mail from residential addresses"}, stage: diagnose.StageGreeting, cause: diagnose.ResidentialAddress, permanent: true},
		{name: "no SMTP", s: &script{greeting: "SSH-2.0-x"}, stage: diagnose.StageGreeting,
			cause: diagnose.NotSMTP},
		{name: "endless greeting", s: &script{greeting: "220-" + strings.Repeat("x", 2<<20)},
			stage: diagnose.StageGreeting, cause: diagnose.NotSMTP},
		{name: "hangs up at EHLO", s: &script{replies: map[string]string{"EHLO": "hang up"}},
			stage: diagnose.StageHello, cause: diagnose.Dropped},
		{name: "refuses EHLO and HELO",
			s: &script{replies: map[string]string{"EHLO": "500 what",
				"HELO": "550 no"}}, stage: diagnose.StageHello, cause: diagnose.Unknown, permanent: true},
		{name: "refuses the sender",
			s: &script{replies: map[string]string{"MAIL": "550 5.7.1 on a block list"}}, stage: diagnose.StageSender, cause: diagnose.BlockListed, permanent: true},
		{name: "refuses the sender, pipelined", s: &script{ehlo: everything,
			replies: map[string]string{"MAIL": "450 4.1.0 later", "RCPT": "503 no MAIL",
				"DATA": "503 no RCPT"}}, stage: diagnose.StageSender, cause: diagnose.Unknown},
		{name: "refuses DATA", s: &script{replies: map[string]string{"DATA": "451 4.3.0 later"}},
			stage: diagnose.StageContent, cause: diagnose.Unknown},
		{name: "hangs up at DATA", s: &script{replies: map[string]string{"DATA": "hang up"}},
			stage: diagnose.StageContent, cause: diagnose.Dropped},
		{name: "refuses the content", s: &script{after: "554 5.7.1 this is spam"},
			stage: diagnose.StageContent, cause: diagnose.ContentRefused, permanent: true},
		{name: "too large", s: &script{ehlo: everything}, l: Message{Size: 2000},
			stage: diagnose.StageSender, cause: diagnose.TooLarge, permanent: true},
		{name: "no SMTPUTF8", s: &script{ehlo: []string{"8BITMIME"}}, l: Message{UTF8: true},
			stage: diagnose.StageSender, cause: diagnose.NeedsUTF8, permanent: true},
		{name: "no 8BITMIME", s: &script{}, l: Message{EightBit: true}, stage: diagnose.StageSender,
			cause: diagnose.Needs8Bit, permanent: true},
		{name: "our content is gone", s: &script{},
			l: Message{Content: func() (io.Reader, error) {
				return nil,
					fmt.Errorf("gone")
			}}, stage: diagnose.StageContent, cause: diagnose.OurTrouble},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			results, failure := sendTo(t, c.s, config.Route{TLS: "offered"}, c.l, "x@y.example")
			if failure == nil {
				failure = results[0].Failure
			}
			if failure == nil || failure.Reply.Stage != c.stage || failure.Cause != c.cause ||
				failure.Permanent != c.permanent {
				t.Errorf("%+v", failure)
			}
			if failure != nil && failure.Reply.Text == "" {
				t.Error("the failure has no words")
			}
		})
	}
}

func TestTLSIsDemandedByRoute(t *testing.T) {
	for _, mode := range []string{"required", "verified"} {
		_, failure := sendTo(t, &script{}, config.Route{Name: "r", TLS: mode}, Message{}, "x@y.example")
		if failure == nil || failure.Cause != diagnose.TLSNotOffered || failure.Permanent ||
			failure.Reply.Stage != diagnose.StageTLS {
			t.Errorf("%s: %+v", mode, failure)
		}
	}
	s := &script{ehlo: []string{"STARTTLS"}, replies: map[string]string{"STARTTLS": "454 4.7.0 not now"}}
	if results, failure := sendTo(t, s, config.Route{TLS: "offered"}, Message{},
		"x@y.example"); failure != nil ||
		results[0].Failure != nil {
		t.Errorf("TLS that fails where it is only offered: %v %+v", failure, results)
	}
	_, failure := sendTo(
		t,
		&script{},
		config.Route{Name: "r", TLS: "off", SignIn: &config.SignIn{Account: "a", Secret: "harbourlight"}},
		Message{},
		"x@y.example",
	)
	if failure == nil || failure.Reply.Stage != diagnose.StageSignIn ||
		!strings.Contains(failure.Reply.Text, "not sent without TLS") {
		t.Errorf("a password without TLS: %+v", failure)
	}
}

func TestLMTPAnswersForEachRecipient(t *testing.T) {
	s := &script{after: "250 2.0.0 a has it\r\n452 4.2.2 b is full\r\n550 5.2.1 c is closed"}
	results, failure := sendTo(t, s, config.Route{NextHop: "lmtp"}, Message{}, "a@y.example",
		"b@y.example", "c@y.example")
	if failure != nil || s.heard[0] != "LHLO mail.skerryline.example" {
		t.Fatalf("%v %q", failure, s.heard)
	}
	if results[0].Failure != nil || results[1].Failure.Cause != diagnose.MailboxFull ||
		!results[2].Failure.Permanent {
		t.Errorf("%+v", results)
	}
}

// A host that says how many it takes (RFC 9422) is asked for no more at a time, and one that says
// something that is none is asked as any other.
func TestLimitsThatAHostSaysAreKept(t *testing.T) {
	for _, x := range []struct {
		limits string
		mails  int
		spent  bool
	}{{"RCPTMAX=2", 3, false}, {"rcptmax=3 MAILMAX=2", 2, true}, {"MAILMAX=1", 1, true}, {"RCPTMAX=0 MAILMAX=-1", 1, false},
		{"RCPTMAX=many", 1, false}} {
		s := &script{ehlo: []string{"PIPELINING", "LIMITS " + x.limits}}
		conn := connectTo(t, config.Route{}, s.serve(t))
		results := conn.Send(messageOf("hi"),
			recipientsOf(t, "a@y.example", "b@y.example", "c@y.example", "d@y.example", "e@y.example"))
		for i, r := range results {
			if r.Failure != nil {
				t.Errorf("%s: recipient %d: %+v", x.limits, i, r.Failure)
			}
		}
		spent := conn.Broken()
		conn.Quit()
		if n := strings.Count(strings.Join(s.heard, "\n"), "MAIL FROM"); len(results) != 5 || n != x.mails ||
			spent != x.spent {
			t.Errorf("%s: %d results, %d transactions, spent %v", x.limits, len(results), n, spent)
		}
	}
}

func TestManyRecipientsAreSentInGroups(t *testing.T) {
	s := &script{ehlo: []string{"PIPELINING"}, replies: map[string]string{"<r250@y.example>": "550 5.1.1 no"}}
	var to []string
	for i := range 350 {
		to = append(to, fmt.Sprintf("r%d@y.example", i))
	}
	began := time.Now()
	results, failure := sendTo(t, s, config.Route{}, Message{}, to...)
	if failure != nil || time.Since(began) > 2*time.Second {
		t.Fatalf("%v after %s", failure, time.Since(began))
	}
	for i, r := range results {
		if (r.Failure != nil) != (i == 250) {
			t.Errorf("recipient %d: %+v", i, r)
		}
	}
}

func TestAnAttemptThatIsCalledOffIsAFailureAndNoMore(t *testing.T) {
	c, err := config.Parse(
		[]byte("service:\n  host_name: mail.skerryline.example\n  postmaster: a@saltmarsh.example\n"),
	)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	s := &script{}
	conn, failure := NewClient(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)),
		Options{}).Connect(ctx, &config.Route{NextHop: "smarthost"}, s.serve(t), 0)
	if conn != nil || failure == nil || failure.Permanent || len(s.heard) > 0 {
		t.Errorf("%v %+v, the host heard %q", conn, failure, s.heard)
	}
}
