package access

import (
	"bufio"
	"context"
	"encoding/base64"
	"errors"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/signin"
)

// mayNot reports that nobody signs in here yet.
func (f *popEntry) mayNot() bool {
	if f.inClear() {
		f.fault("sign-in is offered under TLS only; say STLS first")
		return true
	}
	return false
}

func (f *popEntry) user(args []string) error {
	switch {
	case f.mayNot():
	case len(args) != 1:
		f.fault("write USER and your address")
	default: // whether there is such a mailbox is not told
		f.name = args[0]
		f.say("+OK and now the password")
	}
	return nil
}

func (f *popEntry) pass(args []string) error {
	switch {
	case f.mayNot():
	case f.name == "":
		f.fault("say USER first")
	default:
		name := f.name
		f.name = ""
		f.welcome(f.plain(signin.POP3, name, args[0]))
	}
	return nil
}

// welcome opens the inbox of who has signed in, or says why nobody has.
func (f *popEntry) welcome(err error) {
	switch {
	case err == nil:
		if err := f.open(); err != nil {
			f.log.Error("a mailbox could not be read", "error", err)
			f.account.Store(nil)
			f.say("-ERR [SYS/TEMP] the mailbox cannot be read just now; try again soon")
			f.closing = true
			return
		}
		f.say("+OK %d messages (%d octets)", len(f.drop.items), f.drop.octets())
	case errors.Is(err, errTooMany):
		f.say("-ERR [AUTH] %v", err)
		f.closing = true
	case errors.Is(err, signin.ErrWrong):
		f.say("-ERR [AUTH] %v", err)
	case errors.Is(err, signin.ErrSlow):
		f.say("-ERR [LOGIN-DELAY] %v", err)
	default:
		f.say("-ERR [SYS/TEMP] %v; try again soon", err)
	}
}

var errCancelled = errors.New("sign-in was cancelled")

// auth is AUTH (RFC 5034).
func (f *popEntry) auth(args []string) error {
	switch {
	case f.mayNot():
		return nil
	case len(args) == 0:
		f.say("+OK")
		f.many(f.mechanisms())
		return nil
	case !slices.Contains(f.mechanisms(), strings.ToUpper(args[0])):
		f.fault(
			"this mechanism is not offered here; there are: %s",
			strings.Join(f.mechanisms(), " "),
		)
		return nil
	}
	answer, has := "", len(args) > 1
	if has {
		answer = args[1]
	}
	var err error
	if strings.EqualFold(args[0], "PLAIN") {
		err = f.authPlain(answer, has)
	} else {
		err = f.authScram(answer, has)
	}
	if errors.Is(err, errCancelled) || errors.Is(err, errNoBase64) {
		f.fault("%v", err)
		return nil
	}
	if err != nil &&
		(errors.Is(err, io.EOF) || os.IsTimeout(err) || errors.Is(err, bufio.ErrBufferFull)) {
		return err
	}
	f.welcome(err)
	return nil
}

var errNoBase64 = errors.New("this is not base64")

// answer reads an answer of sign-in, asked for with a challenge if it did not come already.
func (f *popEntry) answer(challenge, given string, has bool) (string, error) {
	if !has {
		f.record.Say(transcript.Server, []byte("+ (challenge left out)"))
		_, _ = f.bw.WriteString(
			"+ " + base64.StdEncoding.EncodeToString([]byte(challenge)) + "\r\n",
		)
		line, err := f.line()
		if err != nil {
			return "", err
		}
		f.record.Say(transcript.Client, []byte("(credentials left out)"))
		given = line
	}
	switch given {
	case "*":
		return "", errCancelled
	case "=":
		return "", nil
	}
	plain, err := base64.StdEncoding.DecodeString(given)
	if err != nil {
		return "", errNoBase64
	}
	return string(plain), nil
}

func (f *popEntry) authPlain(given string, has bool) error {
	answer, err := f.answer("", given, has)
	if err != nil {
		return err
	}
	parts := strings.Split(answer, "\x00")
	if len(parts) != 3 || parts[0] != "" && !strings.EqualFold(parts[0], parts[1]) {
		return f.signedIn(signin.POP3, signin.Passed{}, signin.ErrWrong)
	}
	return f.plain(signin.POP3, parts[1], parts[2])
}

func (f *popEntry) authScram(given string, has bool) error {
	message, err := f.answer("", given, has)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), signInTimeout)
	defer cancel()
	conv := f.server.SignIn.Scram(
		ctx,
		f.server.cfg.Load().Directory,
		signin.POP3,
		f.client.String(),
		scram.ChannelBinding{},
		false,
		false,
	)
	defer conv.Close()
	for {
		answer, who, done, err := conv.Step(message)
		if err != nil {
			return f.signedIn(signin.POP3, signin.Passed{}, err)
		}
		if message, err = f.answer(answer, "", false); err != nil {
			return err
		}
		if done {
			return f.signedIn(signin.POP3, signin.Passed{Account: who}, nil)
		}
	}
}
