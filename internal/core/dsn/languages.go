package dsn

import (
	"fmt"
	"time"

	"gullroute/internal/core/diagnose"
)

// headline is the subject of a notice, before the original's or where it had none.
type headline struct{ subject, without string }

// texts are the words of the part for people in a language.
type texts struct {
	language                                  string
	headlines                                 map[Action]headline
	openings                                  map[Action]string
	copyOf, uncopied                          string
	subject, sent, to, why, whatNext, youCan  string
	inFull                                    string
	inMailbox, passedOn, forOthers, sentBack  string
	expired, until, hostSaid, writtenBy, help string
	likely                                    string
	date                                      func(time.Time) string
}

func (n Notice) texts() *texts {
	if n.Language == diagnose.German {
		return &german
	}
	return &english
}

var english = texts{
	language: diagnose.English,
	headlines: map[Action]headline{
		Failed:    {"Not delivered: ", "Your message was not delivered"},
		Delayed:   {"Not delivered yet: ", "Your message is delayed"},
		Delivered: {"Delivered: ", "Your message was delivered"},
		Relayed:   {"Passed on: ", "Your message was passed on"},
		Expanded:  {"Passed on to a list: ", "Your message was passed on to a list"},
	},
	openings: map[Action]string{
		Failed: "Your message could not be delivered. It will not be tried again.",
		Delayed: "Your message has not been delivered yet. You need not send it again: we keep " +
			"trying.",
		Delivered: "Your message was delivered.",
		Relayed: "Your message was passed on to the recipient's mail server. That server does " +
			"not " +
			"tell us when it is delivered.",
		Expanded: "Your message was passed on to all who are behind the address you wrote to. " +
			"You " +
			"will not be told of each of them.",
	},
	likely:    "Most likely: ",
	copyOf:    "This is the postmaster's copy of a notice to %s.",
	uncopied:  "%d notices before it were not copied: the limit for an hour was reached.",
	subject:   "Subject:",
	sent:      "Sent:",
	to:        "To:",
	why:       "Why:",
	whatNext:  "What next:",
	youCan:    "You can:",
	inFull:    "In full:",
	inMailbox: "It is in the mailbox.",
	passedOn:  "Passed on to %s.",
	forOthers: "The address stands for several others.",
	sentBack:  "The administrator of this mail server sent it back: ",
	expired:   "We tried for %s and it has expired.",
	until: "We keep trying until %s. You hear from us again only if it cannot be delivered by " +
		"then.",
	hostSaid:  "The server %s said: ",
	writtenBy: "This notice was written by the mail server %s.",
	help:      "If you need help, forward it to %s.",
	date: func(t time.Time) string {
		return t.UTC().Format("Monday, 2 January 2006 15:04 " +
			"MST")
	},
}

var german = texts{
	language: diagnose.German,
	headlines: map[Action]headline{
		Failed:    {"Nicht zugestellt: ", "Ihre Nachricht wurde nicht zugestellt"},
		Delayed:   {"Noch nicht zugestellt: ", "Ihre Nachricht ist verzögert"},
		Delivered: {"Zugestellt: ", "Ihre Nachricht wurde zugestellt"},
		Relayed:   {"Weitergegeben: ", "Ihre Nachricht wurde weitergegeben"},
		Expanded: {
			"An eine Liste weitergegeben: ",
			"Ihre Nachricht wurde an eine Liste weitergegeben",
		},
	},
	openings: map[Action]string{
		Failed: "Ihre Nachricht konnte nicht zugestellt werden. Es wird nicht wieder versucht.",
		Delayed: "Ihre Nachricht ist noch nicht zugestellt. Sie brauchen sie nicht erneut zu " +
			"senden: " +
			"Wir versuchen es weiter.",
		Delivered: "Ihre Nachricht wurde zugestellt.",
		Relayed: "Ihre Nachricht wurde an den Mailserver des Empfängers weitergegeben. Er sagt " +
			"uns " +
			"nicht, wann sie zugestellt ist.",
		Expanded: "Ihre Nachricht wurde an alle weitergegeben, die hinter der Adresse stehen. " +
			"Sie " +
			"erfahren es nicht von jedem einzelnen.",
	},
	likely: "Vermutlich: ",
	copyOf: "Dies ist die Kopie einer Mitteilung an %s für den Postmaster.",
	uncopied: "%d Mitteilungen davor wurden nicht kopiert: Die Grenze für eine Stunde war " +
		"erreicht.",
	subject:   "Betreff:",
	sent:      "Gesendet:",
	to:        "An:",
	why:       "Warum:",
	whatNext:  "Wie weiter:",
	youCan:    "Sie können:",
	inFull:    "Wörtlich:",
	inMailbox: "Sie liegt im Postfach.",
	passedOn:  "Weitergegeben an %s.",
	forOthers: "Die Adresse steht für mehrere andere.",
	sentBack:  "Der Administrator dieses Mailservers hat sie zurückgesandt: ",
	expired:   "Wir haben es %s lang versucht; nun ist sie abgelaufen.",
	until: "Wir versuchen es weiter bis %s. Sie hören nur dann wieder von uns, wenn sie bis " +
		"dahin " +
		"nicht zugestellt werden kann.",
	hostSaid:  "Der Server %s sagte: ",
	writtenBy: "Diese Mitteilung schrieb der Mailserver %s.",
	help:      "Wenn Sie Hilfe brauchen, leiten Sie sie weiter an %s.",
	date:      germanDate,
}

var (
	germanDays = [...]string{"Sonntag", "Montag", "Dienstag", "Mittwoch", "Donnerstag", "Freitag",
		"Samstag"}
	germanMonths = [...]string{
		"Januar",
		"Februar",
		"März",
		"April",
		"Mai",
		"Juni",
		"Juli",
		"August",
		"September",
		"Oktober",
		"November",
		"Dezember",
	}
)

func germanDate(t time.Time) string {
	t = t.UTC()
	return fmt.Sprintf("%s, %d. %s %d, %s", germanDays[t.Weekday()], t.Day(),
		germanMonths[t.Month()-1], t.Year(), t.Format("15:04 MST"))
}
