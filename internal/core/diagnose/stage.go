package diagnose

// Stage is the step of a delivery at which something was said or failed.
type Stage string

// The stages, in the order of a delivery.
const (
	StageRoute     Stage = "route"
	StageDNS       Stage = "dns"
	StageConnect   Stage = "connect"
	StageGreeting  Stage = "greeting"
	StageHello     Stage = "hello"
	StageTLS       Stage = "tls"
	StageSignIn    Stage = "sign-in"
	StageSender    Stage = "sender"
	StageRecipient Stage = "recipient"
	StageContent   Stage = "content"
	StageMailbox   Stage = "mailbox"
)

// OfHost reports whether a transient failure at this stage is the host's as a
// whole, so that its lane should rest and not try the next message.
func (s Stage) OfHost() bool {
	switch s {
	case StageDNS, StageConnect, StageGreeting, StageHello, StageTLS, StageSignIn:
		return true
	}
	return false
}
