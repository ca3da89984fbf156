package diagnose

func waits(usually string, f Family, title, means, fix, who string, fixes ...Fix) Meaning {
	return Meaning{
		Family:       f,
		Title:        title,
		Means:        means,
		Fix:          fix,
		WhoCanFix:    who,
		WaitingHelps: true,
		Usually:      usually,
		Fixes:        fixes,
	}
}

func stays(f Family, title, means, fix, who string, fixes ...Fix) Meaning {
	return Meaning{Family: f, Title: title, Means: means, Fix: fix, WhoCanFix: who, Fixes: fixes}
}

var meanings = map[Cause]Meaning{
	NoRoute: stays(
		Route,
		"No route leads to this recipient",
		"None of our routes takes this recipient. The messages wait here and nobody outside has "+
			"seen them.",
		"Add a route for this domain; the messages leave by themselves once it is there.",
		Us,
		FixRoute,
		FixReturn,
	),
	RouteRefuses: stays(Route, "A route of ours refuses this recipient",
		"A route is set to refuse what it takes. It was refused by our own rule.",
		"Change the route named in the decision if this is not wanted.", Us, FixRoute),

	NoSuchDomain: stays(Address, "The domain does not exist",
		"DNS says that there is no such domain. Mostly what stands behind the @ is misspelt.",
		"Check the spelling of the domain with the sender.", Sender),
	NoMail: stays(Address, "The domain says it takes no mail",
		"The domain says in DNS, or its host in words, that it takes no mail at all.",
		"Ask the recipient for another address.", Recipient),
	NoSuchUser: stays(Address, "There is no such mailbox",
		"The domain is right, but nobody of that name is there.",
		"Check the address with the sender; take it out of aliases and lists.", Sender),
	MailboxDisabled: stays(Address, "The mailbox is switched off",
		"The address exists, but its mailbox was disabled or suspended.",
		"Ask the recipient another way; take the address out of aliases and lists.", Recipient),
	MailboxMoved: stays(Address, "The recipient has moved to another address",
		"The host says that the address has changed; its reply often names the new one.",
		"Write to the new address, and change aliases and forwards that name the old one.",
		Recipient),
	BadAddress: stays(Address, "The address is malformed",
		"The host cannot read the address as one.", "Check the address with the sender.",
		Sender),
	SenderRefused: stays(
		Address,
		"The host refuses the sender's address",
		"The host does not want mail from this sender, or does not believe that the address "+
			"exists. At a smart host it is often an address that our account there may not use.",
		"See that the sender's mailbox exists and takes replies; at a smart host, let the account "+
			"send as this address.",
		Us,
		FixSmartHost,
	),
	SenderDomain: stays(
		Identity,
		"The sender's domain cannot be found in DNS",
		"The host looked for the domain of the sender and found neither MX nor address.",
		"Publish an MX for the sender's domain, or fix the program that sends with a made-up "+
			"domain.",
		Us,
	),

	MailboxFull: waits("days: until the recipient makes room", Mailbox,
		"The recipient's mailbox is full",
		"The mailbox has reached its limit. It takes mail again as soon as there is room.",
		"The recipient must make room.", Recipient, FixFlush, FixReturn),
	MailboxBusy: waits("minutes", Mailbox, "The recipient's mailbox is in use",
		"The mailbox is locked or being moved, and can take nothing just now.",
		"Wait; it will be taken later.", Nobody, FixFlush),
	SendersRestricted: stays(Mailbox, "The recipient takes mail only from certain senders",
		"It is a list or a mailbox that only members or colleagues may write to.",
		"Ask whoever looks after the list to admit the sender.", Recipient),

	BlockListed: stays(
		Reputation,
		"Our address is on a block list",
		"The host asks a public list about our address, and it is on it. Other hosts that ask the "+
			"same list refuse us too.",
		"Find why we were listed and end that, then ask the list named in the reply to take us "+
			"off; meanwhile send through a smart host.",
		ListOwner,
		FixSmartHost,
		FixReturn,
	),
	BlockedHere: stays(
		Reputation,
		"The host has blocked us by hand",
		"This host refuses our address or domain by its own list, not a public one.",
		"Ask the administrator of the host why, with the exact reply; meanwhile send through a "+
			"smart host.",
		RemoteAdmin,
		FixSmartHost,
	),
	LowReputation: stays(
		Reputation,
		"The host thinks little of our address",
		"The host keeps count of what came from our address or domain, and the count is bad.",
		"See what we send to it, and stop what is not wanted; reputation comes back in days to "+
			"weeks. Meanwhile send through a smart host.",
		Us,
		FixSlower,
		FixSmartHost,
	),
	ResidentialAddress: stays(
		Reputation,
		"The host refuses residential addresses",
		"Our address belongs to a range of dynamic or private lines, and the host takes nothing "+
			"from those.",
		"Send to this domain through a smart host.",
		Us,
		FixSmartHost,
	),
	PolicyRefused: stays(Reputation, "The host refuses it by a rule of its own",
		"The host gives a rule as its reason, and not which.",
		"Ask the administrator of the host, with the exact reply.", RemoteAdmin),

	NoReverseName: stays(
		Identity,
		"Our address has no reverse name that fits",
		"The host looked up the name of our address and found none, or one that does not lead "+
			"back.",
		"Let the provider set a PTR for our address, to the name that our greeting gives; that "+
			"name must resolve to the address.",
		Provider,
		FixSmartHost,
	),
	BadHelloName: stays(
		Identity,
		"The host objects to the name we greet with",
		"The name in our EHLO is not a full host name, does not resolve, or does not fit our "+
			"address.",
		"Set the host name of the service, or of the route, to a name that resolves to our "+
			"address.",
		Us,
	),
	SPFFails: stays(
		Identity,
		"Our address is not in the sender domain's SPF",
		"The sender's domain lists in DNS who may send for it, and our address is not there.",
		"Add our address to the SPF record of the sender's domain; if it is a forward, send it on "+
			"with an address of ours.",
		Us,
		FixSmartHost,
	),
	DKIMFails: stays(Identity, "The DKIM signature is missing or does not verify",
		"The host wants a signature of the sender's domain that verifies, and found none.",
		"Sign for the domain, and see that the key in DNS is the one that signs.", Us),
	DMARCFails: stays(
		Identity,
		"The sender domain's DMARC policy has it refused",
		"The domain in From asks hosts to refuse what neither SPF nor DKIM vouches for, and "+
			"neither did.",
		"Let SPF or DKIM pass for the very domain that stands in From.",
		Us,
	),

	Greylisted: waits("5 to 60 minutes", Rate, "Greylisted: the host asks us to come back",
		"The host defers senders it does not know, to see whether they try again. We do.",
		"Nothing; it will be taken at a later attempt.", Nobody, FixFlush),
	RateLimited: waits("minutes to hours", Rate, "We send faster than the host allows",
		"The host counts what comes from us in a time, and we are above it.",
		"Wait, or lower the connections of this route.", Us, FixSlower, FixPause),
	TooManySessions: waits("minutes", Rate, "The host allows fewer connections than we open",
		"The host takes only so many connections from us at the same time.",
		"Lower the connections of this route.", Us, FixSlower),
	TooManyRecipients: waits("minutes", Rate, "The host takes fewer recipients in one message",
		"The host took some recipients and asked for the others in another transaction.",
		"Nothing: the others go in the next transaction.", Us),
	SendingLimit: waits("until the next hour or day", Rate,
		"Our account at the smart host may send no more for now",
		"The smart host counts what our account sends, and its allowance is used up.",
		"Find out who sent so much; ask the provider for more if it is wanted.", Provider,
		FixPause),

	ConnectRefused: waits(
		"hours",
		Connection,
		"The host refuses the connection",
		"The host is there, but nothing listens at the port.",
		"Wait, or tell the administrator of the host. If every host refuses, our provider may "+
			"close the port: send through a smart host.",
		RemoteAdmin,
		FixSmartHost,
	),
	ConnectTimeout: waits(
		"hours",
		Connection,
		"The host cannot be reached",
		"Nothing answers at the host's address: it is down, or a firewall between drops what we "+
			"send.",
		"Wait, or tell the administrator of the host. If every host does this, our provider may "+
			"close the port: send through a smart host.",
		RemoteAdmin,
		FixSmartHost,
	),
	Unreachable: waits("hours", Connection, "There is no network path to the host",
		"Our own network has no route to this address.",
		"Check our network and whether IPv6 is tried where there is none.", Us, FixFlush),
	NoAnswer: waits("hours", Connection, "The host accepts the connection but says nothing",
		"Something takes our connection and never greets us.",
		"Wait; if it lasts, tell the administrator of the host.", RemoteAdmin, FixPause),
	Dropped: waits(
		"hours",
		Connection,
		"The host drops the connection",
		"The connection broke in the middle of the session.",
		"If it happens at the same place each time, something between refuses the content; ask "+
			"the remote administrator.",
		RemoteAdmin,
		FixSmartHost,
	),
	NotSMTP: waits("hours", Connection, "What answers does not speak SMTP",
		"What answers at the host's port is no mail server.",
		"Check the host and port of the route.", Us, FixRoute),
	HostBusy: waits("minutes to hours", Connection, "The host says it is not available now",
		"The host has a trouble of its own, or is being looked after, and asked to be tried later.",
		"Wait; it asked to be tried later.", RemoteAdmin, FixFlush),
	HostFull: waits("hours", Connection, "The host is out of space",
		"The disk of the host is full: nobody's mail is taken there.",
		"Wait; if it lasts, tell the administrator of the host.", RemoteAdmin),

	DNSTrouble: waits(
		"hours",
		DNS,
		"DNS gives no answer",
		"The name servers of the domain did not answer, or not in a way that can be used.",
		"If many lanes show this, check our resolvers; if one does, that domain's name servers "+
			"are in trouble.",
		RemoteAdmin,
		FixFlush,
	),
	NoAddress: waits("until the domain is fixed", DNS, "The mail host has no address in DNS",
		"The domain names a mail host that does not resolve.",
		"Tell the administrator of the domain that the host named by its MX does not resolve.",
		RemoteAdmin),

	TLSRequired: stays(TLS, "The host demands TLS",
		"The host takes nothing over a connection that is not encrypted.", "Let the route use TLS.",
		Us, FixTLS),
	TLSTrouble: waits("until it is fixed", TLS, "TLS with the host fails",
		"An encrypted connection was begun and could not be made.",
		"See the exact fault; an old version or cipher is the remote administrator's to fix.",
		RemoteAdmin, FixTLS),
	TLSNotOffered: waits(
		"until it is fixed",
		TLS,
		"The host offers no TLS, and we demand it",
		"Our terms for this domain ask for TLS, and its host has none.",
		"Ask the administrator of the host for TLS, or lower our terms for this domain if the "+
			"messages may go in the clear.",
		Us,
		FixTLS,
	),
	CertificateBad: waits(
		"until it is renewed",
		TLS,
		"The host's certificate is not valid",
		"The host's certificate has expired, is for another name, or comes from an issuer we do "+
			"not trust, and our terms ask for one that verifies.",
		"The remote administrator must renew it; until then, lower our terms for this domain if "+
			"that may be.",
		RemoteAdmin,
		FixTLS,
	),

	PolicyNotKept: waits(
		"until it is set right",
		TLS,
		"The host does not keep its own domain's TLS policy",
		"The domain says by a policy (MTA-STS) or in signed DNS (DANE) how its hosts are to "+
			"be known, and "+
			"this host is not like that: somebody may stand between us, or they renewed a "+
			"certificate and "+
			"forgot the rest.",
		"Tell the administrator of the domain what does not fit; it is not sent in the "+
			"meantime, because "+
			"that is what the policy is for.",
		RemoteAdmin,
		FixFlush,
		FixTLS,
	),

	SignInRequired: stays(SignIn, "The host demands sign-in",
		"The host takes mail only from accounts it knows.",
		"Give the route the account of this smart host.", Us, FixRoute),
	SignInRefused: stays(SignIn, "The host does not take our name and password",
		"The smart host refused the account that the route signs in with.",
		"Set the route's account and secret anew; ask the provider whether the account is open.",
		Us, FixRoute),
	RelayRefused: stays(
		Route,
		"The host does not relay for us",
		"The host is not the one for this domain, or does not know us.",
		"Check that the route's host is right for this domain, and that our address is known "+
			"there.",
		Us,
		FixRoute,
	),

	TooLarge: stays(Size, "The message is larger than the host takes",
		"The host says how much it takes in one message, and this one is more.",
		"Ask the sender to send less, or a link.", Sender),
	NeedsUTF8: stays(Content, "The address needs SMTPUTF8 and the host lacks it",
		"The address or a header has letters beyond ASCII, and the host cannot take those.",
		"Ask the recipient for an ASCII address.", Recipient),
	SenderNeedsTLS: stays(
		TLS,
		"The sender lets it go on only by TLS with hosts that are known",
		"It was handed in with REQUIRETLS (RFC 8689): whoever passes it on must know the "+
			"next host by DANE, "+
			"by a policy (MTA-STS) or by an agreement, and that host must ask the same of "+
			"the next. Here that "+
			"was not so.",
		"The sender sends it again without that demand, or agrees with the recipient on "+
			"another way.",
		Sender,
	),
	SenderNeedsTime: stays(
		Reputation,
		"The sender wants it back if it does not arrive in time",
		"It was handed in with a time by which it must have arrived (DELIVERBY, RFC 2852), "+
			"and the next "+
			"host does not know of such times: it could arrive late without anybody being told.",
		"The sender sends it again without the time.",
		Sender,
	),

	Needs8Bit: stays(Content, "The content is 8-bit and the host takes only 7-bit",
		"The message holds 8-bit text, and the host takes none.",
		"Ask the sender to send it encoded.", Us),
	HeaderMalformed: stays(Content, "The host objects to the form of the message",
		"A header is missing, doubled or malformed, or the structure is broken.",
		"Fix the program that made the message; the reply says what is wrong.", Us),
	LineTooLong: stays(Content, "A line of the message is too long",
		"A line has more than the 998 characters of RFC 5322.",
		"Fix the program that made the message: it must wrap or encode long lines.", Us),
	ContentRefused: stays(Content, "The host refuses the content",
		"The host looked at the message and takes it for unwanted mail.",
		"Read its reply; the sender may change what it objects to.", Sender),
	VirusFound: stays(Content, "The host finds malware in the message",
		"A scanner at the host found something dangerous.",
		"Look at the sender's machine before anything is sent again.", Us),
	AttachmentRefused: stays(Content, "The host takes no attachment of this kind",
		"The host refuses the type of a file in the message.",
		"Ask the sender to send it another way, or as a link.", Sender),

	ProtocolError: stays(
		Connection,
		"The host finds fault with our commands",
		"The host does not know a command or parameter that we sent, or says that it came in the "+
			"wrong order: its program and ours understand the protocol differently.",
		"Read the transcript for the exact line; a firewall that changes SMTP between the two is "+
			"a usual reason.",
		RemoteAdmin,
	),
	Overwhelmed: waits(
		"minutes to hours",
		Rate,
		"The recipient gets more mail than the host lets in",
		"The host limits how much one mailbox may receive in a time, from everybody together.",
		"Wait; it is taken later.",
		Recipient,
	),
	SignInDown: waits(
		"minutes to hours",
		SignIn,
		"The host cannot check our sign-in now",
		"The host's own service for names and passwords is away; ours may be right.",
		"Wait, and leave the password as it is; if it lasts, tell the provider.",
		RemoteAdmin,
		FixFlush,
	),
	DomainListed: stays(
		Reputation,
		"The sender's domain is on a block list",
		"The host asks a public list about domains, and the sender's is on it: another address of "+
			"ours would not help.",
		"Find what was sent with this domain, end that, then ask the list named in the reply to "+
			"take the domain off.",
		ListOwner,
	),
	LinkListed: stays(
		Content,
		"A link in the message is on a block list",
		"The message names a web address that the host's list holds for dangerous or "+
			"advertised by "+
			"unwanted mail.",
		"Ask the sender to take the link out; a site of our own that is listed may have been "+
			"broken "+
			"into.",
		Sender,
	),
	IdentityUnchecked: waits(
		"minutes to hours",
		Identity,
		"The host could not check SPF, DKIM or DMARC now",
		"The host wanted to look up a record of the sender's domain and got no answer from DNS.",
		"Wait; if several hosts say so, see that the name servers of the sender's domain answer.",
		RemoteAdmin,
		FixFlush,
	),
	RecipientBlocks: stays(Mailbox, "The recipient has blocked the sender",
		"The person written to has a rule of their own against this sender.",
		"Nothing here: only the recipient can take the rule back.", Recipient),
	SenderVerified: waits(
		"minutes",
		Rate,
		"The host is still checking the sender's address",
		"The host asks our own server whether the sender exists, and has not finished.",
		"Wait; see that our listener answers it, for mail from the empty sender too.",
		Us,
		FixFlush,
	),
	ClientCertificate: stays(TLS, "The host demands a certificate of ours",
		"The host takes mail only from clients that show a certificate it trusts.",
		"Ask its administrator what else is accepted: a sign-in, say, which a route can hold.",
		RemoteAdmin),
	DataLoss: stays(Content, "A rule against leaks holds the message back",
		"The host found something that must not leave, such as card numbers or what is marked "+
			"confidential.",
		"Ask the sender to send it in the way that the rule allows.", Sender),
	BulkRules: stays(
		Identity,
		"The host's rules for bulk senders are not met",
		"Who sends much to this host must prove the domain (SPF, DKIM, DMARC) and offer to "+
			"unsubscribe with one click.",
		"Read the host's rules; see the domain's readiness and the program that sends in bulk.",
		Us,
	),
	NoBounces: stays(
		Address,
		"The sender cannot take bounces",
		"The host asked whether a bounce to the sender would be taken, and was told no.",
		"See that the sender's mailbox exists and has room, and that nothing refuses the empty "+
			"sender.",
		Us,
	),

	Loop: stays(Looping, "The message goes round in a loop",
		"The same message came by again and again, until somebody counted.",
		"Find the forward that sends it back and end it.", Us),

	NotReady: stays(
		Identity,
		"What the world sees of a domain of ours was right and no longer is",
		"A check of its DNS, hosts, identity or reputation passed before and fails now; messages "+
			"may be refused or lost because of it.",
		"Open the domain's readiness: it says what is wrong and shows the exact record to publish.",
		Us,
		FixRecord,
	),
	NameUsed: stays(
		Identity,
		"Somebody whom nobody knows sends in the name of a domain of ours",
		"Others report messages in its name from an address that neither SPF nor a signature proves, and "+
			"that has no name here.",
		"If it sends for you, let it sign or put it into SPF, and name it (gull feedback name); if not, ask "+
			"others to keep it away: readiness says when the next DMARC policy is safe.",
		Us,
		FixRecord,
	),
	CertificateNotHad: stays(
		Identity,
		"A certificate of ours is not had or not renewed",
		"The authority was asked and gave none: where it would be shown, a former or a self-made one "+
			"stands, which strict senders and mail programs do not take.",
		"Read what the authority said (gull certificate status), set it right, and ask again: gull "+
			"certificate renew.",
		Us,
	),
	OurTrouble: waits("until it is fixed", Ours, "Something failed on our side",
		"The delivery failed before anybody outside was asked.",
		"Read the exact fault and the service's log.", Us, FixFlush),
	Returned: stays(Ours, "An administrator sent it back",
		"A person of ours sent it back to its sender.",
		"Nothing; see the action on record for who and why.", Us),
	TakenOut: stays(Ours, "An administrator dropped it",
		"A person of ours took it out of the queue.",
		"It can be restored for a day; see the action on record for who and why.", Us),
	Unknown: waits("not known", Ours, "The host gives a reason we do not know",
		"Its reply says nothing that we can read for certain; it stands beside for you to read.",
		"Read its exact reply; try one message to another recipient there, or ask the "+
			"administrator of the host with the reply.", RemoteAdmin, FixFlush),

	SpokeEarly: stays(
		Connection,
		"It spoke before the greeting",
		"The client sent before it was greeted, which RFC 5321 forbids.",
		"Nothing, as a rule: programs that send rubbish do this. A machine of ours that does it "+
			"needs fixing.",
		Nobody,
	),
	SentAhead: stays(Connection, "It sent ahead of a reply that it had to wait for",
		"The client did not wait where it has to.",
		"Fix the program that sends; see the transcript for where.", RemoteAdmin),
	MayNotConnect: stays(Ours, "This address may not connect to the listener",
		"The listener takes connections only from the networks it names.",
		"If it should, change the listener's allowed networks.", Us),
	CrowdHere: waits("seconds to minutes", Rate, "Too many connections at the same time",
		"The client opened more connections than the listener allows.",
		"It comes back by itself; if it is ours, raise the listener's limit or fix the program.",
		Us),
	PausedHere: waits("until the pause ends", Ours, "The listener takes no mail just now",
		"A person has paused the listener.", "It comes back by itself when the pause ends.", Us),
	NoRuleAllows: stays(Ours, "No relay rule lets this client send to outside",
		"Nobody relays unless a rule says so, and none does for this client.",
		"If it should, add a relay rule as narrow as it can be: its network, its senders.", Us),
	RuleRefuses: stays(Ours, "A relay rule refuses it", "A rule of ours matched and refuses.",
		"If it should pass, change the rule named in the decision.", Us),
	GateRefuses: stays(
		Ours,
		"A gate refuses the message",
		"A gate of ours matched and refuses.",
		"If it should pass, change the gate named in the decision; explain says which "+
			"condition held.",
		Us,
	),
	ScoreRefuses: stays(Ours, "Too much speaks against the message",
		"The client or the message has a score from which on we refuse: lists on which it stands, "+
			"names that do not lead back, a sender that is not proved.",
		"If it is wanted, allow the client or the sender for a time (gull reputation allow), or "+
			"change the points of the signal that is wrong.", Us),
	DeniedHere: stays(
		Ours,
		"The client, the sender or the recipient is denied here",
		"The settings of reputation, or a person for a time, name it among those who are refused.",
		"If it is wanted, take the exception back (gull reputation forget) or out of the settings.",
		Us,
	),
	GreylistedHere: waits(
		"minutes",
		Rate,
		"Nobody knows the client here yet",
		"Who has not sent from there to here before is asked to come again (RFC 6647); mail "+
			"servers "+
			"do, programs that send spam most often do not.",
		"It comes again by itself. If it cannot wait, allow its network (gull reputation allow).",
		Us,
	),
	GateDiscards: stays(Ours, "A gate discards the message",
		"A gate of ours matched and throws such messages away; nobody is told.",
		"If it should pass, change the gate named in the history. The message itself is gone.", Us),
	SenderDelays: waits("until then", Ours, "Its sender asked that it leaves later",
		"The message was handed in ahead of its time (RFC 4865).",
		"Nothing is wrong; try it now if it should not wait (gull queue flush).", Us),
	GateDelays: waits("until the gate's hours", Ours, "A gate keeps it until certain hours",
		"A gate of ours lets such messages go at certain hours only.",
		"It goes by itself then; flush it to send it now.", Us),
	SenderUnproved: stays(
		Identity,
		"The sender did not prove who it is",
		"Neither SPF nor a signature (DKIM) proves the domain in From, and that domain asks for "+
			"such messages to be refused, or it was agreed so.",
		"If the message is genuine, its sender's administrator must fix SPF or DKIM; a peer or "+
			"the listener can be set to note only.",
		RemoteAdmin,
	),
	LimitReached: waits("until the next hour or day", Rate, "A limit of a relay rule is reached",
		"The account or client has sent as much as its rule allows in a time.",
		"If this is wanted mail, raise the limit; if not, change the account's password.", Us),
	AccountStopped: stays(
		Ours,
		"The account was stopped",
		"It went over a limit of its relay rule that stops accounts, or a person stopped it: "+
			"it sends "+
			"nothing.",
		"Find out whether its password was stolen, and change it; then let it go on (gull mailbox "+
			"resume).",
		Us,
	),
	Malformed: stays(Content, "The command or the content is malformed",
		"What the client sent is not what RFC 5321 or 5322 allows.",
		"Fix the program that sends; see the transcript for the exact line.", RemoteAdmin),
	TLSNeeded: stays(TLS, "This listener takes no mail before TLS",
		"The client tried to send in the clear.",
		"Let the program use STARTTLS, or TLS from the start.", Recipient),
	SignInNeeded: stays(SignIn, "This listener takes mail only from people who signed in",
		"The client tried to send without signing in.",
		"Let the program sign in; machines without an account belong at an inside listener.", Us),
	WrongPassword: stays(
		SignIn,
		"Wrong name or password",
		"Somebody tried to sign in and failed.",
		"Set the password anew with its owner; many of these from one address are somebody "+
			"guessing.",
		Us,
	),
	TooManySignIns: waits("minutes", SignIn, "Too many failed sign-ins from this address",
		"An address failed so often that it has to wait.",
		"Wait a few minutes; find the program that keeps trying with an old password.", Us),
	TooManyErrors: stays(Connection, "The session was closed after too many errors",
		"The client made one fault after another.", "See the transcript for what went wrong first.",
		RemoteAdmin),
}
