package client_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"gullroute/internal/api"
	"gullroute/internal/client"
	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/teststand"
)

// says is a service that answers everything with one text.
func says(t *testing.T, status int, text string) *client.Client {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, text)
	}))
	t.Cleanup(s.Close)
	return client.New(s.URL+"/", "a token")
}

func TestAProblemNamesEveryFault(t *testing.T) {
	c := says(t, 422, `{"status":422,"detail":"this is not valid; nothing was changed","errors":[
		{"location":"body.limits.recipients","message":"at least 1","value":7},
		{"location":"","message":"and the rest"}]}`)
	_, err := c.Status(t.Context())
	var p *client.Problem
	want := "this is not valid; nothing was changed\n  line 7, limits.recipients: at least 1\n  and the rest"
	if !errors.As(err, &p) || p.Status != 422 || err.Error() != want {
		t.Errorf("%v", err)
	}
}

func TestWhatIsNoAnswerOfOursIsAnErrorToo(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		text   string
		want   string
	}{
		"a proxy's page":   {502, "<html>Bad gateway</html>", "502"},
		"an empty problem": {500, "", "500"},
		"half an answer":   {200, `{"node":"sh`, "cannot be read"},
	} {
		_, err := says(t, c.status, c.text).Status(t.Context())
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	_, err := client.New(gone.URL, "").Status(t.Context())
	var u *client.Unreachable
	if !errors.As(err, &u) || u.Unwrap() == nil || !strings.Contains(err.Error(), "is it running") {
		t.Errorf("%v", err)
	}
}

func TestLongWorkTellsOfItsProgress(t *testing.T) {
	rows := `{"progress":0.5,"done":1,"what":"reading"}` + "\n" + `{"progress":0.9,"done":2}` + "\n"
	for name, c := range map[string]struct {
		text, want string
	}{
		"to its result":  {rows + `{"result":{"rows":2,"new":2,"written":true}}`, ""},
		"to a problem":   {rows + `{"problem":{"status":422,"detail":"row 3 is wrong"}}`, "row 3 is wrong"},
		"and breaks":     {rows, "broke off"},
		"and is garbled": {rows + `{"result":`, "broke off"},
	} {
		var steps []client.Progress
		got, err := says(t, 200, c.text).ImportEntries(t.Context(), "mailboxes", strings.NewReader(""), true,
			func(p client.Progress) { steps = append(steps, p) })
		if len(steps) != 2 || steps[0].What != "reading" || steps[1].Done != 2 {
			t.Errorf("%s: %+v", name, steps)
		}
		if c.want == "" && (err != nil || got.New != 2 || !got.Written) ||
			c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
}

func TestNamesArriveWhole(t *testing.T) {
	var asked []string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+r.URL.EscapedPath()+" "+r.Header.Get("Authorization"))
		_, _ = io.WriteString(w, `{}`)
	}))
	defer s.Close()
	c := client.New(s.URL, "t")
	_, _ = c.ShowEntry(t.Context(), "aliases", `"a/b c"@x.example`)
	_, _ = c.MoveItem(t.Context(), "routes", "by provider/2", 1, false)
	_, _ = c.Trace(t.Context(), "../status", nil)
	want := []string{
		"GET /api/v1/aliases/%22a%2Fb%20c%22@x.example Bearer t",
		"POST /api/v1/setup/routes/by%20provider%2F2/move Bearer t",
		"GET /api/v1/messages/..%2Fstatus Bearer t",
	}
	if fmt.Sprint(asked) != fmt.Sprint(want) {
		t.Errorf("got\n%s", strings.Join(asked, "\n"))
	}
}

func TestTheClientAndTheServiceUnderstandEachOther(t *testing.T) {
	s := teststand.Start(t)
	c := client.New(s.URL, teststand.Keeper)
	sent, err := c.Send(t.Context(), api.TestMessage{From: "ines.harrow@skerryline.example",
		To: []string{"keeper@skerryline.example", "ada@saltmarsh.example"}, Subject: "Berth"})
	if err != nil || sent.ID == "" {
		t.Fatalf("%+v %v", sent, err)
	}
	live := make(chan client.LiveEvent, 100)
	ready := make(chan struct{})
	ended := make(chan error, 1)
	go func() {
		ended <- c.Live(t.Context(), "", func() { close(ready) }, func(e client.LiveEvent) bool {
			live <- e
			return e.Kind != mail.EventDelivered
		})
	}()
	<-ready
	second, err := c.Send(t.Context(), api.TestMessage{From: "ines.harrow@skerryline.example",
		To: []string{"crew@skerryline.example"}})
	if err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err != nil || len(live) == 0 {
		t.Errorf("%d events, %v", len(live), err)
	}
	trace, err := c.Trace(t.Context(), second.ID, nil)
	if err != nil || len(trace.Message.Deliveries) != 1 ||
		trace.Message.Deliveries[0].Via[0] != "crew@skerryline.example" || trace.ForUser == "" {
		t.Errorf("%+v %v", trace, err)
	}
	id, err := ident.Parse(second.ID)
	if err != nil {
		t.Fatal(err)
	}
	s.Until(id, mail.Delivered)
	box, err := c.Mailbox(t.Context(), "ines.harrow@skerryline.example", "", 10, "")
	if err != nil || len(box.Items) != 1 {
		t.Fatalf("%+v %v", box, err)
	}
	var raw bytes.Buffer
	if err := c.MailboxRaw(t.Context(), "ines.harrow@skerryline.example",
		box.Items[0].ID.String(), &raw); err != nil || !strings.Contains(raw.String(), "From: ") {
		t.Errorf("%s %v", &raw, err)
	}
	lanes, err := c.Lanes(t.Context(), url.Values{"sort": {"messages"}})
	if err != nil || lanes.Total == 0 {
		t.Errorf("%+v %v", lanes, err)
	}
	// Two who change different fields of one item lose nothing.
	for _, fields := range []map[string]any{{"hosts": []string{"127.0.0.1:2"}}, {"connections": 7}} {
		if _, err := c.ChangeItem(t.Context(), "routes", "by provider", fields, false); err != nil {
			t.Fatal(err)
		}
	}
	item, err := c.Item(t.Context(), "routes", "by provider")
	if hosts := fmt.Sprint(item.Fields["hosts"]); err != nil || hosts != "[127.0.0.1:2]" ||
		fmt.Sprint(item.Fields["connections"]) != "7" {
		t.Errorf("%+v %v", item, err)
	}
}
