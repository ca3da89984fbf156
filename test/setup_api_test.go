package test

import (
	"strings"
	"testing"
)

func TestSetupByTheInterfaceSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	s := own(t, "setupapi", nil)
	for _, c := range []struct{ name, method, path, body, status, want string }{
		{"a field that is not known", "POST", "/api/v1/setup/routes",
			`{"fields":{"name":"x","next_hop":"mx","colour":"red"}}`, "422", `"location":"colour"`},
		{"a value that is not allowed", "POST", "/api/v1/setup/routes",
			`{"fields":{"name":"x","next_hop":"pigeon"}}`, "422", `"location":"next_hop"`},
		{"an inner field", "POST", "/api/v1/setup/listeners",
			`{"fields":{"name":"x","address":"127.0.0.1:9","kind":"edge","limits":{"recipients":0}}}`, "422", `"location":"limits.recipients"`},
		{"an item of a list", "POST", "/api/v1/setup/relay_rules",
			`{"fields":{"name":"x","action":"allow","networks":["10.0.0.0/8","10.1/16"]}}`, "422", `"location":"networks[1]"`},
		{"no name", "POST", "/api/v1/setup/peers", `{"fields":{"domains":["a.example"]}}`, "422",
			`"location":"name"`},
		{"a name that is there", "POST", "/api/v1/setup/peers",
			`{"fields":{"name":"dunlin post","domains":["a.example"]}}`, "409", "of that name already"},
		{"no such item", "PATCH", "/api/v1/setup/peers/nobody", `{"fields":{"tls":"required"}}`, "404",
			`there is no peer`},
		{"no such section", "GET", "/api/v1/setup/lanes", "", "422", "section"},
		{"a position that is not there", "POST", "/api/v1/setup/routes/shelf/move", `{"position":99}`, "422",
			"there are positions 1 to 6"},
		{"what others need", "DELETE", "/api/v1/setup/routes/kelpworks", "", "422",
			`"location":"domain kelpworks.example, route"`},
		{"a second service", "POST", "/api/v1/setup/service", `{"fields":{"host_name":"x.example"}}`, "409",
			"there is one service"},
		{"an apply of nothing", "POST", "/api/v1/draft/apply", `{}`, "404", "there is no draft"},
		{"a discard of nothing", "DELETE", "/api/v1/draft", "", "404", "there is no draft"},
		{"no such revision", "GET", "/api/v1/revisions/99", "", "404", "there is no such revision"},
		{"a confirmation nobody waits for", "POST", "/api/v1/revisions/1/confirm", "", "409",
			"does not wait for confirmation"},
		{"a mailbox that is there", "POST", "/api/v1/mailboxes",
			`{"fields":{"address":"ines.harrow@skerryline.example"}}`, "409", "already; change it instead"},
		{"a mailbox elsewhere", "POST", "/api/v1/mailboxes", `{"fields":{"address":"x@kelpworks.example"}}`,
			"422", "a relay domain; it has no addresses here"},
		{"an address of another's", "POST", "/api/v1/mailboxes",
			`{"fields":{"address":"x@skerryline.example","addresses":["harbour@skerryline.example"]}}`, "422", `"location":"addresses[0]"`},
		{"a short password", "PATCH", "/api/v1/mailboxes/ines.harrow@skerryline.example",
			`{"fields":{"password":"short"}}`, "422", `"location":"password"`},
		{"a forward to itself", "PATCH", "/api/v1/mailboxes/ines.harrow@skerryline.example",
			`{"fields":{"forward_to":["ines.harrow@skerryline.example"]}}`, "422", "cannot forward to itself"},
		{"a reply that ends before it begins", "PATCH", "/api/v1/mailboxes/ines.harrow@skerryline.example",
			`{"fields":{"automatic_reply":{"outside":"x","from":"2026-12-02","until":"2026-12-01"}}}`, "422", `"location":"automatic_reply.until"`},
		{"a mailbox that is not there", "DELETE", "/api/v1/mailboxes/nobody@skerryline.example", "", "404",
			"there is no mailbox"},
		{"an alias of a mailbox's name", "POST", "/api/v1/aliases",
			`{"fields":{"address":"ines.harrow@skerryline.example","to":["a@saltmarsh.example"]}}`, "422", "belongs to mailbox"},
		{"an alias to nobody", "POST", "/api/v1/aliases",
			`{"fields":{"address":"x@skerryline.example","to":[]}}`, "422", `"location":"to"`},
		{"no such secret", "DELETE", "/api/v1/secrets/nothing", "", "404", "there is no such secret"},
		{"an empty secret", "PUT", "/api/v1/secrets/x", `{"value":""}`, "422", "value"},
		{"a page that was never given", "GET", "/api/v1/mailboxes?sort=used&after=x", "", "422",
			"give back what next was"},
		{"too many envelopes", "POST", "/api/v1/draft/rehearse?messages=0", "", "422", "write a number from 1"},
		{"explain for nobody's listener", "POST", "/api/v1/explain",
			`{"from":"","to":["a@b.example"],"account":"x"}`, "422", "account"},
	} {
		resp, body := s.request(t, c.method, c.path, c.body, bearer(adminToken)...)
		if !strings.HasPrefix(resp.Status, c.status) || !strings.Contains(body, c.want) ||
			resp.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %s %s", c.name, resp.Status, body)
		}
	}
	if _, body := s.request(
		t,
		"GET",
		"/api/v1/draft",
		"",
		bearer(adminToken)...); !strings.Contains(
		body,
		`"exists":false`,
	) {
		t.Errorf("a refused edit left a draft: %s", body)
	}
	if _, body := s.request(
		t,
		"GET",
		"/api/v1/changes",
		"",
		bearer(adminToken)...); strings.Contains(
		body,
		"ines.harrow",
	) {
		t.Errorf("a refused change is on record: %s", body)
	}
}

