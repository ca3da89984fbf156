package service

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"gullroute/internal/core/inert"
)

// table is a list that can be had whole, as CSV or JSON Lines: every row that matches, not
// those of one page. Its columns are paths into a row's JSON; a * is each of a list.
type table struct {
	path    string
	columns []string
}

var tables = []table{
	{
		"queue",
		[]string{"delivery.id", "delivery.message_id", "received_at", "delivery.state", "subject",
			"sender", "delivery.recipient", "size", "delivery.attempts", "delivery.next_attempt_at",
			"delivery.warned_at", "delivery.expires_at", "delivery.cause", "delivery.route",
			"delivery.next_hop", "delivery.last_reply.stage", "delivery.last_reply.host",
			"delivery.last_reply.code", "delivery.last_reply.enhanced", "delivery.last_reply.text"},
	},
	{
		"lanes",
		[]string{"id", "route", "next_hop", "state", "why", "waiting", "deferred", "held", "sending",
			"bytes", "oldest_at", "next_attempt_at", "cause", "last_reply.code", "last_reply.enhanced",
			"last_reply.text"},
	},
	{
		"trace",
		[]string{"id", "received_at", "sender", "deliveries.*.recipient", "deliveries.*.state",
			"subject", "message_id_header", "size", "client_address", "listener", "account",
			"refused.recipient", "refused.code", "refused.enhanced", "refused.text"},
	},
	{
		"sessions",
		[]string{"id", "started_at", "ended_at", "seconds", "direction", "listener", "route",
			"name", "address", "tls", "account", "message_count", "refused", "bytes_in", "bytes_out",
			"outcome", "ended"},
	},
	{"actions", []string{"id", "at", "who", "verb", "on", "touched", "why", "undone_by"}},
	{
		"snags",
		[]string{"id", "state", "severity", "cause", "title", "place.kind", "place.name", "waiting",
			"failed", "since", "last_at", "closed_at", "ended", "who_can_fix", "advice", "mine", "note"},
	},
	{
		"held",
		[]string{"id", "received_at", "since", "expires_at", "by", "name", "why", "severity", "score",
			"sender", "header_from", "recipient", "subject", "size", "direction", "client_address"},
	},
	{"audit", []string{"id", "at", "who", "role", "client", "action", "target", "status", "why", "before", "link"}},
	{"report/messages", []string{"at", "kind", "message_id", "delivery_id", "refusal_id", "subject",
		"sender", "recipient", "size", "text"}},
}

// tableAPI serves each table under its path with .csv and .jsonl behind it.
type tableAPI struct{ *Service }

func (s tableAPI) register(huma.API) {
	for _, t := range tables {
		s.app.Get("/api/v1/"+t.path+".csv", func(c fiber.Ctx) error { return s.send(c, t, true) })
		s.app.Get("/api/v1/"+t.path+".jsonl",
			func(c fiber.Ctx) error { return s.send(c, t, false) })
	}
}

// tablePage is how many rows are read at once.
const tablePage = 500

// send reads a list page by page, as whoever asks would, and writes rows as they come.
func (s tableAPI) send(c fiber.Ctx, t table, asCSV bool) error {
	form := "-jsonl"
	if asCSV {
		form = "-csv"
	}
	if _, err := s.require(c, strings.ReplaceAll(t.path, "/", "-")+form); err != nil {
		return err
	}
	words, err := url.ParseQuery(string(c.Request().URI().QueryString()))
	if err != nil {
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	}
	ask := s.asking(c, "/api/v1/"+t.path, words)
	items, next, err := ask("")
	if err != nil {
		return err
	}
	kind, name := "application/jsonl", strings.ReplaceAll(t.path, "/", "-")+".jsonl"
	if asCSV {
		kind, name = "text/csv; charset=utf-8", strings.TrimSuffix(name, "jsonl")+"csv"
	}
	c.Set("Content-Type", kind)
	c.Set("Content-Disposition", `attachment; filename="`+name+`"`)
	c.Set("Cache-Control", "no-store")
	return c.SendStreamWriter(func(bw *bufio.Writer) {
		out := csv.NewWriter(bw)
		out.UseCRLF = true // RFC 4180
		if asCSV {
			_ = out.Write(t.head())
		}
		for {
			for _, item := range items {
				if asCSV {
					_ = out.Write(t.row(item))
				} else {
					_, _ = bw.Write(append(bytes.TrimSpace(item), '\n'))
				}
			}
			if out.Flush(); bw.Flush() != nil || next == "" {
				return
			}
			if items, next, err = ask(next); err != nil {
				broken(bw, out, asCSV, err)
				return
			}
		}
	})
}

