package receive

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/xdg-go/scram"

	"gullroute/internal/core/address"
	"gullroute/internal/core/diagnose"
	"gullroute/internal/core/directory"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/smtp"
	"gullroute/internal/core/transcript"
	"gullroute/internal/engine/signin"
)

// signInTalk is the part of a session in which somebody signs in.
type signInTalk struct{ *session }

// signInTimeout bounds one check of a password.
const signInTimeout = 20 * time.Second

// Pauses before a refusal slow down clients that guess, or that come back at
// once when they are deferred: a handshake of TLS costs more than the wait.
const (
	failurePause = 500 * time.Millisecond
	busyPause    = 2 * time.Second
)

// mechanisms are those offered now, in the words of RFC 4954.
func (se signInTalk) mechanisms() []string {
	if se.tls == nil && !se.conf.SignInWithoutTLS {
		return nil
	}
	var out []string
	for _, m := range se.conf.Mechanisms() {
		switch m {
		case "scram":
			if se.tls != nil {
				out = append(out, "SCRAM-SHA-256-PLUS")
			}
			out = append(out, "SCRAM-SHA-256")
		default:
			out = append(out, strings.ToUpper(m))
		}
	}
	return out
}

// auth is AUTH (RFC 4954).
func (se signInTalk) auth(arg string) smtp.Reply {
	mechanism, initial, hasInitial := strings.Cut(arg, " ")
	mechanism = strings.ToUpper(mechanism)
	switch {
	case len(se.conf.Mechanisms()) == 0:
		return se.fault(smtp.NewReply(502, "5.5.1", "AUTH is not offered here"))
	case se.mechanisms() == nil:
		return se.fault(
			smtp.NewReply(538, "5.7.11", "sign-in is offered under TLS only; say STARTTLS first"),
		)
	case !se.extended:
		return se.fault(smtp.NewReply(503, "5.5.1", "say EHLO first"))
	case !se.account.IsNull():
		return se.fault(
			smtp.NewReply(503, "5.5.1", "you are signed in as %s already", se.account.Display()),
		)
	case se.mail != nil:
		return se.fault(smtp.NewReply(503, "5.5.1", "not while a message is under way"))
	case arg == "":
		return se.fault(
			smtp.NewReply(501, "5.5.4", "AUTH needs a mechanism; there are: %s",
				strings.Join(se.mechanisms(), " ")),
		)
	case !slices.Contains(se.mechanisms(),
		mechanism): // what it says may be a password: it is not said back
		return se.fault(
			smtp.NewReply(504, "5.5.4", "this mechanism is not offered here; there are: %s",
				strings.Join(se.mechanisms(), " ")),
		)
	case se.br.Buffered() > 0:
		return helloTalk(se).outOfTurn("AUTH")
	}
	ctx, cancel := context.WithTimeout(context.Background(), signInTimeout)
	defer cancel()
	var who address.Address
	var err error
	switch mechanism {
	case "PLAIN":
		who, err = se.authPlain(ctx, initial, hasInitial)
	case "LOGIN":
		who, err = se.authLogin(ctx, initial, hasInitial)
	default:
		who, err = se.authScram(ctx, initial, hasInitial, mechanism == "SCRAM-SHA-256-PLUS")
	}
	return se.signedIn(who, err)
}

// errCancelled reports that a client broke sign-in off with "*".
var (
	errCancelled = errors.New("cancelled")
	errCoding    = errors.New("this is not base64")
	errBinding   = errors.New("channel binding goes with SCRAM-SHA-256-PLUS only (RFC 5802)")
)

// stops reports that an account sends nothing until somebody lets it go on.
func (se signInTalk) stops(who address.Address) bool {
	return se.server.isStopped(who)
}

func stoppedReply(who address.Address) smtp.Reply {
	return smtp.NewReply(
		454,
		"4.7.0",
		"%s was stopped: it sends nothing until your administrator lets "+
			"it go on",
		who.Display(),
	)
}

func (se signInTalk) signedIn(who address.Address, err error) smtp.Reply {
	switch {
	case err == nil && se.stops(who):
		return se.refuseSignIn(diagnose.AccountStopped, stoppedReply(who))
	case err == nil:
		se.account = who
		se.who.Store(&who)
		se.record.Change(func(s *mail.Session) { s.Account = who.String() })
		se.log = se.log.With("account", who.String())
		return smtp.NewReply(235, "2.7.0", "signed in as %s", who.Display())
	case errors.Is(err, errCancelled):
		return se.fault(smtp.NewReply(501, "5.7.0", "sign-in was cancelled"))
	case lineFault(err) != nil: // RFC 4954 section 4: an over-long answer gets a reply
		return se.fault(*lineFault(err))
	case errors.Is(err, errCoding), errors.Is(err, errBinding):
		return se.fault(smtp.NewReply(501, "5.5.2", "%v", err))
	case errors.Is(err, signin.ErrSlow):
		time.Sleep(busyPause)
		return se.refuseSignIn(diagnose.TooManySignIns, smtp.NewReply(454, "4.7.0", "%v", err))
	case errors.Is(err, signin.ErrBusy), errors.Is(err, signin.ErrNotNow):
		time.Sleep(busyPause)
		return se.weigh(smtp.NewReply(454, "4.7.0", "%v; try again soon", err), 1)
	case errors.Is(err, signin.ErrWrong):
		time.Sleep(failurePause)
		return se.refuseSignIn(diagnose.WrongPassword, smtp.NewReply(535, "5.7.8", "%v", err))
	}
	se.end(err) // the connection broke, or must not wait
	se.closing = true
	return smtp.Reply{}
}

