package deliver

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/probe"
	"gullroute/internal/core/route"
	"gullroute/internal/core/smtp"
	"gullroute/internal/core/tlsterms"
	"gullroute/internal/core/transcript"
)

// Bounds on a probe, so that it neither hangs nor bothers: of one step, and of the
// conversations it may have.
const (
	probeStep   = 10 * time.Second
	MaxProbes   = 8
	expiresSoon = 14 * 24 * time.Hour
)

// ProbeOrder is what is asked of a host beyond a greeting.
type ProbeOrder struct {
	Sender    address.Address
	Recipient *address.Address // nil asks for none
	Message   *Message         // sent to Recipient; nil sends nothing
	// Relay are recipients in the forms of an attempt to relay: a host must refuse
	// them. Relays says of one that was taken whether it would leave.
	Relay  []RelayForm
	Relays func(path string) bool
	Began  time.Time // of the whole probe
	// Name is what we call ourselves in place of our name.
	Name string
	// Dialled hears our end of each connection; nil does not.
	Dialled func(local string)
	// Heard is told of each step when it is over, and of the host; nil is not.
	Heard func(host string, step probe.ProbeStep)
}

// RelayForm is one form of an attempt.
type RelayForm struct{ Name, Path string }

// Target is one host that a next hop leads to.
type Target struct {
	Host       string
	Port       int
	Preference int
}

// Targets lists the hosts of a next hop in the order in which they are tried.
func (c *Client) Targets(
	ctx context.Context,
	r *config.Route,
	nextHop string,
) ([]Target, *Failure) {
	if r.NextHop == config.HopDirect {
		r = plainMX(r)
	}
	list, failure := c.targets(ctx, r, nextHop)
	out := make([]Target, len(list))
	for i, t := range list {
		out[i] = Target{t.host, t.port, t.preference}
	}
	return out, failure
}

// prober goes through one conversation.
type prober struct {
	c     *Client
	conn  *Conn
	r     *config.Route
	terms tlsterms.Terms
	order ProbeOrder
	out   *probe.Conversation
	lines []probe.Spoken
}

// Probe converses with one address of a host, step by step, on a route's terms.
func (c *Client) Probe(
	ctx context.Context,
	r *config.Route,
	nextHop string,
	t Target,
	ip netip.Addr,
	order ProbeOrder,
) probe.Conversation {
	if r.NextHop == config.HopDirect {
		r = plainMX(r)
	}
	out := probe.Conversation{
		Route:      r.Name,
		Host:       t.Host,
		Address:    ip.String(),
		Port:       t.Port,
		Preference: t.Preference,
		Steps:      []probe.ProbeStep{},
	}
	if list := r.Sources(); len(list) > 0 {
		out.Source = list[0].String()
	}
	terms, to := route.TermsOf(c.cfg, r, nextHop), target{t.Host, t.Port, t.Preference}
	p := &prober{c: c, r: r, terms: c.secured(ctx, r, terms, nextHop, to), order: order, out: &out}
	session, recording := c.begin(ctx, r, terms, nextHop, to, ip)
	out.Session = session
	p.step("connect", func() (string, *Failure) {
		var from netip.Addr
		if list := r.Sources(); len(list) > 0 {
			from = list[0]
		}
		raw, err := c.Dial(ctx, from, netip.AddrPortFrom(ip, uint16(t.Port)),
			min(c.cfg.Service.Timeouts.Connect, probeStep))
		if err != nil {
			return "", connectFailure(target{t.Host, t.Port, 0}, ip, err)
		}
		if order.Dialled != nil {
			order.Dialled(raw.LocalAddr().String())
		}
		timeouts := c.cfg.Service.Timeouts
		timeouts.Greeting, timeouts.Command, timeouts.Final = min(timeouts.Greeting,
			probeStep), min(timeouts.Command, probeStep), min(timeouts.Final, 3*probeStep)
		p.conn = newConn(raw, t.Host, ip.String(), timeouts)
		p.conn.session, p.conn.record, p.conn.scram, p.conn.heard = session, recording, c.scram,
			p.hear
		p.conn.ourName = string(c.cfg.Service.HostName)
		if r.EHLOName != "" {
			p.conn.ourName = string(r.EHLOName)
		}
		if order.Name != "" {
			p.conn.ourName = order.Name
		}
		return "connected to " + netip.AddrPortFrom(ip, uint16(t.Port)).String(), nil
	})
	if p.conn == nil {
		recording.End(out.Steps[0].Says, true)
		return out
	}
	p.conn.CloseWith(ctx)
	p.converse(ctx)
	p.conn.Quit()
	if n := len(out.Steps); n > 0 {
		out.Steps[n-1].Lines = append(out.Steps[n-1].Lines, p.lines...)
	}
	return out
}

