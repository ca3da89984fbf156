package arc

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
)

// signer is a key with the record that publishes it.
type signer struct {
	Key
	pem, record string
}

func newSigner(t *testing.T, domain, selector, algorithm string) signer {
	t.Helper()
	pem, record, err := senderauth.NewKey(algorithm)
	if err != nil {
		t.Fatal(err)
	}
	key, err := senderauth.ReadKey(pem)
	if err != nil {
		t.Fatal(err)
	}
	return signer{Key{domain, selector, key}, pem, record}
}

func (s signer) name() string { return s.Selector + "._domainkey." + s.Domain }

// elsewhere asks the other implementation.
func elsewhere[T any](t *testing.T, given map[string]any) T {
	t.Helper()
	text, err := json.Marshal(given)
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("/usr/bin/python3", "testdata/arc_elsewhere.py")
	c.Stdin = bytes.NewReader(text)
	var stderr bytes.Buffer
	c.Stderr = &stderr
	out, err := c.Output()
	var answer T
	if err != nil || json.Unmarshal(out, &answer) != nil {
		t.Fatalf("the other implementation: %v: %s%s", err, out, &stderr)
	}
	return answer
}

const original = "DKIM-Signature: v=1; a=rsa-sha256; d=saltmarsh.example; b=none\r\n" +
	"From: Ada <ada@saltmarsh.example>\r\nTo: tomas.vik@skerryline.example\r\n" +
	"Subject: tide\r\n tables\r\nMessage-ID: <1@saltmarsh.example>\r\n\r\n" +
	"High  water \t at six.  \r\n\r\nAda\r\n\r\n\r\n"

var covered = []string{"From", "From", "To", "Subject", "Message-ID", "DKIM-Signature"}

func parts(text string) (section, body string) {
	s, _ := message.SplitHeader([]byte(text))
	return string(s), strings.TrimPrefix(text[len(s):], "\r\n")
}

func seal(t *testing.T, text string, k Key, found string, cv senderauth.Result) string {
	t.Helper()
	section, body := parts(text)
	fields, err := Seal([]byte(section), strings.NewReader(body), k, found, cv, covered, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return string(fields) + text
}

func TestChainsAreReadAndContinuedByOthers(t *testing.T) {
	ours := newSigner(t, "skerryline.example", "tide", senderauth.RSA2048)
	small := newSigner(t, "lightkeepers.example", "lamp", senderauth.Ed25519)
	theirs := newSigner(t, "saltmarsh.example", "reed", senderauth.RSA2048)
	records := map[string]string{}
	for _, s := range []signer{ours, small, theirs} {
		records[s.name()] = s.record
	}
	asked := 0
	judge := func(text string) *senderauth.Chain {
		section, body := parts(text)
		return Verify([]byte(section), strings.NewReader(body),
			func(domain, selector string) (string, error) {
				asked++
				if r, ok := records[selector+"._domainkey."+domain]; ok {
					return r, nil
				}
				return "", ErrLater
			})
	}
	const found = "mail.skerryline.example; spf=pass smtp.mailfrom=saltmarsh.example; " +
		"dmarc=pass (p=reject) header.from=saltmarsh.example"
	if c := judge(original); c != nil {
		t.Errorf("without a chain: %+v", c)
	}
	one := seal(t, original, ours.Key, found, senderauth.None)
	if v := elsewhere[[]string](t, map[string]any{"message": one, "dns": records}); v[0] != "pass" {
		t.Errorf("the other verifier of our seal: %q\n%s", v, one)
	}
	added := elsewhere[string](t, map[string]any{
		"message": "Authentication-Results: mx.saltmarsh.example; arc=pass\r\n" + one, "dns": records,
		"key": theirs.pem, "domain": theirs.Domain, "selector": theirs.Selector,
		"host": "mx.saltmarsh.example"})
	two := strings.ReplaceAll(added, "\n", "\r\n") + one
	two = strings.ReplaceAll(two, "\r\r\n", "\r\n")
	three := seal(t, two, small.Key, "mail.lightkeepers.example; arc=pass", senderauth.Pass)
	for name, text := range map[string]string{"one": one, "two": two, "three": three} {
		if c := judge(text); c == nil || c.Result != senderauth.Pass ||
			len(c.Links) != map[string]int{"one": 1, "two": 2, "three": 3}[name] ||
			c.Links[0].Domain != "skerryline.example" || c.Links[0].Found != found {
			t.Errorf("%s: %+v\n%s", name, c, text)
		}
	}
	for why, text := range map[string]string{
		"its body was changed":       strings.Replace(three, "six", "ten", 1),
		"its signature does not fit": strings.Replace(three, "Ada <ada", "Eve <eve", 1),
		"the seal of lightkeepers.example: its signature does not fit": strings.Replace(three,
			"dmarc=pass (p=reject)", "dmarc=pass (p=none)", 1),
		"set 2 is not complete":      strings.Replace(three, "i=2; a=", "i=4; a=", 1),
		"has arc-seal twice":         three[:strings.Index(three, "ARC-Message")] + three,
		"has no number from 1 to 50": strings.Replace(three, "ARC-Seal: i=3", "ARC-Seal: i=0", 1),
		"cv=fail": seal(t, two, small.Key, "mail.lightkeepers.example; arc=fail",
			senderauth.Fail),
	} {
		c := judge(text)
		if c == nil || c.Result != senderauth.Fail || !strings.Contains(c.Why, why) {
			t.Errorf("%s: %+v", why, c)
		}
	}
	delete(records, theirs.name())
	if c := judge(three); c.Result != senderauth.TempError {
		t.Errorf("a key that cannot be looked up: %+v", c)
	}
	if failed := seal(t, seal(t, two, ours.Key, "x; arc=fail", senderauth.Fail), small.Key, "y",
		senderauth.Fail); strings.Count(failed, "ARC-Seal:") != 3 {
		t.Error("a chain that failed was continued")
	}
}
