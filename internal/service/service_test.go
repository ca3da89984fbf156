package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"gullroute/internal/api"
	"gullroute/internal/core/mail"
	"gullroute/internal/core/rights"
	"gullroute/internal/service"
	"gullroute/internal/teststand"
)

// document is what these tests need of the OpenAPI document.
type document struct {
	Paths map[string]map[string]struct {
		ID          string `json:"operationId"`
		Summary     string `json:"summary"`
		Description string `json:"description"`
	} `json:"paths"`
}

func operations(t *testing.T) document {
	t.Helper()
	text, err := service.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	var d document
	if err := json.Unmarshal(text, &d); err != nil {
		t.Fatal(err)
	}
	if len(d.Paths) < 60 {
		t.Fatalf("only %d paths", len(d.Paths))
	}
	return d
}

func TestEveryOperationIsNamedOnceAndDescribed(t *testing.T) {
	seen := map[string]string{}
	for path, methods := range operations(t).Paths {
		for method, op := range methods {
			at := method + " " + path
			if op.ID == "" || op.Summary == "" || strings.HasSuffix(op.Summary, ".") {
				t.Errorf("%s: id %q, summary %q", at, op.ID, op.Summary)
			}
			if other := seen[op.ID]; other != "" {
				t.Errorf("%s and %s are both %s", at, other, op.ID)
			}
			seen[op.ID] = at
		}
	}
}

// Every operation, asked for by every role and by a stranger: who may not is refused, whatever
// else is wrong with what he asks; who may is not refused for that.
func TestEveryOperationKnowsWhoMayCallIt(t *testing.T) {
	s := teststand.Start(t)
	tokens := map[mail.Role]string{mail.Administrator: teststand.Keeper, mail.Operator: teststand.Operator,
		mail.Auditor: teststand.Auditor, mail.Viewer: teststand.Viewer}
	named, asked := rights.Named(), 0
	for path, methods := range operations(t).Paths {
		at := strings.NewReplacer("{section}", "routes", "{number}", "999", "{", "", "}", "").Replace(path)
		for method, op := range methods {
			method = strings.ToUpper(method)
			named = slices.DeleteFunc(named, func(n string) bool { return n == op.ID })
			area := rights.Of(op.ID, method == http.MethodGet)
			if area == "" {
				t.Errorf("nobody may call %s: it stands in no area", op.ID)
			}
			if area == rights.Open {
				continue
			}
			if status, body := s.Ask("", method, at, ""); status != http.StatusUnauthorized {
				t.Errorf("%s %s by a stranger: %d %s", method, at, status, body)
			}
			if area == rights.Mailbox { // for its owner, and for nobody who administers
				if status, body := s.Ask(teststand.Keeper, method, at, ""); status != http.StatusUnauthorized {
					t.Errorf("%s %s by an administrator: %d %s", method, at, status, body)
				}
				continue
			}
			for _, role := range rights.Roles {
				if rights.May(role, area) && role == mail.Administrator {
					continue // what he asks is done: other tests do that
				}
				asked++
				status, body := s.Ask(tokens[role], method, at, "!")
				refused := status == http.StatusForbidden && strings.Contains(body, "this needs the role ")
				if refused == rights.May(role, area) || refused && !strings.Contains(body, rights.Who(area)) {
					t.Errorf("%s %s by %s: %d %s", method, at, role, status, body)
				}
			}
		}
	}
	if len(named) > 0 || asked < 300 {
		t.Errorf("%d were asked; no operations are: %v", asked, named)
	}
}

func TestWhatIsWrongIsNamed(t *testing.T) {
	s := teststand.Start(t)
	const routes = "/api/v1/setup/routes"
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		says                     string
	}{
		{"no such message", "GET", "/api/v1/messages/0000000000001", "", 404, "no such message"},
		{"no id", "GET", "/api/v1/messages/xyz", "", 422, "13 letters and digits"},
		{"an unknown field", "POST", routes, `{"fields":{"name":"a","next_hop":"mx","hops":1}}`, 422, "hops"},
		{"a value that is not allowed", "POST", routes,
			`{"fields":{"name":"a","next_hop":"teleport"}}`, 422, `"next_hop"`},
		{"a name that is there", "POST", routes,
			`{"fields":{"name":"by provider","next_hop":"mx"}}`, 409, "of that name"},
		{"no such item", "DELETE", routes + "/nowhere", "", 404, "no route"},
		{"a position beyond the end", "POST", routes + "/by%20provider/move",
			`{"position":9}`, 422, "there are positions 1 to 1"},
		{"a draft that is not there", "POST", "/api/v1/draft/apply", `{}`, 404, "draft"},
		{"an alias to itself", "POST", "/api/v1/aliases",
			`{"fields":{"address":"a@skerryline.example","to":["a@skerryline.example"]}}`, 422, "leads back"},
		{"a mailbox elsewhere", "POST", "/api/v1/mailboxes",
			`{"fields":{"address":"a@saltmarsh.example"}}`, 422, "not among our"},
		{"a page that is none", "GET", "/api/v1/lanes?after=x", "", 422, "after"},
		{"a period backwards", "GET",
			"/api/v1/report?since=2026-11-23T00:00:00Z&until=2026-11-22T00:00:00Z", "", 422, "before until"},
		{"no JSON", "POST", "/api/v1/explain", `{"from":`, 400, ""},
		{"a control character", "POST", "/api/v1/explain",
			`{"from":"a\u0000@skerryline.example","to":["b@skerryline.example"]}`, 422, "from"},
		{"an action on nothing", "POST", "/api/v1/queue/act", `{"verb":"hold","selection":{}}`, 422, ""},
		{"an unknown verb", "POST", "/api/v1/queue/act", `{"verb":"eat","selection":{"all":true}}`, 422, ""},
	} {
		status, body := s.Ask(teststand.Keeper, c.method, c.path, c.body)
		if status != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d %s, want %d with %q", c.name, status, body, c.status, c.says)
		}
	}
	if d, err := s.Control.Drafts.State(t.Context(), false); err != nil || d.Exists {
		t.Errorf("what was refused left a draft: %+v %v", d, err)
	}
}