// brokeOff begins the last line of a file that is not whole.
const brokeOff = "this file is not whole: "

// broken says, as the last line, that a file is not whole: its status was sent long ago.
func broken(bw *bufio.Writer, out *csv.Writer, asCSV bool, err error) {
	if asCSV {
		_ = out.Write([]string{brokeOff + err.Error()})
		out.Flush()
	} else if text, e := json.Marshal(map[string]string{"problem": brokeOff + err.Error()}); e == nil {
		_, _ = bw.Write(append(text, '\n'))
	}
	_ = bw.Flush()
}

// asking makes a function that reads a page of a list, with the identity of a request.
func (s tableAPI) asking(
	c fiber.Ctx,
	path string,
	words url.Values,
) func(after string) (items []json.RawMessage, next string, err error) {
	handler := s.app.Handler()
	remote := c.RequestCtx().RemoteAddr()
	authorization, cookie := c.Get("Authorization"), c.Get("Cookie")
	words.Set("limit", fmt.Sprint(tablePage))
	return func(after string) ([]json.RawMessage, string, error) {
		words.Set("after", after)
		var request fasthttp.Request
		request.SetRequestURI(path + "?" + words.Encode())
		request.Header.Set("Authorization", authorization)
		request.Header.Set("Cookie", cookie)
		var ctx fasthttp.RequestCtx
		ctx.Init(&request, remote, nil)
		handler(&ctx)
		body := ctx.Response.Body()
		if status := ctx.Response.StatusCode(); status != fiber.StatusOK {
			var problem huma.ErrorModel
			_ = json.Unmarshal(body, &problem)
			for _, e := range problem.Errors {
				problem.Detail += "; " + e.Error()
			}
			return nil, "", fiber.NewError(status, problem.Detail)
		}
		var page struct {
			Items []json.RawMessage `json:"items"`
			Next  string            `json:"next"`
		}
		err := json.Unmarshal(body, &page)
		return page.Items, page.Next, err
	}
}

// head are the names of a table's columns.
func (t table) head() []string {
	names := make([]string, len(t.columns))
	for i, path := range t.columns {
		path = strings.TrimPrefix(path, "delivery.")
		names[i] = strings.NewReplacer(".*.", "_", ".", "_").Replace(path)
	}
	return names
}

// row are a row's cells.
func (t table) row(item json.RawMessage) []string {
	var v any
	d := json.NewDecoder(bytes.NewReader(item))
	d.UseNumber()
	_ = d.Decode(&v)
	cells := make([]string, len(t.columns))
	for i, path := range t.columns {
		cells[i] = inert.Cell(strings.Join(at(v, strings.Split(path, ".")), " "))
	}
	return cells
}

// at are the texts at a path into JSON.
func at(v any, path []string) []string {
	if len(path) == 0 {
		switch v := v.(type) {
		case nil:
			return nil
		case string:
			return []string{v}
		default:
			return []string{fmt.Sprint(v)}
		}
	}
	switch v := v.(type) {
	case map[string]any:
		return at(v[path[0]], path[1:])
	case []any:
		var all []string
		for _, one := range v {
			all = append(all, at(one, path[1:])...)
		}
		return all
	}
	return nil
}
