package simnet

import (
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// acceptUpdates takes changes beside questions.
func acceptUpdates(h dns.Header) dns.MsgAcceptAction {
	if opcode := int(h.Bits>>11) & 0xF; opcode == dns.OpcodeUpdate && h.Bits&(1<<15) == 0 {
		return dns.MsgAccept
	}
	return dns.DefaultMsgAcceptFunc(h)
}

// serveUpdate takes a change of records (RFC 2136), signed by the key that may.
func (ns *nameServer) serveUpdate(w dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg)
	m.SetReply(q)
	signed := q.IsTsig()
	switch {
	case ns.updates == nil || signed == nil:
		m.Rcode = dns.RcodeRefused
	case w.TsigStatus() != nil:
		m.Rcode = dns.RcodeNotAuth
	case len(q.Question) != 1 || !slices.Contains(ns.updates.Zones,
		strings.ToLower(strings.TrimSuffix(q.Question[0].Name, "."))):
		m.Rcode = dns.RcodeNotAuth
	default:
		m.Rcode = ns.update(strings.ToLower(q.Question[0].Name), q)
		m.SetTsig(signed.Hdr.Name, signed.Algorithm, 300, time.Now().Unix())
	}
	_ = w.WriteMsg(m)
}

// update checks what a change begins from (section 3.2), and makes it (section 3.4).
func (ns *nameServer) update(zone string, q *dns.Msg) int {
	ns.mu.Lock()
	defer ns.mu.Unlock()
	exact := map[string][]dns.RR{}
	for _, rr := range q.Answer {
		h := rr.Header()
		name := strings.ToLower(h.Name)
		there := ns.set(name, h.Rrtype)
		switch {
		case !dns.IsSubDomain(zone, name):
			return dns.RcodeNotZone
		case h.Class == dns.ClassANY && len(there) == 0:
			return dns.RcodeNXRrset
		case h.Class == dns.ClassNONE && len(there) > 0:
			return dns.RcodeYXRrset
		case h.Class == dns.ClassINET:
			key := name + " " + dns.TypeToString[h.Rrtype]
			exact[key] = append(exact[key], rr)
		}
	}
	for _, want := range exact {
		there := ns.set(strings.ToLower(want[0].Header().Name), want[0].Header().Rrtype)
		if len(there) != len(want) || slices.ContainsFunc(want,
			func(rr dns.RR) bool { return !slices.ContainsFunc(there, same(rr)) }) {
			return dns.RcodeNXRrset
		}
	}
	for _, rr := range q.Ns {
		if !dns.IsSubDomain(zone, strings.ToLower(rr.Header().Name)) {
			return dns.RcodeNotZone
		}
	}
	for _, rr := range q.Ns {
		ns.change(rr)
	}
	return dns.RcodeSuccess
}

// set are the records of a name and type. mu is held.
func (ns *nameServer) set(name string, kind uint16) []dns.RR {
	return slices.DeleteFunc(slices.Clone(ns.records[name]), func(rr dns.RR) bool {
		return kind != dns.TypeANY && rr.Header().Rrtype != kind
	})
}

// same reports the same data, whatever the class and the time to live.
func same(a dns.RR) func(dns.RR) bool {
	data := func(rr dns.RR) string {
		return strings.ToLower(strings.TrimPrefix(rr.String(), rr.Header().String()))
	}
	return func(b dns.RR) bool { return a.Header().Rrtype == b.Header().Rrtype && data(a) == data(b) }
}

// change adds or removes one record. mu is held.
func (ns *nameServer) change(rr dns.RR) {
	h := rr.Header()
	name := strings.ToLower(h.Name)
	left := slices.Clone(ns.records[name])
	switch h.Class {
	case dns.ClassANY:
		left = slices.DeleteFunc(left, func(o dns.RR) bool {
			return h.Rrtype == dns.TypeANY || o.Header().Rrtype == h.Rrtype
		})
	case dns.ClassNONE:
		left = slices.DeleteFunc(left, same(rr))
	default:
		alias := func(o dns.RR) bool { return o.Header().Rrtype == dns.TypeCNAME }
		switch {
		case h.Rrtype == dns.TypeCNAME && slices.ContainsFunc(left,
			func(o dns.RR) bool { return !alias(o) }):
			return // an alias stands alone
		case h.Rrtype == dns.TypeCNAME:
			left = nil
		case slices.ContainsFunc(left, alias):
			return
		}
		left = append(slices.DeleteFunc(left, same(rr)), rr)
	}
	if len(left) == 0 {
		delete(ns.records, name)
		return
	}
	ns.records[name] = left
}
