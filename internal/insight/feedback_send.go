package insight

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/aggregate"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/engine/feedback"
	asking "gullroute/internal/engine/senderauth"
)

// sendAtOnce is how many reports are sent in one round: they leave one after the other in the
// small hours, and delay nothing else.
const sendAtOnce = 20

// errLater reports that DNS did not say to whom a report goes; it is asked again, for giveUpAfter
// from the begin of the day.
var errLater = errors.New("DNS does not say to whom it goes")

const giveUpAfter = 3 * 24 * time.Hour

// Send reports to others what we saw on days that are over, on one node of many.
func (f *Feedback) Send(ctx context.Context) error {
	cfg := f.InForce.Config()
	set := cfg.Service.Feedback
	if set.Address == nil || set.Send != "on" {
		return nil
	}
	_, err := f.Store.Alone(ctx, "gull reports to others", func() error {
		due, err := f.Store.Due(ctx, time.Now().UTC().Truncate(24*time.Hour), sendAtOnce)
		if err != nil {
			return err
		}
		for _, x := range due {
			result, err := f.report(ctx, cfg, x)
			if errors.Is(err, errLater) && time.Since(x.Day) < giveUpAfter {
				continue
			}
			if err != nil {
				result = "not sent: " + err.Error()
			}
			if err := f.Store.Reported(ctx, mail.FeedbackSent{Kind: x.Kind, Day: x.Day, Domain: x.Domain,
				Result: result}); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}

// report sends one report; what keeps it from being sent is an error.
func (f *Feedback) report(
	ctx context.Context,
	cfg *config.Compiled,
	x mail.FeedbackSeen,
) (string, error) {
	seen, err := f.Store.Seen(ctx, x.Kind, x.Day, x.Domain)
	if err != nil {
		return "", err
	}
	id := f.Own.Queue.IDs.Next()
	from, until := x.Day.UTC(), x.Day.UTC().Add(24*time.Hour-time.Second)
	var to []reportTo
	var text []byte
	kind, ending := "application/gzip", ".xml.gz"
	if x.Kind == feedback.DMARC {
		to, text, err = f.dmarcReport(ctx, cfg, x, seen, id.String())
	} else {
		kind, ending = "application/tlsrpt+gzip", ".json.gz"
		to, text, err = f.tlsReport(ctx, cfg, x, seen, id.String())
	}
	if err != nil {
		return "", err
	}
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, _ = w.Write(text)
	if err := w.Close(); err != nil {
		return "", err
	}
	submitter := string(cfg.Service.HostName)
	name := fmt.Sprintf("%s!%s!%d!%d%s", submitter, x.Domain, from.Unix(), until.Unix(), ending)
	var told []string
	for _, t := range to {
		if t.most > 0 && int64(packed.Len()) > t.most {
			told = append(told, fmt.Sprintf("%s takes no more than %d octets", t.to, t.most))
			continue
		}
		if err := f.mail(ctx, cfg, x, t.to, name, kind, id.String(), packed.Bytes()); err != nil {
			told = append(told, fmt.Sprintf("%s: %v", t.to, err))
			continue
		}
		told = append(told, "sent to "+t.to.String())
	}
	return strings.Join(told, "; "), nil
}

// reportTo is an address for reports, and how many octets it takes; 0 is any.
type reportTo struct {
	to   address.Address
	most int64
}

// reportsTo reads the mailto addresses of a rua tag: "mailto:a@b.example!10m".
func reportsTo(list []string) (out []reportTo) {
	units := map[byte]int64{'k': 1 << 10, 'm': 1 << 20, 'g': 1 << 30, 't': 1 << 40}
	for _, uri := range list {
		rest, is := strings.CutPrefix(strings.TrimSpace(uri), "mailto:")
		if !is {
			continue
		}
		plain, size, sized := strings.Cut(rest, "!")
		a, err := address.Parse(plain)
		if err != nil {
			continue
		}
		t := reportTo{to: a}
		if sized && size != "" {
			unit := int64(1)
			if u, ok := units[size[len(size)-1]|0x20]; ok {
				unit, size = u, size[:len(size)-1]
			}
			var n int64
			if _, err := fmt.Sscan(size, &n); err == nil {
				t.most = n * unit
			}
		}
		if out = append(out, t); len(out) == 5 {
			break
		}
	}
	return out
}

func (f *Feedback) dmarcReport(
	ctx context.Context,
	cfg *config.Compiled,
	x mail.FeedbackSeen,
	seen []mail.FeedbackSeen,
	id string,
) ([]reportTo, []byte, error) {
	r := f.InForce.FreshResolver()
	found := asking.DMARC(ctx, r, x.Domain)
	if found.Error != nil && found.Temp {
		return nil, nil, errLater
	}
	if found.Record == nil || len(found.Record.Reports) == 0 {
		return nil, nil, errors.New("nobody asks for reports")
	}
	var to []reportTo
	for _, t := range reportsTo(found.Record.Reports) {
		// Who is elsewhere must have agreed to get them (RFC 7489 section 7.1).
		if !senderauth.Aligned(t.to.Domain, x.Domain, false) {
			texts, _ := asking.TXT(ctx, r, x.Domain+"._report._dmarc."+t.to.Domain)
			agreed := false
			for _, text := range texts {
				agreed = agreed || strings.HasPrefix(text, "v=DMARC1")
			}
			if !agreed {
				continue
			}
		}
		to = append(to, t)
	}
	if len(to) == 0 {
		return nil, nil, errors.New(
			"the addresses for reports are not by mail, or elsewhere without consent",
		)
	}
	report := aggregate.DMARC{Reporter: string(cfg.Service.HostName), ID: id, Domain: x.Domain,
		Contact: cfg.Service.Feedback.Address.String(), From: x.Day.UTC(),
		Until: x.Day.UTC().Add(24*time.Hour - time.Second), Policy: found.Record.Policy,
		Percent: found.Record.Percent}
	for _, s := range seen {
		var row aggregate.DMARCRow
		if err := json.Unmarshal(s.What, &row); err != nil {
			return nil, nil, err
		}
		row.Messages = s.N
		report.Rows = append(report.Rows, row)
	}
	text, err := report.Text()
	return to, text, err
}

func (f *Feedback) tlsReport(
	ctx context.Context,
	cfg *config.Compiled,
	x mail.FeedbackSeen,
	seen []mail.FeedbackSeen,
	id string,
) ([]reportTo, []byte, error) {
	texts, err := asking.TXT(ctx, f.InForce.FreshResolver(), "_smtp._tls."+x.Domain)
	if notGone(err) != nil {
		return nil, nil, errLater
	}
	var to []reportTo
	for _, text := range texts {
		tags, err := senderauth.Tags(text)
		if err == nil && tags.Get("v") == "TLSRPTv1" {
			to = reportsTo(strings.Split(tags.Get("rua"), ","))
		}
	}
	if len(to) == 0 {
		return nil, nil, errors.New("nobody asks for reports")
	}
	report := aggregate.TLS{Reporter: string(cfg.Service.HostName), ID: id,
		Contact: cfg.Service.Feedback.Address.String(),
		Range: aggregate.TLSRange{
			From:  x.Day.UTC(),
			Until: x.Day.UTC().Add(24*time.Hour - time.Second),
		}}
	at := map[string]int{}
	for _, s := range seen {
		var c feedback.Connection
		if err := json.Unmarshal(s.What, &c); err != nil {
			return nil, nil, err
		}
		i, known := at[c.Policy]
		if !known {
			i = len(report.Policies)
			at[c.Policy] = i
			var p aggregate.TLSPolicy
			p.Policy.Type, p.Policy.Domain = c.Policy, x.Domain
			report.Policies = append(report.Policies, p)
		}
		p := &report.Policies[i]
		if c.Result == "" {
			p.Summary.Good += s.N
			continue
		}
		p.Summary.Bad += s.N
		p.Failures = append(
			p.Failures,
			aggregate.TLSFailure{Result: c.Result, Host: c.Host, Sessions: s.N,
				More: c.More},
		)
	}
	text, err := json.Marshal(report)
	return to, text, err
}

// mail sends a report from the address at which we read those of others.
func (f *Feedback) mail(
	ctx context.Context,
	cfg *config.Compiled,
	x mail.FeedbackSeen,
	to address.Address,
	name, kind, id string,
	packed []byte,
) error {
	subject := fmt.Sprintf(
		"Report Domain: %s Submitter: %s Report-ID: <%s>",
		x.Domain,
		cfg.Service.HostName,
		id,
	)
	var b strings.Builder
	fmt.Fprintf(&b, "--report\r\nContent-Type: text/plain; charset=us-ascii\r\n\r\n"+
		"How mail in the name of %s, or connections to it, fared at %s on %s.\r\n\r\n--report\r\n"+
		"Content-Type: %s\r\nContent-Disposition: attachment; filename=\"%s\"\r\n"+
		"Content-Transfer-Encoding: base64\r\n\r\n", x.Domain, cfg.Service.HostName,
		x.Day.Format(time.DateOnly), kind, name)
	text := base64.StdEncoding.EncodeToString(packed)
	for len(text) > 76 {
		b.WriteString(text[:76] + "\r\n")
		text = text[76:]
	}
	b.WriteString(text + "\r\n--report--\r\n")
	head := "multipart/mixed; boundary=report"
	more := ""
	if x.Kind == feedback.TLS {
		head = "multipart/report; report-type=tlsrpt; boundary=report"
		more = fmt.Sprintf(
			"TLS-Report-Domain: %s\r\nTLS-Report-Submitter: %s\r\n",
			x.Domain,
			cfg.Service.HostName,
		)
	}
	entry, err := f.Own.composeFrom(
		cfg,
		*cfg.Service.Feedback.Address,
		to,
		subject,
		head,
		[]byte(b.String()),
		time.Now(),
		more,
	)
	if err != nil {
		return err
	}
	return f.Own.Queue.Enter(ctx, entry)
}