func TestSetupByTheInterfaceInWhole(t *testing.T) {
	s := own(t, "setupwhole", nil)
	call := func(method, path, body, want string) {
		t.Helper()
		resp, got := s.request(t, method, path, body, bearer(adminToken)...)
		if resp.StatusCode >= 300 || !strings.Contains(got, want) {
			t.Errorf("%s %s: %s %s", method, path, resp.Status, got)
		}
	}
	call("POST", "/api/v1/setup/peers",
		`{"fields":{"name":"p/q","domains":["a.example"]},"dry_run":true}`, `"dry_run":true`)
	call("GET", "/api/v1/draft", "", `"exists":false`)
	call("POST", "/api/v1/setup/peers",
		`{"fields":{"name":"p/q ø","domains":["a.example"]},"position":1}`, "peer p/q ø added")
	call("GET", "/api/v1/setup/peers/p%2Fq%20%C3%B8", "", `"position":1`)
	call("PATCH", "/api/v1/setup/peers/p%2Fq%20%C3%B8",
		`{"fields":{"tls":"required","connections":2}}`, `"connections":2`)
	call("PATCH", "/api/v1/setup/peers/p%2Fq%20%C3%B8", `{"fields":{"tls":null}}`,
		`{"connections":2,"domains":["a.example"],"name":"p/q ø"}`)
	call(
		"PUT",
		"/api/v1/setup/routes/old%20post",
		`{"fields":{"name":"old server","next_hop":"smarthost","hosts":["old-post.lightkeepers.example"],"port":2530}}`,
		"renamed to old server, in 1 places more",
	)
	call("POST", "/api/v1/setup/peers/p%2Fq%20%C3%B8/move", `{"position":3}`, "moved to position 3")
	call("GET", "/api/v1/draft?yaml=true", "",
		`+  - {name: lightkeepers.example, kind: shared, route: old server}`)
	call("DELETE", "/api/v1/setup/peers/p%2Fq%20%C3%B8", "", "removed")
	call("GET", "/api/v1/setup/domains", "",
		`"fields":{"kind":"shared","name":"lightkeepers.example","route":"old server"}`)
	call("GET", "/api/v1/config/schema.json", "", `"Configuration of Gull Route"`)
	call("POST", "/api/v1/draft/apply", `{"why":"a name"}`, `"revision":2`)
	call("GET", "/api/v1/revisions/2", "", "domain lightkeepers.example: route old post → old server")
	call("GET", "/api/v1/revisions/2?against=1", "", `"against":1`)
	call("GET", "/api/v1/revisions?limit=1", "", `"next":"2"`)
	call("GET", "/api/v1/mailboxes.csv", "",
		"ines.harrow@skerryline.example,Ines Harrow,harbour@skerryline.example")
	call("GET", "/api/v1/aliases.csv", "",
		"crew@skerryline.example,crew.north@skerryline.example crew.south@skerryline.example")
	call("PATCH", "/api/v1/aliases/info@skerryline.example",
		`{"fields":{"about":"what people ask"}}`, "what people ask")
	call("GET", "/api/v1/aliases?search=ODILE", "", "what people ask")
	call("PUT", "/api/v1/secrets/elsewhere", `{"value":"tide"}`, "")
	call("GET", "/api/v1/secrets", "", `"name":"elsewhere"`)
	if _, body := s.request(
		t,
		"GET",
		"/api/v1/changes",
		"",
		bearer(adminToken)...); strings.Contains(body, "tide") ||
		!strings.Contains(body, `"what":"secret"`) {
		t.Errorf("the record of a secret: %s", body)
	}
}

