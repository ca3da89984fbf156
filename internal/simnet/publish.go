package simnet

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// Entry is a record as an editor's form takes it.
type Entry struct {
	Zone  string `json:"zone"` // the host is within it; whole names need none
	Host  string `json:"host"`
	Type  string `json:"type"`
	Value string `json:"value"`
	TTL   int    `json:"ttl"`
	// Replace takes out the other records of that name and type; of TXT those
	// that begin alike.
	Replace bool `json:"replace"`
}

// record is the entry as DNS has it.
func (e Entry) record() (dns.RR, error) {
	name := strings.TrimSuffix(e.Host, ".")
	switch {
	case e.Host == "@" || e.Host == "":
		name = e.Zone
	case e.Zone != "" && !strings.HasSuffix(e.Host, "."):
		name = e.Host + "." + e.Zone
	}
	value := strings.TrimSpace(e.Value)
	if strings.EqualFold(e.Type, "TXT") && !strings.HasPrefix(value, `"`) {
		value = quoted(value)
	}
	if e.TTL == 0 {
		e.TTL = recordTTL
	}
	return parseRecord(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(name), e.TTL, e.Type, value))
}

// quoted writes text as the character strings of a TXT record.
func quoted(text string) string {
	var b strings.Builder
	for first := true; first || text != ""; first = false {
		piece := text[:min(len(text), 255)]
		text = text[len(piece):]
		b.WriteString(` "` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(piece) + `"`)
	}
	return b.String()
}

func parseRecord(line string) (dns.RR, error) {
	rr, err := dns.NewRR(line)
	if err == nil && rr == nil {
		err = fmt.Errorf("there is no record in %q", line)
	}
	if err != nil {
		return nil, fmt.Errorf("DNS record: %w", err)
	}
	if txt, ok := rr.(*dns.TXT); ok {
		for _, s := range txt.Txt {
			if len(s) > 255 {
				return nil, fmt.Errorf(
					"DNS record: a text has %d octets in one piece; 255 are allowed",
					len(s),
				)
			}
		}
	}
	return rr, nil
}

// publish adds a record to DNS.
func (ns *nameServer) publish(rr dns.RR, replace bool) {
	ns.mu.Lock()
	defer ns.mu.Unlock()
	name := strings.ToLower(rr.Header().Name)
	kept := slices.Clone(ns.records[name])
	if replace {
		kept = slices.DeleteFunc(kept, func(old dns.RR) bool {
			return old.Header().Rrtype == rr.Header().Rrtype && alike(old,
				rr)
		})
	}
	ns.records[name] = append(kept, rr)
}

// alike reports whether one text stands in place of another: both begin with the
// same word.
func alike(a, b dns.RR) bool {
	x, ok := a.(*dns.TXT)
	y, both := b.(*dns.TXT)
	if !ok || !both {
		return true
	}
	first := func(t *dns.TXT) string {
		word, _, _ := strings.Cut(strings.Join(t.Txt, ""), " ")
		return strings.Trim(word, ";")
	}
	return first(x) == first(y)
}

// withdraw takes records of a name and type out; of every type for ANY.
func (ns *nameServer) withdraw(name, kind string) {
	ns.mu.Lock()
	defer ns.mu.Unlock()
	name = strings.ToLower(dns.Fqdn(name))
	left := slices.DeleteFunc(slices.Clone(ns.records[name]), func(rr dns.RR) bool {
		return kind == "ANY" || dns.TypeToString[rr.Header().Rrtype] == strings.ToUpper(kind)
	})
	if len(left) == 0 {
		delete(ns.records, name)
		return
	}
	ns.records[name] = left
}

// maxEntry bounds what is published in one call.
const maxEntry = 1 << 20

// serveRecords publishes and withdraws:
//
//	POST   /dns/records             lines of a zone file, or one entry in JSON
//	DELETE /dns/records/NAME/TYPE
func (n *Net) serveRecords(mux *http.ServeMux) {
	mux.HandleFunc("POST /dns/records", func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(io.LimitReader(r.Body, maxEntry))
		var list []dns.RR
		replace := r.URL.Query().Get("replace") == "true"
		if err == nil && strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
			var e Entry
			if err = json.Unmarshal(body, &e); err == nil {
				var rr dns.RR
				rr, err = e.record()
				list, replace = append(list, rr), e.Replace
			}
		} else if err == nil {
			for line := range strings.Lines(string(body)) {
				if line = strings.TrimSpace(line); line == "" || err != nil {
					continue
				}
				var rr dns.RR
				rr, err = parseRecord(line)
				list = append(list, rr)
			}
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		lines := []string{}
		for _, rr := range list {
			n.names.publish(rr, replace)
			lines = append(lines, rr.String())
		}
		writeJSON(w, lines)
	})
	mux.HandleFunc(
		"DELETE /dns/records/{name}/{type}",
		func(w http.ResponseWriter, r *http.Request) {
			n.names.withdraw(r.PathValue("name"), r.PathValue("type"))
			w.WriteHeader(http.StatusNoContent)
		},
	)
}
