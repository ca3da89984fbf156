package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"gullroute/internal/api"
	"gullroute/internal/core/audit"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/teststand"
)

// asks makes a function that asks, expects a status and reads the answer.
func asks(t *testing.T, s *teststand.Stand) func(token, method, path, body string, status int, into any) string {
	return func(token, method, path, body string, status int, into any) string {
		t.Helper()
		got, text := s.Ask(token, method, path, body)
		if got != status {
			t.Fatalf("%s %s: %d %s, not %d", method, path, got, text, status)
		}
		if into != nil {
			if err := json.Unmarshal([]byte(text), into); err != nil {
				t.Fatal(err)
			}
		}
		return text
	}
}

func TestPeopleWhoAdministerComeChangeAndGo(t *testing.T) {
	s := teststand.Start(t)
	ask := asks(t, s)
	const people = "/api/v1/operators"
	signIn := func(name, password string, status int) (token string) {
		t.Helper()
		var in struct{ Token string }
		ask("", "POST", "/api/v1/sign-in", fmt.Sprintf(`{"name":%q,"password":%q,"program":true}`, name, password),
			status, &in)
		return in.Token
	}
	for body, says := range map[string]string{
		`{"name":"Wren Ash","role":"operator"}`:                           "small letters",
		`{"name":"wren","role":"captain"}`:                                "role",
		`{"name":"wren","role":"operator","password":"short"}`:            "at least 10",
		`{"name":"wren","role":"operator","password":"administrator123"}`: "guessed soon",
	} {
		if text := ask(teststand.Keeper, "POST", people, body, 422, nil); !strings.Contains(text, says) {
			t.Errorf("%s: %s", body, text)
		}
	}
	var made api.PersonMade
	ask(teststand.Keeper, "POST", people, `{"name":"keeper","role":"administrator"}`, 200, &made)
	keeper := made.Password
	ask(teststand.Keeper, "POST", people, `{"name":"wren","role":"operator","about":"nights"}`, 200, &made)
	if made.Password == "" || !made.MustChange || made.MadeBy != "keeper" {
		t.Errorf("%+v", made)
	}
	if text := ask(teststand.Keeper, "POST", people, `{"name":"wren","role":"viewer"}`, 422, nil); !strings.Contains(
		text, "already") {
		t.Error(text)
	}
	signIn("wren", "wrong password", 401)
	wren := signIn("wren", made.Password, 200)

	// The first password opens nothing but the way to a new one; then all other sessions end.
	if text := ask(wren, "GET", "/api/v1/queue", "", 403, nil); !strings.Contains(text, "new password") {
		t.Error(text)
	}
	other := signIn("wren", made.Password, 200)
	const chosen = "petrel lantern oakum 9"
	change := func(old, new string) string { return fmt.Sprintf(`{"old_password":%q,"new_password":%q}`, old, new) }
	ask(wren, "POST", "/api/v1/me/password", change("not it", chosen), 422, nil)
	ask(wren, "POST", "/api/v1/me/password", change(made.Password, chosen), 204, nil)
	ask(wren, "GET", "/api/v1/queue", "", 200, nil)
	ask(other, "GET", "/api/v1/me", "", 401, nil)
	ask(wren, "POST", "/api/v1/draft/apply", "{}", 403, nil)

	var sessions api.Page[mail.PersonSession]
	second := signIn("wren", chosen, 200)
	ask(wren, "GET", "/api/v1/me/sessions", "", 200, &sessions)
	if len(sessions.Items) != 2 || sessions.Items[0].Mine == sessions.Items[1].Mine {
		t.Errorf("%+v", sessions.Items)
	}
	for _, x := range sessions.Items {
		if !x.Mine {
			ask(teststand.Keeper, "DELETE", fmt.Sprintf("%s/wren/sessions/%d", people, x.ID), "", 204, nil)
		}
	}
	ask(second, "GET", "/api/v1/me", "", 401, nil)

	// Switched off he is out at once; a role counts with the next thing that he asks.
	ask(teststand.Keeper, "PATCH", people+"/wren", `{"role":"viewer"}`, 200, nil)
	ask(wren, "POST", "/api/v1/pauses", "{}", 403, nil)
	ask(teststand.Keeper, "PATCH", people+"/wren", `{"off":true}`, 200, nil)
	ask(wren, "GET", "/api/v1/me", "", 401, nil)
	signIn("wren", chosen, 401)
	ask(teststand.Keeper, "PATCH", people+"/wren", `{"off":false,"password":""}`, 200, &made)
	signIn("wren", chosen, 401)
	signIn("wren", made.Password, 200)

	// The last administrator cannot leave by accident.
	for method, body := range map[string]string{"PATCH": `{"off":true}`, "DELETE": ""} {
		if text := ask(teststand.Keeper, method, people+"/keeper", body, 422, nil); !strings.Contains(text,
			"nobody would be left") {
			t.Errorf("%s: %s", method, text)
		}
	}
	ask(teststand.Keeper, "DELETE", people+"/wren", "", 204, nil)
	ask(teststand.Keeper, "GET", people+"/wren", "", 404, nil)
	signIn("keeper", keeper, 200)
}

