package service

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"gullroute/internal/api"
	"gullroute/internal/core/archive"
	"gullroute/internal/core/fault"
	"gullroute/internal/insight"
)

// archivesAPI serves archives and the log.
type archivesAPI struct{ *Service }

func (s archivesAPI) register(api huma.API) {
	op := operation{}
	huma.Register(api, read(
		"archived-days",
		"/api/v1/archived-days",
		"Days that are archived on the machine of the node which answers, the latest first",
	), s.listDays)
	huma.Register(api, operation{}.post("archived-day-open", "/api/v1/archived-days/{day}",
		"Open an archived day, to be looked into as an archive"), s.openDay)
	huma.Register(api, read("archives", "/api/v1/archives", "Opened archives, newest first"),
		s.listArchives)
	huma.Register(api,
		op.remove("archive-close", "/api/v1/archives/{id}", "Forget an opened archive"),
		s.closeArchive)
	huma.Register(api,
		read("log-level", "/api/v1/log/level", "How much the service writes to its log"),
		s.showLogLevel)
	huma.Register(api, op.put("set-log-level", "/api/v1/log/level", "Change it while it runs"),
		s.setLogLevel)
	s.app.Get("/api/v1/log/export", s.exportLog)
	s.app.Post(archivesPath, s.openLog)
}

// exportLog streams what happened in a period as an archive.
func (s archivesAPI) exportLog(c fiber.Ctx) error {
	if _, err := s.require(c, "log-export"); err != nil {
		return err
	}
	var period reportInput
	period.Zone = Zone{"UTC"}
	for name, t := range map[string]*time.Time{"since": &period.Since, "until": &period.Until} {
		if text := c.Query(name); text != "" {
			at, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return fiber.NewError(fiber.StatusUnprocessableEntity,
					name+": write a time like 2026-11-23T10:00:00Z")
			}
			*t = at
		}
	}
	if _, err := period.resolve(time.Now()); err != nil {
		return err
	}
	c.Set("Content-Type", "application/zstd")
	c.Set(
		"Content-Disposition",
		`attachment; filename="gull-`+period.Since.Format(
			"20060102T1504",
		)+"-"+period.Until.Format("20060102T1504")+`.jsonl.zst"`,
	)
	_ = c.RequestCtx().Conn().SetWriteDeadline(time.Time{})
	return c.SendStreamWriter(func(w *bufio.Writer) {
		err := s.Insight.Archiver.ExportLog(context.Background(), w, period.Since, period.Until,
			nil)
		if err != nil { // the archive then lacks its last line, and says so when it is opened
			s.Log.Error("an export broke off", "error", err)
		}
	})
}

// openLog reads an archive from the request's body as it comes in.
func (s archivesAPI) openLog(c fiber.Ctx) error {
	w, err := s.require(c, "archive-open")
	if err != nil {
		return err
	}
	name := strings.TrimSpace(c.Query("name"))
	if name == "" || len(name) > 255 {
		return fiber.NewError(fiber.StatusUnprocessableEntity,
			"name: say the file's name, up to 255 characters")
	}
	body := c.Request().BodyStream()
	if body == nil {
		body = strings.NewReader(string(c.Body()))
	}
	_ = c.RequestCtx().Conn().SetReadDeadline(time.Time{})
	once := &untilEnd{r: body}
	info, err := s.Insight.Archiver.OpenLog(s.running, once, name, w.Name)
	if err != nil { // whoever sends hears the answer only when it has sent
		_, _ = io.CopyN(io.Discard, once, drained)
		c.RequestCtx().SetConnectionClose()
	}
	switch {
	case errors.Is(err, insight.ErrArchive):
		return fiber.NewError(fiber.StatusUnprocessableEntity, err.Error())
	case err != nil:
		return s.storeError(err, "archive")
	}
	return c.JSON(info)
}

// drained is how much of a refused archive is read and forgotten, in octets.
const drained = 256 << 20

// untilEnd reads to the end once: a request's body must not be read again behind
// it.
type untilEnd struct {
	r   io.Reader
	end error
}

// Read reads, and repeats the end.
func (u *untilEnd) Read(p []byte) (int, error) {
	if u.end != nil {
		return 0, u.end
	}
	n, err := u.r.Read(p)
	u.end = err
	return n, err
}

func (s archivesAPI) listArchives(ctx context.Context, in *struct {
	Hash string `query:"hash" doc:"SHA-256 of a file, to ask whether it is open already"`
}) (*out[api.Page[archive.Info]], error) {
	if in.Hash != "" {
		hash, err := hex.DecodeString(in.Hash)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("hash: write it in hexadecimal")
		}
		a, err := s.Insight.Archiver.ByHash(ctx, hash)
		if errors.Is(err, fault.ErrNotFound) {
			return &out[api.Page[archive.Info]]{
				api.Page[archive.Info]{Items: []archive.Info{}},
			}, nil
		}
		if err != nil {
			return nil, s.storeError(err, "archive")
		}
		return &out[api.Page[archive.Info]]{api.Page[archive.Info]{Items: []archive.Info{a}}}, nil
	}
	list, err := s.Insight.Archiver.List(ctx)
	if err != nil {
		return nil, s.storeError(err, "archive")
	}
	return &out[api.Page[archive.Info]]{
		api.Page[archive.Info]{Items: append([]archive.Info{}, list...)},
	}, nil
}

