package deliver

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/netip"
	"net/textproto"
	"strings"
	"sync"
	"time"

	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/sessions"
)

// popCountsFor is how long a look at the provider's mailbox counts here. Providers count ten
// minutes or more.
const popCountsFor = 4 * time.Minute

// popPort is that of POP3 under TLS (RFC 8314).
const popPort = 995

// looks are when mailboxes were looked at, by host and account. Who comes while somebody looks
// waits for that.
type looks struct {
	mu   sync.Mutex
	last map[string]time.Time
}

// lookFirst looks at the mailbox that a route's provider wants looked at before it takes mail
// from our address; nil if none is asked for or it was done just now.
func (c *Client) lookFirst(ctx context.Context, r *config.Route) *Failure {
	p := r.POPBefore
	if p == nil {
		return nil
	}
	c.popLooks.mu.Lock()
	defer c.popLooks.mu.Unlock()
	key := p.Host + " " + p.Account
	if time.Since(c.popLooks.last[key]) < popCountsFor {
		return nil
	}
	failure := c.look(ctx, r, p)
	if failure == nil {
		if c.popLooks.last == nil {
			c.popLooks.last = map[string]time.Time{}
		}
		c.popLooks.last[key] = time.Now()
	}
	return failure
}

// look signs in to the mailbox by POP3 and out again (RFC 1939).
func (c *Client) look(ctx context.Context, r *config.Route, p *config.POPBefore) *Failure {
	host, port := config.SplitHost(p.Host, popPort)
	fail := func(stage diagnose.Stage, cause diagnose.Cause, text string) *Failure {
		return &Failure{
			Cause: cause,
			Reply: mail.LastReply{Stage: stage, Host: host, Enhanced: "4.7.0",
				Text: "POP before sending: " + text},
		}
	}
	password, err := c.Secrets.Secret(ctx, p.Secret)
	if err != nil {
		return fail(diagnose.StageSignIn, diagnose.SignInRefused, err.Error())
	}
	addrs, err := c.Resolver.Addrs(ctx, host)
	if err != nil {
		return dnsFailure(host, err)
	}
	var failure *Failure
	for _, ip := range addrs[:min(len(addrs), maxTries)] {
		t := &popTalk{}
		if c.Record != nil {
			t.record = c.Record.Begin(
				mail.Session{ID: c.IDs.Next(), Direction: mail.Out, Protocol: "POP3",
					Route: r.Name, Address: ip.String(), Port: port, Name: host, Account: p.Account,
					StartedAt: time.Now().UTC()},
				r.Transcript,
			)
		}
		raw, err := c.reachOut(ctx, r, netip.AddrPortFrom(ip, uint16(port)),
			c.cfg.Service.Timeouts.Connect)
		if err != nil {
			failure = connectFailure(target{host: host, port: port}, ip, err)
			t.record.End(failure.Reply.Text, true)
			continue
		}
		_ = raw.SetDeadline(time.Now().Add(3 * c.cfg.Service.Timeouts.Command))
		secured := tls.Client(
			raw,
			&tls.Config{RootCAs: c.Roots, ServerName: host, MinVersion: tls.VersionTLS12},
		)
		if err := secured.HandshakeContext(ctx); err != nil {
			raw.Close()
			failure = fail(diagnose.StageTLS, diagnose.TLSTrouble, "TLS: "+err.Error())
			t.record.End(failure.Reply.Text, true)
			continue
		}
		t.conn = textproto.NewConn(secured)
		err = t.run(p.Account, password)
		_ = t.conn.Close() // what counts was said
		if err == nil {
			t.record.Change(func(s *mail.Session) { s.Outcome = mail.Passed })
			t.record.End("the mailbox was looked at", false)
			return nil
		}
		failure = fail(diagnose.StageSignIn, diagnose.SignInRefused, err.Error())
		t.record.End(failure.Reply.Text, true)
	}
	return failure
}

// popTalk is a look at a mailbox.
type popTalk struct {
	conn   *textproto.Conn
	record *sessions.Recording
}

// ask says a command; shown stands for it on record.
func (t *popTalk) ask(command, shown string) error {
	if command != "" {
		t.record.Say(transcript.Client, []byte(shown))
		if err := t.conn.PrintfLine("%s", command); err != nil {
			return err
		}
	}
	line, err := t.conn.ReadLine()
	if err != nil {
		return err
	}
	t.record.Say(transcript.Server, []byte(line))
	if !strings.HasPrefix(line, "+OK") {
		return fmt.Errorf("the host says %q", line)
	}
	return nil
}

func (t *popTalk) run(account, password string) error {
	if strings.ContainsAny(account+password, "\r\n") {
		return errors.New("the account or its password holds an end of line")
	}
	for _, step := range [][2]string{{"", ""}, {"USER " + account, "USER " + account},
		{"PASS " + password, "PASS (credentials left out)"}, {"STAT", "STAT"}, {"QUIT", "QUIT"}} {
		if err := t.ask(step[0], step[1]); err != nil {
			return err
		}
	}
	return nil
}
