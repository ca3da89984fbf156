package test

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/smtp"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gullroute/internal/core/mail"
)

const (
	inesAddress  = "ines.harrow@skerryline.example"
	inesPassword = "harbour-at-dawn"
)

// listeners of every kind, with every use of TLS, at ports of their own.
type door struct{ name, kind, tls, signIn, address string }

func doors() []door {
	var list []door
	for _, kind := range []string{"edge", "inside", "lmtp", "submission"} {
		for _, tls := range []string{"off", "starttls", "required", "implicit"} {
			switch {
			case kind == "lmtp" && tls == "implicit":
			case kind == "submission":
				for _, m := range []string{"plain", "login", "scram"} {
					list = append(list, door{kind + " " + tls + " " + m, kind, tls, m, loopback()})
				}
			default:
				list = append(list, door{kind + " " + tls, kind, tls, "", loopback()})
			}
		}
	}
	return list
}

var manyDoors = sync.OnceValues(func() (*stack, []door) {
	list := doors()
	var text strings.Builder
	for _, d := range list {
		fmt.Fprintf(&text, "  - {name: %s, address: \"%s\", kind: %s, tls: %s", d.name, d.address, d.kind,
			d.tls)
		if d.signIn != "" {
			fmt.Fprintf(&text, ", sign_in: [%s], sign_in_without_tls: %v", d.signIn, d.tls == "off")
		}
		text.WriteString("}\n")
	}
	s, err := newStack("doors", func(c string) string {
		c = strings.Replace(c, "listeners:\n", "listeners:\n"+text.String(), 1)
		return strings.Replace(
			c,
			"    listeners: [inside]\n    action: allow\n\nroutes",
			"    listeners: [\"inside off\", \"inside starttls\", \"inside required\", \"inside "+
				"implicit\"]\n    action: allow\n\nroutes",
			1,
		)
	})
	if err != nil {
		panic(err)
	}
	running = append(running, s)
	return s, list
})

func doorsWithPassword(t *testing.T) (*stack, []door) {
	t.Helper()
	s, list := manyDoors()
	givePassword(t, s, inesAddress, inesPassword)
	return s, list
}

func givePassword(t *testing.T, s *stack, address, password string) {
	t.Helper()
	c := s.command("mailbox", "set", address, "--may-submit", "--password-stdin")
	c.Stdin = strings.NewReader(password + "\n")
	if err := c.Run(); err != nil {
		t.Fatalf("password of %s: %v", address, err)
	}
}

type sendResult struct {
	Offers   map[string]string `json:"offers"`
	SignedIn bool              `json:"signed_in"`
	Code     int               `json:"code"`
	Text     string            `json:"text"`
}

// python sends a message with Python's client.
func python(
	t *testing.T,
	address, tls, protocol, mechanism, login, password, from, to string,
	source ...string,
) sendResult {
	t.Helper()
	host, port, _ := net.SplitHostPort(address)
	args := append(
		[]string{"clients/send.py", host, port, tls, protocol, mechanism, login, password, from, to},
		source...)
	out, err := exec.Command("python3", args...).Output()
	var r sendResult
	if err == nil {
		err = json.Unmarshal(out, &r)
	}
	if err != nil {
		t.Fatalf("python: %v %s", err, out)
	}
	return r
}

// wire is how a client uses a listener's TLS.
var wire = map[string]string{"off": "plain", "starttls": "starttls", "required": "starttls", "implicit": "tls"}

