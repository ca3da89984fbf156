package diagnose

// SenderMeaning is what a cause is to the sender of a message, who can change
// neither our settings nor the remote host's.
type SenderMeaning struct {
	Why string
	// Do is what the sender can do.
	Do string
	// Waiting reports that the sender need do nothing while we keep trying.
	Waiting bool
}

const (
	askAddress = "Check the address with the recipient, by telephone say, and send the message " +
		"again."
	askAdmin = "Tell your administrator; this notice holds all that is needed."
	otherWay = "Reach the recipient another way and ask them to tell their mail administrator."
)

// ForSender is the meaning of c for the sender.
func ForSender(c Cause) SenderMeaning {
	if m, ok := forSender[c]; ok {
		return m
	}
	return forSender[Unknown]
}

var forSender = map[Cause]SenderMeaning{
	NoCause:      {"Our server has not been able to send it on yet.", askAdmin, true},
	NoRoute:      {"Our server has no route to this address yet.", askAdmin, true},
	RouteRefuses: {"Our server does not send to this address.", askAdmin, false},
	NoSuchDomain: {
		"There is no domain of that name: what stands behind the @ is probably misspelt.",
		"Check the spelling of the address and send the message again.",
		false,
	},
	NoMail: {
		"That domain takes no mail at all.",
		"Ask the recipient for another address.",
		false,
	},
	NoAddress: {
		"The recipient's domain names a mail server that cannot be found.",
		otherWay,
		true,
	},
	DNSTrouble: {"The recipient's domain could not be looked up.", otherWay, true},
	ConnectRefused: {
		"The recipient's mail server takes no connections at the moment.",
		otherWay,
		true,
	},
	ConnectTimeout: {"The recipient's mail server cannot be reached.", otherWay, true},
	Unreachable: {
		"The recipient's mail server cannot be reached from here.",
		askAdmin,
		true,
	},
	NoAnswer: {"The recipient's mail server does not answer.", otherWay, true},
	Dropped: {
		"The recipient's mail server broke off while it was taking the message.",
		otherWay,
		true,
	},
	NotSMTP: {
		"What answers in place of the recipient's mail server is none.",
		otherWay,
		true,
	},
	HostBusy: {
		"The recipient's mail server is busy or being looked after.",
		otherWay,
		true,
	},
	TooManySessions: {
		"The recipient's mail server takes only few messages at a time.",
		"Wait; it will be taken when there are fewer.",
		true,
	},
	RateLimited: {
		"The recipient's mail server takes only so many messages in a time.",
		"Wait; it will be taken later.",
		true,
	},
	Greylisted: {
		"The recipient's mail server lets new senders wait a little.",
		otherWay,
		true,
	},
	NoSuchUser: {
		"There is no mailbox of that name at the recipient's domain.",
		askAddress,
		false,
	},
	MailboxFull: {
		"The recipient's mailbox is full.",
		"Ask the recipient, another way, to make room, and send the message again.",
		true,
	},
	BlockListed: {
		"The recipient's mail server refuses mail from our server because of a block list.",
		askAdmin,
		false,
	},
	ResidentialAddress: {
		"The recipient's mail server does not take mail from our kind of line.",
		askAdmin,
		false,
	},
	TLSRequired: {
		"The recipient's mail server demands an encrypted connection.",
		askAdmin,
		false,
	},
	TLSTrouble: {
		"No safe connection to the recipient's mail server can be made.",
		askAdmin,
		true,
	},
	SignInRequired: {
		"The next mail server demands a sign-in that our server did not give.",
		askAdmin,
		false,
	},
	RelayRefused: {
		"The next mail server does not take mail for this address.",
		askAddress,
		false,
	},
	TooLarge: {
		"The message is larger than the recipient's mail server takes.",
		"Send it with smaller attachments, or a link to them.",
		false,
	},
	NeedsUTF8: {
		"The address or the message holds letters that the recipient's mail server does not " +
			"understand.",
		"Ask the recipient for an address in plain letters, A to Z.",
		false,
	},
	SenderNeedsTLS: {
		"You asked that the message goes only by safe connections, and the recipient's mail " +
			"server cannot " +
			"promise that.",
		"Send it again without that demand, or another way.",
		false,
	},
	SenderNeedsTime: {
		"You asked to have the message back if it does not arrive in time, and the " +
			"recipient's mail server " +
			"cannot promise that.",
		"Send it again without a time.",
		false,
	},
	Needs8Bit: {
		"The message holds letters that the recipient's mail server does not understand.",
		"Send it from another mail program, or as an attachment.",
		false,
	},
	ContentRefused: {
		"The recipient's mail server objects to what is in the message.",
		"Read below what it says, change the message and send it again.",
		false,
	},
	Loop: {
		"The message went round in a circle between mail servers.",
		askAdmin,
		false,
	},
	OurTrouble: {"Our own server could not handle the message.", askAdmin, true},
	Returned:   {"An administrator sent the message back.", askAdmin, false},
	GateRefuses: {
		"A rule of the mail server refuses the message as it is.",
		"Read below what it objects to, change the message and send it again.",
		false,
	},
	ScoreRefuses: {
		"The mail server refuses the message because too much speaks against it or its way.",
		"Show this notice to your administrator: it says below what speaks against it.",
		false,
	},
	DeniedHere: {
		"The mail server takes no messages from you or from your mail server.",
		"Write to the postmaster there, or reach the recipient another way.",
		false,
	},
	MailboxDisabled: {
		"The recipient's mailbox is switched off.",
		"Reach the recipient another way.",
		false,
	},
	MailboxMoved: {
		"The recipient has another address now; what the server says below may name it.",
		"Send the message to the new address.",
		false,
	},
	MailboxBusy: {
		"The recipient's mailbox is in use by something else at the moment.",
		"Wait; it will be taken later.",
		true,
	},
	BadAddress: {"The recipient's mail server cannot read the address.", askAddress, false},
	SendersRestricted: {
		"The recipient takes mail only from certain people, members of a list say.",
		"Ask the recipient, another way, to admit your address.",
		false,
	},
	SenderRefused: {
		"The recipient's mail server does not take mail from your address.",
		askAdmin,
		false,
	},
	SenderDomain: {
		"The recipient's mail server cannot find the domain of your address.",
		askAdmin,
		false,
	},
	BlockedHere: {"The recipient's mail server has shut our server out.", askAdmin, false},
	LowReputation: {
		"The recipient's mail server does not trust our server at the moment.",
		askAdmin,
		false,
	},
	PolicyRefused: {
		"The recipient's mail server refuses the message by a rule of its own.",
		otherWay,
		false,
	},
	NoReverseName: {
		"The recipient's mail server does not recognise ours by its name.",
		askAdmin,
		false,
	},
	BadHelloName: {
		"The recipient's mail server does not recognise ours by its name.",
		askAdmin,
		false,
	},
	SPFFails: {
		"The recipient's mail server does not believe that the message is from your domain.",
		askAdmin,
		false,
	},
	DKIMFails: {
		"The recipient's mail server does not believe that the message is from your domain.",
		askAdmin,
		false,
	},
	DMARCFails: {
		"The recipient's mail server does not believe that the message is from your domain.",
		askAdmin,
		false,
	},
	HostFull: {"The recipient's mail server has no room left.", otherWay, true},
	TooManyRecipients: {
		"The recipient's mail server takes fewer recipients at a time.",
		"Wait; the others will be taken next.",
		true,
	},
	SendingLimit: {"Our server has sent as much as it may for now.", askAdmin, true},
	TLSNotOffered: {
		"No safe connection to the recipient's mail server can be made.",
		askAdmin,
		true,
	},
	CertificateBad: {"The recipient's mail server does not prove who it is.", otherWay, true},
	PolicyNotKept:  {"The recipient's mail server does not prove who it is.", otherWay, true},
	SignInRefused: {
		"The next mail server did not accept our server's sign-in.",
		askAdmin,
		true,
	},
	HeaderMalformed: {
		"The recipient's mail server objects to the form of the message.",
		"Send it again from another mail program; if that does not help, tell your administrator.",
		false,
	},
	LineTooLong: {
		"A line of the message is longer than mail may have.",
		"Send it from another mail program, or as an attachment.",
		false,
	},
	VirusFound: {
		"The recipient's mail server found something dangerous in the message.",
		"Have your computer looked at before you send anything again.",
		false,
	},
	AttachmentRefused: {
		"The recipient's mail server takes no attachments of this kind.",
		"Send a link instead, or ask the recipient how to send it.",
		false,
	},
	ProtocolError: {
		"The recipient's mail server and ours do not understand each other.",
		askAdmin,
		false,
	},
	Overwhelmed: {
		"The recipient gets more mail at the moment than their server lets in.",
		"Wait; it will be taken later.",
		true,
	},
	SignInDown: {"The next mail server cannot check our sign-in at the moment.", askAdmin, true},
	DomainListed: {
		"The recipient's mail server refuses mail from your domain because of a block list.",
		askAdmin,
		false,
	},
	LinkListed: {
		"A link in your message is on a list of dangerous or unwanted sites.",
		"Take the link out and send the message again; if it leads to a site of your own, tell " +
			"your administrator.",
		false,
	},
	IdentityUnchecked: {
		"The recipient's mail server could not check that the message is from your domain.",
		"Wait; it will be tried again.",
		true,
	},
	RecipientBlocks: {
		"The recipient has chosen not to take mail from your address.",
		"Respect it, or reach the recipient another way.",
		false,
	},
	SenderVerified: {
		"The recipient's mail server is still checking your address.",
		"Wait; it will be tried again.",
		true,
	},
	ClientCertificate: {
		"The recipient's mail server demands a certificate that ours does not have.",
		askAdmin,
		false,
	},
	DataLoss: {
		"A rule holds back messages with confidential data, and yours looks like one.",
		"Take out what is confidential, or ask how it may be sent.",
		false,
	},
	BulkRules: {
		"The recipient's mail server has rules for those who send to many, and they are not met.",
		askAdmin,
		false,
	},
	NoBounces: {
		"The recipient's mail server was told that your address cannot take notices of failure.",
		askAdmin,
		false,
	},
	Unknown: {
		"The recipient's mail server gives a reason that we do not know; its words are below.",
		"Read what it says; if that does not help, forward this notice to your administrator.",
		false,
	},
}
