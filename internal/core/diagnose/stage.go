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

// possible reports whether a cause can be told at a stage: before a recipient was
// named, nothing can be wrong with one.
func possible(stage Stage, c Cause) bool {
	switch stage {
	case StageSignIn:
		switch c {
		case SignInRefused,
			SignInDown,
			TLSRequired,
			TLSTrouble,
			HostBusy,
			RateLimited,
			TooManySessions,
			ProtocolError,
			Dropped,
			ClientCertificate,
			SignInRequired,
			BlockedHere,
			Unknown:
			return true
		}
		return false
	case StageTLS:
		switch c {
		case TLSTrouble,
			TLSRequired,
			TLSNotOffered,
			CertificateBad,
			PolicyNotKept,
			ClientCertificate,
			HostBusy,
			ProtocolError,
			Dropped,
			RateLimited,
			TooManySessions,
			BlockedHere,
			PolicyRefused,
			Unknown:
			return true
		}
		return false
	case StageConnect, StageGreeting, StageHello:
		switch c {
		case NoSuchUser, MailboxDisabled, MailboxMoved, MailboxFull, MailboxBusy, BadAddress,
			SenderRefused, SendersRestricted, SPFFails, DKIMFails, DMARCFails, TooLarge, TooManyRecipients,
			HeaderMalformed, LineTooLong, ContentRefused, VirusFound, AttachmentRefused, LinkListed,
			DataLoss, BulkRules, RecipientBlocks, Overwhelmed, SenderVerified, NoBounces, Loop,
			NeedsUTF8, Needs8Bit, RelayRefused, SendingLimit, SignInRefused, SignInDown,
			IdentityUnchecked:
			return false
		}
	}
	return true
}