// hear keeps a line of the conversation for the step under way.
func (p *prober) hear(who transcript.Who, text string) {
	const most = 200 // lines of one step
	if len(p.lines) >= most {
		return
	}
	speaker := map[transcript.Who]string{transcript.Client: "us", transcript.Server: "them",
		transcript.Note: "note"}[who]
	p.lines = append(p.lines, probe.Spoken{
		At:   time.Since(p.order.Began).Seconds(),
		Who:  speaker,
		Text: inert.Text(fmt.Sprintf("%.2000s", text)),
	})
}

// step makes one step and reports whether to go on.
func (p *prober) step(name string, f func() (says string, failure *Failure)) bool {
	began := time.Now()
	p.lines = nil
	says, failure := f()
	s := probe.ProbeStep{
		Name:   name,
		Result: probe.Pass,
		Says:   says,
		Took:   time.Since(began).Seconds(),
		Lines:  p.lines,
	}
	p.lines = nil
	if failure != nil {
		s.Result, s.Cause, s.Code, s.Enhanced = probe.Fail, failure.Cause, failure.Reply.Code,
			failure.Reply.Enhanced
		s.Says = failure.Reply.Text
		if failure.Reply.Code != 0 {
			s.Says = fmt.Sprintf("%s answers %s", p.out.Host, failure.Reply)
		}
	}
	s.Says = inert.Text(s.Says)
	p.out.Steps = append(p.out.Steps, s)
	if p.order.Heard != nil {
		p.order.Heard(p.out.Host, s)
	}
	return failure == nil
}

// warn makes the last step one to look at.
func (p *prober) warn(format string, args ...any) {
	s := &p.out.Steps[len(p.out.Steps)-1]
	s.Result, s.Says = probe.Warning, fmt.Sprintf(format, args...)
}

func (p *prober) converse(ctx context.Context) {
	settings, err := p.c.tlsSettings(p.r, p.terms)
	if err != nil {
		p.step("tls", func() (string, *Failure) {
			return "", p.conn.failure(diagnose.StageTLS, "4.7.0", diagnose.OurTrouble, err.Error())
		})
		return
	}
	if p.r.TLSFromStart &&
		!p.step(
			"tls",
			func() (string, *Failure) { return p.tlsWords(), p.conn.handshake(settings, p.lenient()) },
		) {
		return
	}
	if p.r.TLSFromStart {
		p.certificate(settings)
	}
	if !p.step("greeting", p.greeting) || !p.step("hello", func() (string, *Failure) {
		failure := p.conn.ehlo()
		return p.offers(), failure
	}) {
		return
	}
	if p.conn.tls == nil && !p.startTLS(settings) {
		return
	}
	if p.r.SignIn != nil && !p.step("sign-in", func() (string, *Failure) {
		if p.conn.tls == nil {
			return "", p.conn.failure(diagnose.StageSignIn, "4.7.0", diagnose.TLSNotOffered,
				"a password is not sent without TLS")
		}
		password, err := p.c.Secrets.Secret(ctx, p.r.SignIn.Secret)
		if err != nil {
			return "", p.conn.failure(diagnose.StageSignIn, "4.7.0", diagnose.OurTrouble,
				"secret "+p.r.SignIn.Secret+" cannot be used: "+err.Error())
		}
		return "signed in as " + p.r.SignIn.Account, signInTalk{
			p.conn,
		}.signIn(p.r.SignIn.Account, password)
	}) {
		return
	}
	p.transaction()
}

