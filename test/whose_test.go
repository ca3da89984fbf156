package test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/whose"
)

// TestWhoseTroubleItIs lets the world fail in several ways and asks the status whose it is.
func TestWhoseTroubleItIs(t *testing.T) {
	takesLong(t)
	t.Parallel()
	for _, c := range []struct {
		name  string
		hosts map[string]string // what they do, by name
		dns   string
		fine  string // domains at which mail gets through
		to    string
		whose whose.Whose
		part  whose.Part
	}{
		{name: "well", fine: "saltmarsh", whose: whose.Nobody},
		{name: "dead", fine: "saltmarsh barelock", to: "sunkenpier", whose: whose.Destination},
		{name: "greylist", fine: "saltmarsh", to: "greywacke", whose: whose.Destination},
		{name: "certificate", fine: "saltmarsh", to: "oldlocks", whose: whose.Destination},
		{name: "unlike", fine: "saltmarsh", to: "sunkenpier foghorn hangup", whose: whose.Several},
		{name: "unlike-alone", to: "sunkenpier foghorn hangup", whose: whose.Several},
		{name: "blocked", fine: "saltmarsh", to: "plainscript", whose: whose.Ours, part: whose.Reputation,
			hosts: map[string]string{"mx.plainscript.example": `{"rcpt": "450 4.7.1 your IP is on a block list"}`}},
		{name: "by-hand", fine: "saltmarsh", to: "plainscript", whose: whose.Destination,
			hosts: map[string]string{"mx.plainscript.example": `{"rcpt": "450 4.7.1 we have blocked your server"}`}},
		{name: "full", fine: "saltmarsh", to: "fullshelf", whose: whose.Destination},
		{name: "partner", fine: "saltmarsh", to: "kelpworks", whose: whose.Destination,
			hosts: map[string]string{"in.kelpworks.example": `{"closed": true}`}},
		{name: "name-servers", fine: "saltmarsh", to: "foghorn", whose: whose.Destination},
		{name: "resolver", dns: "down", to: "saltmarsh barelock", whose: whose.Ours, part: whose.Resolver},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := troubled(t, "whose_"+strings.ReplaceAll(c.name, "-", "_"))
			for host, does := range c.hosts {
				s.behave(t, host, does)
			}
			for _, d := range strings.Fields(c.fine) {
				s.until(t, s.out(t, "postmaster@"+d+".example"), "delivered")
			}
			if c.dns != "" {
				s.dns(t, c.dns)
			}
			for _, d := range strings.Fields(c.to) {
				s.out(t, "a@"+d+".example")
			}
			var v whose.Verdict
			if err := eventually(30*time.Second, func() error {
				st, err := s.client().Status(context.Background())
				if v = st.Verdict; err != nil {
					return err
				}
				if v.Whose != c.whose || v.Part != c.part {
					return fmt.Errorf("%+v, want %s %s", v, c.whose, c.part)
				}
				return nil
			}); err != nil {
				t.Error(err)
			}
			lanes, err := s.client().Lanes(context.Background(), nil)
			if err != nil || lanes.Verdict.Title != v.Title {
				t.Errorf("the queue says %+v, the status %+v: %v", lanes.Verdict, v, err)
			}
		})
	}
}
