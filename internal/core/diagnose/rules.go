package diagnose

// rule names the cause of a reply. Every condition that is set must hold; of a
// list, one. A phrase begins at the beginning of a word, or anywhere after a *,
// and goes on as it likes unless it ends with a space.
type rule struct {
	cause    Cause
	class    int // 4, 5 or 0 for both
	codes    []int
	enhanced []string // without the class: "2.2"
	stages   []Stage
	words    []string
	also     []string // and one of these
	unless   []string // and none of these
}

var (
	letter = []Stage{StageContent}
	toWhom = []Stage{StageRecipient, StageContent}
	byWhom = []Stage{StageSender, StageRecipient, StageContent}
)

// Words that mean the same in the languages that are met.
var (
	people   = []string{"mailbox", "user", "recipient", "address", "alias", "account", "person", "name ", "empfanger", "benutzer", "adresse", "adressat", "destinataire", "utilisateur", "usuario", "direccion", "destinatario", "buzon", "utente", "indirizzo", "casella", "mottag", "mottak", "modtager", "gebruiker", "ontvanger", "uzytkownik", "adresat", "brugere", "kayttaj", "vastaanottaj", "получател", "пользовател", "адрес", "postfach", "boite"}
	strange  = []string{"unknown", "not found", "not exist", "doesnt exist", "no such", "no mailbox", "nobody", "invalid", "unrecogni", "unbekannt", "existiert nicht", "nicht gefunden", "gibt es nicht", "inconnu", "n existe pas", "nexiste pas", "introuvable", "desconoc", "no existe", "sconosciut", "non esiste", "non trovat", "ukjent", "ukendt", "okand", "finnes ikke", "findes ikke", "finns inte", "onbekend", "bestaat niet", "nieznan", "nie istnieje", "neexist", "neznam", "desconhecid", "nao existe", "tuntematon", "not in our", "not known", "never opened", "не найден", "не существует", "неизвест", "not a valid", "cannot be found", "could not be found"}
	boxes    = []string{"mailbox", "inbox", "user", "recipient", "postfach", "boite", "buzon", "casella", "caixa", "skrzynk", "postboks", "brevlad", "innboks", "kontingent", "quota", "kvot", "storage", "storage quota", "cuota", "letterbox", "schranka", "ящик", "box "}
	filled   = []string{"full ", "over ", "keinen platz", "kein platz", "sans place", "plus de place", "sin espacio", "senza spazio", "no space", "geen ruimte", "ingen plass", "exceed", "used up", "too much mail", "no room", "no more room", "voll ", "erschopft", "uberschritten", "pleine", "plein ", "depass", "lleno", "llena", "exced", "pieno", "piena", "vol ", "cheia", "cheio", "pelna", "pelny", "overskred", "oversk", "exhausted", "superat", "run out", "taynna", "fullt", "full", "переполнен", "полон"}
	shut     = []string{"disabled", "suspend", "inactiv", "closed", "blocked", "locked", "deactivat", "deaktivier", "gesperrt", "desactiv", "deshabil", "disabilit", "disattiv", "geblokk", "discontinued", "expired", "terminated", "switched off", "sperret", "stangd", "zablokow", "frozen", "заблокирован"}
	required = []string{"mandatory", "required", "requires", "needed", "must ", "first", "erforderlich", "notig", "obligatoire", "requiere", "requerid", "requise", "obligatori", "necessari", "richiest", "verplicht", "demand", "before ", "please", "only ", "kreves", "wymagan", "nodvendig", "need "}
	tooMuch  = []string{"too many", "too much", "maximum", "limit", "exceed", "zu viele", "trop de", "trop ", "demasiad", "troppi", "troppe", "te veel", "for mange", "for manga", "zbyt wiele", "muitas", "muitos", "слишком много", "more than"}
	passing  = []string{"temporar", "vorubergehend", "temporair", "temporal", "tijdelijk", "tillfallig", "midlertidig", "momentan", "tymczas", "временн", "transient", "errore temp", "internal"}
)

