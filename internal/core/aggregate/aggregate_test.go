package aggregate

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"
)

func packed(t *testing.T, how string, text []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	switch how {
	case "gzip":
		w := gzip.NewWriter(&b)
		_, _ = w.Write(text)
		w.Close()
	case "zip":
		z := zip.NewWriter(&b)
		w, _ := z.Create("report.xml")
		_, _ = w.Write(text)
		z.Close()
	default:
		b.Write(text)
	}
	return b.Bytes()
}

func asMail(kind string, body []byte) string {
	return "From: reports@saltmarsh.example\r\nSubject: Report\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nA report.\r\n--b\r\n" +
		"Content-Type: " + kind + "\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		base64.StdEncoding.EncodeToString(body) + "\r\n--b--\r\n"
}

func TestReportsAreReadAsTheyAreWritten(t *testing.T) {
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	d := &DMARC{Reporter: "Saltmarsh", Contact: "reports@saltmarsh.example", ID: "20261120.1", From: day,
		Until: day.Add(24*time.Hour - time.Second), Domain: "skerryline.example", Policy: "none", Percent: 100,
		Rows: []DMARCRow{{Source: netip.MustParseAddr("127.30.0.64"), Messages: 17, Disposition: "none",
			HeaderFrom: "skerryline.example", Signed: []Proof{{Domain: "flotsam.example", Selector: "s", Result: "pass"}},
			Sent: []Proof{{Domain: "flotsam.example", Scope: "mfrom", Result: "fail"}}},
			{Source: netip.MustParseAddr("2001:db8::25"), Messages: 400, Disposition: "none", DKIM: true, SPF: true,
				HeaderFrom: "skerryline.example", Signed: []Proof{}, Sent: []Proof{}}}}
	text, err := d.Text()
	if err != nil {
		t.Fatal(err)
	}
	for how, kind := range map[string]string{"gzip": "application/gzip", "zip": "application/zip", "plain": "text/xml",
		"gzip ": "application/octet-stream; name=a.xml.gz"} {
		got, none, err := Open(strings.NewReader(asMail(kind, packed(t, strings.TrimSpace(how), text))))
		if err != nil || none != nil || !reflect.DeepEqual(got, d) {
			t.Errorf("%s: %+v %v", how, got, err)
		}
	}
	tls := `{"organization-name":"Saltmarsh","date-range":{"start-datetime":"2026-11-20T00:00:00Z",
		"end-datetime":"2026-11-20T23:59:59Z"},"contact-info":"a@saltmarsh.example","report-id":"t1","policies":[
		{"policy":{"policy-type":"sts","policy-domain":"Skerryline.example"},"summary":{
		"total-successful-session-count":5,"total-failure-session-count":2},"failure-details":[
		{"result-type":"certificate-expired","failed-session-count":2,"receiving-mx-hostname":"mail.skerryline.example"}]}]}`
	_, got, err := Open(strings.NewReader(asMail("application/tlsrpt+gzip", packed(t, "gzip", []byte(tls)))))
	if err != nil || got.Policies[0].Policy.Domain != "skerryline.example" ||
		got.Policies[0].Failures[0].Sessions != 2 {
		t.Errorf("%+v %v", got, err)
	}
}

func TestHostileReportsAreRefused(t *testing.T) {
	bomb := packed(t, "gzip", bytes.Repeat([]byte(" "), maxUnpacked+10))
	row := "<record><row><source_ip>%s</source_ip><count>%d</count></row></record>"
	frame := `<feedback><report_metadata><org_name>x</org_name><report_id>1</report_id><date_range><begin>%d</begin>` +
		`<end>%d</end></date_range></report_metadata><policy_published><domain>%s</domain></policy_published>%s</feedback>`
	for name, c := range map[string]struct{ mail, says string }{
		"no report":    {"Subject: x\r\n\r\nhello\r\n", "there is no report"},
		"a bomb":       {asMail("application/gzip", bomb), "more than 50 MB"},
		"rubbish":      {asMail("application/zip", []byte("PKrubbish")), "cannot be unpacked"},
		"no XML":       {asMail("text/xml", []byte("<feedback><rec")), "no DMARC report"},
		"no domain":    {asMail("text/xml", fmt.Appendf(nil, frame, 1700000000, 1700086399, "", "")), "lacks"},
		"a year":       {asMail("text/xml", fmt.Appendf(nil, frame, 1700000000, 1731622400, "a.example", "")), "cannot be"},
		"no address":   {asMail("text/xml", fmt.Appendf(nil, frame, 1700000000, 1700086399, "a.example", fmt.Sprintf(row, "x", 1))), "no address"},
		"a count":      {asMail("text/xml", fmt.Appendf(nil, frame, 1700000000, 1700086399, "a.example", fmt.Sprintf(row, "127.0.0.1", -5))), "no address"},
		"an entity":    {asMail("text/xml", []byte(`<!DOCTYPE f [<!ENTITY a "aaaa">]><feedback><x>&a;</x></feedback>`)), "no DMARC report"},
		"no policies":  {asMail("application/tlsrpt+json", []byte(`{"policies":[]}`)), "0 policies"},
		"deep in deep": {strings.Repeat("Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n", 100), ""},
	} {
		d, r, err := Open(strings.NewReader(c.mail))
		if err == nil || d != nil || r != nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, err := Open(strings.NewReader(asMail("text/html", []byte("x")))); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
}
