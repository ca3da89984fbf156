package simnet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"net"
	"strings"
	"time"
)

// Reports sends what two hosts of the simulated internet report of a domain: DMARC aggregate
// reports and TLS reports (RFC 8460), of each of the last days.
type Reports struct {
	Edge   string
	To     string
	Domain string
	Days   int
	// Since is how many days ago a stranger began to send in the domain's name; 0 is never.
	Stranger int
	// Newsletter is how many days ago somebody began to send a newsletter without proof.
	Newsletter int
}

// seenFrom is one address as it is reported.
type seenFrom struct {
	ip        string
	count     int
	dkim, spf bool
	domain    string // that SPF was asked for
	kept      string // what was done
}

// Run sends them all, the oldest first.
func (r Reports) Run() (sent int, err error) {
	today := time.Now().UTC().Truncate(24 * time.Hour)
	for ago := r.Days; ago > 0; ago-- {
		day := today.AddDate(0, 0, -ago)
		busy := 40 + int(day.Weekday()*7)
		seen := []seenFrom{{"127.0.0.1", busy, true, true, r.Domain, "none"},
			{"127.30.0.40", 3 + busy%5, true, false, r.Domain, "none"}}
		if ago <= r.Newsletter {
			seen = append(
				seen,
				seenFrom{"127.30.0.41", 120, false, false, "harbourlight.example", "none"},
			)
		}
		if ago <= r.Stranger {
			seen = append(
				seen,
				seenFrom{"127.30.0.64", 25 + ago, false, false, "flotsam.example", "none"},
			)
		}
		for i, who := range []string{"saltmarsh.example", "brightbuoy.example"} {
			xml := dmarcXML(who, r.Domain, day, seen)
			name := fmt.Sprintf("%s!%s!%d!%d.xml", who, r.Domain, day.Unix(), day.Unix()+86399)
			var b bytes.Buffer
			kind := "application/gzip"
			if i == 0 {
				w := gzip.NewWriter(&b)
				_, _ = w.Write([]byte(xml))
				_ = w.Close()
				name += ".gz"
			} else {
				kind, name = "application/zip", strings.TrimSuffix(name, ".xml")+".zip"
				z := zip.NewWriter(&b)
				w, _ := z.Create(strings.TrimSuffix(name, ".zip") + ".xml")
				_, _ = w.Write([]byte(xml))
				_ = z.Close()
			}
			if err := r.send(who, "Report domain: "+r.Domain, kind, name, b.Bytes()); err != nil {
				return sent, err
			}
			sent++
		}
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, _ = w.Write([]byte(tlsJSON("brightbuoy.example", r.Domain, day, ago == 4)))
		_ = w.Close()
		if err := r.send("brightbuoy.example", "TLS report of "+r.Domain, "application/tlsrpt+gzip",
			"tls.json.gz", b.Bytes()); err != nil {
			return sent, err
		}
		sent++
	}
	return sent, nil
}

func dmarcXML(who, domain string, day time.Time, seen []seenFrom) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="UTF-8"?>
<feedback><version>1.0</version><report_metadata><org_name>%s</org_name><email>reports@%s</email>
<report_id>%s.%d</report_id><date_range><begin>%d</begin><end>%d</end></date_range></report_metadata>
<policy_published><domain>%s</domain><adkim>r</adkim><aspf>r</aspf><p>none</p><sp>none</sp><pct>100</pct></policy_published>
`, who, who, domain, day.Unix(), day.Unix(), day.Unix()+86399, domain)
	word := map[bool]string{true: "pass", false: "fail"}
	for _, s := range seen {
		fmt.Fprintf(&b, `<record><row><source_ip>%s</source_ip><count>%d</count><policy_evaluated>`+
			`<disposition>%s</disposition><dkim>%s</dkim><spf>%s</spf></policy_evaluated></row>`+
			`<identifiers><header_from>%s</header_from></identifiers><auth_results>`, s.ip, s.count, s.kept,
			word[s.dkim], word[s.spf], domain)
		if s.dkim {
			fmt.Fprintf(
				&b,
				`<dkim><domain>%s</domain><selector>tide</selector><result>pass</result></dkim>`,
				domain,
			)
		}
		fmt.Fprintf(
			&b,
			"<spf><domain>%s</domain><scope>mfrom</scope><result>%s</result></spf></auth_results></record>\n",
			s.domain,
			word[s.spf],
		)
	}
	b.WriteString("</feedback>\n")
	return b.String()
}

func tlsJSON(who, domain string, day time.Time, trouble bool) string {
	bad, details := 0, ""
	if trouble {
		bad = 3
		details = fmt.Sprintf(
			`,"failure-details":[{"result-type":"certificate-expired","sending-mta-ip":"127.30.0.31",`+
				`"receiving-mx-hostname":"mail.%s","failed-session-count":3}]`,
			domain,
		)
	}
	return fmt.Sprintf(
		`{"organization-name":"%s","date-range":{"start-datetime":"%s","end-datetime":"%s"},
"contact-info":"reports@%s","report-id":"%s_%s","policies":[{"policy":{"policy-type":"no-policy-found",
"policy-domain":"%s"},"summary":{"total-successful-session-count":%d,"total-failure-session-count":%d}%s}]}`,
		who,
		day.Format(time.RFC3339),
		day.Add(86399*time.Second).Format(time.RFC3339),
		who,
		day.Format(time.DateOnly),
		domain,
		domain,
		20+int(day.Weekday()),
		bad,
		details,
	)
}

// send hands one report in at our edge, from the reporter's host.
func (r Reports) send(who, subject, kind, name string, packed []byte) error {
	ip := map[string]string{"saltmarsh.example": "127.30.0.10", "brightbuoy.example": "127.30.0.31"}[who]
	conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(ip)}, Timeout: 5 * time.Second}).Dial(
		"tcp",
		r.Edge,
	)
	if err != nil {
		return err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	text := base64.StdEncoding.EncodeToString(packed)
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"From: Reports <reports@%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\n"+
			"Message-ID: <%d.report@%s>\r\nMIME-Version: 1.0\r\nContent-Type: %s; name=\"%s\"\r\n"+
			"Content-Disposition: attachment; filename=\"%s\"\r\nContent-Transfer-Encoding: base64\r\n\r\n",
		who,
		r.To,
		subject,
		time.Now().Format(time.RFC1123Z),
		time.Now().UnixNano(),
		who,
		kind,
		name,
		name,
	)
	for len(text) > 76 {
		b.WriteString(text[:76] + "\r\n")
		text = text[76:]
	}
	b.WriteString(text + "\r\n.")
	br := bufio.NewReader(conn)
	for _, line := range []string{"", "EHLO mx." + who, "MAIL FROM:<reports@" + who + ">",
		"RCPT TO:<" + r.To + ">", "DATA", b.String(), "QUIT"} {
		if line != "" {
			fmt.Fprintf(conn, "%s\r\n", line)
		}
		if !positive(br) {
			verb, _, _ := strings.Cut(line, "\r\n")
			return fmt.Errorf("our edge does not take a report of %s: refused at %q", who, verb)
		}
	}
	return nil
}
