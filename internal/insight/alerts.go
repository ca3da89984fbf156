package insight

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"gullroute/internal/core/address"
	"gullroute/internal/core/config"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/route"
	"gullroute/internal/core/snag"
	"gullroute/internal/inforce"
	"gullroute/internal/store"
)

// Bounds of telling people.
const (
	alertsAtOnce   = 20
	webhookTimeout = 10 * time.Second
	maxTells       = 12
)

// TellEvery is how often it is seen whether people are to be told something.
const TellEvery = 3 * time.Second

// Alerter tells people of snags, by mail and by webhook.
type Alerter struct {
	Store   store.Snags
	InForce *inforce.State
	Secrets *inforce.Secrets
	Own     *OwnMail
	Log     *slog.Logger
}

// Tell tells people of troubles: of each once, again after a time, and when it is
// over. What cannot be told is tried again.
func (s *Alerter) Tell(ctx context.Context, now time.Time) error {
	cfg := s.InForce.Config()
	a := cfg.Service.Alerts
	if len(a.To) == 0 && a.Webhook == "" {
		return nil
	}
	var from snag.Severity
	_ = from.UnmarshalText([]byte(a.From))
	err := s.Store.ClaimAlerts(
		ctx,
		store.AlertTerms{
			Now:     now,
			From:    from,
			After:   a.After,
			Remind:  a.Remind,
			Limit:   alertsAtOnce,
			Targets: targets(a),
		},
		func(x *snag.Snag) { x.Explain(); x.Offer(cfg, paused(s.InForce.Paused(), x)) },
	)
	if err != nil {
		return err
	}
	due, err := s.Store.DueAlerts(ctx, now, alertsAtOnce)
	if err != nil {
		return err
	}
	var faults []error
	for _, one := range due {
		if one.Damaged != nil {
			s.Log.Error("an alert on record cannot be read and is dropped", "alert", one.ID,
				"error", one.Damaged)
		} else if err := s.tellOne(ctx, cfg, one, now); err != nil {
			faults = append(faults, fmt.Errorf("to %s: %w", one.Target, err))
			if one.Attempts < maxTells {
				continue // DueAlerts has put it off
			}
			s.Log.Error("an alert was not told and is dropped", "to", one.Target,
				"snag", one.Snag.ID, "error", err)
		}
		if err := s.Store.AlertTold(ctx, one.ID); err != nil {
			return err
		}
	}
	return errors.Join(faults...)
}

// webhookTarget stands for the webhook among those who are told.
const webhookTarget = "webhook"

func targets(a config.Alerts) []string {
	var out []string
	for _, to := range a.To {
		out = append(out, to.String())
	}
	if a.Webhook != "" {
		out = append(out, webhookTarget)
	}
	return out
}

func (s *Alerter) tellOne(
	ctx context.Context,
	cfg *config.Compiled,
	one store.Alert,
	now time.Time,
) error {
	if one.Target == webhookTarget {
		if cfg.Service.Alerts.Webhook == "" {
			return nil // it was taken out of the configuration since
		}
		return s.callWebhook(ctx, cfg, one, now)
	}
	to, err := address.Parse(one.Target)
	if err != nil {
		return err
	}
	return s.mailAlert(ctx, cfg, to, one, now)
}

// alertBody is what a webhook gets.
type alertBody struct {
	Kind     string    `json:"kind"` // opened, worse, reminder, over
	At       time.Time `json:"at"`
	HostName string    `json:"host_name"`
	Snag     snag.Snag `json:"snag"`
}