func (p *prober) greeting() (string, *Failure) {
	p.conn.deadline(p.conn.timeouts.Greeting)
	r, failure := p.conn.reply(diagnose.StageGreeting)
	if failure == nil && r.Code != 220 {
		failure = p.conn.refusal(diagnose.StageGreeting, r)
	}
	return "it greets: " + r.Text(), failure
}

// offers says what a host can do.
func (p *prober) offers() string {
	if len(p.conn.extensions) == 0 {
		return "it offers no extension"
	}
	var words []string
	for name, rest := range p.conn.extensions {
		words = append(words, strings.TrimSpace(name+" "+rest))
	}
	slices.Sort(words)
	return "it offers " + strings.Join(words, ", ")
}

func (p *prober) tlsWords() string { return "TLS is under the conversation" }

// startTLS goes over to TLS as the terms ask, and looks at the certificate. Where
// TLS is only offered, a failing one is something to look at.
func (p *prober) startTLS(settings *tls.Config) bool {
	if p.terms.Unfit != "" {
		return p.step("policy", func() (string, *Failure) {
			return "", p.conn.failure(
				diagnose.StageTLS,
				"4.7.5",
				diagnose.PolicyNotKept,
				p.terms.Unfit,
			)
		})
	}
	if p.terms.TLS == tlsterms.Off {
		return true
	}
	if !p.conn.has("STARTTLS") {
		ok := p.step("tls", func() (string, *Failure) {
			if p.terms.Demanded() {
				return "", p.conn.failure(diagnose.StageTLS, "4.7.5",
					causeOf(p.terms, diagnose.TLSNotOffered),
					"the host offers no TLS, and "+p.terms.Who+" demands it")
			}
			return "", nil
		})
		if ok {
			p.warn("the host offers no TLS: messages go in the clear")
		}
		return ok
	}
	ok := p.step("tls", func() (string, *Failure) {
		failure := p.conn.startTLS(settings, p.lenient())
		return p.conn.tlsNote, failure
	})
	if ok {
		p.certificate(settings)
		return p.out.Steps[len(p.out.Steps)-1].Result != probe.Fail
	}
	return false
}

// lenient are the terms by which a probe goes on whatever the certificate is, to look at it.
func (p *prober) lenient() tlsterms.Terms {
	t := p.terms
	if t.TLS != tlsterms.Off {
		t.TLS, t.By = tlsterms.Offered, tlsterms.ByRoute
	}
	return t
}

// certificate looks at what the host showed.
func (p *prober) certificate(settings *tls.Config) {
	state := p.conn.tls.ConnectionState()
	fault := verifyPeer(state, settings, p.terms)
	var list []probe.ShownCertificate
	for _, cert := range state.PeerCertificates[:min(len(state.PeerCertificates), 5)] {
		list = append(list, certificateOf(cert))
	}
	p.step("certificate", func() (string, *Failure) {
		if fault != nil && (p.terms.TLS == tlsterms.Verified || p.terms.TLS == tlsterms.Pinned) {
			return "", p.conn.failure(
				diagnose.StageTLS,
				"4.7.5",
				causeOf(p.terms, diagnose.CertificateBad),
				"the certificate does not verify"+bySecured(p.terms)+": "+fault.Error(),
			)
		}
		return fmt.Sprintf("the certificate verifies%s for %s, until %s", bySecured(p.terms),
			settings.ServerName, list[0].Until.Format("2006-01-02")), nil
	})
	s := &p.out.Steps[len(p.out.Steps)-1]
	s.Certificates, s.Chain = list, state.PeerCertificates
	switch {
	case s.Result == probe.Fail:
	case fault != nil:
		p.warn(
			"the certificate does not verify: %v; with TLS only offered, messages go all the same",
			fault,
		)
	case time.Until(list[0].Until) < expiresSoon:
		p.warn("the certificate ends soon: %s", list[0].Until.UTC().Format("2006-01-02 15:04 UTC"))
	}
}

