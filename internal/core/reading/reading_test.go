package reading

import "testing"

// TestIdeasAreFoundInWordsAndNotInNames looks at what is left of a text as ideas.
func TestIdeasAreFoundInWordsAndNotInNames(t *testing.T) {
	for text, want := range map[string]string{
		"mailbox full":                              "mailbox full",
		"Das Postfach des Empfaengers ist voll":     "mailbox recipient full",
		"Empfängerpostfach voll":                    "recipient mailbox full",
		"L'utente non esiste":                       "user unknown",
		"收件人邮箱已满":                                   "recipient mailbox full",
		"Alıcının posta kutusu dolu":                "recipient mailbox full",
		"QUOTA_EXCEEDED":                            "limit exceed",
		"UserNotFound":                              "user unknown",
		"greylist.far.example says no":              "not",
		"<virus@far.example> no":                    "not",
		"see https://far.example/spam no":           "(not)",
		"refused (quota-551-full)":                  "refuse",
		"user \"virus\" unknown at this host":       "user unknown server",
		"not a spam block":                          "not !spam !blocked",
		"SPF passed":                                "!spf fine",
		"virus-free message":                        "message",
		"mailbox full. Contact postmaster@far.test": "mailbox full (contact)",
	} {
		if got := Of(text, Context{}).IdeasIn(); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestFactsAreKept looks at what is kept of what was taken out of the words.
func TestFactsAreKept(t *testing.T) {
	about := Context{Sender: "deck@skerryline.example", Recipient: "otter@nosuch.example"}
	f := Of("5.2.2 <OTTER@nosuch.example>: deck@skerryline.example from [198.51.100.7] was refused by "+
		"gw-3.far.example, see https://far.example/q, report.exe, id 1rXb9", about).facts
	if f != (facts{file: true, enhanced: "2.2"}) {
		t.Errorf("%+v", f)
	}
	if f := Of("moved to otter@saltmarsh.example", about).facts; !f.otherAddress {
		t.Error("the new address is another's")
	}
	if r := Of("write to postmaster@saltmarsh.example", about); r.facts.otherAddress || !r.SaysNothing() {
		t.Error("whom to ask is no new address")
	}
}
