package traces

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	collector "go.opentelemetry.io/proto/slim/otlp/collector/trace/v1"
	common "go.opentelemetry.io/proto/slim/otlp/common/v1"
	resource "go.opentelemetry.io/proto/slim/otlp/resource/v1"
	otlp "go.opentelemetry.io/proto/slim/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"nightjar/wire"
)

// Limits of the export. Spans without room are dropped and counted.
const (
	maxQueue    = 20_000
	maxBatch    = 1000
	sendEvery   = time.Second
	sendTimeout = 10 * time.Second
	firstPause  = 250 * time.Millisecond
	maxPause    = 30 * time.Second // between attempts
	maxAttempts = 6                // for one batch
)

// Exporter sends spans by OTLP over HTTP (OpenTelemetry Protocol 1.0, binary
// protobuf). Call Run. A nil one does nothing.
type Exporter struct {
	url     string
	log     *slog.Logger
	client  *http.Client
	queue   chan wire.Span
	dropped atomic.Uint64
	sent    atomic.Uint64
}

// NewExporter makes an exporter for a receiver, such as http://127.0.0.1:4318;
// without a path, /v1/traces is meant.
func NewExporter(endpoint string, log *slog.Logger) (*Exporter, error) {
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a receiver of OTLP: write http://HOST:PORT", endpoint)
	}
	if strings.TrimSuffix(u.Path, "/") == "" {
		u.Path = "/v1/traces"
	}
	return &Exporter{url: u.String(), log: log, queue: make(chan wire.Span, maxQueue),
		client: &http.Client{
			Timeout:   sendTimeout,
			Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, IdleConnTimeout: time.Minute},
		}}, nil
}

// Add queues spans. It never waits.
func (e *Exporter) Add(list []wire.Span) {
	if e == nil {
		return
	}
	for _, s := range list {
		select {
		case e.queue <- s:
		default:
			e.dropped.Add(1)
		}
	}
}

// State is the numbers of spans that were sent, and that were dropped.
func (e *Exporter) State() (sent, dropped uint64) {
	if e == nil {
		return 0, 0
	}
	return e.sent.Load(), e.dropped.Load()
}

// Run sends queued spans until ctx is done, and then once more.
func (e *Exporter) Run(ctx context.Context) {
	if e == nil {
		return
	}
	defer e.client.CloseIdleConnections()
	t := time.NewTicker(sendEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			last, stop := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			e.drain(last)
			stop()
			return
		case <-t.C:
			e.drain(ctx)
		}
	}
}

func (e *Exporter) drain(ctx context.Context) {
	for {
		var list []wire.Span
		for len(list) < maxBatch && len(e.queue) > 0 {
			list = append(list, <-e.queue)
		}
		if len(list) == 0 {
			return
		}
		if err := e.send(ctx, list); err != nil {
			e.dropped.Add(uint64(len(list)))
			e.log.Warn("spans could not be exported", "to", e.url, "spans", len(list), "error", err)
			return
		}
		e.sent.Add(uint64(len(list)))
	}
}

// send sends one batch. It is sent again, after growing pauses, when the receiver
// cannot be reached or responds 429, 502, 503 or 504.
func (e *Exporter) send(ctx context.Context, list []wire.Span) error {
	body, err := proto.Marshal(request(list))
	if err != nil {
		return err
	}
	_, err = backoff.Retry(
		ctx,
		func() (bool, error) { return true, e.post(ctx, body) },
		backoff.WithBackOff(
			&backoff.ExponentialBackOff{InitialInterval: firstPause, Multiplier: 2, MaxInterval: maxPause},
		),
		backoff.WithMaxTries(maxAttempts),
	)
	return err
}