func certificateOf(cert *x509.Certificate) probe.ShownCertificate {
	out := probe.ShownCertificate{
		Subject: inert.Text(cert.Subject.String()),
		Issuer:  inert.Text(cert.Issuer.String()),
		From:    cert.NotBefore.UTC(),
		Until:   cert.NotAfter.UTC(),
	}
	out.Names, out.More = probe.ShortNames(cert.DNSNames)
	for i, name := range out.Names {
		out.Names[i] = inert.Text(name)
	}
	switch key := cert.PublicKey.(type) {
	case *rsa.PublicKey:
		out.Key = fmt.Sprintf("RSA %d", key.N.BitLen())
	case *ecdsa.PublicKey:
		out.Key = "ECDSA " + key.Params().Name
	case ed25519.PublicKey:
		out.Key = "Ed25519"
	}
	return out
}

// transaction asks for a sender and a recipient, tries to relay, and sends a message
// if one is ordered.
func (p *prober) transaction() {
	if p.order.Recipient == nil && len(p.order.Relay) == 0 {
		return
	}
	if p.order.Message != nil {
		p.step("content", func() (string, *Failure) {
			result := p.conn.Send(p.order.Message, []Recipient{{To: *p.order.Recipient}})[0]
			return "the message was taken: " + result.Reply.Text, result.Failure
		})
		return
	}
	utf8 := p.order.Sender.NeedsUTF8() || p.order.Recipient != nil && p.order.Recipient.NeedsUTF8()
	line := "MAIL FROM:<" + p.order.Sender.String() + ">"
	if utf8 {
		line += " SMTPUTF8"
	}
	if !p.step("sender", func() (string, *Failure) { return p.ask(diagnose.StageSender, line) }) {
		return
	}
	if to := p.order.Recipient; to != nil {
		p.step("recipient", func() (string, *Failure) {
			return p.ask(diagnose.StageRecipient, "RCPT TO:<"+to.String()+">")
		})
	}
	if len(p.order.Relay) > 0 {
		p.relay()
	}
	transfer{p.conn}.reset()
}

// ask sends a command to which 250 or 251 is the answer expected.
func (p *prober) ask(stage diagnose.Stage, line string) (string, *Failure) {
	r, failure := p.conn.command(stage, line, p.conn.timeouts.Command)
	if failure == nil && r.Code != 250 && r.Code != 251 {
		failure = p.conn.refusal(stage, r)
	}
	return "it answers " + r.String(), failure
}

// relay tries every form; none may come through.
func (p *prober) relay() {
	p.step("relay", func() (string, *Failure) {
		refused := 0
		for _, form := range p.order.Relay {
			r, failure := p.conn.command(diagnose.StageRecipient, "RCPT TO:"+form.Path,
				p.conn.timeouts.Command)
			if failure == nil && p.conn.broken { // 421: we asked too much
				failure = p.conn.refusal(diagnose.StageRecipient, r)
			}
			switch {
			case failure != nil && refused > 0:
				return fmt.Sprintf(
					"%d attempts to relay were refused; then the listener closed, as it does "+
						"after many errors",
					refused,
				), nil
			case failure != nil:
				return "", failure
			case r.Positive() && p.order.Relays(form.Path):
				f := p.conn.refusal(
					diagnose.StageRecipient,
					smtp.NewReply(r.Code, r.Enhanced,
						"the attempt to relay in the form “%s” (%s) was taken", form.Name,
						form.Path),
				)
				f.Cause = diagnose.NoCause
				return "", f
			case !r.Positive():
				refused++
			}
		}
		return fmt.Sprintf("%d attempts to relay in as many forms, none came through",
			len(p.order.Relay)), nil
	})
}
