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
		{StageRecipient, "452 4.2.2 mailbox is full", MailboxFull, Certain,
			"it says “mailbox is full” code 4.2.2 means it (RFC 3463)", ""},
		{StageRecipient, "550 5.1.1 mailbox is full", MailboxFull, Likely, "it says “mailbox is full”",
			"Code 5.1.1 would mean “There is no such mailbox”; the text counts."},
		{StageRecipient, "550 5.7.1 mailbox is full", MailboxFull, Certain, "it says “mailbox is full”",
			"Code 550 says never, but this usually ends by itself"},
		{StageRecipient, "451 4.1.1 no such user", NoSuchUser, Certain, "it says “no such user”",
			"Code 451 says later, but this does not end by itself."},
		{StageGreeting, "421 5.7.1 your address is on a block list", BlockListed, Certain,
			"it says “block list”", "Code 421 says later, but this does not end by itself."},
		{StageContent, "550 5.2.2 this is spam", ContentRefused, Likely, "it says “spam”",
			"Code 5.2.2 would mean “The recipient's mailbox is full”; the text counts."},
		{StageRecipient, "552 5.2.2 no", MailboxFull, Likely, "code 5.2.2 means it (RFC 3463)", ""},
		{StageSender, "552 no", TooLarge, Likely, "code 552 means it here (RFC 5321)", ""},
		{StageSignIn, "535 5.7.8 no", SignInRefused, Certain, "it was said at the stage sign-in", ""},
		{StageSender, "530 no", SignInRequired, Likely, "code 530 means it here (RFC 5321)", ""},
		{StageRecipient, "550 no", Unknown, NotSure, "", ""},
		{StageRecipient, "550 5.7.1 no", Unknown, NotSure, "", ""},
		{StageRecipient, "550 POSTFACH\tVOLL!", MailboxFull, Certain, "it says “postfach voll”",
			"Code 550 says never"},
	} {
		v := Judge(c.stage, read(t, c.reply))
		evidence := strings.Join(v.Evidence, " ")
		if v.Cause != c.cause || v.Sure != c.sure || !strings.HasPrefix(evidence,
			c.evidence) || c.evidence == "" && evidence != "" ||
			!strings.HasPrefix(v.Contradiction, c.contradiction) ||
			(c.contradiction == "") != (v.Contradiction == "") {
			t.Errorf("%s at %s: %+v", c.reply, c.stage, v)
		}
	}
}

func TestAnEndlessReplyCostsLittle(t *testing.T) {
	r := read(t, "550 5.1.1 x")
	r.Lines = []string{strings.Repeat("mailbox ß ", 200_000) + "is full"}
	began := time.Now()
	for range 200 {
		if v := Judge(StageRecipient, r); v.Cause != NoSuchUser {
			t.Fatal(v)
		}
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("200 verdicts on 2 MB took %s", took)
	}
}

func TestEveryCauseSaysWhatToDo(t *testing.T) {
	who := map[string]bool{
		"us":                   true,
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
	if Explain("made-up").Title != Explain(Unknown).Title {
		t.Error("a cause without a meaning must be told as not known")
	}
	for stage, want := range map[Stage]bool{StageDNS: true, StageConnect: true, StageGreeting: true,
		StageTLS: true, StageRecipient: false, StageContent: false, StageRoute: false} {
		if stage.OfHost() != want {
			t.Errorf("%s: of the host %v", stage, stage.OfHost())
		}
	}
}
