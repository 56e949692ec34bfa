// Package spans tells a tracing system of calls: each exchange is a span, with one below it for
// each stage that took time (OpenTelemetry; OTLP over HTTP). Nothing of it is in a call's way: what
// cannot be sent in time is dropped and counted.
package spans

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/url"
	"sync/atomic"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"orenda/internal/exchange"
)

// What may wait to be sent.
const (
	mostWaiting = 4096
	sendTime    = 5 * time.Second
	endTime     = 2 * time.Second
)

// Sender sends spans until it is closed.
type Sender struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
	waiting  atomic.Int64
	dropped  atomic.Int64
	failed   atomic.Int64
}

// New begins to send to the address of a collector, as http://127.0.0.1:4318. version is that of
// the program.
func New(address, version string) (*Sender, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("otlp = %q is no http or https address", address)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	exporter, err := otlptrace.New(context.Background(), newCollector(u.String()))
	if err != nil {
		return nil, err
	}
	s := &Sender{}
	s.provider = sdk.NewTracerProvider(
		sdk.WithBatcher(counted{exporter, s}, sdk.WithMaxQueueSize(mostWaiting),
			sdk.WithBatchTimeout(500*time.Millisecond)),
		sdk.WithIDGenerator(given{}),
		sdk.WithResource(resource.NewSchemaless(
			attribute.String("service.name", "orenda"), attribute.String("service.version", version))),
	)
	s.tracer = s.provider.Tracer("orenda")
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(error) {})) // they are counted
	return s, nil
}

// counted is an exporter whose failures are counted.
type counted struct {
	sdk.SpanExporter
	s *Sender
}

func (c counted) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	err := c.SpanExporter.ExportSpans(ctx, spans)
	c.s.waiting.Add(-int64(len(spans)))
	if err != nil {
		c.s.failed.Add(int64(len(spans)))
	}
	return err
}

// Dropped is how many spans were not sent: too many waited, or nobody took them.
func (s *Sender) Dropped() int64 { return s.dropped.Load() + s.failed.Load() }

// Close sends what waits, within two seconds.
func (s *Sender) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), endTime)
	defer cancel()
	_ = s.provider.Shutdown(ctx)
}

// idKey is under which the ids of the next span are in a context.
type idKey struct{}

// given takes the ids that a call has already, and makes others.
type given struct{}

func (given) NewIDs(ctx context.Context) (t trace.TraceID, s trace.SpanID) {
	if g, ok := ctx.Value(idKey{}).(*exchange.Trace); ok {
		t, _ = trace.TraceIDFromHex(g.ID)
		s, _ = trace.SpanIDFromHex(g.Span)
	}
	if !t.IsValid() {
		_, _ = rand.Read(t[:])
	}
	if !s.IsValid() {
		_, _ = rand.Read(s[:])
	}
	return t, s
}

func (given) NewSpanID(ctx context.Context, _ trace.TraceID) (s trace.SpanID) {
	if g, ok := ctx.Value(idKey{}).(*exchange.Trace); ok {
		s, _ = trace.SpanIDFromHex(g.Span)
	}
	if !s.IsValid() {
		_, _ = rand.Read(s[:])
	}
	return s
}

// Send tells of an exchange; it never waits.
func (s *Sender) Send(x *exchange.Exchange) {
	stages := int64(1)
	for i := range x.Stages {
		if x.Stages[i].DurationNs > 0 {
			stages++
		}
	}
	if s.waiting.Add(stages) > mostWaiting {
		s.waiting.Add(-stages)
		s.dropped.Add(stages)
		return
	}
	c := x.Redact(nil)
	t := c.Trace
	if t == nil {
		t = exchange.NewTrace("", "")
	}
	ctx := context.WithValue(context.Background(), idKey{}, t)
	if t.Parent != "" {
		tid, _ := trace.TraceIDFromHex(t.ID)
		pid, _ := trace.SpanIDFromHex(t.Parent)
		ctx = trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{
			TraceID: tid, SpanID: pid, TraceFlags: trace.FlagsSampled, Remote: true}))
	}
	kind := trace.SpanKindClient
	if c.Kind == "fetch" {
		kind = trace.SpanKindInternal
	}
	ctx, span := s.tracer.Start(ctx, c.Operation, trace.WithTimestamp(c.Started), trace.WithSpanKind(kind),
		trace.WithAttributes(attributes(c)...))
	ctx = context.WithValue(ctx, idKey{}, nil)
	for i := range c.Stages {
		st := &c.Stages[i]
		if st.DurationNs <= 0 {
			continue
		}
		from := c.Started.Add(time.Duration(st.StartedNs))
		_, one := s.tracer.Start(ctx, st.Stage.String(), trace.WithTimestamp(from),
			trace.WithAttributes(attribute.String("orenda.stage.note", st.Note)))
		if st.State == exchange.Stopped {
			one.SetStatus(codes.Error, c.Result)
		}
		one.End(trace.WithTimestamp(from.Add(time.Duration(st.DurationNs))))
	}
	end := c.Started.Add(time.Duration(c.TotalNs))
	for i := range c.Findings {
		f := &c.Findings[i]
		said := []attribute.KeyValue{
			attribute.String("orenda.finding", f.ID),
			attribute.String("orenda.finding.title", f.Title),
			attribute.String("orenda.finding.severity", string(f.Severity)),
			attribute.String("orenda.finding.why", f.Why),
		}
		if len(f.Evidence) > 0 {
			said = append(said, attribute.String("orenda.finding.evidence", f.Evidence[0].Excerpt))
		}
		span.AddEvent("finding", trace.WithTimestamp(end), trace.WithAttributes(said...))
	}
	if c.Outcome == exchange.OutcomeStopped {
		span.SetStatus(codes.Error, c.Result)
	}
	span.End(trace.WithTimestamp(end))
}

// attributes are those of a call, by the semantic conventions for HTTP and RPC.
func attributes(x *exchange.Exchange) []attribute.KeyValue {
	out := []attribute.KeyValue{
		attribute.String("orenda.exchange", x.ID), attribute.String("rpc.system", "soap"),
		attribute.String("rpc.method", x.Operation), attribute.String("orenda.endpoint", x.Endpoint),
		attribute.String("orenda.outcome", string(x.Outcome)),
	}
	if x.Contract != "" {
		out = append(out, attribute.String("rpc.service", x.Contract))
	}
	if x.Outcome == exchange.OutcomeStopped {
		out = append(out, attribute.String("orenda.stopped_at", x.StoppedAt.String()))
		if c := x.Cause(); c != nil {
			out = append(out, attribute.String("error.type", c.ID))
		}
	}
	if x.From != nil && x.From.Relay != "" {
		out = append(out, attribute.String("orenda.relay", x.From.Relay))
	}
	l := x.Leg()
	if l == nil {
		return out
	}
	r := x.Report(false)
	if r.Request != nil {
		out = append(out, attribute.String("http.request.method", r.Request.Method),
			attribute.String("url.full", r.Request.URL), attribute.Int64("http.request.body.size", r.Request.Size))
		if u, err := url.Parse(r.Request.URL); err == nil {
			out = append(out, attribute.String("server.address", u.Hostname()))
		}
	}
	if l.Response.Status > 0 {
		out = append(out, attribute.Int("http.response.status_code", l.Response.Status),
			attribute.Int64("http.response.body.size", l.Response.BodySize))
	}
	return out
}
