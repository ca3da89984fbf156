package deliver

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"testing"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
)

func TestTheFirstDigitOfAReplyDecides(t *testing.T) {
	for _, ehlo := range [][]string{nil, {"PIPELINING"}} {
		for _, code := range []string{"200", "252 ok", "290 2.0.0 taken", "299"} {
			s := &script{ehlo: ehlo, replies: map[string]string{"MAIL": code, "RCPT": code}, after: code}
			results, failure := sendTo(t, s, config.Route{}, Message{}, "a@y.example")
			if failure != nil || results[0].Failure != nil || s.got() == "" {
				t.Errorf("%s with %v is success: %v %+v, the host has %q", code, ehlo, failure, results,
					s.got())
			}
		}
	}
	// A host that neither takes nor refuses gets no empty message by the pipelined dot.
	s := &script{ehlo: []string{"PIPELINING"}, replies: map[string]string{"RCPT": "354 go on"}}
	results, _ := sendTo(t, s, config.Route{}, Message{}, "a@y.example")
	if f := results[0].Failure; f == nil || f.Permanent || s.got() != "" {
		t.Errorf("%+v, the host has %q", f, s.got())
	}
}

// narrow takes one recipient a transaction, and says so in the words given.
func narrow(t *testing.T, tooMany string) (at string, taken *[]string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	taken = &[]string{}
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		br, rcpts := bufio.NewReader(conn), 0
		fmt.Fprint(conn, "220 host\r\n")
		for {
			line, err := br.ReadString('\n')
			if err != nil {
				return
			}
			reply := "250 ok"
			switch verb := strings.ToUpper(line[:4]); {
			case verb == "MAIL":
				rcpts = 0
			case verb == "RCPT" && rcpts > 0:
				reply = tooMany
			case verb == "RCPT":
				rcpts++
				*taken = append(*taken, strings.TrimSpace(line[len("RCPT TO:"):]))
			case verb == "DATA":
				fmt.Fprint(conn, "354 go\r\n")
				for line != ".\r\n" && err == nil {
					line, err = br.ReadString('\n')
				}
			}
			fmt.Fprintf(conn, "%s\r\n", reply)
		}
	}()
	return l.Addr().String(), taken
}

func TestWhoIsOneTooManyGoesWithTheNextTransaction(t *testing.T) {
	for _, reply := range []string{"552 too many recipients", "452 4.5.3 one at a time", "552 5.5.3 too many"} {
		at, taken := narrow(t, reply)
		conn := connectTo(t, config.Route{}, at)
		results := conn.Send(messageOf("hi"), recipientsOf(t, "a@y.example", "b@y.example", "c@y.example"))
		for i, r := range results {
			if r.Failure != nil {
				t.Errorf("%s: recipient %d: %+v", reply, i, r.Failure)
			}
		}
		if got := strings.Join(*taken, ""); got != "<a@y.example><b@y.example><c@y.example>" {
			t.Errorf("%s: the host took %s", reply, got)
		}
	}
	s := &script{replies: map[string]string{"<b@y.example>": "552 5.2.2 mailbox full"}}
	results, _ := sendTo(t, s, config.Route{}, Message{}, "a@y.example", "b@y.example")
	if f := results[1].Failure; f == nil || !f.Permanent {
		t.Errorf("552 with a code that says full is full: %+v", f)
	}
}

func TestARefusalGoesOnToTheNextHostWhereTheRouteSaysSo(t *testing.T) {
	refuses := &script{greeting: "554 5.7.1 no mail here"}
	takes := &script{}
	hosts := refuses.serve(t) + "," + takes.serve(t)
	for _, c := range []struct {
		onRefusal string
		taken     bool
	}{{"", true}, {"next", true}, {"end", false}} {
		conn, failure := clientOf(t).Connect(context.Background(),
			&config.Route{NextHop: config.HopSmartHost, OnRefusal: c.onRefusal}, hosts, 0)
		if (failure == nil) != c.taken {
			t.Errorf("a greeting of 554, on_refusal %q: %v", c.onRefusal, failure)
		}
		if conn != nil {
			conn.Quit()
		}
	}
	mx := config.Route{NextHop: config.HopMX}
	for _, c := range []struct {
		onRefusal string
		stage     diagnose.Stage
		ends      bool
	}{{"", diagnose.StageGreeting, false}, {"", diagnose.StageHello, true}, {"end", diagnose.StageGreeting,
		true}, {"next", diagnose.StageHello, false}} {
		r, f := mx, &Failure{Permanent: true}
		r.OnRefusal, f.Reply.Stage, f.Reply.Code = c.onRefusal, c.stage, 554
		if endsAt(&r, f) != c.ends {
			t.Errorf("MX, on_refusal %q, refused at %s: %v", c.onRefusal, c.stage, !c.ends)
		}
	}
	for _, onRefusal := range []string{"", "next"} {
		no := &script{replies: map[string]string{"RCPT": "550 5.7.1 not from you"}}
		conn := connectTo(t, config.Route{OnRefusal: onRefusal}, no.serve(t)+","+takes.serve(t))
		if r := conn.Send(messageOf("hi"), recipientsOf(t, "a@y.example")); r[0].Failure == nil {
			t.Fatal("the first host takes it")
		}
		next, failure := clientOf(t).Next(context.Background(), conn, 0)
		if failure != nil || (next != nil) != (onRefusal == "next") {
			t.Errorf("a refused recipient, on_refusal %q: %v %v", onRefusal, next, failure)
		}
		if next != nil {
			next.Quit()
		}
	}
}

func TestAHostIsNotUsedInTheClearWhenSomebodyMeddlesWithSTARTTLS(t *testing.T) {
	s := &script{ehlo: []string{"STARTTLS"}, replies: map[string]string{"STARTTLS": "220 go\r\n250 injected"}}
	_, failure := sendTo(t, s, config.Route{TLS: "offered"}, Message{}, "a@y.example")
	if failure == nil || failure.Permanent || failure.Reply.Stage != diagnose.StageTLS || s.got() != "" {
		t.Errorf("%+v; the host has %q", failure, s.got())
	}
	s = &script{ehlo: []string{"STARTTLS"}, replies: map[string]string{"STARTTLS": "454 4.7.0 not now"}}
	if _, failure := sendTo(t, s, config.Route{TLS: "offered"}, Message{}, "a@y.example"); failure != nil {
		t.Errorf("TLS that is only offered and fails honestly: %v", failure)
	}
}

func clientOf(t *testing.T) *Client {
	t.Helper()
	c, err := config.Parse(
		[]byte(
			"service:\n  host_name: mail.skerryline.example\n  postmaster: a@saltmarsh.example\n  " +
				"timeouts: {connect: 1s, greeting: 1s, command: 1s, content: 1s, final: 1s}\n",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	return NewClient(config.Compile(c, 1, directory.Of(c.Mailboxes, c.Aliases)), Options{})
}

func connectTo(t *testing.T, r config.Route, hosts string) *Conn {
	t.Helper()
	r.NextHop = config.HopSmartHost
	conn, failure := clientOf(t).Connect(context.Background(), &r, hosts, 0)
	if failure != nil {
		t.Fatal(failure)
	}
	t.Cleanup(conn.Close)
	return conn
}