// textRules go by what the host says, in order: the first that matches decides.
// The text comes before the codes, since codes are often wrong for what is meant.
var textRules = []rule{
	{cause: Greylisted, class: 4, words: []string{"do not know you", "dont know you", "not seen you before", "never seen", "unknown sender", "first mail from", "first letter", "unknown client", "new to us", "new sender"}, also: []string{"retry", "try again", "come back", "later", "minutes", "seconds", "wait"}},
	{cause: Greylisted, words: []string{"greylist", "graylist", "grey list", "gray list", "grey listed", "liste grise", "lista gris", "lista grigia", "gralist", "grålist", "szara lista", "greylisting", "first contact", "first time sender", "triplet", "you are new here", "see whether you come back", "new senders", "harmaalista", "серый список"}},

	// What vouches for the sender.
	{cause: DMARCFails, words: []string{"dmarc"}},
	{cause: DKIMFails, words: []string{"dkim"}},
	{cause: SPFFails, words: []string{"spf", "sender policy framework"}},
	{cause: NoReverseName, words: []string{"ptr ", "rdns", "reverse dns", "reverse lookup", "reverse name", "reverse dns lookup", "reverse record", "no reverse", "cannot find your hostname", "pointer", "dns inverso", "reverse hostname", "forward and reverse", "dns inverse", "inverse dns", "kein reverse"}, unless: []string{"generic reverse"}},
	{cause: BadHelloName, words: []string{"helo ", "ehlo ", "greeting name", "hello name"}, unless: []string{"send helo", "send ehlo", "helo first", "ehlo first", "say helo", "say ehlo"}},

	// Whether our address is wanted.
	{cause: ResidentialAddress, words: []string{"home line", "dynamic address", "dynamic ip", "dynamic range", "dynamically", "residential", "dial up", "dialup", "dynamische", "adresse ip dynamique", "direcciones dinamicas", "ip dinamic", "end user line", "consumer connection", "einwahl", "broadband", "generic reverse", "generic hostname", "smart host of your provider", "relay through your isp", "through your isp", "indirizzo dinamico", "indirizzi dinamici"}},
	{cause: BlockListed, words: []string{"block list", "blocklist", "blacklist", "denylist", "deny listed", "black list", "dnsbl", "*dnsbl", "rbl ", "rbls ", "sperrliste", "schwarze liste", "schwarzer liste", "schwarzen liste", "liste noire", "listes noires", "lista negra", "listas negras", "lista nera", "liste nere", "zwarte lijst", "svarteliste", "svartelist", "czarnej liscie", "czarna lista", "lista de bloqueio", "черном списке", "черный список", "delist", "listed at ", "listed by ", "listed in ", "listed on ", "is listed", "blocked using", "estopetty", "musta lista", "query your address", "lists your ip", "lists your address", "liste de blocage", "lista de bloqueo", "lista di blocco", "sperrlisten", "spamliste", "blokkeringslijst", "blokkeerlijst", "sparrlista", "blokeringsliste", "why ip"},
		unless: []string{"not listed", "allowed senders list"}},
	{cause: LowReputation, words: []string{"reputation", "sender score", "senderscore", "complaints about", "too many complaints", "reputacion", "reputazione"}},
	{cause: LowReputation, words: []string{"complaints"}, also: []string{"user", "customer", "about you", "your network", "too many"}},
	{cause: BlockListed, words: []string{"blocked", "refused", "rejected", "denied"}, also: []string{"lookup", "removal", "remove your ip", "check your ip"}, unless: []string{"dns lookup", "lookup failure", "reverse", "domain lookup"}},

	// Loops.
	{cause: Loop, words: []string{"too many hops", "hop count", "mail loop", "routing loop", "loop detected", "looping", "forwarding loop", "was here before", "schleife", "boucle", "bucle", "too many received", "maximum hop", "loops back"}},
	{cause: Loop, words: []string{"hops", "hop ", "received lines", "received headers", "passes"}, also: []string{"exceed", "too many", "limit", "maximum"}},
	{cause: Loop, words: []string{"delivered to itself", "back to itself", "came back to us", "in a circle", "going round"}},

	// What must be done first.
	{cause: TLSTrouble, words: []string{"tls not available", "cannot start tls", "tls handshake", "tls version", "tls derzeit", "tls certificate", "tls failed", "tls is not available", "tls error", "tls negotiation", "unable to initialize tls", "tls unavailable"}},
	{cause: TLSTrouble, words: []string{"tls ", "ssl ", "starttls", "handshake"}, also: []string{"not available", "unavailable", "failed", "failure", "cannot", "error", "too old", "certificate", "nicht verfugbar", "non disponible", "no disponible", "broken", "not possible", "could not"}, unless: []string{"without", "mail without", "first", "required"}},
	{cause: TLSRequired, words: []string{"starttls first", "must issue a starttls", "tls required", "requires tls", "tls is required", "requiere tls", "tls obligatoire", "encryption required", "encryption is required", "encrypted connection", "session encryption", "verschlusselung erforderlich", "requires encryption", "encryption needed", "without tls", "tls erforderlich", "chiffrement", "use starttls", "say starttls"}},
	{cause: TLSRequired, words: []string{"starttls", "tls ", "encryption", "encrypted", "verschlussel", "chiffr", "cifrad", "cifrat", "ssl ", "secure connection", "kryptering"}, also: required, unless: []string{"smtp auth"}},
	{cause: SignInRefused, stages: []Stage{StageSignIn}, words: []string{"*"}},
	{cause: SignInRequired, words: []string{"authentication required", "authentication is required", "authentication is needed", "must authenticate", "must first authenticate", "must sign in", "sign in first", "sign in to", "log in first", "login to send", "log in to send", "anmeldung erforderlich", "authentification requise", "autenticacion requerida", "autenticazione richiesta", "smtp auth required", "authenticate first", "not authenticated", "authentisierung"},
		unless: []string{"relay", "unauthenticated", "for group"}},
	{cause: SignInRequired, words: []string{"authenticat", "authentif", "authentis", "sign in", "log in", "login", "anmeld", "autentic", "autentif", "inlog", "aanmeld", "logga in", "logg inn", "smtp auth", "credentials"}, also: required, unless: []string{"relay", "unauthenticated", "for group", "list", "recipient accepts", "failed"}},

	// How much and how fast.
	{cause: SendingLimit, words: []string{"sending quota", "sending limit", "daily limit", "daily quota", "daily sending", "message allowance", "allowance of account", "tageslimit", "quota d envoi", "quota denvoi", "sent too many messages today", "send no more mail", "no more mail until", "limite diario", "outgoing limit", "envoi journalier"}},
	{cause: SendingLimit, words: []string{"limit", "quota", "allowance", "kontingent", "cuota"}, also: []string{"outgoing", "daily", "today", "hourly message", "your account", "this account", "sending limit", "versand", "envoi", "envio", "until tomorrow"}, unless: []string{"size", "recipient", "mailbox", "storage"}},
	{cause: TooManyRecipients, words: []string{"too many recipients", "recipients per", "zu viele empfanger", "trop de destinataires", "demasiados destinatarios", "troppi destinatari", "addresses are allowed per message", "recipient limit", "maximum recipients", "te veel ontvangers"}},
	{cause: TooManyRecipients, words: []string{"recipients", "recipient count", "empfanger", "destinataires", "destinatarios", "destinatari", "ontvangers", "mottakere", "mottagare", "addresses"}, also: []string{"too many", "count limit", "no more than", "at most", "per mail", "per message", "per letter", "zu viele", "trop de", "demasiados", "troppi", "te veel", "for mange", "for manga", "limit of", "maximum"}, unless: []string{"storage", "size"}},
	{cause: TooManySessions, words: []string{"too many connections", "too many concurrent", "too many sessions", "too many open sessions", "maximum sessions", "connection limit", "simultaneous connection", "concurrent connection", "zu viele verbindungen", "connexions simultanees", "demasiadas conexiones", "gelijktijdige verbindingen", "one connection only", "troppe connessioni", "trop de connexions", "maximum connections", "connection rate limit", "too many simultaneous", "too many smtp"}},
	{cause: TooManySessions, words: []string{"connection", "verbindung", "verbinding", "connexion", "conexion", "connession", "session", "forbindelse", "anslutning", "conexoes", "polaczen", "parallel"}, also: append([]string{"at once", "at a time", "gleichzeitig", "no more", "fewer", "only one", "already have"}, tooMuch...), unless: []string{"encrypt", "secure", "tls"}},
	{cause: RateLimited, words: []string{"rate limit", "ratelimit", "rate exceeded", "sending rate", "slow down", "too fast", "too quickly", "throttl", "too many messages", "too many mails", "too many mail ", "too many emails", "too many transactions", "messages a minute", "messages per", "zu viele nachrichten", "zu viele mails", "trop de messages", "ralentiss", "demasiados mensajes", "troppi messaggi", "te veel berichten", "for mange meldinger", "being slowed", "rate control", "excessive rate", "mail rate"}},
	{cause: RateLimited, words: []string{"messages", "mails", "emails", "e mails", "nachrichten", "berichten", "meldinger", "meddelanden", "mensajes", "messaggi", "mensagens", "wiadomosci", "sending", "letters", "писем"}, also: append([]string{"too often", "back off"}, tooMuch...), unless: []string{"recipients", "size", "octets", "mailbox", "hold one more", "attachment"}},
	{cause: RateLimited, words: []string{"rate "}, also: []string{"exceed", "limit", "too high", "above", "your network", "in effect"}},

	// Mailboxes.
	{cause: HostFull, words: []string{"disk space on the server", "disk of the server", "server disk", "server storage", "insufficient system storage", "disk full", "mail system is full", "enough disk space on this machine", "system storage", "storage on the system", "speicherplatz auf dem server", "espace disque", "spooldir full", "no space on the system", "spool is full", "server is full", "system is full"}, unless: []string{"user is out of"}},
	{cause: MailboxFull, words: []string{"mailbox full", "mailbox is full", "over quota", "overquota", "quota exceeded", "quota reached", "exceeded quota", "exceeded its quota", "quota is full", "quota depasse", "cuota excedida", "out of storage", "shelf is full", "shelf holds no more", "over its storage", "storage limit", "exceeds its allowed", "storage allocation", "run out of space", "out of disk space", "insufficient space in mailbox", "postfach voll", "postfach ist voll", "postfach des empfangers ist voll", "speicherplatz des benutzers", "boite aux lettres pleine", "boite pleine", "buzon lleno", "casella piena", "mailbox vol", "postboksen er full", "brevladan ar full", "skrzynka pelna", "caixa de correio cheia", "caixa cheia", "postilaatikko taynna", "переполнен", "too many letters", "mailbox size limit", "mailbox exceeds", "inbox is full", "user is out of", "account is full", "mailbox has exceeded", "exceeded storage", "quota voll", "quota uberschritten", "quota superata", "spazio esaurito", "kvoten er oppbrukt", "schranka plna", "plna schranka"}},
	{cause: MailboxFull, words: boxes, also: filled, unless: []string{"system", "server", "disk", "rate", "sending", "daily", "message size", "rfc", "maximum size", "relay", "overloaded", "connection"}, stages: toWhom},
	{cause: MailboxMoved, class: 5, words: []string{"is now at", "has moved", "user has moved", "address changed", "please try", "please use the new", "write to ", "adresse hat sich geandert", "neue adresse", "adresse a change", "no longer works here", "has left", "new address", "user not local", "nouvelle adresse", "nueva direccion", "nuovo indirizzo"}, stages: toWhom, unless: []string{"may write to", "who may write"}},
	{cause: MailboxBusy, class: 4, words: []string{"and locked", "has this mailbox open", "mailbox is locked", "mailbox locked", "mailbox busy", "mailbox is busy", "in use", "being moved", "gerade verschoben", "mailbox cannot be opened", "locked by another", "mailbox temporarily locked", "mailbox is being", "being migrated", "mailbox in use"}},
	{cause: MailboxDisabled, words: []string{"mailbox disabled", "account is disabled", "account disabled", "is disabled", "account inactive", "account is inactive", "mailbox is inactive", "mailbox inactive", "been suspended", "is suspended", "suspended", "account is locked", "account locked", "deactivated", "deaktiviert", "konto gesperrt", "compte desactive", "deshabilitad", "disabilitat", "geblokkeerd", "kontoen er sperret", "discontinued", "account expired", "has expired", "konto ist gesperrt", "disabled user", "user is disabled", "inactive", "desactivad", "wylaczone", "zablokowane"}, stages: toWhom, unless: []string{"feature"}},
	{cause: MailboxDisabled, words: []string{"mailbox", "account", "user ", "postfach", "konto", "compte", "boite", "cuenta", "casella", "mailboks", "recipient", "postbus", "skrzynka", "ящик"}, also: shut, unless: []string{"block list", "your ip", "your network", "by another", "list ", "attachment", "outsiders", "policy"}, stages: toWhom},
	{cause: SendersRestricted, words: []string{"from its members", "members only", "only members", "only from members", "post to this list", "may write to", "who may write", "allowed senders", "senders of its own organisation", "authenticated senders", "authorised to send to", "authorized to send to", "internal address", "external senders", "outside senders", "from outside", "outsiders", "externe absender", "expediteurs externes", "remitentes externos", "nur fur interne", "interne absender", "list expansion", "membres de la liste", "closed to outsiders", "only senders inside", "not allowed to post", "restricted", "moderated", "nicht berechtigt an", "solo miembros", "solo i membri", "reserve aux"}},
	{cause: SendersRestricted, words: []string{"subscriber", "colleagues", "members", "berechtigt", "for group", "mitglieder", "miembros", "membri", "insiders", "internal senders", "interne", "leden", "medlemmer", "allowed to write", "authorised to write", "internal mail only", "internal use"}, also: []string{"list", "group", "only", "address", "recipient", "mailbox", "nur ", "solo", "seul", "alleen", "kun ", "may ", "allowed"}, stages: toWhom},

	// Size and form.
	{cause: LineTooLong, words: []string{"line too long", "line length", "998", "header line is longer", "lines too long", "line is too long", "zeile zu lang", "ligne trop longue"}},
	{cause: LineTooLong, words: []string{"line ", "lines ", "zeile", "zeilen", "ligne"}, also: []string{"too long", "exceed", "limit", "longer", "zu lang", "trop longue"}, unless: []string{"dial", "home", "slow", "recipient", "end user"}},
	{cause: TooLarge, words: []string{"too large", "too big", "too long", "message size", "size limit", "exceeds fixed", "octets", "size exceeds", "larger than", "declared size", "zu gross", "trop volumineux", "demasiado grande", "troppo grande", "te groot", "for stor", "za duza", "maximum size", "oversize", "exceeds size", "exceeds maximum", "trop gros", "muito grande", "слишком большое"}, unless: []string{"quota"}},
	{cause: NeedsUTF8, words: []string{"smtputf8", "non ascii address", "internationalised address", "internationalized address", "utf 8 address", "eai not"}},
	{cause: Needs8Bit, words: []string{"8bitmime", "8 bit data", "8bit", "eight bit", "8 bit"}},

	// Content.
	{cause: VirusFound, words: []string{"virus", "malware", "infected", "trojan", "schadsoftware", "schadcode", "malicious", "logiciel malveillant", "software malicioso", "infecte", "viren", "skadlig", "wirus", "вирус", "dangerous program", "worm "}},
	{cause: AttachmentRefused, words: []string{"file ", "files ", "extension", "archive", "document", "zip ", "datei"}, also: []string{"not allowed", "forbidden", "blocked", "not accepted", "may not", "banned", "not permitted", "refused", "nicht erlaubt", "verboten", "accept no", "do not accept", "dangerous", "we take no", "not take", "prohibited"}, stages: letter},
	{cause: AttachmentRefused, words: []string{"attachment", "attached document", "file type", "file extension", "executable", "encrypted archive", "anhang", "piece jointe", "banned extension", "macros", "adjunto", "allegato", "bijlage"}},
	{cause: HeaderMalformed, words: []string{"missing from", "from header", "bad header", "invalid header", "malformed header", "rfc 5322", "rfc compliant", "message id missing", "missing message id", "missing date", "no date", "kopfzeile", "mime structure", "broken mime", "lone cr", "bare lf", "bare cr", "bare newline", "duplicate header", "multiple from", "header missing", "headers are not"}, stages: letter, unless: []string{"not allowed for your account", "domain", "does not match"}},
	{cause: HeaderMalformed, words: []string{"header", "headers", "from header", "date ", "message id", "kopfzeile", "mime", "en tete", "cabecera", "intestazione"}, also: []string{"missing", "no from", "no date", "no message", "two ", "more than one", "duplicate", "bad ", "invalid", "malformed", "broken", "fehlt", "not compliant", "multiple", "twice", "doubled", "violat", "lacks", "without", "has no", "manqu", "falta"}, stages: letter, unless: []string{"dkim", "domain", "does not match"}},
	{cause: ContentRefused, words: []string{"spam", "junk", "unsolicited", "unwanted", "phishing", "unerwunscht", "indesirable", "no deseado", "non desiderat", "ongewenst", "soppelpost", "bulk", "link we do not", "content rejected", "content not wanted", "message content", "content refused", "content filter", "pourriel", "werbung", "skrappost", "roskapost"}},

	// Who may send through it.
	{cause: RelayRefused, words: []string{"relay", "not served here", "not handled here", "not our domain", "not handle mail for", "not take mail for", "not serve", "not responsible for", "nicht zustandig", "not a domain of ours", "no domain of ours", "domain is not ours", "not local", "domain not accepted", "allowed hosts", "gateway for that domain", "gateway for", "weiterleitung nicht", "relais refuse", "reenvio", "no mail for that domain", "not hosted here", "rcpthosts", "domain not handled", "inoltro non"}, unless: []string{"relay through your", "relay recipient", "user unknown", "unknown user", "user not local"}},

	// The sender.
	{cause: SenderDomain, words: []string{"domain of sender", "domain of the sender", "senders domain", "sender domain", "sender s domain", "domain des absenders", "domaine de l expediteur", "domaine de lexpediteur", "dominio del remitente", "dominio del mittente"}, unless: []string{"policy", "reputation", "refused by"}},
	{cause: SenderDomain, words: []string{"sender address rejected", "sender rejected", "sender address"}, also: []string{"domain not found", "does not resolve", "domain does not exist", "domain lookup"}},
	{cause: SenderRefused, words: []string{"sender address rejected", "sender denied", "sender rejected", "sender refused", "sender verification", "sender verify", "sender unknown", "envelope sender", "from this sender", "send as this", "absender abgelehnt", "expediteur refuse", "remitente rechazado", "mittente rifiutato", "permitted to send as", "not owned by", "not allowed for your account", "allowed to send as", "sender is not", "afzender geweigerd", "sender not allowed", "sender callout"}},
	{cause: SenderRefused, words: []string{"sender", "absender", "mail from", "from address", "expediteur", "remitente", "mittente", "afzender", "avsender", "nadawc", "remetente"}, also: []string{"refused", "rejected", "denied", "not allowed", "may not", "verif", "says no", "unknown", "callout", "not permitted", "not wanted", "abgelehnt", "geweigerd", "rechazad", "rifiutat", "refuse", "odrzucon", "avvist", "invalid", "blocked", "not exist", "not accepted"}, unless: []string{"domain", "list"}},
	{cause: SenderRefused, words: []string{"not allowed to send", "may not send as", "not send as", "may not use this address", "does not belong to your account", "not yours", "your server back", "non accettato", "called back", "not permitted to use"}},

	// The recipient.
	{cause: NoMail, words: []string{"no mail service", "takes no mail", "null mx", "accepts no mail", "does not accept mail", "mail is not taken", "not receive mail", "no smtp service", "never accepts mail", "nimmt keine mail"}},
	{cause: NoSuchDomain, stages: toWhom, words: []string{"no such domain", "host unknown", "domain not found", "domain does not exist", "domain of the recipient", "unbekannte domain", "domaine inexistant", "find any host", "unrouteable", "unroutable", "name does not resolve", "dominio inexistente", "domain unknown", "unknown domain", "domaine inconnu", "domaine introuvable", "dominio desconocido", "dominio sconosciuto", "domain unbekannt", "domain existiert nicht", "onbekend domein", "domain is not registered"}},
	{cause: BadAddress, words: []string{"address syntax", "malformed address", "illegal character", "syntax error in recipient", "syntax error in sender", "bad sender address syntax", "bad recipient address syntax", "ungultige adresse", "cannot parse the address", "adresse mal formee", "not a valid rfc 5321", "syntax error in address", "direccion no valida", "cannot parse address", "address is malformed", "invalid address format"}},
	{cause: NoSuchUser, words: []string{"no such user", "user unknown", "unknown user", "no mailbox here", "no mailbox by", "does not exist", "doesnt exist", "nobody of that name", "nobody by that name", "unknown or illegal alias", "recipient not found", "no such person", "invalid recipient", "no such account", "bad destination mailbox", "address unknown", "unknown address", "not known to us", "recipient unknown", "unknown recipient", "recipients is unknown", "unknown in", "adressat unbekannt", "benutzer unbekannt", "existiert nicht", "nicht gefunden", "empfanger unbekannt", "unbekannter empfanger", "utilisateur inconnu", "inexistante", "destinataire inconnu", "usuario desconocido", "no existe", "utente sconosciuto", "inesistente", "gebruiker onbekend", "bestaat niet", "ukjent mottaker", "finnes ikke", "okand mottagare", "uzytkownik nieznany", "nie ma takiego", "usuario desconhecido", "tuntematon", "пользователь не найден", "не найден", "не существует", "neznamy uzivatel", "not our customer", "no longer on this server", "no account by that name", "no such mailbox", "no such recipient", "user not found", "mailbox not found", "account not found", "no user", "unknown mailbox", "desconocido", "sconosciuto", "desconhecido", "onbekend", "findes ikke", "finns inte", "invalid mailbox", "invalid user"}, stages: byWhom},
	{cause: NoSuchUser, words: people, also: strange, unless: []string{"sender", "domain", "host", "helo", "ehlo", "syntax"}, stages: toWhom},
	{cause: NoSuchUser, words: []string{"nobody home", "nobody here", "no mailbox with", "no one by that name", "unknown in "}, stages: toWhom},

	// The host itself.
	{cause: HostBusy, words: []string{"going down", "shutting down", "service not available", "service unavailable", "service indisponible", "servicio no disponible", "servizio non disponibile", "not accepting network messages", "maintenance", "wartung", "overloaded", "load too high", "local error", "internal server error", "internal error", "configuration error", "temporary lookup failure", "lookup failure", "temporary problem", "temporary failure", "temporary error", "vorubergehend", "database unavailable", "cannot be reached", "does not answer", "queue file", "timeout waiting", "timed out waiting", "backend", "server busy", "system busy", "too busy", "temporarily unavailable", "tijdelijk", "temporairement", "temporalmente"}, unless: []string{"client host", "blocked", "suspended"}},
	{cause: HostBusy, class: 4, words: passing, also: []string{"problem", "error", "failure", "fehler", "erreur", "system", "unavailable", "storung", "fout", "feil", "fel ", "problema", "errore", "ошибка", "local", "trouble", "software"}, unless: []string{"blocked", "client host", "greyl"}},
	{cause: HostBusy, class: 4, words: []string{"system", "server", "spool", "queue", "directory", "mailbox server", "host ", "service", "storage node"}, also: []string{"not reachable", "unreachable", "cannot be reached", "busy", "updated", "repair", "cannot write", "uberlastet", "gewartet", "wartung", "surcharge", "overbelast", "down ", "restart", "offline", "upgrad", "not respond", "nicht erreichbar", "maintenance", "try again", "later"}, unless: []string{"blocked", "client host", "reputation"}},

	// Shut out, or refused by rule.
	{cause: BlockedHere, words: []string{"blocked by our", "access denied", "deny table", "banned", "not welcome", "not allowed to connect", "acces interdit", "gesperrt", "local deny", "your network", "ip banned", "you are blocked", "has been blocked", "is blocked", "blocked here", "acceso denegado", "accesso negato", "toegang geweigerd"}, unless: []string{"relay"}},
	{cause: BlockedHere, words: []string{"blocked", "denied", "refused", "verweigert", "gesperrt", "interdit", "denegado", "negato", "geweigerd", "not accepted", "not wanted", "avvist", "nekad", "rejected"}, also: []string{"your network", "your domain", "your ip", "your host", "your server", "your address", "this server", "access", "zugriff", "acces", "acceso", "accesso", "toegang", "you have been", "you are", "tilgang", "votre serveur", "su servidor", "ihr server"}, unless: []string{"relay", "policy"}},
	{cause: PolicyRefused, words: []string{"policy", "administrative prohibition", "administratively", "richtlinie", "our rules", "policy violation", "politique", "politica", "beleid"}},
}

