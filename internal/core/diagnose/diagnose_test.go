package diagnose

import (
	"strings"
	"testing"
	"time"
)

// TestAVerdictSaysWhatDecidedAndWhatDoesNotFit takes codes that say another thing
// than the text.
func TestAVerdictSaysWhatDecidedAndWhatDoesNotFit(t *testing.T) {
	for _, c := range []struct {
		stage         Stage
		reply         string
		cause         Cause
		sure          Sure
		evidence      string
		contradiction string
	}{
		{StageRecipient, "452 4.2.2 mailbox is full", MailboxFull, Certain, "is full", ""},
		{StageRecipient, "550 5.1.1 mailbox is full", MailboxFull, "", "full",
			"Code 5.1.1 would mean “There is no such mailbox”; the text counts."},
		{StageRecipient, "550 5.7.1 mailbox is full", MailboxFull, Certain, "full",
			"Code 550 says never, but this usually ends by itself"},
		{StageRecipient, "451 4.1.1 no such user", NoSuchUser, Certain, "no such user",
			"Code 451 says later, but this does not end by itself."},
		{StageGreeting, "421 5.7.1 your address is on a block list", BlockListed, Certain,
			"block list", "Code 421 says later, but this does not end by itself."},
		{StageContent, "550 5.2.2 this is spam", ContentRefused, "", "spam",
			"Code 5.2.2 would mean “The recipient's mailbox is full”; the text counts."},
		{StageRecipient, "552 5.2.2 no", MailboxFull, "", "code 5.2.2 means it (RFC 3463)", "Code 552 says never"},
		{StageSignIn, "535 5.7.8 no", SignInRefused, "", "535", ""},
		{StageRecipient, "550 no", Unknown, NotSure, "", ""},
		{StageRecipient, "550 5.7.1 no", Unknown, NotSure, "", ""},
		{StageGreeting, "421 no", Unknown, NotSure, "", ""},
		{StageRecipient, "550 POSTFACH VOLL!", MailboxFull, Certain, "POSTFACH VOLL", "Code 550 says never"},
	} {
		v := Judge(c.stage, read(t, c.reply))
		evidence := strings.Join(v.Evidence, " ")
		if v.Cause != c.cause || c.sure != "" && v.Sure != c.sure ||
			!strings.Contains(evidence, c.evidence) || (v.Cause == Unknown) != (evidence == "") ||
			!strings.HasPrefix(v.Contradiction, c.contradiction) ||
			(c.contradiction == "") != (v.Contradiction == "") {
			t.Errorf("%s at %s: %+v", c.reply, c.stage, v)
		}
	}
	v := Judge(StageRecipient, read(t, "550 5.1.1 recipient exists, but the mailbox is full"))
	if v.Cause != MailboxFull || v.Certainty <= likelyFrom {
		t.Errorf("%+v", v)
	}
}

// TestNamesAndDenialsDoNotCount takes what telling words do not say where they name
// somebody, or are denied.
func TestNamesAndDenialsDoNotCount(t *testing.T) {
	full := "452 4.2.2 mailbox is full"
	for reply, want := range map[string]Cause{
		full + " (spam-filter-2.far.example)":                             MailboxFull,
		full + " <dkim@far.example>":                                      MailboxFull,
		full + ", this is no spam block":                                  MailboxFull,
		full + "; the virus scanner found nothing":                        MailboxFull,
		full + " please write to postmaster@far.example":                  MailboxFull,
		full + " see https://far.example/no-such-user":                    MailboxFull,
		"550 5.7.1 refused by spam-filter-2.far.example":                  Unknown,
		"550 5.7.1 not because of spam":                                   Unknown,
		"550 5.1.1 user \"mailbox full\" unknown":                         NoSuchUser,
		"552 5.2.2 mailbox of the sender is full, bounces get lost":       NoBounces,
		"550 5.7.1 a link in the body is on a block list":                 LinkListed,
		"451 4.7.1 virus scanner timeout":                                 HostBusy,
		"550 5.7.1 SPF could not be looked up, DNS timeout":               IdentityUnchecked,
		"550 5.1.6 moved: write to otter@saltmarsh.example from now on":   MailboxMoved,
		"550 5.7.1 refused. Please write to postmaster@far.example":       Unknown,
		"550 5.7.1 Empfaenger hat kein Postfach hier, Adresse unbekannt":  NoSuchUser,
		"550 5.7.1 Empfänger hat kein Postfach hier, Adresse unbekannt":   NoSuchUser,
		"550 5.7.1 \u202euser\u202c \u200bunknown, no such mailbox here.": NoSuchUser,
	} {
		stage := StageRecipient
		if Explain(want).Family == Content || want == HostBusy || want == IdentityUnchecked {
			stage = StageContent
		}
		if v := Judge(stage, read(t, reply)); v.Cause != want {
			t.Errorf("%s: %+v, want %s", reply, v, want)
		}
	}
}

// TestTheAddressNamedIsKnownForWhose takes an address in the text with and without
// what is known of the delivery.
func TestTheAddressNamedIsKnownForWhose(t *testing.T) {
	r := read(t, "551 5.7.1 not here, try otter@saltmarsh.example")
	if v := JudgeAbout(
		StageRecipient,
		r,
		About{Recipient: "otter@nosuch.example"},
	); v.Cause != MailboxMoved {
		t.Errorf("%+v", v)
	}
	same := JudgeAbout(StageRecipient, r, About{Recipient: "otter@saltmarsh.example"})
	if same.Certainty >= Judge(StageRecipient, r).Certainty && same.Cause == MailboxMoved {
		t.Errorf("the recipient's own address is no new one: %+v", same)
	}
}

func TestAnEndlessReplyCostsLittle(t *testing.T) {
	r := read(t, "550 5.1.1 x")
	r.Lines = []string{"no such user " + strings.Repeat("mailbox ß \"'<>[", 200_000) + "is full"}
	began := time.Now()
	for range 200 {
		Judge(StageRecipient, r)
	}
	if took := time.Since(began); took > 4*time.Second {
		t.Errorf("200 verdicts on 3 MB took %s", took)
	}
}

func TestEveryCauseSaysWhatToDo(t *testing.T) {
	who := map[string]bool{
		"us":                   true,
		"sender":               true,
		"recipient":            true,
		"remote-administrator": true,
		"provider":             true,
		"block-list":           true,
		"nobody":               true,
	}
	for _, c := range Causes() {
		m := Explain(c)
		if m.Title == "" || !strings.HasSuffix(m.Fix, ".") || !who[m.WhoCanFix] {
			t.Errorf("%s: %+v", c, m)
		}
	}
	if Explain("made-up").Title != Explain(Unknown).Title || WaitingHelps(Unknown).String() != "not known" ||
		WaitingHelps(MailboxFull).String() != "yes" || WaitingHelps(NoSuchUser).String() != "no" {
		t.Error("a cause without a meaning must be told as not known")
	}
	for stage, want := range map[Stage]bool{StageDNS: true, StageConnect: true, StageGreeting: true,
		StageTLS: true, StageRecipient: false, StageContent: false, StageRoute: false} {
		if stage.OfHost() != want {
			t.Errorf("%s: of the host %v", stage, stage.OfHost())
		}
	}
}
