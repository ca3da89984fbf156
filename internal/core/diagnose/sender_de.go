package diagnose

// The languages in which a sender is told something.
const (
	English = "en"
	German  = "de"
)

const (
	frageAdresse = "Prüfen Sie die Adresse mit dem Empfänger, etwa am Telefon, und senden Sie " +
		"die " +
		"Nachricht erneut."
	frageAdmin = "Geben Sie diese Mitteilung Ihrem Administrator; sie enthält alles, was er " +
		"braucht."
	andererWeg = "Erreichen Sie den Empfänger auf anderem Weg und bitten Sie ihn, seinem " +
		"Mail-Administrator Bescheid zu geben."
	warten = "Warten Sie; es wird von selbst wieder versucht."
)

// ForSenderIn is the meaning of c for the sender, in a language; in English where the
// language has no words for it.
func ForSenderIn(language string, c Cause) SenderMeaning {
	m := ForSender(c)
	if language != German {
		return m
	}
	t, ok := forSenderGerman[c]
	if !ok {
		if _, known := forSender[c]; known {
			return m
		}
		t = forSenderGerman[Unknown]
	}
	m.Why, m.Do = t[0], t[1]
	return m
}

// forSenderGerman says why, and what the sender can do.
var forSenderGerman = map[Cause][2]string{
	NoCause:      {"Unser Server konnte die Nachricht noch nicht weitersenden.", frageAdmin},
	NoRoute:      {"Unser Server kennt noch keinen Weg zu dieser Adresse.", frageAdmin},
	RouteRefuses: {"Unser Server sendet nicht an diese Adresse.", frageAdmin},
	NoMail: {
		"Diese Domain nimmt gar keine Mail an.",
		"Bitten Sie den Empfänger um eine andere Adresse.",
	},
	NoAddress: {
		"Die Domain des Empfängers nennt einen Mailserver, der nicht zu finden ist.",
		andererWeg,
	},
	DNSTrouble: {"Die Domain des Empfängers konnte nicht nachgeschlagen werden.", andererWeg},
	ConnectRefused: {
		"Der Mailserver des Empfängers nimmt zurzeit keine Verbindungen an.",
		andererWeg,
	},
	ConnectTimeout: {"Der Mailserver des Empfängers ist nicht zu erreichen.", andererWeg},
	Unreachable: {
		"Der Mailserver des Empfängers ist von hier aus nicht zu erreichen.",
		frageAdmin,
	},
	NoAnswer: {"Der Mailserver des Empfängers antwortet nicht.", andererWeg},
	Dropped: {
		"Der Mailserver des Empfängers brach ab, während er die Nachricht annahm.",
		andererWeg,
	},
	NotSMTP: {
		"Was anstelle des Mailservers des Empfängers antwortet, ist keiner.",
		andererWeg,
	},
	HostBusy: {
		"Der Mailserver des Empfängers ist überlastet oder wird gewartet.",
		andererWeg,
	},
	HostFull: {"Der Mailserver des Empfängers hat keinen Platz mehr.", andererWeg},
	NoSuchDomain: {
		"Es gibt keine Domain dieses Namens: Was hinter dem @ steht, ist wohl falsch geschrieben.",
		"Prüfen Sie die Schreibung der Adresse und senden Sie die Nachricht erneut.",
	},
	TooManySessions: {
		"Der Mailserver des Empfängers nimmt nur wenige Nachrichten zugleich an.",
		warten,
	},
	RateLimited: {
		"Der Mailserver des Empfängers nimmt nur so viele Nachrichten in einer Zeit an.",
		warten,
	},
	Overwhelmed: {"Der Empfänger bekommt gerade mehr Mail, als sein Server zulässt.", warten},
	TooManyRecipients: {
		"Der Mailserver des Empfängers nimmt weniger Empfänger auf einmal an.",
		warten,
	},
	Greylisted:   {"Der Mailserver des Empfängers lässt neue Absender etwas warten.", warten},
	SendingLimit: {"Unser Server hat vorerst so viel gesendet, wie er darf.", frageAdmin},
	NoSuchUser: {
		"In der Domain des Empfängers gibt es kein Postfach dieses Namens.",
		frageAdresse,
	},
	BadAddress: {"Der Mailserver des Empfängers kann die Adresse nicht lesen.", frageAdresse},
	MailboxFull: {
		"Das Postfach des Empfängers ist voll.",
		"Bitten Sie den Empfänger auf anderem Weg, Platz zu schaffen, und senden Sie die " +
			"Nachricht erneut.",
	},
	MailboxDisabled: {
		"Das Postfach des Empfängers ist abgeschaltet.",
		"Erreichen Sie den Empfänger auf anderem Weg.",
	},
	MailboxMoved: {
		"Der Empfänger hat jetzt eine andere Adresse; was der Server unten sagt, nennt sie " +
			"vielleicht.",
		"Senden Sie die Nachricht an die neue Adresse.",
	},
	MailboxBusy: {"Das Postfach des Empfängers ist gerade anderweitig in Benutzung.", warten},
	SendersRestricted: {
		"Der Empfänger nimmt nur Mail von bestimmten Leuten an, etwa von Mitgliedern einer Liste.",
		"Bitten Sie den Empfänger auf anderem Weg, Ihre Adresse zuzulassen.",
	},
	RecipientBlocks: {
		"Der Empfänger will von Ihrer Adresse keine Mail annehmen.",
		"Achten Sie das, oder erreichen Sie den Empfänger auf anderem Weg.",
	},
	SenderRefused: {
		"Der Mailserver des Empfängers nimmt von Ihrer Adresse keine Mail an.",
		frageAdmin,
	},
	SenderDomain: {
		"Der Mailserver des Empfängers findet die Domain Ihrer Adresse nicht.",
		frageAdmin,
	},
	SenderVerified: {"Der Mailserver des Empfängers prüft Ihre Adresse noch.", warten},
	NoBounces: {
		"Dem Mailserver des Empfängers wurde gesagt, dass Ihre Adresse keine Mitteilungen annimmt.",
		frageAdmin,
	},
	BlockListed: {
		"Der Mailserver des Empfängers nimmt von unserem Server nichts an: Er steht auf einer " +
			"Sperrliste.",
		frageAdmin,
	},
	DomainListed: {
		"Der Mailserver des Empfängers nimmt von Ihrer Domain nichts an: Sie steht auf einer " +
			"Sperrliste.",
		frageAdmin,
	},
	BlockedHere: {
		"Der Mailserver des Empfängers hat unseren Server ausgesperrt.",
		frageAdmin,
	},
	LowReputation: {
		"Der Mailserver des Empfängers traut unserem Server zurzeit nicht.",
		frageAdmin,
	},
	ResidentialAddress: {
		"Der Mailserver des Empfängers nimmt von Anschlüssen wie unserem nichts an.",
		frageAdmin,
	},
	BulkRules: {
		"Der Mailserver des Empfängers hat Regeln für Massenversand, die nicht erfüllt sind.",
		frageAdmin,
	},
	PolicyRefused: {
		"Der Mailserver des Empfängers lehnt die Nachricht nach einer eigenen Regel ab.",
		andererWeg,
	},
	NoReverseName: {
		"Der Mailserver des Empfängers erkennt unseren nicht an seinem Namen.",
		frageAdmin,
	},
	BadHelloName: {
		"Der Mailserver des Empfängers erkennt unseren nicht an seinem Namen.",
		frageAdmin,
	},
	SPFFails: {
		"Der Mailserver des Empfängers glaubt nicht, dass die Nachricht aus Ihrer Domain kommt.",
		frageAdmin,
	},
	DKIMFails: {
		"Der Mailserver des Empfängers glaubt nicht, dass die Nachricht aus Ihrer Domain kommt.",
		frageAdmin,
	},
	DMARCFails: {
		"Der Mailserver des Empfängers glaubt nicht, dass die Nachricht aus Ihrer Domain kommt.",
		frageAdmin,
	},
	IdentityUnchecked: {
		"Der Mailserver des Empfängers konnte nicht prüfen, ob die Nachricht aus Ihrer Domain " +
			"kommt.",
		warten,
	},
	TLSRequired: {
		"Der Mailserver des Empfängers verlangt eine verschlüsselte Verbindung.",
		frageAdmin,
	},
	TLSTrouble: {
		"Zum Mailserver des Empfängers kommt keine sichere Verbindung zustande.",
		frageAdmin,
	},
	TLSNotOffered: {
		"Zum Mailserver des Empfängers kommt keine sichere Verbindung zustande.",
		frageAdmin,
	},
	CertificateBad: {"Der Mailserver des Empfängers weist nicht nach, wer er ist.", andererWeg},
	PolicyNotKept:  {"Der Mailserver des Empfängers weist nicht nach, wer er ist.", andererWeg},
	ClientCertificate: {
		"Der Mailserver des Empfängers verlangt ein Zertifikat, das unserer nicht hat.",
		frageAdmin,
	},
	SignInRequired: {
		"Der nächste Mailserver verlangt eine Anmeldung, die unserer nicht gab.",
		frageAdmin,
	},
	SignInRefused: {
		"Der nächste Mailserver nahm die Anmeldung unseres Servers nicht an.",
		frageAdmin,
	},
	SignInDown: {
		"Der nächste Mailserver kann unsere Anmeldung zurzeit nicht prüfen.",
		frageAdmin,
	},
	RelayRefused: {"Der nächste Mailserver nimmt für diese Adresse nichts an.", frageAdresse},
	ProtocolError: {
		"Der Mailserver des Empfängers und unserer verstehen einander nicht.",
		frageAdmin,
	},
	TooLarge: {
		"Die Nachricht ist größer, als der Mailserver des Empfängers annimmt.",
		"Senden Sie sie mit kleineren Anhängen oder einem Link darauf.",
	},
	NeedsUTF8: {
		"Adresse oder Nachricht enthalten Buchstaben, die der Mailserver des Empfängers nicht " +
			"versteht.",
		"Bitten Sie den Empfänger um eine Adresse aus einfachen Buchstaben, A bis Z.",
	},
	SenderNeedsTLS: {
		"Die Nachricht sollte nur über sichere Verbindungen gehen, und der Mailserver des " +
			"Empfängers kann das " +
			"nicht zusagen.",
		"Senden Sie sie ohne diese Forderung noch einmal, oder auf einem anderen Weg.",
	},
	SenderNeedsTime: {
		"Die Nachricht sollte zurückkommen, wenn sie nicht rechtzeitig ankommt, und der " +
			"Mailserver des " +
			"Empfängers kann das nicht zusagen.",
		"Senden Sie sie ohne Frist noch einmal.",
	},
	Needs8Bit: {
		"Die Nachricht enthält Buchstaben, die der Mailserver des Empfängers nicht versteht.",
		"Senden Sie sie aus einem anderen Mailprogramm oder als Anhang.",
	},
	HeaderMalformed: {
		"Der Mailserver des Empfängers beanstandet die Form der Nachricht.",
		"Senden Sie sie aus einem anderen Mailprogramm; hilft das nicht, fragen Sie Ihren " +
			"Administrator.",
	},
	LineTooLong: {
		"Eine Zeile der Nachricht ist länger, als Mail es erlaubt.",
		"Senden Sie sie aus einem anderen Mailprogramm oder als Anhang.",
	},
	ContentRefused: {
		"Der Mailserver des Empfängers beanstandet, was in der Nachricht steht.",
		"Lesen Sie unten, was er sagt, ändern Sie die Nachricht und senden Sie sie erneut.",
	},
	LinkListed: {
		"Ein Link in Ihrer Nachricht steht auf einer Liste gefährlicher oder unerwünschter Seiten.",
		"Nehmen Sie den Link heraus und senden Sie erneut; ist die Seite Ihre eigene, fragen " +
			"Sie Ihren " +
			"Administrator.",
	},
	VirusFound: {
		"Der Mailserver des Empfängers fand etwas Gefährliches in der Nachricht.",
		"Lassen Sie Ihren Rechner untersuchen, bevor Sie wieder etwas senden.",
	},
	AttachmentRefused: {
		"Der Mailserver des Empfängers nimmt Anhänge dieser Art nicht an.",
		"Senden Sie einen Link, oder fragen Sie den Empfänger, wie es gehen soll.",
	},
	DataLoss: {
		"Eine Regel hält Nachrichten mit vertraulichen Daten zurück, und Ihre sieht so aus.",
		"Nehmen Sie Vertrauliches heraus, oder fragen Sie, wie es gesendet werden darf.",
	},
	Loop:       {"Die Nachricht lief zwischen Mailservern im Kreis.", frageAdmin},
	OurTrouble: {"Unser eigener Server konnte die Nachricht nicht bearbeiten.", frageAdmin},
	Returned:   {"Ein Administrator hat die Nachricht zurückgesandt.", frageAdmin},
	GateRefuses: {
		"Eine Regel des Mailservers lehnt die Nachricht so ab, wie sie ist.",
		"Lesen Sie unten, woran sie sich stößt, ändern Sie die Nachricht und senden Sie sie " +
			"noch einmal.",
	},
	ScoreRefuses: {
		"Der Mailserver lehnt die Nachricht ab, weil zu viel gegen sie oder ihren Weg spricht.",
		"Zeigen Sie diese Mitteilung Ihrem Administrator: unten steht, was dagegen spricht.",
	},
	DeniedHere: {
		"Der Mailserver nimmt von Ihnen oder Ihrem Mailserver keine Nachrichten an.",
		"Schreiben Sie an den Postmaster dort, oder erreichen Sie den Empfänger auf anderem Weg.",
	},
	Unknown: {
		"Der Mailserver des Empfängers nennt einen Grund, den wir nicht kennen; seine Worte " +
			"stehen unten.",
		"Lesen Sie, was er sagt; hilft das nicht, leiten Sie diese Mitteilung an Ihren " +
			"Administrator weiter.",
	},
}
