package test

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"gullroute/test/browser"
)

// bySingleSignOn lets a provider say who administers.
func (s *stack) bySingleSignOn(t *testing.T) *provider {
	t.Helper()
	p := newProvider(t)
	set := s.command("secret", "set", "lighthouse")
	set.Stdout, set.Stderr = nil, nil
	set.Stdin = strings.NewReader(providerSecret + "\n")
	if out, err := set.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	_, errOut, code := s.gull(t, "service", "set", "--operators-single-sign-on-issuer", p.URL)
	if code == 0 || !strings.Contains(errOut, "operators.link: ") {
		t.Errorf("a provider without a way back: %d %s", code, errOut)
	}
	s.run(t, "service", "set", "--operators-link", "http://"+s.http, "--operators-single-sign-on-issuer", p.URL,
		"--operators-single-sign-on-name", "the lighthouse", "--operators-single-sign-on-client", "gull-route",
		"--operators-single-sign-on-secret", "lighthouse", "--operators-single-sign-on-mailboxes", "yes",
		"--operators-single-sign-on-roles",
		"administrator: keepers, operator of skerryline.example: wardens")
	s.run(t, "draft", "apply")
	return p
}

// Whoever the provider knows is let in with the role that his groups give, at the console, in a
// program and on his own page; nobody else is, and nobody takes another's name.
func TestSingleSignOnLetsInWhomTheProviderKnows(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "provider", nil)
	p := s.bySingleSignOn(t)
	at := "http://" + s.http
	warden := map[string]any{"sub": "w-1", "preferred_username": "Petra@lightkeepers.example", "name": "Petra Moe",
		"groups": []string{"all", "wardens"}, "email": "ines.harrow@skerryline.example", "email_verified": true}

	ctx, stop, err := browser.Start(t.Context(), 1280, 800, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	page := &page{t, ctx, at}
	p.comes(p.key, warden)
	page.visit("/")
	page.click("", "Sign in by the lighthouse")
	page.shows("Trace", "You see and do what is about skerryline.example")
	page.visit("/account")
	page.shows("single sign-on", "this one")
	if out := s.run(t, "operator", "list"); !regexp.MustCompile(`petra +operator of skerryline.example .* single sign-on`).
		MatchString(out) {
		t.Errorf("who came:\n%s", out)
	}
	page.visit("/mailbox")
	page.click("", "Sign in by the lighthouse")
	page.shows("ines.harrow@skerryline.example", "Automatic reply")

	// client is a browser of somebody else; it ends where it is sent.
	client := func() *http.Client {
		jar, _ := cookiejar.New(nil)
		return &http.Client{Jar: jar}
	}
	ends := func(c *http.Client, path string) string {
		t.Helper()
		r, err := c.Get(at + path)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		_, _ = io.Copy(io.Discard, r.Body)
		return r.Request.URL.String()
	}
	strange, _ := rsa.GenerateKey(rand.Reader, 2048)
	with := func(name string, value any) map[string]any {
		out := map[string]any{}
		for k, v := range warden {
			out[k] = v
		}
		out[name] = value
		return out
	}
	for what, x := range map[string]struct {
		key  *rsa.PrivateKey
		says map[string]any
		word string
	}{
		"a strange signature":     {strange, warden, "failed"},
		"of another sign-in":      {p.key, with("nonce", "of-another"), "failed"},
		"for somebody else":       {p.key, with("aud", "another-service"), "failed"},
		"from elsewhere":          {p.key, with("iss", "http://127.0.0.1:9"), "failed"},
		"that has ended":          {p.key, with("exp", time.Now().Add(-time.Hour).Unix()), "failed"},
		"without a role":          {p.key, with("groups", "all wardens"), "no-role"},
		"with the name of keeper": {p.key, map[string]any{"sub": "k-9", "preferred_username": "keeper", "groups": "keepers"}, "taken"},
		"with no name":            {p.key, map[string]any{"sub": "k-8", "groups": "keepers"}, "name"},
	} {
		p.comes(x.key, x.says)
		c := client()
		if got := ends(c, "/api/v1/single-sign-on"); !strings.HasSuffix(got, "/?single-sign-on="+x.word) {
			t.Errorf("%s: %s", what, got)
		}
		if r, err := c.Get(at + "/api/v1/me"); err != nil || r.StatusCode != http.StatusUnauthorized {
			t.Errorf("%s: somebody is signed in: %v %v", what, r.StatusCode, err)
		}
	}
	p.comes(p.key, with("email_verified", false))
	if got := ends(client(), "/api/v1/single-sign-on?for=mailbox"); !strings.HasSuffix(got, "=no-mailbox") {
		t.Errorf("an address that was not verified: %s", got)
	}
	// The way back of one opens nothing in the browser of another, and not twice.
	p.comes(p.key, warden)
	first := client()
	var back string
	first.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.Path, "/back") {
			back = r.URL.RequestURI()
			return http.ErrUseLastResponse
		}
		return nil
	}
	ends(first, "/api/v1/single-sign-on")
	if got := ends(client(), back); !strings.HasSuffix(got, "=late") {
		t.Errorf("somebody else's way back: %s", got)
	}
	first.CheckRedirect = nil
	if got := ends(first, back); got != at+"/" {
		t.Errorf("the way back: %s", got)
	}
	if got := ends(first, back); !strings.HasSuffix(got, "=late") {
		t.Errorf("the same way back again: %s", got)
	}

	// His role is as the provider says at each sign-in; switched off here, he stays out.
	p.comes(p.key, with("groups", []string{"keepers"}))
	ends(client(), "/api/v1/single-sign-on")
	if out := s.run(t, "operator", "show", "petra"); !strings.Contains(out, "administrator") {
		t.Error(out)
	}
	command := s.command("login", "--single-sign-on", "--url", at, "--context", "lighthouse")
	home := t.TempDir()
	command.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME=", "GULL_TOKEN=", "GULL_URL=")
	command.Stdout, command.Stderr = nil, nil
	says, _ := command.StderrPipe()
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	for lines := bufio.NewScanner(says); lines.Scan(); {
		if link := strings.TrimSpace(lines.Text()); strings.HasPrefix(link, at) {
			ends(client(), strings.TrimPrefix(link, at))
			break
		}
	}
	if err := command.Wait(); err != nil {
		t.Errorf("gull login: %v", err)
	}
	whoami := s.command("whoami")
	whoami.Env, whoami.Stdout = command.Env, nil
	if out, err := whoami.Output(); err != nil || string(out) != fmt.Sprintf("petra (administrator) at %s\n", at) {
		t.Errorf("in a program: %s %v", out, err)
	}
	s.run(t, "operator", "set", "petra", "--off")
	if got := ends(client(), "/api/v1/single-sign-on"); !strings.HasSuffix(got, "=switched-off") {
		t.Errorf("switched off: %s", got)
	}
	if out := s.run(t, "audit", "list", "--action", "sign-in"); !strings.Contains(out, "gives no role") ||
		!strings.Contains(out, "petra") {
		t.Errorf("the record:\n%s", out)
	}
}