func TestEveryListenerIsSpokenToByStrangersPrograms(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s, list := doorsWithPassword(t)
	for _, d := range list {
		t.Run(d.name, func(t *testing.T) {
			protocol, mechanism, to := "smtp", "none", inesAddress
			switch d.kind {
			case "lmtp":
				protocol = "lmtp"
			case "submission":
				mechanism, to = d.signIn, "out."+strings.ReplaceAll(d.name, " ", ".")+"@barelock.example"
			case "inside":
				to = "out." + strings.ReplaceAll(d.name, " ", ".") + "@barelock.example"
			}
			r := python(t, d.address, wire[d.tls], protocol, mechanism, inesAddress, inesPassword,
				inesAddress, to)
			if r.Code != 250 || r.SignedIn != (d.signIn != "") {
				t.Fatalf("%+v", r)
			}
			if _, offered := r.Offers["auth"]; offered != (d.signIn != "") {
				t.Errorf("AUTH offered: %v, %v", offered, r.Offers)
			}
			if _, still := r.Offers["starttls"]; still && d.tls != "off" {
				t.Error("STARTTLS is offered under TLS")
			}
			s.arrives(t, to)
			if d.kind == "submission" &&
				d.tls != "off" { // without TLS where it is demanded, without sign-in, with a wrong password
				s.refusesWithout(t, d)
			}
			if d.tls == "required" {
				if r := python(t, d.address, "plain", protocol, "none", "", "", inesAddress,
					to); r.Code != 530 {
					t.Errorf("mail in the clear: %+v", r)
				}
			}
		})
	}
}

