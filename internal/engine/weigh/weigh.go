// Package weigh asks DNS what there is to know of strangers: lists that are kept about
// addresses and domains (RFC 5782), reverse names, and whether a greeting is true. A cold
// answer delays the session that asks; it delays no other.
package weigh

import (
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/repute"
	"gullroute/internal/engine/resolve"
	"gullroute/internal/engine/senderauth"
)

// Bounds of what is asked.
const (
	askTime    = 4 * time.Second // for all that is asked of one client or message
	atOnce     = 200             // questions under way on this node
	maxCached  = 200_000
	notListed  = 5 * time.Minute // how long that is known
	maxListed  = time.Hour
	maxDomains = 20 // of a message that are asked about
)

// Weigher asks. It is safe for several goroutines.
type Weigher struct {
	Resolver *resolve.Current
	Config   func() *config.Compiled
	Log      *slog.Logger
	// Trouble hears of a list that is not asked for a while; nil if nobody does.
	Trouble func(with, text string, at time.Time)

	once  sync.Once
	turns chan struct{}
	mu    sync.RWMutex
	cache map[question]cached
	lists map[string]*health // by name and zone
}

type question struct{ zone, about string }

type cached struct {
	answers []netip.Addr
	text    string
	until   time.Time
}

// tell writes what was answered into a listing. Several lists may be of one zone, and count
// different answers.
func (k cached) tell(l *repute.DNSList, out *repute.Listing) {
	words := make([]string, len(k.answers))
	for i, ip := range k.answers {
		words[i] = ip.String()
	}
	out.Listed = slices.ContainsFunc(k.answers, l.Counts)
	out.Answers, out.Text = strings.Join(words, ", "), k.text
}

func (w *Weigher) begin() {
	w.once.Do(func() {
		w.turns = make(chan struct{}, atOnce)
		w.cache = map[question]cached{}
		w.lists = map[string]*health{}
	})
}

// turn waits until one more question may be asked, and gives back how it ends.
func (w *Weigher) turn(ctx context.Context) (func(), error) {
	select {
	case w.turns <- struct{}{}:
		return func() { <-w.turns }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Facts are what a client came with.
type Facts struct {
	Listener string
	Client   netip.Addr
	Helo     string
	Sender   address.Address
	Ours     []string // our own names
}

// Client finds what is known of a client before any content. All is asked at the same time.
func (w *Weigher) Client(ctx context.Context, t *repute.Settings, f Facts) *repute.Client {
	w.begin()
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	c := &repute.Client{Address: f.Client, Listings: []repute.Listing{}}
	var all sync.WaitGroup
	p := &t.Points
	if p.NoReverseName+p.ForgedReverseName > 0 {
		all.Go(func() { c.Name, c.NameState = w.reverse(ctx, f.Client) })
	}
	if p.FalseGreeting > 0 && f.Helo != "" {
		all.Go(func() {
			c.Greeting = repute.FalseGreeting(f.Helo, f.Client, f.Ours,
				func(name string) bool { return w.exists(ctx, name) })
		})
	}
	all.Go(func() {
		c.SPF = senderauth.SPF(ctx, w.Resolver.Load(), f.Client, f.Helo, f.Sender).Result
	})
	all.Go(func() {
		c.Listings = w.ask(ctx, f.Listener, repute.AsksClients, []string{f.Client.Unmap().String()})
	})
	all.Wait()
	return c
}

// Domains asks the lists about domains: that in From, and those that links lead to.
func (w *Weigher) Domains(
	ctx context.Context,
	listener string,
	from, links []string,
) []repute.Listing {
	w.begin()
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var a, b []repute.Listing
	var all sync.WaitGroup
	all.Go(func() { a = w.ask(ctx, listener, repute.AsksFrom, from) })
	all.Go(func() { b = w.ask(ctx, listener, repute.AsksLinks, links) })
	all.Wait()
	return oncePerList(append(a, b...))
}

// oncePerList leaves each list its first listing: a message with ten links to one bad host is
// as bad as with one.
func oncePerList(all []repute.Listing) []repute.Listing {
	seen := map[string]bool{}
	return slices.DeleteFunc(all, func(l repute.Listing) bool {
		again := l.Listed && seen[l.List]
		seen[l.List] = seen[l.List] || l.Listed
		return again
	})
}

// Everything asks all lists about an address or a domain, whatever listener they are for.
func (w *Weigher) Everything(ctx context.Context, about string) []repute.Listing {
	w.begin()
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	if _, err := netip.ParseAddr(about); err == nil {
		return w.ask(ctx, "", repute.AsksClients, []string{about})
	}
	out := w.ask(ctx, "", repute.AsksFrom, []string{about})
	for _, l := range w.ask(ctx, "", repute.AsksLinks, []string{about}) {
		if !slices.ContainsFunc(out, func(o repute.Listing) bool { return o.List == l.List }) {
			out = append(out, l)
		}
	}
	return out
}

// ask asks every list that is kept about such things. What is told is in the order of the
// lists.
func (w *Weigher) ask(ctx context.Context, listener, what string, about []string) []repute.Listing {
	lists := w.Config().DNSLists
	var slots [][]repute.Listing
	var all sync.WaitGroup
	for i := range lists {
		l := &lists[i]
		if l.Off || !l.About(what) ||
			listener != "" && len(l.Listeners) > 0 && !slices.Contains(l.Listeners, listener) {
			continue
		}
		n := len(slots)
		slots = append(slots, make([]repute.Listing, 0, len(about)))
		out := make([]repute.Listing, min(len(about), maxDomains))
		slots[n] = out
		for j := range out {
			if hit, ok := w.cachedListing(l, about[j]); ok {
				out[j] = hit
				continue
			}
			all.Go(func() { out[j] = w.listing(ctx, l, about[j]) })
		}
	}
	all.Wait()
	return slices.Concat(slots...)
}

func blank(l *repute.DNSList, about string) repute.Listing {
	return repute.Listing{
		List:   l.Name,
		Kind:   l.Kind,
		About:  about,
		Points: l.Points,
		AskAt:  l.AskAt,
	}
}

// cachedListing answers without a question, where that is known.
func (w *Weigher) cachedListing(l *repute.DNSList, about string) (repute.Listing, bool) {
	w.mu.RLock()
	k, ok := w.cache[question{string(l.Zone), about}]
	h := w.lists[healthKey(l)]
	w.mu.RUnlock()
	if !ok || h == nil || !h.fit() || time.Now().After(k.until) {
		return repute.Listing{}, false
	}
	out := blank(l, about)
	k.tell(l, &out)
	return out, true
}

// listing asks one list about one thing.
func (w *Weigher) listing(ctx context.Context, l *repute.DNSList, about string) repute.Listing {
	out := blank(l, about)
	h := w.healthOf(l)
	if why := h.check(ctx, w, l, false); why != "" {
		out.Trouble = why
		return out
	}
	name, ok := nameIn(l, about)
	if !ok {
		return out
	}
	k, err := w.look(ctx, name, true)
	h.note(w, l, err)
	if err != nil {
		out.Trouble = err.Error()
		return out
	}
	w.keep(question{string(l.Zone), about}, k)
	k.tell(l, &out)
	return out
}

// nameIn is the name at which a list answers about an address or a domain (RFC 5782 sections
// 2.1, 2.4 and 3).
func nameIn(l *repute.DNSList, about string) (string, bool) {
	ip, err := netip.ParseAddr(about)
	if err != nil {
		return about + "." + string(l.Zone), !address.IsLiteral(about)
	}
	reverse, err := dns.ReverseAddr(ip.Unmap().String())
	if err != nil {
		return "", false
	}
	reverse = strings.TrimSuffix(strings.TrimSuffix(reverse, ".in-addr.arpa."), ".ip6.arpa.")
	return reverse + "." + string(l.Zone), true
}

// look asks DNS for what a list says at a name, and why.
func (w *Weigher) look(
	ctx context.Context,
	name string,
	text bool,
) (cached, error) {
	done, err := w.turn(ctx)
	if err != nil {
		return cached{}, err
	}
	defer done()
	k := cached{until: time.Now().Add(notListed)}
	rrs, err := w.Resolver.Load().Records(ctx, name, dns.TypeA)
	var f *resolve.Failure
	if errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain {
		return k, nil
	}
	if err != nil {
		return k, err
	}
	ttl := maxListed
	for _, rr := range rrs {
		ip, ok := netip.AddrFromSlice(rr.(*dns.A).A.To4())
		if !ok {
			continue
		}
		k.answers = append(k.answers, ip)
		ttl = min(ttl, time.Duration(rr.Header().Ttl)*time.Second)
	}
	if len(k.answers) > 0 {
		k.until = time.Now().Add(max(ttl, time.Minute))
	}
	if len(k.answers) > 0 && text {
		if texts, _ := senderauth.TXT(ctx, w.Resolver.Load(), name); len(texts) > 0 {
			k.text = strings.Join(strings.Fields(texts[0]), " ")
			k.text = strings.ToValidUTF8(k.text[:min(len(k.text), 200)], "")
		}
	}
	return k, nil
}

func (w *Weigher) keep(q question, k cached) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.cache) >= maxCached {
		n := 0
		for old := range w.cache { // any hundred: maps are ranged in random order
			delete(w.cache, old)
			if n++; n == 100 {
				break
			}
		}
	}
	w.cache[q] = k
}