func TestListsArePagedAndSorted(t *testing.T) {
	s := teststand.Start(t)
	for i := range 5 {
		for range i + 1 {
			s.Send("Berth", fmt.Sprintf("x@d%d.example", i))
		}
	}
	var lanes api.LanePage
	get := func(path string, into any) {
		t.Helper()
		status, body := s.Ask(teststand.Viewer, "GET", path, "")
		if err := json.Unmarshal([]byte(body), into); status != 200 || err != nil {
			t.Fatalf("%s: %d %s", path, status, body)
		}
	}
	get("/api/v1/lanes?sort=messages", &lanes)
	if lanes.Total != 1 || lanes.Items[0].Waiting+lanes.Items[0].Deferred != 15 {
		t.Errorf("one smart host is one lane: %+v", lanes)
	}
	var queue api.Page[mail.QueueItem]
	seen, after := map[string]bool{}, ""
	for pages := 0; ; pages++ {
		get("/api/v1/queue?limit=4&after="+after, &queue)
		for _, item := range queue.Items {
			if id := item.Delivery.Key.String(); seen[id] {
				t.Errorf("%s is on two pages", id)
			} else {
				seen[id] = true
			}
		}
		if after = queue.Next; after == "" || pages > 9 {
			break
		}
	}
	if len(seen) != 15 {
		t.Errorf("%d deliveries are listed of 15", len(seen))
	}
	var boxes api.Page[mail.MailboxLine]
	get("/api/v1/mailboxes?limit=1", &boxes)
	if len(boxes.Items) != 1 || boxes.Next == "" {
		t.Errorf("%+v", boxes)
	}
}

func TestViewersSeeWhatTheSettingsAllow(t *testing.T) {
	s := teststand.Start(t)
	id := s.Send("Berth for Thursday", "keeper@skerryline.example")
	s.Until(id, mail.Delivered)
	change := `{"fields":{"viewers_see":{"addresses":"masked","subjects":"hidden"}}}`
	if status, body := s.Ask(teststand.Keeper, "PATCH", "/api/v1/setup/service/service",
		change); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	if status, body := s.Ask(teststand.Keeper, "POST", "/api/v1/draft/apply",
		`{"why":"privacy"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	for _, path := range []string{"/api/v1/messages/" + id.String(), "/api/v1/trace?q=Berth",
		"/api/v1/mailboxes"} {
		_, whole := s.Ask(teststand.Keeper, "GET", path, "")
		_, masked := s.Ask(teststand.Viewer, "GET", path, "")
		if !strings.Contains(whole, "keeper@skerryline.example") {
			t.Errorf("%s hides from the administrator: %s", path, whole)
		}
		for _, secret := range []string{"keeper@", "ines.harrow@", "Berth for Thursday"} {
			if strings.Contains(masked, secret) {
				t.Errorf("%s shows %q to a viewer: %s", path, secret, masked)
			}
		}
	}
	// Nor may what is hidden be guessed piece by piece.
	for _, path := range []string{"/api/v1/trace?q=ines", "/api/v1/mailboxes?search=ine"} {
		if status, body := s.Ask(teststand.Viewer, "GET", path, ""); status == 200 && strings.Contains(body,
			"skerryline") {
			t.Errorf("%s finds by a part of what is hidden: %s", path, body)
		}
	}
}

// A service that is stopped while it starts ends too: it was told to before it served.
func TestAServiceStoppedBeforeItServesEnds(t *testing.T) {
	stand := teststand.Start(t)
	for i := range 40 {
		s, err := service.New(service.Options{Control: stand.Control, Insight: stand.Insight, InForce: stand.InForce,
			Hub: stand.Engine.Hub, SignIn: stand.Engine.SignIn, Log: slog.New(slog.DiscardHandler),
			Level: new(slog.LevelVar), Address: "127.0.0.1:0"})
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		if i%4 == 0 {
			stop()
		}
		go func() { ended <- s.Run(ctx) }()
		if i%2 == 1 {
			time.Sleep(time.Duration(i) * 20 * time.Microsecond)
		}
		stop()
		select {
		case err := <-ended:
			if err != nil {
				t.Errorf("it ended with %v", err)
			}
		case <-time.After(20 * time.Second):
			t.Fatal("it serves on")
		}
	}
}