// codeRules go by the codes of RFC 3463 and 5321, where the text says nothing that
// is known.
var codeRules = []rule{
	{cause: MailboxFull, enhanced: []string{"2.2"}},
	{cause: MailboxDisabled, class: 5, enhanced: []string{"2.1"}},
	{cause: NoMail, enhanced: []string{"1.10"}, codes: []int{556}},
	{cause: NoSuchUser, class: 5, enhanced: []string{"1.1", "1.10"}},
	{cause: MailboxMoved, class: 5, enhanced: []string{"1.6"}},
	{cause: NoSuchDomain, class: 5, enhanced: []string{"1.2"}},
	{cause: BadAddress, class: 5, enhanced: []string{"1.3", "1.7"}},
	{cause: SenderDomain, enhanced: []string{"1.8", "7.27"}},
	{cause: TooLarge, enhanced: []string{"3.4", "2.3"}},
	{cause: HostFull, enhanced: []string{"3.1"}},
	{cause: HostBusy, enhanced: []string{"3.2", "3.5"}},
	{cause: Loop, enhanced: []string{"4.6", "4.14"}},
	{cause: TooManyRecipients, enhanced: []string{"5.3"}},
	{cause: NeedsUTF8, enhanced: []string{"6.7"}},
	{cause: Needs8Bit, enhanced: []string{"6.1", "6.3"}},
	{cause: DKIMFails, enhanced: []string{"7.20", "7.21", "7.22"}},
	{cause: SPFFails, enhanced: []string{"7.23", "7.24"}},
	{cause: NoReverseName, enhanced: []string{"7.25"}},
	{cause: DMARCFails, enhanced: []string{"7.26"}},
	{cause: TLSRequired, enhanced: []string{"7.10", "7.4"}},
	{cause: SignInRefused, stages: []Stage{StageSignIn}, codes: []int{535, 534, 525, 454, 504, 500}},
	{cause: NoMail, codes: []int{521, 556}},
	{cause: MailboxMoved, codes: []int{551}, stages: []Stage{StageRecipient}},
	{cause: SignInRequired, codes: []int{530}},
	{cause: HostBusy, codes: []int{421}},
	{cause: TooLarge, codes: []int{552}, stages: []Stage{StageSender, StageContent}},
	{cause: MailboxFull, codes: []int{552}, stages: []Stage{StageRecipient}},
}