func (s archivesAPI) listDays(
	ctx context.Context,
	_ *struct{},
) (*out[api.Page[api.ArchivedDay]], error) {
	days, err := s.Insight.Shelf.Days(ctx)
	if err != nil {
		return nil, s.storeError(err, "archive")
	}
	return &out[api.Page[api.ArchivedDay]]{api.Page[api.ArchivedDay]{Items: days}}, nil
}

func (s archivesAPI) openDay(ctx context.Context, in *struct {
	Day string `path:"day" format:"date"`
}) (*out[archive.Info], error) {
	info, err := s.Insight.Shelf.Open(context.WithoutCancel(ctx), in.Day, signedIn(ctx).Name)
	switch {
	case errors.Is(err, insight.ErrArchive):
		return nil, huma.Error422UnprocessableEntity(err.Error())
	case err != nil:
		return nil, s.storeError(err, "archived day")
	}
	return &out[archive.Info]{info}, nil
}

func (s archivesAPI) closeArchive(ctx context.Context, in *struct {
	ID int64 `path:"id"`
}) (*struct{}, error) {
	if err := s.Insight.Archiver.Close(ctx, in.ID); err != nil {
		return nil, s.storeError(err, "archive")
	}
	return nil, nil
}

// logLevel is how much the service writes to its log.
type logLevel struct {
	Level string `json:"level" enum:"debug,info,warn,error"`
}

func (s archivesAPI) showLogLevel(context.Context, *struct{}) (*out[logLevel], error) {
	return &out[logLevel]{logLevel{strings.ToLower(s.Level.Level().String())}}, nil
}

func (s archivesAPI) setLogLevel(
	ctx context.Context,
	in *struct{ Body logLevel },
) (*out[logLevel], error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(in.Body.Level)); err != nil {
		return nil, huma.Error422UnprocessableEntity("level: there are debug, info, warn and error")
	}
	s.Level.Set(l)
	s.Log.Warn("log level changed", "level", in.Body.Level, "who", signedIn(ctx).Name)
	return s.showLogLevel(ctx, nil)
}

var openedType = reflect.TypeFor[archive.Info]()

// describeLog writes the streams of archives into the description of the
// interface.
func describeLog(api huma.API) {
	bytes := &huma.Schema{Type: "string", Format: "binary"}
	times := []*huma.Param{
		{Name: "since", In: "query", Schema: &huma.Schema{Type: "string", Format: "date-time"}},
		{Name: "until", In: "query", Schema: &huma.Schema{Type: "string", Format: "date-time"}},
	}
	api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "report-page",
		Method:      http.MethodGet,
		Path:        "/api/v1/report.html",
		Summary:     "A report as a page to read or print",
		Parameters: append(times,
			&huma.Param{Name: "zone", In: "query", Schema: &huma.Schema{Type: "string"}},
			&huma.Param{Name: "archive", In: "query", Schema: &huma.Schema{Type: "integer"}}),
		Responses: map[string]*huma.Response{
			"200": {
				Description: "HTML",
				Content: map[string]*huma.MediaType{
					"text/html": {Schema: &huma.Schema{Type: "string"}},
				},
			},
		},
	})
	api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "log-export",
		Method:      http.MethodGet,
		Path:        "/api/v1/log/export",
		Summary: "What happened in a period: messages, refusals and sessions as JSON " +
			"Lines, compressed by zstd",
		Parameters: times,
		Responses: map[string]*huma.Response{
			"200": {
				Description: "An archive",
				Content:     map[string]*huma.MediaType{"application/zstd": {Schema: bytes}},
			},
		},
	})
	api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "archive-open",
		Method:      http.MethodPost,
		Path:        "/api/v1/archives",
		Summary:     "Open an archive, compressed or not, of any size",
		Parameters: []*huma.Param{
			{Name: "name", In: "query", Required: true, Schema: &huma.Schema{Type: "string"}},
		},
		RequestBody: &huma.RequestBody{
			Required: true,
			Content:  map[string]*huma.MediaType{"application/octet-stream": {Schema: bytes}},
		},
		Responses: map[string]*huma.Response{
			"200": {
				Description: "The opened archive",
				Content: map[string]*huma.MediaType{
					"application/json": {
						Schema: api.OpenAPI().Components.Schemas.Schema(openedType, true, ""),
					},
				},
			},
		},
	})
}
