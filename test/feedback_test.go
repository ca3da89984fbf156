package test

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/readiness"
)

func (s *stack) feedback(t *testing.T, domain string) (x api.Feedback) {
	t.Helper()
	if err := json.Unmarshal([]byte(s.run(t, "feedback", "show", domain, "-o", "json")), &x); err != nil {
		t.Fatal(err)
	}
	return x
}

// What others report of us is read: who sends in our name, a stranger is a snag until it has a
// name, and readiness says whether the next DMARC policy is safe.
func TestReportsOfOthersAreReadAndSayWhatIsSafe(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "feedback", nil)
	before := aspect(t, s.ready(t, "skerryline.example"), "dmarc")
	if before.Result != readiness.Warning || len(before.Records) != 0 ||
		!strings.Contains(before.Says, "No reports were read yet") {
		t.Errorf("without evidence: %+v", before)
	}
	s.run(t, "simnet", "reports", "--edge", s.edge, "--days", "10", "--stranger", "3")
	s.run(t, "simnet", "reports", "--edge", s.edge, "--days", "10", "--stranger", "3") // again: each counts once
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", message("no report"), "reports@skerryline.example")
	var x api.Feedback
	s.until0(t, func() error {
		if out := s.run(t, "feedback", "status"); !strings.Contains(out, "there is no report in it") {
			return fmt.Errorf("%s", out)
		}
		return nil
	})
	x = s.feedback(t, "skerryline.example")
	if len(x.Days) != 10 || len(x.Senders) != 3 || x.Senders[0].Source.String() != "127.30.0.64" ||
		x.Senders[0].Known ||
		x.Senders[0].Passed != 0 ||
		x.Senders[0].Messages != 2*(25+1+25+2+25+3) ||
		x.Senders[1].Name == "" {
		t.Errorf("%+v", x)
	}
	if !strings.Contains(x.Says, "from one address that nobody knows") || len(x.TLS) != 2 ||
		x.TLS[0].Result != "certificate-expired" || x.TLS[0].Sessions != 3 {
		t.Errorf("%s %+v", x.Says, x.TLS)
	}
	s.until0(t, func() error {
		if out := s.run(t, "snag", "list", "-o", "json"); !strings.Contains(out, "name-used-by-strangers") ||
			!strings.Contains(out, "the most from 127.30.0.64") {
			return fmt.Errorf("no snag tells of the stranger")
		}
		return nil
	})
	// The evidence: what is known is proved, so the stranger can be kept away.
	after := aspect(t, s.ready(t, "skerryline.example"), "dmarc")
	if len(after.Records) != 1 || !strings.Contains(after.Records[0].Value, "p=quarantine") ||
		!strings.Contains(after.Says, "quarantine is safe") || !strings.Contains(after.Says, "100.0 %") {
		t.Errorf("with evidence: %+v", after)
	}
	// A sender of ours that signs nothing: it has a name, and keeps the policy from being safe.
	s.run(t, "simnet", "reports", "--edge", s.edge, "--days", "12", "--newsletter", "12", "--domain",
		"lightkeepers.example")
	s.until0(t, func() error {
		if x := s.feedback(t, "lightkeepers.example"); len(x.Days) != 12 {
			return fmt.Errorf("%d days", len(x.Days))
		}
		return nil
	})
	s.run(t, "feedback", "name", "127.30.0.41/32", "newsletter provider")
	for _, sender := range s.feedback(t, "lightkeepers.example").Senders {
		if sender.Source.String() == "127.30.0.41" && (!sender.Known || sender.Name != "newsletter provider") {
			t.Errorf("%+v", sender)
		}
	}
	s.run(t, "simnet", "publish", `_dmarc.lightkeepers.example. 60 IN TXT "v=DMARC1; p=none"`)
	if a := aspect(t, s.ready(t, "lightkeepers.example"), "dmarc"); len(a.Records) != 0 ||
		!strings.Contains(a.Says, "first let these sign, or put them into SPF: newsletter provider (127.30.0.41)") {
		t.Errorf("a sender that proves nothing: %+v", a)
	}
	if _, says, code := s.gull(t, "feedback", "name", "the newsletter", "x"); code == 0 ||
		!strings.Contains(says, "no address and no network") {
		t.Errorf("%d %s", code, says)
	}
}

