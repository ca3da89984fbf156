package readiness

import (
	"fmt"

	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
)

// ZoneRecord is one record of a domain as it should be.
type ZoneRecord struct {
	publish.DNSRecord
	There bool `json:"there" doc:"It stands in DNS already"`
}

// zone is everything that concerns mail as DNS should have it: what is right and there, and what
// the points ask for.
func (f *Facts) zone(points []Aspect) []ZoneRecord {
	out := []ZoneRecord{}
	there := func(name, kind, value string) {
		if value != "" {
			out = append(out, ZoneRecord{publish.New(f.Domain, name, kind, value), true})
		}
	}
	asked := map[string]bool{} // points that ask for records of their own
	for _, p := range points {
		asked[p.Key] = len(p.Records) > 0
	}
	for i := range f.Hosts {
		if h := &f.Hosts[i]; !f.NoMX && h.fault() == "" {
			there(f.Domain, "MX", fmt.Sprintf("%d %s", h.Preference, h.Name))
		}
	}
	for _, a := range f.HostAddrs {
		if contains(f.Ours, a) {
			r := addressRecords(f.HostName, a.Unmap())[0]
			out = append(out, ZoneRecord{r, true})
		}
	}
	if f.Kind != "relay" {
		if len(f.SPF.Records) == 1 && !asked["spf"] {
			there(f.Domain, "TXT", f.SPF.Records[0])
		}
		for i := range f.Keys {
			if k := &f.Keys[i]; k.State != mail.KeyRetired && k.Fault == "" && !k.SeenAt.IsZero() {
				there(k.Record.Name, "TXT", k.Record.Value)
			}
		}
		if w := f.DMARC.Record; w != nil && w.At == "_dmarc."+f.Domain && !asked["dmarc"] {
			there(w.At, "TXT", f.DMARCText)
		}
	}
	if !asked["tls-reports"] {
		there("_smtp._tls."+f.Domain, "TXT", f.TLSReports)
	}
	if f.STS.Record != "" && !asked["mta-sts"] {
		there("_mta-sts."+f.Domain, "TXT", f.STS.Record)
	}
	for i := range f.Services {
		if s := &f.Services[i]; len(s.Found) == 1 && s.Found[0] == s.at() {
			there(s.Name+"."+f.Domain, "SRV", s.record())
		}
	}
	for _, p := range points {
		for _, r := range p.Records {
			out = append(out, ZoneRecord{r, false})
		}
	}
	return out
}