func TestSetupByCommandsSaysWhatIsWrong(t *testing.T) {
	takesLong(t)
	s := own(t, "setupcli", nil)
	for _, c := range []struct {
		args, want string
		code       int
	}{
		{"listener add x --address nowhere --kind edge", "address: \"nowhere\" is not an address with port", 1},
		{"listener add x --address 127.0.0.1:9 --kind submission", "tls: sign-in needs TLS", 1},
		{"route set shelf --port abc", "port: \"abc\" is not a whole number", 1},
		{"route set nowhere --port 1", "there is no route \"nowhere\"", 4},
		{"route set shelf", "say what to change", 2},
		{"route set shelf --unset colour", "--unset colour: there is no such field", 2},
		{"route add", "1 arguments are needed and 0 were given", 2},
		{"relay move people", "say where with --position", 2},
		{"relay add x --action allow --own-sender", "own_sender: it goes with accounts", 1},
		{"domain remove skerryline.example",
			"default_sender_domain: skerryline.example is not among our domains", 1},
		{"domain add x.example --kind shared", "route: a shared domain needs the name of the route", 1},
		{"peer add x --domains a.example --pinned-name b.example",
			"pinned_name: it goes with tls: verified", 1},
		{"mailbox add x@nowhere.example", "nowhere.example is not among our domains", 1},
		{"mailbox import /no/such/file", "no such file", 2},
		{"mailbox set nobody@skerryline.example --name x", "there is no mailbox", 4},
		{"alias remove nobody@skerryline.example", "there is no alias", 4},
		{"secret set x", "standard input holds no line", 2},
		{"revision show zero", "is not a revision's number", 2},
		{"config export --with-secrets /no/such/place", "no such file", 2},
		{"draft diff", "", 0},
	} {
		_, stderr, code := s.gull(t, strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(stderr, c.want) {
			t.Errorf("gull %s: %d %s", c.args, code, stderr)
		}
	}
	for args, want := range map[string]string{
		"route list -o csv":                          "name,next_hop",
		"relay show people -o json":                  `"own_sender": true`,
		"listener list":                              "submission over TLS",
		"domain show bølgevik.example":               "kind                     local",
		"route remove shelf --dry-run":               "It would be: route shelf removed. Nothing was changed.",
		"mailbox list --sort name":                   "Wren Castell",
		"mailbox export":                             "address,name,addresses,quota",
		"alias show crew@skerryline.example -o yaml": "- crew.north@skerryline.example",
		"config export --without-directory":          "# a mailbox server beside us",
		"revision show 1 --text":                     "relay_rules:",
		"draft show":                                 "There is no draft. Revision 1 is in force.",
	} {
		if out := s.run(t, strings.Fields(args)...); !strings.Contains(out, want) {
			t.Errorf("gull %s lacks %q:\n%s", args, want, out)
		}
	}
}