// We report to those who ask for it, as they ask, and once.
func TestWeReportToDomainsThatAskForIt(t *testing.T) {
	takesLong(t)
	t.Parallel()
	s := own(t, "wereport", nil)
	for _, line := range []string{
		`_dmarc.saltmarsh.example. 60 IN TXT "v=DMARC1; p=reject; rua=mailto:dmarc@saltmarsh.example!10m,` +
			`mailto:elsewhere@dunlin.example,mailto:agreed@barelock.example"`,
		`saltmarsh.example._report._dmarc.barelock.example. 60 IN TXT "v=DMARC1"`,
		`_smtp._tls.dimbuoy.example. 60 IN TXT "v=TLSRPTv1; rua=mailto:tls@saltmarsh.example"`,
		`_smtp._tls.brightbuoy.example. 60 IN TXT "v=TLSRPTv1; rua=mailto:tls@brightbuoy.example"`,
	} {
		s.run(t, "simnet", "publish", "--replace", line)
	}
	s.run(t, "dkim", "make", "skerryline.example", "--selector", "tide")
	s.run(t, "dkim", "use", "skerryline.example", "tide", "--force")
	// Two strangers in saltmarsh's name, of whom one proves it; two domains with policies.
	theirs := strings.Replace(message("boats"), "ines.harrow@skerryline", "ada@saltmarsh", 1)
	s.send(t, s.edge, "127.30.0.10", "ada@saltmarsh.example", theirs, "harbour@skerryline.example")
	s.send(t, s.edge, "127.40.0.64", "ada@saltmarsh.example", theirs, "harbour@skerryline.example")
	s.out(t, "x@brightbuoy.example")
	s.out(t, "x@dimbuoy.example")
	// A day later.
	s.until0(t, func() error {
		if n := s.number(t, `SELECT count(*) FROM feedback_seen`); n < 4 {
			return fmt.Errorf("%d things were noted", n)
		}
		return nil
	})
	s.number(t, `WITH moved AS (UPDATE feedback_seen SET day = day - 1 RETURNING 1) SELECT count(*) FROM moved`)
	if err := eventually(90*time.Second, func() error {
		out := s.run(t, "feedback", "status")
		for _, want := range []string{"to saltmarsh.example: sent to dmarc@saltmarsh.example; sent to agreed@barelock.example",
			"to dimbuoy.example: sent to tls@saltmarsh.example", "to brightbuoy.example: sent to tls@brightbuoy.example"} {
			if !strings.Contains(out, want) {
				return fmt.Errorf("%s lacks %s", out, want)
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	// What proves our own reports is the signature of the address that they are from.
	if sent := string(s.messages(t, "mx.saltmarsh.example", "dmarc@saltmarsh.example")[0].Content); !strings.Contains(
		sent,
		"DKIM-Signature: ",
	) ||
		!strings.Contains(sent, "d=skerryline.example") {
		t.Errorf("our report is not signed:\n%.600s", sent)
	}
	var report struct {
		Domain  string `xml:"policy_published>domain"`
		Records []struct {
			IP   string `xml:"row>source_ip"`
			N    int    `xml:"row>count"`
			SPF  string `xml:"row>policy_evaluated>spf"`
			Done string `xml:"row>policy_evaluated>disposition"`
		} `xml:"record"`
	}
	text := s.attachment(t, "mx.saltmarsh.example", "dmarc@saltmarsh.example")
	if err := xml.Unmarshal(text, &report); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, r := range report.Records {
		got[r.IP] = fmt.Sprint(r.N, r.SPF, r.Done)
	}
	if report.Domain != "saltmarsh.example" || got["127.30.0.10"] != "1passnone" || got["127.40.0.64"] != "1failnone" {
		t.Errorf("our report: %+v", report)
	}
	var broken struct {
		Policies []struct {
			Policy struct {
				Type string `json:"policy-type"`
			}
			Failures []struct {
				Result string `json:"result-type"`
				More   string `json:"additional-information"`
			} `json:"failure-details"`
		}
	}
	if err := json.Unmarshal(s.attachment(t, "mx.saltmarsh.example", "tls@saltmarsh.example"), &broken); err != nil {
		t.Fatal(err)
	}
	if p := broken.Policies[0]; p.Policy.Type != "sts" || len(p.Failures) != 1 ||
		p.Failures[0].Result != "validation-failure" ||
		!strings.Contains(p.Failures[0].More, "names no host mx.dimbuoy.example") {
		t.Errorf("a broken policy: %+v", broken)
	}
	if n := len(s.messages(t, "mx2.dunlin.example", "elsewhere@dunlin.example")); n != 0 {
		t.Error("who did not agree was sent a report")
	}
	if s.number(t, `SELECT count(*) FROM feedback_seen WHERE day < current_date`) != 0 {
		t.Error("something is left to be reported twice")
	}
}

// attachment is what was attached to the message for an address, unpacked.
func (s *stack) attachment(t *testing.T, host, to string) []byte {
	t.Helper()
	var content string
	s.until0(t, func() error {
		list := s.messages(t, host, to)
		if len(list) != 1 {
			return fmt.Errorf("%s has %d messages", to, len(list))
		}
		content = string(list[0].Content)
		return nil
	})
	_, body, _ := strings.Cut(content, "Content-Transfer-Encoding: base64\r\n\r\n")
	body, _, _ = strings.Cut(body, "\r\n--report")
	packed, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(body, "\r\n", ""))
	if err != nil {
		t.Fatal(err)
	}
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return text
}
