package deliver

import (
	"fmt"
	"time"

	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/tlsterms"
)

// known reports a connection under TLS with a host that proved to be the one that is meant: by
// DANE, by a policy, or by what was agreed (RFC 8689 section 4.2.1). Where only unsigned DNS named
// the host, what its certificate says counts for nothing.
func known(c *Conn) bool {
	demanded := c.terms.TLS == tlsterms.Verified || c.terms.TLS == tlsterms.Pinned
	return c.tls != nil && c.unverified == nil && demanded
}

// refusesAsked is the failure of a host that cannot do what the sender of a message asks of
// everybody who passes it on; nil if it can.
func (c transfer) refusesAsked(a mail.Demands) *Failure {
	fail := func(cause diagnose.Cause, code, text string) *Failure {
		f := c.failure(diagnose.StageSender, code, cause, text)
		f.Permanent = true
		return f
	}
	switch {
	case c.lmtp: // it comes to its end there
	case a.TLS && !known(c.Conn):
		return fail(
			diagnose.SenderNeedsTLS,
			"5.7.30",
			"its sender lets it go on only by TLS to a host that is "+
				"known (REQUIRETLS), and nothing proves that this is the one",
		)
	case a.TLS && !c.has("REQUIRETLS"):
		return fail(
			diagnose.SenderNeedsTLS,
			"5.7.30",
			"its sender lets it go on only by hosts that ask the same "+
				"of others (REQUIRETLS), and this one does not",
		)
	case a.By != nil && !a.Tell && !c.has("DELIVERBY"):
		return fail(
			diagnose.SenderNeedsTime,
			"5.3.3",
			"its sender wants it back if it does not arrive in time "+
				"(DELIVERBY), and this host would not see to that",
		)
	}
	return nil
}

// passOn are the parameters of MAIL by which a host hears what the sender asks.
func (c transfer) passOn(a mail.Demands, now time.Time) (parameters string) {
	if a.TLS && c.has("REQUIRETLS") {
		parameters += " REQUIRETLS"
	}
	if a.Priority != 0 && c.has("MT-PRIORITY") {
		parameters += fmt.Sprintf(" MT-PRIORITY=%d", a.Priority)
	}
	if a.By != nil && c.has("DELIVERBY") {
		left, mode := int64(a.By.Sub(now)/time.Second), "R"
		if a.Tell {
			mode = "N"
		} else {
			left = max(left, 1)
		}
		parameters += fmt.Sprintf(" BY=%d;%s", left, mode)
	}
	return parameters
}
