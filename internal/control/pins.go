package control

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gullroute/internal/core/certificate"
	"gullroute/internal/core/config"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/publish"
)

// pinned is one TLSA record set that names a certificate of ours, at a server that takes changes.
func (s *Certificates) pinned(c *config.Certificate) (names []string) {
	cfg := s.InForce.Config()
	for _, host := range c.Names {
		name := fmt.Sprintf("_%d._tcp.%s", cfg.Service.MXPort, host)
		if server, _ := cfg.ServerOf(name); server != nil && !strings.HasPrefix(host, "*.") {
			names = append(names, name)
		}
	}
	return names
}

// pin publishes the TLSA record of a new certificate beside the present one's, where there is one,
// and says from when the new one may be shown: once nobody keeps the old records any more (RFC 7671
// section 8.1).
func (s *Certificates) pin(
	ctx context.Context,
	who string,
	c *config.Certificate,
	info certificate.Info,
) (at time.Time, err error) {
	for _, name := range s.pinned(c) {
		server, err := s.Publish.Server(ctx, name)
		if err != nil {
			return at, err
		}
		before, ttl, err := server.Current(ctx, name, "TLSA")
		if err != nil {
			return at, err
		}
		value := "3 1 1 " + info.Pin
		if len(before) == 0 || slices.Contains(before, value) {
			continue
		}
		change := publish.Diff(name, "TLSA", before, append(slices.Clone(before), value))
		if _, err := s.Publish.make(ctx, mail.DNSChange{Who: who, Domain: c.Names[0],
			Why: "certificate " + c.Name, Server: server.Name, Zone: server.Zone, Change: change,
			TTL: ttl}); err != nil {
			return at, err
		}
		at = time.Now().Add(2 * time.Duration(ttl) * time.Second)
	}
	return at, nil
}

// unpin takes the TLSA records out whose certificates are shown no more, once their successors
// are. Records of certificates that we never had are others' matter.
func (s *Certificates) unpin(ctx context.Context) error {
	cfg, now := s.InForce.Config(), time.Now()
	for i := range cfg.Certificates {
		c := &cfg.Certificates[i]
		kept, err := s.Store.List(ctx, c.Name)
		if err != nil {
			return err
		}
		var gone []string
		needed := map[string]bool{}
		shown := false
		for _, k := range kept { // the latest first
			value := "3 1 1 " + k.Pin
			switch {
			case k.ActiveAt.After(now):
				needed[value] = true
			case !shown:
				shown = true
				needed[value] = true
			default:
				gone = append(gone, value)
			}
		}
		gone = slices.DeleteFunc(gone, func(v string) bool { return needed[v] })
		if len(gone) == 0 {
			continue
		}
		for _, name := range s.pinned(c) {
			if err := s.takeOut(ctx, c, name, gone); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Certificates) takeOut(
	ctx context.Context,
	c *config.Certificate,
	name string,
	gone []string,
) error {
	server, err := s.Publish.Server(ctx, name)
	if err != nil {
		return err
	}
	before, ttl, err := server.Current(ctx, name, "TLSA")
	if err != nil {
		return err
	}
	after := slices.DeleteFunc(
		slices.Clone(before),
		func(v string) bool { return slices.Contains(gone, v) },
	)
	if len(after) == len(before) || len(after) == 0 {
		return nil
	}
	_, err = s.Publish.make(ctx, mail.DNSChange{Who: byAuthority, Domain: c.Names[0],
		Why: "certificate " + c.Name, Server: server.Name, Zone: server.Zone,
		Change: publish.Diff(name, "TLSA", before, after), TTL: ttl})
	return err
}
