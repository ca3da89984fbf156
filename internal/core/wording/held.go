package wording

// HeldWords are what people read of messages that are held for them, in a language.
type HeldWords struct {
	Language, SubjectOne, SubjectMany, Intro, From, More, End    string
	Title, NotHeld, NotHeldWhy, GoesOn, GoesOnWhy, OnlyAdmin     string
	FromLabel, Subject, Came, Why, Files, Button, Warning, Clock string
}

var heldWords = map[string]HeldWords{
	"en": {
		Language: "en", SubjectOne: "A message is held for you", SubjectMany: "%d messages are held for you",
		Intro: "These messages came for you since %s and are held by the mail server.",
		From:  "From %s, %s", More: "... and %d more; ask your administrator.",
		End: "Each link shows that message, safely, and lets it go on if that is left to you. Whoever has a " +
			"link can do the same: do not pass this message on. The links end at %s.",
		Title: "A message that is held for you", NotHeld: "This message is not held any more",
		NotHeldWhy: "It was let go on, sent back or dropped, or the link has ended. Ask your administrator if you " +
			"miss a message.",
		GoesOn: "It goes on", GoesOnWhy: "It will be in your mailbox within moments.",
		OnlyAdmin: "Only an administrator can let it go on.",
		FromLabel: "From", Subject: "Subject", Came: "Came", Why: "Why it is held", Files: "Files",
		Button:  "Let it go on to my mailbox",
		Warning: "Do so only if you expected it. Its files are not opened by looking here.",
		Clock:   "2 January 2006 15:04 MST",
	},
	"de": {
		Language: "de", SubjectOne: "Eine Nachricht wird für Sie angehalten",
		SubjectMany: "%d Nachrichten werden für Sie angehalten",
		Intro:       "Diese Nachrichten kamen seit %s für Sie und werden vom Mailserver angehalten.",
		From:        "Von %s, %s", More: "... und %d weitere; fragen Sie Ihre Administration.",
		End: "Jeder Link zeigt die Nachricht gefahrlos und lässt sie weiter, wenn das Ihnen überlassen ist. Wer " +
			"einen Link hat, kann dasselbe: geben Sie diese Nachricht nicht weiter. Die Links enden am %s.",
		Title: "Eine Nachricht, die für Sie angehalten wird", NotHeld: "Diese Nachricht wird nicht mehr angehalten",
		NotHeldWhy: "Sie ging weiter, wurde zurückgesandt oder verworfen, oder der Link ist " +
			"abgelaufen. Fragen Sie Ihre Administration, wenn Sie eine Nachricht vermissen.",
		GoesOn: "Sie geht weiter", GoesOnWhy: "Gleich ist sie in Ihrem Postfach.",
		OnlyAdmin: "Nur die Administration kann sie weiterlassen.",
		FromLabel: "Von", Subject: "Betreff", Came: "Kam", Why: "Warum sie angehalten wird", Files: "Dateien",
		Button:  "In mein Postfach weiterlassen",
		Warning: "Nur, wenn Sie sie erwartet haben. Ihre Dateien werden durch das Ansehen nicht geöffnet.",
		Clock:   "02.01.2006 15:04 MST",
	},
}

// Held are the words in a language; English if there are none.
func Held(language string) *HeldWords {
	w, ok := heldWords[language]
	if !ok {
		w = heldWords["en"]
	}
	return &w
}