func TestASecondFactorIsAskedForAndReplacedByRecoveryCodes(t *testing.T) {
	s := teststand.Start(t)
	ask := asks(t, s)
	const password = "petrel lantern oakum 9"
	ask(teststand.Keeper, "POST", "/api/v1/operators",
		`{"name":"keeper","role":"administrator","password":"`+password+`"}`, 200, nil)
	signIn := func(code string, status int, says string) (token string) {
		t.Helper()
		var in struct{ Token string }
		text := ask(
			"",
			"POST",
			"/api/v1/sign-in",
			fmt.Sprintf(`{"name":"keeper","password":%q,"code":%q,"program":true}`,
				password, code),
			status,
			&in,
		)
		if !strings.Contains(text, says) {
			t.Errorf("with code %q: %s", code, text)
		}
		return in.Token
	}
	keeper := signIn("", 200, "")
	const second = "/api/v1/me/second-factor"
	var begun api.SecondFactor
	ask(keeper, "POST", second, `{"password":"not it"}`, 422, nil)
	ask(keeper, "POST", second, `{"password":"`+password+`"}`, 200, &begun)
	if !strings.HasPrefix(begun.URI, "otpauth://totp/") || !strings.HasPrefix(begun.Picture, "data:image/png;base64,") {
		t.Errorf("%+v", begun)
	}
	signIn("", 200, "") // it is not confirmed yet
	code := func(at time.Time) string {
		t.Helper()
		c, err := totp.GenerateCode(begun.Secret, at)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	now := time.Now()
	var recovery api.RecoveryCodes
	ask(keeper, "POST", second+"/confirm", `{"code":"000000"}`, 422, nil)
	ask(keeper, "POST", second+"/confirm", `{"code":"`+code(now)+`"}`, 200, &recovery)
	if len(recovery.Codes) != 10 {
		t.Errorf("recovery codes: %q", recovery.Codes)
	}
	signIn("", 401, "a code of your second factor is needed")
	signIn(code(now), 401, "used already")
	signIn(code(now.Add(-time.Hour)), 401, "the code is wrong")
	signIn(code(now.Add(30*time.Second)), 200, "keeper")
	signIn(recovery.Codes[3], 200, "keeper")
	signIn(recovery.Codes[3], 401, "the code is wrong")
	ask(keeper, "GET", second, "", 200, &begun)
	if !begun.On || begun.Recovery != 9 {
		t.Errorf("%+v", begun)
	}
	// Somebody at an open console cannot take it away, an administrator can: a telephone was lost.
	ask(keeper, "POST", second+"/remove", `{"password":"not it"}`, 422, nil)
	ask(teststand.Keeper, "PATCH", "/api/v1/operators/keeper", `{"remove_second_factor":true}`, 200, nil)
	signIn("", 200, "keeper")
}

func TestTheFirstAdministratorIsMadeByALinkOnce(t *testing.T) {
	s := teststand.Start(t)
	ask := asks(t, s)
	old, err := s.Control.Operators.FirstLink(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	link, err := s.Control.Operators.FirstLink(t.Context()) // it was started again
	if err != nil || link == "" {
		t.Fatal(link, err)
	}
	first := func(link, name, password string, status int, says string) {
		t.Helper()
		if text := ask("", "POST", "/api/v1/first-operator", fmt.Sprintf(`{"link":%q,"name":%q,"password":%q}`, link, name,
			password), status, nil); !strings.Contains(
			text,
			says,
		) {
			t.Errorf("%s: %s", name, text)
		}
	}
	const password = "petrel lantern oakum 9"
	first(link, "keeper", "Keeper keeper 1", 422, "guessed soon")
	first(old, "keeper", password, 422, "none, or no longer")
	first(link, "keeper", password, 204, "")
	first(link, "deck", password, 422, "none, or no longer")
	ask("", "POST", "/api/v1/sign-in", `{"name":"keeper","password":"`+password+`"}`, 200, nil)
	if link, err := s.Control.Operators.FirstLink(t.Context()); err != nil || link != "" {
		t.Errorf("a link is offered though somebody administers: %v", err)
	}
	if text := ask(teststand.Keeper, "GET", "/api/v1/audit?action=first-operator", "", 200, nil); !strings.Contains(
		text,
		`"who":"keeper"`,
	) ||
		strings.Contains(text, link) {
		t.Errorf("on record: %s", text)
	}
}

func TestTokensLetProgramsInForAWhile(t *testing.T) {
	s := teststand.Start(t)
	ask := asks(t, s)
	add := func(ends time.Time, status int) (made api.TokenMade) {
		t.Helper()
		body, _ := json.Marshal(map[string]any{"name": "backups", "role": "auditor", "ends_at": ends})
		var into any
		if status == 200 {
			into = &made
		}
		ask(teststand.Keeper, "POST", "/api/v1/tokens", string(body), status, into)
		return made
	}
	add(time.Now().Add(-time.Minute), 422)
	brief, long := add(time.Now().Add(1500*time.Millisecond), 200), add(time.Now().Add(24*time.Hour), 200)
	ask(brief.Value, "GET", "/api/v1/audit", "", 200, nil)
	ask(long.Value, "POST", "/api/v1/tokens", "{}", 403, nil)
	ask(long.Value, "POST", "/api/v1/me/password", `{"old_password":"a","new_password":"b"}`, 409, nil)
	list := ask(teststand.Keeper, "GET", "/api/v1/tokens", "", 200, nil)
	if strings.Contains(list, long.Value) || !strings.Contains(list, `"last_from":"127.0.0.1"`) {
		t.Errorf("the list: %s", list)
	}
	time.Sleep(time.Until(brief.EndsAt.Time) + 100*time.Millisecond)
	ask(brief.Value, "GET", "/api/v1/me", "", 401, nil)
	ask(teststand.Keeper, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", long.ID), "", 204, nil)
	ask(long.Value, "GET", "/api/v1/me", "", 401, nil)
}

func TestWhoDidWhatIsOnRecordAndCannotBeAltered(t *testing.T) {
	s := teststand.Start(t)
	ask := asks(t, s)
	ask("", "POST", "/api/v1/sign-in", `{"name":"nobody","password":"open sesame"}`, 401, nil)
	ask(teststand.Viewer, "POST", "/api/v1/draft/apply", `{"why":"I want to"}`, 403, nil)
	ask(teststand.Keeper, "PATCH", "/api/v1/mailboxes/ines.harrow@skerryline.example",
		`{"fields":{"name":"Ines Harrow","password":"petrel lantern oakum 9"}}`, 200, nil)
	ask(teststand.Keeper, "GET", "/api/v1/queue", "", 200, nil) // a look is not on record
	ask(teststand.Operator, "GET", "/api/v1/queue.csv", "", 200, nil)
	ask(teststand.Auditor, "GET", "/api/v1/messages/0000000000001/content?why=asked+by+the+court", "", 404, nil)
	var page api.Page[audit.Deed]
	text := ask(teststand.Auditor, "GET", "/api/v1/audit", "", 200, &page)
	var lines []string
	for _, e := range page.Items {
		lines = append(lines, fmt.Sprintf("%s %s %s %d %s", e.Who, e.Action, e.Target, e.Status, e.Why))
	}
	want := []string{"auditor message-content 0000000000001 404 asked by the court", "operator queue-csv  200 ",
		"keeper mailbox-change ines.harrow@skerryline.example 200 ", "viewer draft-apply  403 I want to",
		"nobody sign-in  401 name or password is wrong"}
	if strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("on record:\n%s\nwanted:\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	if strings.Contains(text, "oakum") || strings.Contains(text, "sesame") ||
		!strings.Contains(text, `"after":{"address":"ines.harrow@skerryline.example","name":"Ines Harrow"`) {
		t.Errorf("the entries: %s", text)
	}
	var check audit.Inspection
	verify := func() audit.Inspection {
		t.Helper()
		check = audit.Inspection{}
		ask(teststand.Auditor, "GET", "/api/v1/audit/verify", "", 200, &check)
		return check
	}
	if verify(); check.Broken != 0 || check.Entries < 5 || check.Head == "" {
		t.Errorf("%+v", check)
	}
	third := page.Items[2].ID
	for _, c := range []struct{ sql, says string }{
		{fmt.Sprintf("UPDATE audit SET who = 'deck' WHERE id = %d", third), "changed after"},
		{fmt.Sprintf("UPDATE audit SET who = 'keeper' WHERE id = %d", third), ""},
		{fmt.Sprintf("DELETE FROM audit WHERE id = %d", third), "is gone"},
	} {
		s.SQL(t, c.sql)
		if verify(); check.Why == "" != (c.says == "") || !strings.Contains(check.Why, c.says) {
			t.Errorf("after %s: %+v", c.sql, check)
		}
	}
	if status, body := s.Ask(teststand.Operator, "GET", "/api/v1/audit", ""); status != http.StatusForbidden {
		t.Errorf("an operator reads it: %d %s", status, body)
	}
}

// Whoever is bounded to domains where nothing is sees nothing: every operation either is about
// the whole server, and refused, or shows nothing of others, with true names and ids in the path.
func TestNothingOfOtherDomainsIsSeenWithinBounds(t *testing.T) {
	s := teststand.Start(t)
	waits := s.Send("Berth for Thursday", "ferry@saltmarsh.example")
	lies := s.Send("Rope", "ines.harrow@skerryline.example")
	s.Until(lies, mail.Delivered)
	id, inbox := waits.String(), lies.String()
	for _, role := range rights.Roles {
		status, body := s.Ask(teststand.Keeper, "POST", "/api/v1/tokens",
			`{"name":"bounded `+string(role)+`","role":"`+string(role)+`","domains":["lightkeepers.example"]}`)
		var made api.TokenMade
		if err := json.Unmarshal([]byte(body), &made); err != nil || status != http.StatusOK {
			t.Fatal(status, body)
		}
		asked, heeded := 0, 0
		for path, methods := range operations(t).Paths {
			for method, op := range methods {
				method = strings.ToUpper(method)
				area := rights.Of(op.ID, method == http.MethodGet)
				if area == rights.Open || !rights.May(role, area) {
					continue
				}
				asked++
				for _, message := range []string{id, inbox} {
					at := strings.NewReplacer("{address}", "ines.harrow@skerryline.example", "{id}", message,
						"{section}", "routes", "{number}", "1", "{domain}", "skerryline.example",
						"{", "", "}", "").Replace(path)
					body := ""
					if method != http.MethodGet {
						body = `{"verb":"hold","filter":{"message":"` + message + `"},"all":true,"delivery":["` + message +
							`-1"],"fields":{"name":"x"},"name":"x","old_password":"x","new_password":"x"}`
						if strings.Contains(at, "sessions") || strings.Contains(at, "second-factor") ||
							strings.HasPrefix(op.ID, "keep") || op.ID == "drop-kept" {
							continue
						}
					}
					status, answer := s.Ask(made.Value, method, at, body)
					bounded := status == http.StatusForbidden && strings.Contains(answer, "whole server")
					if bounded == rights.Heeds(op.ID) {
						t.Errorf("%s %s by a bounded %s: %d %s", method, at, role, status, answer)
					}
					if bounded {
						continue
					}
					heeded++
					said := strings.ReplaceAll(answer, "ines.harrow@skerryline.example", "") // said back
					for _, secret := range []string{"skerryline", "saltmarsh", "Ines", "Rope", "Berth", "127.0.0.1:"} {
						if strings.Contains(said, secret) {
							t.Errorf("%s %s shows %s to a %s of other domains: %s", method, at, secret, role, answer)
						}
					}
				}
			}
		}
		if asked < 60 || heeded < 20 {
			t.Errorf("%s: %d operations were asked for, %d of them heed bounds", role, asked, heeded)
		}
	}
	if m, err := s.Insight.Trace.Message(t.Context(), 0, waits); err != nil ||
		m.Message.Deliveries[0].State == mail.Held {
		t.Errorf("somebody else's message was held: %v", err)
	}
	if status, _ := s.Ask(teststand.Keeper, "GET", "/api/v1/mailboxes/ines.harrow@skerryline.example", ""); status != 200 {
		t.Error("somebody else's mailbox is gone")
	}
}