// reverse finds a client's name, and whether it leads back.
func (w *Weigher) reverse(ctx context.Context, client netip.Addr) (name, state string) {
	r := w.Resolver.Load()
	at, err := dns.ReverseAddr(client.Unmap().String())
	if err != nil {
		return "", ""
	}
	rrs, err := r.Records(ctx, at, dns.TypePTR)
	if gone(err) || err == nil && len(rrs) == 0 {
		return "", repute.NameNone
	}
	if err != nil {
		return "", ""
	}
	kind := uint16(dns.TypeA)
	if client.Unmap().Is6() {
		kind = dns.TypeAAAA
	}
	for i, rr := range rrs {
		if i == 5 {
			break
		}
		host := strings.TrimSuffix(rr.(*dns.PTR).Ptr, ".")
		if name == "" {
			name = host
		}
		back, err := r.Records(ctx, host, kind)
		if err != nil && !gone(err) {
			return name, ""
		}
		for _, b := range back {
			if leadsTo(b, client.Unmap()) {
				return host, repute.NameGood
			}
		}
	}
	return name, repute.NameForged
}

func leadsTo(rr dns.RR, client netip.Addr) bool {
	switch rr := rr.(type) {
	case *dns.A:
		ip, ok := netip.AddrFromSlice(rr.A.To4())
		return ok && ip == client
	case *dns.AAAA:
		ip, ok := netip.AddrFromSlice(rr.AAAA.To16())
		return ok && ip == client
	}
	return false
}

// exists reports a name that has an address or takes mail; what DNS does not say is true.
func (w *Weigher) exists(ctx context.Context, name string) bool {
	r := w.Resolver.Load()
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeMX} {
		rrs, err := r.Records(ctx, name, kind)
		if gone(err) {
			return false
		}
		if err != nil || len(rrs) > 0 {
			return true
		}
	}
	return false
}

func gone(err error) bool {
	var f *resolve.Failure
	return errors.As(err, &f) && f.Cause == diagnose.NoSuchDomain
}
