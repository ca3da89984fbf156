// Package otlp tells a collector of traces (OpenTelemetry, OTLP over HTTP) of a message's life: a
// span for how it was taken, and below it one for each attempt, from what came before it to its
// outcome. What the trace and its first span are called follows from the message's id, so that
// spans of several nodes come together and a message is found by its id. Addresses are not told,
// only their domains. What the collector does not take is left out; nobody waits for it.
package otlp

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"
	api "go.opentelemetry.io/otel/trace"

	"gullroute/internal/core/ident"
	"gullroute/internal/core/mail"
	"gullroute/internal/engine/feed"
)

// maxOpen is how many deliveries it is known of when they were tried last.
const maxOpen = 20_000

// Teller tells a collector.
type Teller struct {
	provider *trace.TracerProvider
	tracer   api.Tracer
	ids      *ids
	last     map[string]time.Time // of deliveries that are not finished: the attempt before
}

// New makes a teller for a collector at a URL like http://127.0.0.1:4318. Options are of its
// exporter, besides.
func New(ctx context.Context, address, node, version string) (*Teller, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address like http://127.0.0.1:4318", address)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()),
		otlptracehttp.WithTimeout(5*time.Second))
	if err != nil {
		return nil, err
	}
	t := &Teller{ids: &ids{}, last: map[string]time.Time{}}
	t.provider = trace.NewTracerProvider(trace.WithBatcher(exporter), trace.WithIDGenerator(t.ids),
		trace.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "gull-route"),
			attribute.String("service.version", version),
			attribute.String("service.instance.id", node))))
	t.tracer = t.provider.Tracer("gullroute")
	return t, nil
}

// Close tells what is left, for a moment at most.
func (t *Teller) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	_ = t.provider.Shutdown(ctx)
}

// Follow tells of what happens to messages until ctx ends.
func (t *Teller) Follow(ctx context.Context, hub *feed.Hub) {
	hub.Follow(ctx, func(e feed.Event, _ int) { t.tell(e) })
}

// TraceID is that of a message.
func TraceID(id ident.ID) (trace api.TraceID) {
	sum := sha256.Sum256([]byte("gull route message " + id.String()))
	copy(trace[:], sum[:])
	return trace
}

func firstSpan(id ident.ID) (span api.SpanID) {
	sum := sha256.Sum256([]byte("gull route message " + id.String()))
	copy(span[:], sum[16:])
	return span
}

// tell makes the span of an event.
func (t *Teller) tell(e feed.Event) {
	if e.MessageID == 0 {
		return
	}
	attrs := []attribute.KeyValue{attribute.String("gull.message", e.MessageID.String()),
		attribute.String("gull.node", e.Node)}
	add := func(key, value string) {
		if value != "" {
			attrs = append(attrs, attribute.String(key, value))
		}
	}
	add("gull.sender.domain", domain(e.Sender))
	add("gull.recipient.domain", domain(e.Recipient))
	add("gull.client", e.Client)
	add("gull.delivery", e.Delivery)
	add("gull.lane", e.Lane)
	add("gull.state", string(e.State))
	ctx, taken := context.Background(), e.MessageID.Time()
	if e.Kind == mail.EventReceived {
		t.ids.next(TraceID(e.MessageID), firstSpan(e.MessageID))
		t.span(ctx, "taken", taken, e.At, attrs, "")
		return
	}
	if e.Delivery == "" {
		return
	}
	begin, known := t.last[e.Delivery]
	if !known {
		begin = taken
	}
	if e.State.Final() {
		delete(t.last, e.Delivery)
	} else if len(t.last) < maxOpen {
		t.last[e.Delivery] = e.At
	}
	ctx = api.ContextWithRemoteSpanContext(ctx, api.NewSpanContext(api.SpanContextConfig{
		TraceID: TraceID(e.MessageID), SpanID: firstSpan(e.MessageID), TraceFlags: api.FlagsSampled,
		Remote: true}))
	fault := ""
	if e.State != mail.Delivered {
		fault = e.Text
	}
	t.span(ctx, string(e.Kind), begin, e.At, attrs, fault)
}

func (t *Teller) span(
	ctx context.Context,
	name string,
	from, to time.Time,
	attrs []attribute.KeyValue,
	fault string,
) {
	if to.Before(from) {
		from = to
	}
	_, span := t.tracer.Start(ctx, name, api.WithTimestamp(from), api.WithAttributes(attrs...))
	if fault != "" {
		span.SetStatus(codes.Error, fault)
	}
	span.End(api.WithTimestamp(to))
}

func domain(address string) string { return address[strings.LastIndexByte(address, '@')+1:] }

// ids gives spans the names that are set for them, and others at random.
type ids struct {
	mutex sync.Mutex
	trace api.TraceID
	span  api.SpanID
	count uint64
}

func (g *ids) next(trace api.TraceID, span api.SpanID) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.trace, g.span = trace, span
}

// NewIDs are of a span that begins a trace.
func (g *ids) NewIDs(ctx context.Context) (api.TraceID, api.SpanID) {
	g.mutex.Lock()
	trace, span := g.trace, g.span
	g.span = api.SpanID{}
	g.mutex.Unlock()
	if !span.IsValid() {
		span = g.NewSpanID(ctx, trace)
	}
	return trace, span
}

// NewSpanID is of a span below another.
func (g *ids) NewSpanID(_ context.Context, trace api.TraceID) (span api.SpanID) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.count++
	sum := sha256.Sum256(fmt.Appendf(nil, "%x %d %d", trace, g.count, time.Now().UnixNano()))
	copy(span[:], sum[:])
	return span
}
