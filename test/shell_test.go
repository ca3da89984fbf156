package test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

func TestTextThatCannotBeKeptIsRefusedByField(t *testing.T) {
	t.Parallel()
	s := world(t)
	admin := bearer(adminToken)
	for _, c := range []struct{ method, path, body, field string }{
		{"GET", "/api/v1/trace?q=%00", "", "query.q"},
		{"GET", "/api/v1/trace?from=%ff", "", "query.from"},
		{"GET", "/api/v1/lanes?find=a%00b", "", "query.find"},
		{"GET", "/api/v1/mailboxes?search=%c0%80", "", "query.search"},
		{"GET", "/api/v1/report?until=9999-12-31T23:59:59Z", "", "query.until"},
		{"GET", "/api/v1/report?since=0001-01-01T00:00:00Z", "", "query.since"},
		{"GET", "/api/v1/trace?since=9999-01-01T00:00:00Z", "", "query.since"},
		{"GET", "/api/v1/report.html?until=9999-12-31T23:59:59Z", "", "query.until"},
		{"GET", "/api/v1/log/export?until=9999-12-31T23:59:59Z", "", "query.until"},
		{"GET", "/api/v1/mailboxes/a%00b@skerryline.example", "", "path"},
		{"GET", "/api/v1/messages/%ff", "", "path"},
		{"POST", "/api/v1/sign-in", `{"name": "keeper\u0000", "password": "x"}`, "body.name"},
		{"POST", "/api/v1/sign-in", "{\"name\": \"keeper\xff\", \"password\": \"x\"}", "body"},
		{"POST", "/api/v1/mailboxes", `{"fields": {"address": "a@skerryline.example", "name": "x\u0000y"}}`,
			"body.fields.name"},
		{"PUT", "/api/v1/secrets/x", `{"value": "\u0000"}`, "body.value"},
		{"POST", "/api/v1/pauses", `{"kind": "delivery", "why": ["\u0000"]}`, "body.why[0]"},
		{"POST", "/api/v1/mailboxes/import", "address\na\x00b@skerryline.example\n", "body"},
	} {
		resp, body := s.request(t, c.method, c.path, c.body, admin...)
		if resp.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body,
			`"location":"`+c.field+`"`) ||
			!strings.Contains(resp.Header.Get("Content-Type"), "problem+json") {
			t.Errorf("%s %s %q: %s %s, want 422 that names %s", c.method, c.path, c.body, resp.Status, body,
				c.field)
		}
	}
}

func TestBodiesOfStrangersAreNotRead(t *testing.T) {
	t.Parallel()
	s := world(t)
	for _, c := range []struct {
		path, status string
		size         int
	}{{"/api/v1/config/check", "401", 30 << 20}, {"/api/v1/archives?name=x", "401",
		1 << 30}, {"/api/v1/sign-in", "413", 80 << 10}} {
		conn, err := net.Dial("tcp", s.http)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
		fmt.Fprintf(
			conn,
			"POST %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
			c.path,
			c.size,
			strings.Repeat("x", 20<<10),
		) // the server looks at the head of a body only
		line, err := bufio.NewReader(conn).ReadString('\n')
		if err != nil || !strings.Contains(line, " "+c.status+" ") {
			t.Errorf("%s, %d octets announced and some sent: %q %v", c.path, c.size, line, err)
		}
	}
}

func TestALiveStreamEndsWithItsSignIn(t *testing.T) {
	t.Parallel()
	s := own(t, "streams", nil)
	resp, body := s.request(t, "POST", "/api/v1/sign-in", `{"name": "deck", "password": "`+password+`"}`)
	cookie, _, _ := strings.Cut(resp.Header.Get("Set-Cookie"), ";")
	if resp.StatusCode != http.StatusOK {
		t.Fatalf("%s %s", resp.Status, body)
	}
	open := func() (*http.Response, error) {
		req, _ := http.NewRequest(http.MethodGet, "http://"+s.http+"/api/v1/live", nil)
		req.Header.Set("Cookie", cookie)
		return http.DefaultClient.Do(req)
	}
	var streams []*http.Response
	for range 16 {
		resp, err := open()
		if err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%v %v", resp, err)
		}
		defer resp.Body.Close()
		streams = append(streams, resp)
	}
	if resp, err := open(); err != nil || resp.StatusCode != http.StatusTooManyRequests {
		t.Errorf("a seventeenth stream: %v %v", resp.Status, err)
	}
	ended := make(chan error, len(streams))
	for _, resp := range streams {
		go func() { _, err := io.Copy(io.Discard, resp.Body); ended <- err }()
	}
	time.Sleep(300 * time.Millisecond)
	if resp, body := s.request(t, "POST", "/api/v1/sign-out", "", "Cookie", cookie); resp.StatusCode/100 != 2 {
		t.Fatalf("%s %s", resp.Status, body)
	}
	for range streams {
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			t.Fatal("a stream goes on after the sign-out")
		}
	}
}
