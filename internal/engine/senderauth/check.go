package senderauth

import (
	"context"
	"errors"
	"io"
	"net"
	"net/mail"
	"net/netip"
	"strings"
	"time"

	"blitiri.com.ar/go/spf"
	"github.com/emersion/go-msgauth/dkim"

	"gullroute/internal/core/address"
	"gullroute/internal/core/message"
	"gullroute/internal/core/senderauth"
	"gullroute/internal/engine/resolve"
)

// Bounds on a check: of the time in all, and of the signatures looked at.
const (
	checkTime     = 8 * time.Second
	maxSignatures = 8
)

// Facts are what a message came with.
type Facts struct {
	Client  netip.Addr
	Helo    string
	Sender  address.Address
	Header  []byte // the header section
	Content func() (io.Reader, error)
}

// Checker finds who messages are from, by the resolver in force.
type Checker struct{ Resolver *resolve.Current }

// Check finds who a message is from.
func (c Checker) Check(ctx context.Context, f Facts) senderauth.Assessment {
	return Check(ctx, c.Resolver.Load(), f)
}

// Check finds who a message is from. It is bounded in time; what DNS does not answer
// until then is a passing error.
func Check(ctx context.Context, r Resolver, f Facts) senderauth.Assessment {
	ctx, cancel := context.WithTimeout(ctx, checkTime)
	defer cancel()
	h := message.ParseHeader(f.Header)
	c := senderauth.Assessment{
		SPF:  SPF(ctx, r, f.Client, f.Helo, f.Sender),
		DKIM: []senderauth.Signature{},
	}
	if h.First("DKIM-Signature") != "" {
		c.DKIM = signatures(ctx, r, h, f.Content)
	}
	from := fromDomains(h)
	found := senderauth.Lookup{}
	if len(from) == 1 {
		found = DMARC(ctx, r, from[0])
	}
	c.DMARC = senderauth.Judge(from, c.SPF, c.DKIM, found)
	if h.First("ARC-Seal") != "" {
		c.Chain = chain(ctx, r, f)
	}
	return c
}

// SPF evaluates the sender's domain, or for the null sender the name that the
// client gave itself (RFC 7208 section 2.4).
func SPF(
	ctx context.Context,
	r Resolver,
	client netip.Addr,
	helo string,
	sender address.Address,
) senderauth.SPF {
	out := senderauth.SPF{Domain: sender.Domain, Scope: "mailfrom"}
	who := sender.String()
	if sender.IsNull() {
		name, err := address.ParseDomain(helo)
		if err != nil || address.IsLiteral(name) {
			return senderauth.SPF{
				Result: senderauth.None,
				Scope:  "helo",
				Why:    "the client gave no name that is a domain",
			}
		}
		out.Domain, out.Scope, who = name, "helo", "postmaster@"+name
	}
	if address.IsLiteral(out.Domain) {
		out.Result, out.Why = senderauth.None, "an address literal has no DNS"
		return out
	}
	result, err := spf.CheckHostWithSender(net.IP(client.Unmap().AsSlice()), helo, who,
		spf.WithContext(ctx), spf.WithResolver(asker{r}))
	out.Result = senderauth.Result(result)
	if err != nil {
		out.Why = err.Error()
	}
	return out
}

// signatures verifies those of a message.
func signatures(
	ctx context.Context,
	r Resolver,
	h message.Header,
	content func() (io.Reader, error),
) []senderauth.Signature {
	var said []senderauth.TagList // in order
	for _, f := range h {
		if strings.EqualFold(f.Name, "DKIM-Signature") {
			tags, _ := senderauth.Tags(f.Value)
			said = append(said, tags)
		}
	}
	in, err := content()
	if err != nil {
		return []senderauth.Signature{
			{Result: senderauth.TempError, Why: "the content could not be read"},
		}
	}
	found, err := dkim.VerifyWithOptions(in, &dkim.VerifyOptions{MaxVerifications: maxSignatures,
		LookupTXT: func(name string) ([]string, error) { return asker{r}.LookupTXT(ctx, name) }})
	if err != nil && !errors.Is(err, dkim.ErrTooManySignatures) && len(found) == 0 {
		return []senderauth.Signature{
			{Result: senderauth.PermError, Why: "the signatures cannot be read: " + err.Error()},
		}
	}
	out := []senderauth.Signature{}
	for i, v := range found {
		if v == nil {
			continue
		}
		s := senderauth.Signature{Result: senderauth.Pass, Domain: strings.ToLower(v.Domain)}
		if i < len(said) {
			s.Selector, s.Algorithm = clip(said[i].Get("s")), clip(said[i].Get("a"))
			if s.Domain == "" {
				s.Domain = strings.ToLower(clip(said[i].Get("d")))
			}
		}
		if v.Err != nil {
			s.Result, s.Why = senderauth.Fail, strings.TrimPrefix(v.Err.Error(), "dkim: ")
			if dkim.IsTempFail(v.Err) {
				s.Result = senderauth.TempError
			} else if dkim.IsPermFail(v.Err) {
				s.Result = senderauth.PermError
			}
		}
		out = append(out, s)
	}
	return out
}

func clip(s string) string { return s[:min(len(s), 253)] }

// DMARC finds the DMARC record of a domain: its own, or its organisation's (RFC 7489
// section 6.6.3).
func DMARC(ctx context.Context, r Resolver, domain string) senderauth.Lookup {
	tried := ""
	for _, at := range []string{domain, senderauth.Organization(domain)} {
		if at == tried {
			continue
		}
		tried = at
		name := "_dmarc." + at
		texts, err := asker{r}.LookupTXT(ctx, name)
		var gone *net.DNSError
		if err != nil && !(errors.As(err, &gone) && gone.IsNotFound) {
			return senderauth.Lookup{Error: err, Temp: true}
		}
		var found []senderauth.DMARCRecord
		for _, text := range texts {
			w, ours, err := senderauth.ParseDMARC(name, text)
			if ours && err != nil {
				return senderauth.Lookup{Error: errors.New(name + ": " + err.Error())}
			}
			if ours {
				found = append(found, w)
			}
		}
		if len(found) > 1 {
			return senderauth.Lookup{} // section 6.6.3: as if there were none
		}
		if len(found) == 1 {
			return senderauth.Lookup{Record: &found[0]}
		}
	}
	return senderauth.Lookup{}
}

// fromDomains are the domains of the addresses in From, each once. A message with
// several From fields is read as one with all of them.
func fromDomains(h message.Header) []string {
	var out []string
	seen := map[string]bool{}
	for _, f := range h {
		if !strings.EqualFold(f.Name, "From") {
			continue
		}
		list, err := mail.ParseAddressList(f.Value)
		if err != nil {
			list = []*mail.Address{{Address: loose(f.Value)}}
		}
		for _, a := range list {
			domain, err := address.ParseDomain(a.Address[strings.LastIndexByte(a.Address, '@')+1:])
			if err == nil && strings.Contains(a.Address, "@") && !seen[domain] {
				seen[domain] = true
				out = append(out, domain)
			}
		}
	}
	return out
}

// loose finds an address in a From field that is not well formed: what stands in
// the last angle brackets, or the last word.
func loose(value string) string {
	if i := strings.LastIndexByte(value, '<'); i >= 0 {
		value, _, _ = strings.Cut(value[i+1:], ">")
	}
	words := strings.Fields(value)
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// FromDomain is the domain of the one address in From of a header section; "" if
// there is none, or several.
func FromDomain(section []byte) string {
	if list := fromDomains(message.ParseHeader(section)); len(list) == 1 {
		return list[0]
	}
	return ""
}