func (se signInTalk) refuseSignIn(cause diagnose.Cause, r smtp.Reply) smtp.Reply {
	se.refuse(refused{stage: diagnose.StageSignIn, cause: cause, reply: r})
	return se.fault(r)
}

// ask sends a challenge and reads the client's answer.
func (se signInTalk) ask(challenge string) (string, error) {
	se.reply(smtp.Reply{
		Code:  334,
		Lines: []string{base64.StdEncoding.EncodeToString([]byte(challenge))},
	})
	line, err := se.readLine(smtp.ReadAuthLine)
	if err == nil && se.signedOut.Load() {
		err = os.ErrDeadlineExceeded
	}
	if err != nil {
		if lineFault(err) != nil {
			se.record.Note("credentials left out: %v", err)
		}
		return "", err
	}
	se.record.Say(transcript.Client, []byte("(credentials left out)"))
	return decodeAnswer(string(line))
}

func decodeAnswer(text string) (string, error) {
	switch text {
	case "*":
		return "", errCancelled
	case "=": // an empty initial response
		return "", nil
	}
	plain, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return "", errCoding
	}
	return string(plain), nil
}

// first is the initial response, asked for if it did not come with AUTH.
func (se signInTalk) first(initial string, has bool) (string, error) {
	if has {
		return decodeAnswer(initial)
	}
	return se.ask("")
}

// authPlain is RFC 4616. Acting for somebody else is not offered.
func (se signInTalk) authPlain(
	ctx context.Context,
	initial string,
	has bool,
) (address.Address, error) {
	answer, err := se.first(initial, has)
	if err != nil {
		return address.Address{}, err
	}
	parts := strings.Split(answer, "\x00")
	if len(parts) != 3 || parts[0] != "" && !strings.EqualFold(parts[0], parts[1]) {
		return address.Address{}, signin.ErrWrong
	}
	return se.plain(ctx, se.cfg.Directory, signin.Submit, parts[1], parts[2], se.client.String())
}

// plain checks a name and a password, and notes the app password that was used.
func (se signInTalk) plain(ctx context.Context, dir *directory.Directory, use signin.Use,
	name, password, client string) (address.Address, error) {
	who, err := se.server.SignIn.Plain(ctx, dir, use, name, password, client)
	if err == nil {
		se.app.Store(who.App)
	}
	return who.Account, err
}

func (se signInTalk) authLogin(
	ctx context.Context,
	initial string,
	has bool,
) (address.Address, error) {
	name, err := initial, error(nil)
	if has {
		name, err = decodeAnswer(initial)
	} else {
		name, err = se.ask("Username:")
	}
	if err != nil {
		return address.Address{}, err
	}
	password, err := se.ask("Password:")
	if err != nil {
		return address.Address{}, err
	}
	return se.plain(ctx, se.cfg.Directory, signin.Submit, name, password, se.client.String())
}

// authScram is SCRAM-SHA-256 (RFC 7677), with -PLUS bound to this connection.
func (se signInTalk) authScram(
	ctx context.Context,
	initial string,
	has, plus bool,
) (address.Address, error) {
	message, err := se.first(initial, has)
	if err != nil {
		return address.Address{}, err
	}
	if !plus && strings.HasPrefix(message, "p=") {
		return address.Address{}, errBinding
	}
	offered := slices.Contains(se.mechanisms(), "SCRAM-SHA-256-PLUS")
	conv := se.server.SignIn.Scram(
		ctx,
		se.cfg.Directory,
		signin.Submit,
		se.client.String(),
		se.binding(message),
		plus,
		offered,
	)
	defer conv.Close()
	for {
		answer, who, done, err := conv.Step(message)
		if err != nil {
			return who, err
		}
		if message, err = se.ask(answer); err != nil {
			return who, err
		}
		if done {
			return who, nil
		}
	}
}

// binding is the channel binding that the client's first message asks for: that
// of RFC 9266, or RFC 5929's server end point, or, before TLS 1.3, its tls-unique
// (RFC 5802 section 6.1 has every server know it).
func (se signInTalk) binding(first string) scram.ChannelBinding {
	if se.tls == nil {
		return scram.ChannelBinding{}
	}
	state := se.tls.ConnectionState()
	var b scram.ChannelBinding
	var err error
	if strings.HasPrefix(first, "p=tls-unique,") && state.Version <= tls.VersionTLS12 &&
		len(state.TLSUnique) > 0 {
		return scram.NewTLSUniqueBinding(state.TLSUnique)
	}
	if strings.HasPrefix(first, "p=tls-server-end-point,") {
		var cert *tls.Certificate
		if cert, err = se.server.certs.Of(se.conf); err == nil {
			var leaf *x509.Certificate
			if leaf, err = x509.ParseCertificate(cert.Certificate[0]); err == nil {
				b, err = scram.NewTLSServerEndpointBinding(
					&tls.ConnectionState{PeerCertificates: []*x509.Certificate{leaf}},
				)
			}
		}
	} else {
		b, err = scram.NewTLSExporterBinding(&state)
	}
	if err != nil {
		return scram.ChannelBinding{}
	}
	return b
}