// arrives waits until a message to a recipient is delivered.
func (s *stack) arrives(t *testing.T, to string) mail.Message {
	t.Helper()
	var m mail.Message
	if err := eventually(20*time.Second, func() error {
		var ok bool
		if m, ok = s.find(t, to); !ok || m.Deliveries[0].State != mail.Delivered {
			return fmt.Errorf("%s has not arrived: %+v", to, m.Deliveries)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	return m
}

func (s *stack) refusesWithout(t *testing.T, d door) {
	t.Helper()
	to := "never@barelock.example"
	if r := python(t, d.address, wire[d.tls], "smtp", "none", "", "", inesAddress, to); r.Code != 530 {
		t.Errorf("without sign-in: %+v", r)
	}
	if r := python(t, d.address, wire[d.tls], "smtp", d.signIn, "odile.marr@skerryline.example",
		"wrong-"+inesPassword, inesAddress, to); r.Code != 535 &&
		r.Code != 454 {
		t.Errorf("with a wrong password: %+v", r)
	}
	if d.tls == "starttls" {
		if r := python(t, d.address, "plain", "smtp", "none", "", "", inesAddress, to); r.Offers["auth"] != "" {
			t.Errorf("AUTH is offered in the clear: %v", r.Offers)
		}
	}
}

func TestSignInBindsToTheConnectionAndTheSenderToTheAccount(t *testing.T) {
	takesLong(t)
	s, list := doorsWithPassword(t)
	by := map[string]door{}
	for _, d := range list {
		by[d.name] = d
	}
	d := by["submission required scram"]
	if r := python(t, d.address, "starttls", "smtp", "scram-plus", inesAddress, inesPassword,
		inesAddress, "bound@barelock.example"); r.Code != 250 ||
		!strings.Contains(r.Offers["auth"], "SCRAM-SHA-256-PLUS") {
		t.Errorf("bound to the certificate: %+v", r)
	}
	if r := python(
		t,
		d.address,
		"starttls",
		"smtp",
		"scram-unique",
		inesAddress,
		inesPassword,
		inesAddress,
		"bound@barelock.example",
	); r.Code != 250 {
		t.Errorf("bound to a connection of TLS 1.2: %+v", r)
	}
	if m := s.arrives(t,
		"bound@barelock.example"); m.Account != inesAddress || m.Protocol != "ESMTPSA" ||
		m.Deliveries[0].Rule != "people" {
		t.Errorf("%+v", m)
	}
	if r := python(t, d.address, "starttls", "smtp", "scram", inesAddress, inesPassword,
		"keeper@skerryline.example", "x@barelock.example"); r.Code != 550 ||
		!strings.Contains(r.Text, "does not belong to "+inesAddress) {
		t.Errorf("as somebody else: %+v", r)
	}
	// an address of the mailbox's own, a generated one, one with an addition
	for _, own := range []string{"harbour@skerryline.example", "iharrow@skerryline.example",
		"ines.harrow+ferry@skerryline.example"} {
		if r := python(
			t,
			d.address,
			"starttls",
			"smtp",
			"scram",
			inesAddress,
			inesPassword,
			own,
			"own@barelock.example",
		); r.Code != 250 {
			t.Errorf("as %s: %+v", own, r)
		}
	}
	if r := python(
		t,
		by["submission implicit plain"].address,
		"tls",
		"smtp",
		"plain",
		"deck@skerryline.example",
		inesPassword,
		"deck@skerryline.example",
		"x@barelock.example",
	); r.Code != 535 {
		t.Errorf("a mailbox that may not submit: %+v", r)
	}
}

func TestCurlAndOpenSSLSpeakToUs(t *testing.T) {
	s, _ := doorsWithPassword(t)
	message := filepath.Join(t.TempDir(), "message.eml")
	if err := os.WriteFile(
		message,
		[]byte("From: <"+inesAddress+">\r\nSubject: by curl\r\n\r\nhello\r\n"),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, url, auth string }{
		{"STARTTLS", "smtp://" + s.submission, "AUTH=PLAIN"},
		{"STARTTLS and LOGIN", "smtp://" + s.submission, "AUTH=LOGIN"},
		{"TLS from the start", "smtps://" + s.smtps, "AUTH=PLAIN"},
	} {
		out, err := exec.Command("curl", "-sS", "--insecure", "--ssl-reqd", "--url", c.url,
			"--login-options", c.auth, "--user", inesAddress+":"+inesPassword, "--mail-from",
			inesAddress, "--mail-rcpt", "curl@barelock.example", "--upload-file",
			message).CombinedOutput()
		if err != nil {
			t.Errorf("curl by %s: %v %s", c.name, err, out)
		}
	}
	m := s.arrives(t, "curl@barelock.example")
	raw := s.messages(t, "mx.barelock.example", "curl@barelock.example")[0].Content
	if m.Protocol != "ESMTPSA" || !strings.Contains(string(raw), "\r\nDate: ") ||
		!strings.Contains(string(raw), "\r\nMessage-ID: <") {
		t.Errorf("a submitted message lacks what RFC 6409 completes: %s\n%s", m.Protocol, raw)
	}
	for _, args := range [][]string{{"-starttls", "smtp", "-connect", s.edge},
		{"-starttls", "smtp", "-connect", s.submission}, {"-connect", s.smtps}} {
		for _, version := range []struct {
			flag  string
			taken bool
		}{{"-tls1_3", true}, {"-tls1_2", true}, {"-tls1_1", false}} {
			c := exec.Command(
				"openssl",
				append([]string{"s_client", "-brief", "-cipher", "ALL:@SECLEVEL=0", version.flag}, args...)...)
			c.Stdin = strings.NewReader("QUIT\r\n")
			out, _ := c.CombinedOutput()
			if got := strings.Contains(string(out), "CONNECTION ESTABLISHED"); got != version.taken {
				t.Errorf("openssl %v %s: %s", args, version.flag, out)
			}
		}
	}
}

func TestPlaintextBehindSTARTTLSIsNotBelieved(t *testing.T) {
	s := world(t)
	d := dial(t, s.submission, "127.0.0.1")
	d.hear()
	d.raw("EHLO a.example\r\n")
	d.hear()
	d.raw("STARTTLS\r\nMAIL FROM:<" + inesAddress + ">\r\n")
	if got := d.hear(); !strings.HasPrefix(got, "554 5.5.1 you sent more before the reply to STARTTLS") {
		t.Errorf("%q", got)
	}
	d = dial(t, s.submission, "127.0.0.1")
	d.hear()
	for _, step := range [][2]string{{"EHLO a.example\r\n", "250"},
		{"AUTH PLAIN AGEAYg==\r\n", "538 5.7.11"}, {"MAIL FROM:<>\r\n", "530 5.7.0 say STARTTLS first"}} {
		d.raw(step[0])
		if got := d.hear(); !strings.HasPrefix(got, step[1]) {
			t.Errorf("%q: %q", step[0], got)
		}
	}
}

func TestGuessingPasswordsIsSlowedDown(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "guessing", nil)
	givePassword(t, s, inesAddress, inesPassword)
	for range 5 {
		if r := python(t, s.smtps, "tls", "smtp", "plain", inesAddress, "guess", inesAddress,
			"x@barelock.example", "127.20.9.8"); r.Code != 535 ||
			strings.Contains(r.Text, "guess") {
			t.Errorf("%+v", r)
		}
	}
	if r := python(
		t,
		s.smtps,
		"tls",
		"smtp",
		"plain",
		inesAddress,
		inesPassword,
		inesAddress,
		"x@barelock.example",
	); r.Code != 250 {
		t.Errorf("a guesser elsewhere keeps her out: %+v", r)
	}
	if r := python(t, s.smtps, "tls", "smtp", "plain", inesAddress, inesPassword, inesAddress,
		"x@barelock.example", "127.20.9.8"); r.Code != 454 ||
		!strings.Contains(r.Text, "too many failed tries") {
		t.Errorf("after five failures: %+v", r)
	}
	log := readFile(t, filepath.Join(s.dir, "log"))
	if strings.Contains(log, "guess\"") || strings.Contains(log, inesPassword) ||
		!strings.Contains(log, `"cause":"wrong-password"`) {
		t.Error("the log lacks the refusals, or holds passwords")
	}
}

func TestWhoMayNotSubmitAnyMoreIsStoppedInARunningSession(t *testing.T) {
	t.Parallel()
	s := own(t, "withdrawn", nil)
	givePassword(t, s, inesAddress, inesPassword)
	conn, err := tls.Dial("tcp", s.smtps, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	c, err := smtp.NewClient(conn, "127.0.0.1")
	if err == nil {
		err = c.Auth(smtp.PlainAuth("", inesAddress, inesPassword, "127.0.0.1"))
	}
	if err == nil {
		err = c.Mail(inesAddress)
	}
	if err == nil {
		err = c.Reset()
	}
	if err != nil {
		t.Fatal(err)
	}
	s.run(t, "mailbox", "set", inesAddress, "--unset", "may_submit")
	// The session is told to end, or finds it out itself, whichever is first.
	if err := c.Mail(inesAddress); err == nil ||
		!strings.Contains(err.Error(), "sign in again: this account was changed") &&
			!strings.Contains(err.Error(), "may not submit any more") {
		t.Errorf("after it was withdrawn: %v", err)
	}
}

func TestOurOwnClientSignsInAtOurselvesAndElsewhere(t *testing.T) {
	t.Parallel()
	s := own(t, "uphill", nil)
	givePassword(t, s, "keeper@skerryline.example", inesPassword)
	secret := s.command("secret", "set", "ourselves")
	secret.Stdin = strings.NewReader(inesPassword + "\n")
	if err := secret.Run(); err != nil {
		t.Fatal(err)
	}
	// the smart host is our own submission listener, whose certificate nobody vouches for
	s.run(t, "relay", "set", "people", "--unset", "own_sender")
	s.run(t, "route", "add", "round", "--position", "1", "--recipients", "round@barelock.example",
		"--clients", "127.20.1.0/24", "--next-hop", "smarthost", "--hosts", s.submission, "--tls",
		"required", "--sign-in-account", "keeper@skerryline.example", "--sign-in-secret",
		"ourselves")
	s.run(t, "draft", "apply")
	id := s.send(t, s.inside, "127.20.1.5", "tickets@skerryline.example", message("round"),
		"round@barelock.example")
	if d := s.until(t, id, mail.Delivered); d.Route != "round" {
		t.Errorf("%+v", d)
	}
	m := s.arrives(t, "round@barelock.example")
	if m.Account != "keeper@skerryline.example" || m.Protocol != "ESMTPSA" {
		t.Errorf("submitted by %q with %s", m.Account, m.Protocol)
	}
	if stored := readFile(t, s.config); strings.Contains(stored, inesPassword) {
		t.Error("the password is in the configuration")
	}
}
