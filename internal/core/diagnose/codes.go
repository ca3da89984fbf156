package diagnose

import (
	"fmt"
	"slices"

	"gullroute/internal/core/smtp"
)

// rule says what codes alone mean. Every condition that is set must hold; of a
// list, one.
type rule struct {
	cause    Cause
	class    int // 4, 5 or 0 for both
	codes    []int
	enhanced []string // without the class: "2.2"
	stages   []Stage
}

// codeRules are the codes that the RFCs give one meaning; those that stand for
// several things (550, 5.7.1, 421) are not among them.
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
	{cause: Needs8Bit, enhanced: []string{"6.3"}},
	{cause: DKIMFails, class: 5, enhanced: []string{"7.20", "7.21", "7.22"}},
	{cause: SPFFails, class: 5, enhanced: []string{"7.23"}},
	{cause: IdentityUnchecked, class: 4, enhanced: []string{"7.20", "7.23", "7.24", "7.26"}},
	{cause: NoReverseName, enhanced: []string{"7.25"}},
	{cause: DMARCFails, class: 5, enhanced: []string{"7.26"}},
	{cause: TLSRequired, enhanced: []string{"7.10"}},
	{cause: SignInRefused, stages: []Stage{StageSignIn}, codes: []int{535, 534, 525}},
	{cause: NoMail, codes: []int{521, 556}},
}

// code is what codes alone would say.
type code struct {
	cause    Cause
	enhanced bool
}

func (c code) why(r smtp.Reply, enhanced string) string {
	if c.enhanced {
		return fmt.Sprintf("code %d.%s means it (RFC 3463)", r.Code/100, enhanced)
	}
	return fmt.Sprintf("code %d means it here (RFC 5321)", r.Code)
}

func byCodes(stage Stage, r smtp.Reply, enhanced string) code {
	for i := range codeRules {
		if codeRules[i].fits(stage, r.Code, enhanced) {
			return code{codeRules[i].cause, len(codeRules[i].enhanced) > 0}
		}
	}
	return code{}
}

// fits reports whether a rule's codes and stages hold.
func (ru *rule) fits(stage Stage, code int, enhanced string) bool {
	if ru.class != 0 && code/100 != ru.class {
		return false
	}
	if len(ru.codes) > 0 && !slices.Contains(ru.codes, code) {
		return false
	}
	if len(ru.enhanced) > 0 && !slices.Contains(ru.enhanced, enhanced) {
		return false
	}
	return len(ru.stages) == 0 || slices.Contains(ru.stages, stage)
}