// callWebhook posts JSON. Its header says when, and proves with the secret that it
// is ours: HMAC-SHA256 over the time, a full stop and the body.
func (s *Alerter) callWebhook(
	ctx context.Context,
	cfg *config.Compiled,
	one store.Alert,
	now time.Time,
) error {
	a := cfg.Service.Alerts
	secret, err := s.Secrets.Secret(ctx, a.Secret)
	if err != nil {
		return fmt.Errorf("secret %s cannot be used: %w", a.Secret, err)
	}
	body, err := json.Marshal(alertBody{
		Kind:     one.Kind,
		At:       one.At.UTC(),
		HostName: string(cfg.Service.HostName),
		Snag:     one.Snag,
	})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, webhookTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, a.Webhook, bytes.NewReader(body))
	if err != nil {
		return errors.New("its URL cannot be used")
	}
	stamp := strconv.FormatInt(now.Unix(), 10)
	sum := hmac.New(sha256.New, []byte(secret))
	_, _ = io.WriteString(sum, stamp+".")
	_, _ = sum.Write(body)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Gull-Signature", "t="+stamp+",sha256="+hex.EncodeToString(sum.Sum(nil)))
	resp, err := webhooks.Do(req)
	if err != nil {
		var named *url.Error // it names the URL, which is secret
		if errors.As(err, &named) {
			err = named.Err
		}
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("it answers %s", resp.Status)
	}
	return nil
}

// webhooks follow no redirects: what is signed goes where it was meant to.
var webhooks = &http.Client{
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// mailAlert sends an alert by our own queue, around the trouble that it tells of.
func (s *Alerter) mailAlert(
	ctx context.Context,
	cfg *config.Compiled,
	to address.Address,
	one store.Alert,
	now time.Time,
) error {
	body, err := quoted(alertText(&one, string(cfg.Service.HostName)))
	if err != nil {
		return err
	}
	entry, err := s.Own.compose(cfg, to, alertSubject(&one),
		"text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable", body, now)
	if err != nil {
		return err
	}
	for _, d := range entry.Deliveries {
		around(cfg, d, &one.Snag)
	}
	return s.Own.Queue.Enter(ctx, entry)
}

// around lets a delivery take a smart host if its own lane is what is in trouble.
func around(cfg *config.Compiled, d *mail.Delivery, x *snag.Snag) {
	wide := x.Place.Kind == snag.Ourselves && x.Parts > 0 && d.NextHop != "local"
	if !wide && !slices.Contains(x.Lanes, d.LaneID) {
		return
	}
	if r := cfg.SmartHost(d.Route); r != nil {
		d.Route, d.NextHop, d.Detour = r.Name, route.SmartHosts(r), mail.DetourKept
		d.LaneID, d.RouteWhy = ident.ID(
			route.Lane(d.Route, d.NextHop),
		), "around the trouble that it tells of"
	}
}

var alertWords = map[string]string{
	"opened":   "",
	"worse":    "worse: ",
	"reminder": "still: ",
	"over":     "over: ",
}

func alertSubject(a *store.Alert) string {
	severity, _ := a.Snag.Severity.MarshalText()
	if a.Kind == "over" {
		return fmt.Sprintf("Over: %s at %s", a.Snag.Title, a.Snag.Place.Where())
	}
	return fmt.Sprintf("[%s] %s%s at %s", severity, alertWords[a.Kind], a.Snag.Title,
		a.Snag.Place.Where())
}

func alertText(a *store.Alert, host string) string {
	x := &a.Snag
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\r\n", args...) }
	const form = "Monday 2 January at 15:04 UTC"
	line("%s at %s, seen by %s.", x.Title, x.Place.Where(), host)
	line("")
	if a.Kind == "over" {
		line("It is over since %s: %s.", x.ClosedAt.UTC().Format(form), x.Ended)
		line("It had lasted since %s; %d messages failed.", x.Since.UTC().Format(form), x.Failed)
		return b.String()
	}
	line("%s", x.Means)
	if x.Doubt != "" {
		line("%s", x.Doubt)
	}
	line("")
	line("Since:         %s", x.Since.UTC().Format(form))
	line("Messages:       %d wait, %d have failed", x.Waiting, x.Failed)
	line("Can be fixed: by %s", strings.ReplaceAll(x.WhoCanFix, "-", " "))
	line("What to do:    %s", x.Advice)
	example := "refused before it was a message"
	if x.Evidence.MessageID != 0 {
		example = "message " + x.Evidence.MessageID.String()
	}
	if x.Evidence.Recipient != "" {
		example += " to " + x.Evidence.Recipient
	}
	line("An example:    %s: %s", example, x.Evidence.Last.String())
	line("")
	line("Look at it:    gull snag show %s", x.ID)
	for _, m := range x.Fixes {
		line("%-14s %s: gull snag fix %s --do %s", "", m.Says, x.ID, m.Do)
	}
	return b.String()
}
