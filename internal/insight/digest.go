package insight

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/inert"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/wording"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Digester tells people by mail what came for them and is held, with links by which they look
// at it and let it go on.
type Digester struct {
	Store   store.Held
	InForce *inforce.State
	Own     *OwnMail
	Box     Sealer
}

// Sealer seals a text under a name, so that only who has the key file opens it.
type Sealer interface {
	Encrypt(name, text string) ([]byte, error)
	Decrypt(name string, sealed []byte) (string, error)
}

// Bounds of a digest.
const (
	maxDigested = 20_000 // deliveries of one hour, for all people
	maxListed   = 100    // for one of them
	digestLate  = time.Hour
)

// Round tells people, if one of the hours has come and no node has told them.
func (s *Digester) Round(ctx context.Context, now time.Time) error {
	cfg := s.InForce.Config()
	d := cfg.Service.Held.Digest
	if len(d.To) == 0 {
		return nil
	}
	slot, err := d.Slot(now)
	if err != nil || now.Sub(slot) > digestLate {
		return err
	}
	since, mine, err := s.Store.ClaimDigest(ctx, slot)
	if err != nil || !mine {
		return err
	}
	items, err := s.Store.Came(ctx, since, slot, maxDigested)
	if err != nil {
		return err
	}
	var people []string
	byPerson := map[string][]mail.HeldItem{}
	for _, item := range items {
		to, err := address.Parse(item.Recipient)
		if err != nil || cfg.Mailbox(to) == nil {
			continue
		}
		if _, meant := d.To.Match(to); !meant {
			continue
		}
		key := to.String()
		if len(byPerson[key]) == 0 {
			people = append(people, key)
		}
		byPerson[key] = append(byPerson[key], item)
	}
	var failed []error
	for _, person := range people {
		if err := s.tell(ctx, cfg, person, byPerson[person], since, now); err != nil {
			failed = append(failed, fmt.Errorf("to %s: %w", person, err))
		}
	}
	return errors.Join(failed...)
}

func (s *Digester) tell(
	ctx context.Context,
	cfg *config.Compiled,
	person string,
	items []mail.HeldItem,
	since, now time.Time,
) error {
	to, err := address.Parse(person)
	if err != nil {
		return err
	}
	d := cfg.Service.Held.Digest
	zone, err := time.LoadLocation(d.Zone)
	if err != nil {
		return err
	}
	var b strings.Builder
	words := wording.Held(d.Language)
	day := words.Clock
	fmt.Fprintf(&b, words.Intro+"\n\n", since.In(zone).Format(day))
	for i, item := range items {
		if i == maxListed {
			fmt.Fprintf(&b, words.More+"\n\n", len(items)-i)
			break
		}
		link, err := s.Link(item, now.Add(d.LinksLast))
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, words.From+"\n%s\n%s\n\n", inert.Clip(shownSender(item), 200),
			item.Received.In(zone).Format(day), inert.Clip(item.Subject, 200), d.Link+link)
	}
	fmt.Fprintf(&b, words.End+"\n", now.Add(d.LinksLast).In(zone).Format(day))
	body, err := quoted(strings.ReplaceAll(b.String(), "\n", "\r\n"))
	if err != nil {
		return err
	}
	subject := fmt.Sprintf(words.SubjectMany, len(items))
	if len(items) == 1 {
		subject = words.SubjectOne
	}
	e, err := s.Own.compose(cfg, to, subject,
		"text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\nContent-Language: "+
			words.Language, body, now)
	if err != nil {
		return err
	}
	return s.Own.Queue.Enter(ctx, e)
}

func shownSender(item mail.HeldItem) string {
	if item.From != "" {
		return item.From
	}
	return item.Sender
}

// linkName is under what links are sealed: nothing else that is sealed is taken for one.
const linkName = "held link"

// LinkPath is where links lead.
const LinkPath = "/held/link/"

// ErrLink reports a link that is none of ours, or no longer one.
var ErrLink = errors.New("this link is not valid, or no longer")

// Link is the path of a link to one held delivery: sealed under the key file, so that nobody
// makes one or reads what is in it.
func (s *Digester) Link(item mail.HeldItem, until time.Time) (string, error) {
	sealed, err := s.Box.Encrypt(linkName, fmt.Sprintf("%s %d %d", item.ID, item.Since.UnixMilli(),
		until.Unix()))
	if err != nil {
		return "", err
	}
	return LinkPath + base64.RawURLEncoding.EncodeToString(sealed), nil
}

// Open is the held delivery to which a link leads. It is valid for as long as it says, and while
// that very delivery has been held without a break: what went on is not looked at by it.
func (s *Digester) Open(
	ctx context.Context,
	token string,
	now time.Time,
) (item mail.HeldItem, mayRelease bool, err error) {
	sealed, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(token) > 500 {
		return item, false, ErrLink
	}
	text, err := s.Box.Decrypt(linkName, sealed)
	if err != nil {
		return item, false, ErrLink
	}
	words := strings.Fields(text)
	if len(words) != 3 {
		return item, false, ErrLink
	}
	id, err := mail.ParseDeliveryID(words[0])
	since, errSince := strconv.ParseInt(words[1], 10, 64)
	until, errUntil := strconv.ParseInt(words[2], 10, 64)
	if err != nil || errSince != nil || errUntil != nil || now.Unix() > until {
		return item, false, ErrLink
	}
	item, err = s.Store.Item(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && item.Since.UnixMilli() != since {
		return item, false, ErrLink
	}
	d := s.InForce.Config().Service.Held.Digest
	allowed := map[string]int{"none": -1, "minor": mail.Severity("minor").Rank(),
		"serious": mail.Severity("serious").Rank()}[d.Release]
	return item, item.Severity.Rank() <= allowed, err
}
