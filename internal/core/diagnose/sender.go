package diagnose

// SenderMeaning is what a cause is to the sender of a letter, who can change
// neither our settings nor the far side's.
type SenderMeaning struct {
	Why string
	// Do is what the sender can do.
	Do string
	// Waiting reports that the sender need do nothing while we keep trying.
	Waiting bool
}

const (
	askAddress = "Check the address with the recipient, by telephone say, and send the message again."
	askAdmin   = "Tell your administrator; this notice holds all that is needed."
	otherWay   = "Reach the recipient another way and ask them to tell their mail administrator."
)

// ForSender is the meaning of c for the sender.
func ForSender(c Cause) SenderMeaning {
	if m, ok := forSender[c]; ok {
		return m
	}
	return forSender[Unknown]
}

var forSender = map[Cause]SenderMeaning{
	NoCause:         {"Our server has not been able to send it on yet.", askAdmin, true},
	NoRoute:         {"Our server does not know a way to this address yet.", askAdmin, true},
	RouteRefuses:    {"Our server does not send to this address.", askAdmin, false},
	NoSuchDomain:    {"There is no domain of that name: what stands behind the @ is probably misspelt.", "Check the spelling of the address and send the message again.", false},
	NoMail:          {"That domain takes no mail at all.", "Ask the recipient for another address.", false},
	NoAddress:       {"The recipient's domain names a mail server that cannot be found.", otherWay, true},
	DNSTrouble:      {"The recipient's domain could not be looked up.", otherWay, true},
	ConnectRefused:  {"The recipient's mail server takes no connections at the moment.", otherWay, true},
	ConnectTimeout:  {"The recipient's mail server cannot be reached.", otherWay, true},
	Unreachable:     {"The recipient's mail server cannot be reached from here.", askAdmin, true},
	NoAnswer:        {"The recipient's mail server does not answer.", otherWay, true},
	Dropped:         {"The recipient's mail server broke off while it was taking the message.", otherWay, true},
	NotSMTP:         {"What answers in place of the recipient's mail server is none.", otherWay, true},
	HostBusy:        {"The recipient's mail server is busy or being looked after.", otherWay, true},
	TooManySessions: {"The recipient's mail server takes only few messages at a time.", "Wait; it will be taken when there are fewer.", true},
	RateLimited:     {"The recipient's mail server takes only so many messages in a time.", "Wait; it will be taken later.", true},
	Greylisted:      {"The recipient's mail server lets new senders wait a little.", otherWay, true},
	NoSuchUser:      {"There is no mailbox of that name at the recipient's domain.", askAddress, false},
	MailboxFull:     {"The recipient's mailbox is full.", "Ask the recipient, another way, to make room, and send the message again.", true},
	BlockListed:     {"The recipient's mail server refuses mail from our server because of a block list.", askAdmin, false},
	HomeLine:        {"The recipient's mail server does not take mail from our kind of line.", askAdmin, false},
	TLSRequired:     {"The recipient's mail server demands an encrypted connection.", askAdmin, false},
	TLSTrouble:      {"No safe connection to the recipient's mail server can be made.", askAdmin, true},
	SignInRequired:  {"The next mail server demands a sign-in that our server did not give.", askAdmin, false},
	RelayRefused:    {"The next mail server does not take mail for this address.", askAddress, false},
	TooLarge:        {"The message is larger than the recipient's mail server takes.", "Send it with smaller attachments, or a link to them.", false},
	NeedsUTF8:       {"The address or message holds letters that the recipient's mail server does not understand.", "Ask the recipient for an address in plain letters.", false},
	Needs8Bit:       {"The message holds letters that the recipient's mail server does not understand.", "Send it from another mail program, or as an attachment.", false},
	ContentRefused:  {"The recipient's mail server objects to what is in the message.", "Read below what it says, change the message and send it again.", false},
	Loop:            {"The message went round in a circle between mail servers.", askAdmin, false},
	OurTrouble:      {"Our own server could not handle the message.", askAdmin, true},
	Returned:        {"An administrator sent the message back.", askAdmin, false},
	Unknown:         {"The recipient's mail server gives a reason that we do not know; its words are below.", "Read what it says; if that does not help, forward this notice to your administrator.", false},
}