// A passkey opens the console without a password, is asked for besides one, and is refused when
// it was taken away. Where a second factor must be, it is set up first.
func TestPasskeysOpenTheConsole(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "passkeys", nil)
	s.run(t, "service", "set", "--operators-second-factor", "administrators")
	s.run(t, "draft", "apply")
	ctx, stop, err := browser.Start(t.Context(), 1280, 900, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	_, port, _ := strings.Cut(s.http, ":")
	at := "http://localhost:" + port
	page := &page{t, ctx, at}
	page.do(webauthn.Enable(), chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := webauthn.AddVirtualAuthenticator(&webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal,
			HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
			AutomaticPresenceSimulation: true,
		}).Do(ctx)
		return err
	}))
	page.visit("/")
	page.fill("", "Name", "keeper")
	page.fill("", "Password", password)
	page.click("", "Sign in")
	page.shows("One thing more, keeper")
	if _, errOut, code := s.gull(t, "operator", "list"); code != 0 {
		t.Errorf("a token has no second factor and needs none: %s", errOut)
	}
	page.fill("form:has([placeholder=telephone])", "Your password", "not the password")
	page.click("", "Make a passkey")
	page.shows("it is wrong")
	page.fill("form:has([placeholder=telephone])", "Your password", password)
	page.fill("", "What you call it", "blue stick")
	page.click("", "Make a passkey")
	page.shows("blue stick", "Keep these apart from the telephone")
	page.click("", "Go on")
	page.shows("Queue", "Trace")

	page.do(chromedp.Evaluate(`fetch("/api/v1/sign-out", {method: "POST", headers: {"X-Gull-Console": "1"}})`, nil))
	page.visit("/")
	page.fill("", "Name", "keeper")
	page.fill("", "Password", password)
	page.click("", "Sign in")
	page.shows("Or use a passkey")
	page.click("", "Use a passkey")
	page.shows("Queue", "Trace")
	page.visit("/account")
	page.shows("blue stick", "this one", "passkey")
	if out := s.run(t, "operator", "list"); !regexp.MustCompile(`keeper +administrator .* a passkey `).
		MatchString(out) {
		t.Errorf("who has one:\n%s", out)
	}
	page.fill("form:has([placeholder=telephone])", "Your password", password)
	page.click("", "Take the passkey blue stick away")
	if err := eventually(10*time.Second, func() error {
		if strings.Contains(page.text(), "blue stick") {
			return missing("that it is gone")
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	page.do(chromedp.Evaluate(`fetch("/api/v1/sign-out", {method: "POST", headers: {"X-Gull-Console": "1"}})`, nil))
	page.visit("/")
	page.click("", "Use a passkey")
	page.shows("it does not open this server")
}