// post sends one request. An error is permanent when another attempt cannot succeed.
func (e *Exporter) post(ctx context.Context, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, e.url, bytes.NewReader(body))
	if err != nil {
		return backoff.Permanent(err)
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("User-Agent", "nightjar")
	resp, err := e.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	switch resp.StatusCode {
	case http.StatusOK, http.StatusAccepted:
		return nil
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return fmt.Errorf("the receiver responded %s", resp.Status)
	}
	return backoff.Permanent(fmt.Errorf("the receiver responded %s", resp.Status))
}

// request is spans in the form of OTLP. A span belongs to the service of the proxy
// that took it; attributes have the names of the OpenTelemetry conventions
// where there is one, and begin with nightjar. where there is none.
func request(list []wire.Span) *collector.ExportTraceServiceRequest {
	type of struct{ service, version, instance string }
	spans := map[of]*otlp.ScopeSpans{}
	out := &collector.ExportTraceServiceRequest{}
	for i := range list {
		s := &list[i]
		k := of{service: s.Caller}
		if s.Kind == "workload" {
			k = of{s.Service, s.Version, s.Instance}
		}
		if spans[k] == nil {
			spans[k] = &otlp.ScopeSpans{Scope: &common.InstrumentationScope{Name: "nightjar"}}
			r := &resource.Resource{Attributes: []*common.KeyValue{text("service.name", k.service)}}
			if k.version != "" {
				r.Attributes = append(
					r.Attributes,
					text("service.version", k.version),
					text("service.instance.id", k.instance),
				)
			}
			out.ResourceSpans = append(
				out.ResourceSpans,
				&otlp.ResourceSpans{Resource: r, ScopeSpans: []*otlp.ScopeSpans{spans[k]}},
			)
		}
		spans[k].Spans = append(spans[k].Spans, span(s))
	}
	return out
}

func span(s *wire.Span) *otlp.Span {
	id := func(text string) []byte {
		b, _ := hex.DecodeString(text)
		return b
	}
	out := &otlp.Span{
		TraceId:           id(s.Trace),
		SpanId:            id(s.ID),
		ParentSpanId:      id(s.Parent),
		Name:              s.Kind,
		Kind:              otlp.Span_SPAN_KIND_INTERNAL,
		StartTimeUnixNano: uint64(s.BeganUS) * 1000,
		EndTimeUnixNano:   uint64(s.BeganUS+s.TookUS) * 1000,
	}
	switch s.Kind {
	case "request":
		out.Name, out.Kind = s.Method+" "+s.Service, otlp.Span_SPAN_KIND_CLIENT
		if s.Edge {
			out.Kind = otlp.Span_SPAN_KIND_SERVER
		}
	case "attempt":
		out.Name, out.Kind = "attempt "+s.Instance, otlp.Span_SPAN_KIND_CLIENT
	case "workload":
		out.Name, out.Kind = s.Method+" "+s.Service, otlp.Span_SPAN_KIND_SERVER
	}
	add := func(name, value string) {
		if value != "" {
			out.Attributes = append(out.Attributes, text(name, value))
		}
	}
	add("http.request.method", s.Method)
	add("url.path", s.Path)
	add("server.address", s.Service)
	add("error.type", s.Reason)
	add("nightjar.kind", s.Kind)
	add("nightjar.proxy", s.Proxy)
	add("nightjar.site", s.Site)
	add("nightjar.caller", s.Caller)
	add("nightjar.version", s.Version)
	add("nightjar.instance", s.Instance)
	add("nightjar.route", s.Route)
	add("nightjar.outcome", s.Outcome)
	if s.Status > 0 {
		out.Attributes = append(
			out.Attributes,
			&common.KeyValue{
				Key:   "http.response.status_code",
				Value: &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: int64(s.Status)}},
			},
		)
	}
	if s.Outcome != "" && s.Outcome != "ok" {
		out.Status = &otlp.Status{Code: otlp.Status_STATUS_CODE_ERROR, Message: s.Detail}
	}
	return out
}

func text(name, value string) *common.KeyValue {
	return &common.KeyValue{Key: name, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}}
}
