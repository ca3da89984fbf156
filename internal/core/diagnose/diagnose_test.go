package diagnose

import (
	"bufio"
	"strings"
	"testing"

	"gullroute/internal/core/smtp"
)

func TestRepliesGiveTheirCause(t *testing.T) {
	for _, c := range []struct {
		stage Stage
		reply string
		want  Cause
	}{
		{StageRecipient, "451 4.7.1 greylisted: come back", Greylisted},
		{StageRecipient, "450 4.2.0 Graylisting in action", Greylisted},
		{StageRecipient, "452 4.2.2 the shelf is full just now", MailboxFull},
		{StageRecipient, "552 5.2.2 over quota", MailboxFull},
		{StageRecipient, "550 5.1.1 over quota", MailboxFull},
		{StageRecipient, "550 5.1.1 no mailbox here by that name", NoSuchUser},
		{StageRecipient, "550 user unknown", NoSuchUser},
		{StageRecipient, "550 no", NoSuchUser},
		{StageRecipient, "450 4.1.1 not now", Unknown},
		{StageRecipient, "550 5.7.1 your address is on the block list driftnet.example", BlockListed},
		{StageGreeting, "554 5.7.1 listed at driftnet.example", BlockListed},
		{StageGreeting, "554 5.7.1 no mail from home lines here", HomeLine},
		{StageGreeting, "554 dynamic addresses are refused", HomeLine},
		{StageGreeting, "421 4.7.0 too many connections from you", TooManySessions},
		{StageGreeting, "421 4.3.2 going down", HostBusy},
		{StageGreeting, "421 bye", HostBusy},
		{StageRecipient, "450 4.7.1 slow down: at most 60 messages a minute", RateLimited},
		{StageRecipient, "550 5.7.1 we do not relay", RelayRefused},
		{StageSender, "552 5.3.4 at most 200000 octets", TooLarge},
		{StageContent, "552 message too large", TooLarge},
		{StageSender, "530 5.7.0 must issue a STARTTLS command first", TLSRequired},
		{StageSender, "530 5.7.0 sign in first: authentication required", SignInRequired},
		{StageSender, "530 no", SignInRequired},
		{StageSignIn, "535 5.7.8 that is not an account here", SignInRequired},
		{StageContent, "554 5.4.6 too many hops", Loop},
		{StageContent, "554 5.4.6 no", Loop},
		{StageContent, "550 5.7.1 this looks like spam", ContentRefused},
		{StageContent, "554 no", ContentRefused},
		{StageContent, "554 5.6.0 bad header", ContentRefused},
		{StageSender, "550 5.6.7 no", NeedsUTF8},
		{StageRecipient, "556 5.1.10 takes no mail", NoMail},
		{StageContent, "451 4.9.9 something", Unknown},
	} {
		r, err := smtp.ReadReply(bufio.NewReader(strings.NewReader(c.reply + "\r\n")))
		if err != nil {
			t.Fatal(err)
		}
		if got := OfReply(c.stage, r); got != c.want {
			t.Errorf("%s at %s: %s, want %s", c.reply, c.stage, got, c.want)
		}
	}
}

func TestEveryCauseSaysWhatToDo(t *testing.T) {
	who := map[string]bool{"us": true, "recipient": true, "far-administrator": true, "provider": true, "block-list": true, "nobody": true}
	for _, c := range Causes() {
		m := Explain(c)
		if m.Title == "" || !strings.HasSuffix(m.Mend, ".") || !who[m.WhoCanMend] {
			t.Errorf("%s: %+v", c, m)
		}
	}
	if Explain("made-up").Title != Explain(Unknown).Title {
		t.Error("a cause without a meaning must be told as not known")
	}
	for stage, want := range map[Stage]bool{StageDNS: true, StageConnect: true, StageGreeting: true, StageTLS: true, StageRecipient: false, StageContent: false, StageRoute: false} {
		if stage.OfHost() != want {
			t.Errorf("%s: of the host %v", stage, stage.OfHost())
		}
	}
}
