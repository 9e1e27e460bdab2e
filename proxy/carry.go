package proxy

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// carrier carries requests over net/http: it shows them to the engine, does
// what the engine says, and counts what came of it. Nothing behind it knows
// net/http, and nothing before it decides anything.
type carrier struct {
	name        string
	caller      string // service that calls; a gateway's own name
	callerValue []string
	gateway     string // set at a gateway
	site        string
	epoch       time.Time
	force       *atomic.Pointer[inForce]
	transport   http.RoundTripper
	recorder    *recorder
	mirrors     *mirrors
}

// inForce is what a proxy follows now.
type inForce struct {
	table    *engine.Table
	revision uint
	known    bool // false until the first snapshot
}

type shardKey struct{}

// connContext gives a new connection its shard.
func (c *carrier) connContext(ctx context.Context, _ net.Conn) context.Context {
	return context.WithValue(ctx, shardKey{}, c.recorder.assign())
}

// exchange is the engine's exchange with the view of its request. It is pooled.
type exchange struct {
	engine.Exchange
	r    *http.Request
	c    *carrier
	path string
}

var exchanges = sync.Pool{New: func() any { return new(exchange) }}

func (e *exchange) Method() string             { return e.r.Method }
func (e *exchange) Host() string               { return e.r.Host }
func (e *exchange) Path() string               { return e.path }
func (e *exchange) Query() string              { return e.r.URL.RawQuery }
func (e *exchange) Header(key string) []string { return e.r.Header[key] }
func (e *exchange) Caller() string             { return e.c.caller }
func (e *exchange) Site() string               { return e.c.site }

// wirePath is the path as it came on the wire, where that can be told.
func wirePath(r *http.Request) string {
	if u := r.RequestURI; u != "" && u[0] == '/' {
		path, _, _ := strings.Cut(u, "?")
		return path
	}
	return r.URL.EscapedPath()
}

func (c *carrier) now() time.Duration { return time.Since(c.epoch) }

// ServeHTTP carries one request.
func (c *carrier) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	begun := c.now()
	e := exchanges.Get().(*exchange)
	e.r, e.c, e.path = r, c, wirePath(r)
	force := c.force.Load()
	entry := engine.Entry{Gateway: c.gateway}
	ask := r.Header[wire.HeaderAsk] != nil
	if c.gateway == "" {
		entry.Limit = timeLeft(r.Header)
	} else if ask {
		ask = fromLoopback(r)
	}
	var answer *http.Response
	var cut context.CancelCauseFunc
	var instance *engine.Instance
	defer func() {
		if cut != nil {
			cut(nil)
		}
		e.r, e.c = nil, nil
		exchanges.Put(e)
	}()
	shard, _ := r.Context().Value(shardKey{}).(*shard)
	done := func(class engine.Class, reason engine.Reason, status int) {
		if shard != nil {
			shard.record(&e.Exchange, force.revision, instance, class, reason, status, c.now()-begun)
		}
	}
	step := engine.Step{Kind: engine.Reply, Status: engine.NoInstance.Status(), Reason: engine.NoInstance, Detail: "this proxy has had no rules from the service yet"}
	if force.known {
		step = e.Begin(force.table, entry, e, begun)
	}
	for {
		switch step.Kind {
		case engine.Attempt:
			instance = step.Instance
			var o engine.Outcome
			answer, cut, o = c.try(r, call{to: instance, path: e.Exchange.Path(), host: e.SendHost(), deadline: step.Deadline, edits: edits(e), mirror: e.Mirror()})
			if answer == nil && r.Context().Err() != nil {
				done(engine.Abandoned, "", 0)
				panic(http.ErrAbortHandler)
			}
			step = e.Next(o, c.now())
		case engine.Wait:
			if !c.wait(r.Context(), step.Deadline) {
				done(engine.Abandoned, "", 0)
				panic(http.ErrAbortHandler)
			}
			step = e.Next(engine.Outcome{}, c.now())
		case engine.Answer:
			done(engine.Classify("", step.Status), "", step.Status)
			if ask {
				w.Header().Set(wire.HeaderAnswered, c.answered(e, nil, force.revision))
			}
			c.answer(w, e, step.Status)
			return
		case engine.Reply:
			if answer != nil {
				answer.Body.Close()
			}
			done(engine.Classify(step.Reason, step.Status), step.Reason, step.Status)
			if ask {
				w.Header().Set(wire.HeaderAnswered, c.answered(e, instance, force.revision))
			}
			c.refuse(w, r, e, step)
			return
		case engine.Done:
			if ask {
				w.Header().Set(wire.HeaderAnswered, c.answered(e, instance, force.revision))
			}
			limitFields(w.Header(), e)
			if err := pass(w, answer, e); err != nil {
				if r.Context().Err() != nil {
					done(engine.Abandoned, "", 0)
				} else {
					done(engine.Failed, engine.Reset, answer.StatusCode)
				}
				panic(http.ErrAbortHandler)
			}
			done(engine.Classify("", answer.StatusCode), "", answer.StatusCode)
			return
		}
	}
}

// wait waits until a time of the carrier's clock; false: the caller left.
func (c *carrier) wait(ctx context.Context, until time.Duration) bool {
	t := time.NewTimer(until - c.now())
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// call is where one try goes.
type call struct {
	to       *engine.Instance
	path     string // percent-encoded
	host     string // empty: as it came
	deadline time.Duration
	edits    [2]*rules.HeaderEdits // of the gateway's route and the service's
	mirror   *engine.Instance      // gets a copy; nil: nobody does
}

var errDeadline = errors.New("no answer in time")

// try sends the request once and waits for the headers of the answer, until
// the deadline at most. With an answer, the returned function frees what the
// try holds once the body has been read.
func (c *carrier) try(r *http.Request, to call) (*http.Response, context.CancelCauseFunc, engine.Outcome) {
	left := to.deadline - c.now()
	if left <= 0 {
		return nil, nil, engine.Outcome{Reason: engine.TimedOut}
	}
	ctx, cancel := context.WithCancelCause(r.Context())
	timer := time.AfterFunc(left, func() { cancel(errDeadline) })
	out := &http.Request{Method: r.Method, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Host: to.host,
		URL: target(to.to, to.path, r.URL), Header: c.outHeader(r, left), ContentLength: r.ContentLength, Trailer: r.Trailer}
	if out.Host == "" {
		out.Host = r.Host
	}
	for _, e := range to.edits {
		if e != nil {
			edit(out.Header, &e.Request)
		}
	}
	var kept *keptBody
	if r.ContentLength != 0 {
		out.Body = r.Body
		if to.mirror != nil {
			kept = &keptBody{ReadCloser: r.Body}
			out.Body = kept
		}
	}
	copyOf := func(body []byte) {
		c.mirrors.send(&http.Request{Method: out.Method, Proto: out.Proto, ProtoMajor: 1, ProtoMinor: 1, Host: out.Host,
			URL: target(to.mirror, to.path, r.URL), Header: out.Header.Clone()}, body, left)
	}
	if to.mirror != nil && kept == nil {
		copyOf(nil)
	}
	answer, err := c.transport.RoundTrip(out.WithContext(ctx))
	if kept != nil {
		if body, whole := kept.all(); whole {
			copyOf(body)
		}
	}
	stopped := timer.Stop()
	if err == nil && !stopped && context.Cause(ctx) == errDeadline {
		answer.Body.Close()
		err = errDeadline
	}
	if err != nil {
		o := outcome(err, context.Cause(ctx))
		cancel(nil)
		return nil, nil, o
	}
	if reason := answer.Header[wire.HeaderReason]; reason != nil {
		delete(answer.Header, wire.HeaderReason)
		if !to.to.Outside {
			return answer, cancel, engine.Outcome{Reason: engine.Reason(reason[0]), Detail: "its proxy could not reach the workload"}
		}
	}
	return answer, cancel, engine.Outcome{Status: answer.StatusCode}
}

// target is the address of a try. The path goes out exactly as the engine
// gave it.
func target(to *engine.Instance, path string, in *url.URL) *url.URL {
	u := &url.URL{Scheme: "http", Host: to.Address, RawQuery: in.RawQuery, ForceQuery: in.ForceQuery}
	if to.Secure {
		u.Scheme = "https"
	}
	if strings.HasPrefix(path, "//") {
		u.RawPath = path
		u.Path, _ = url.PathUnescape(path)
		return u
	}
	u.Opaque = path
	return u
}

// outcome tells why there is no answer.
func outcome(err, cause error) engine.Outcome {
	var op *net.OpError
	var untrusted *tls.CertificateVerificationError
	var noTLS tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case cause == errDeadline || errors.Is(err, errDeadline):
		return engine.Outcome{Reason: engine.TimedOut}
	case errors.As(err, &untrusted), errors.As(err, &noTLS), errors.As(err, &alert):
		return engine.Outcome{Reason: engine.TLS, Detail: "no secure connection: " + err.Error()}
	case errors.As(err, &op) && op.Op == "dial", errors.Is(err, syscall.ECONNREFUSED):
		return engine.Outcome{Reason: engine.Unreachable, Detail: "cannot be reached: " + err.Error()}
	}
	return engine.Outcome{Reason: engine.Reset, Detail: "the connection broke before an answer: " + err.Error()}
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// pass writes the answer to the caller. Bodies of unknown length are flushed as
// they come, so that streams arrive at once.
func pass(w http.ResponseWriter, answer *http.Response, e *exchange) error {
	h := w.Header()
	copyEndToEnd(h, answer.Header)
	if e != nil {
		editAnswer(h, e)
	}
	h["Via"] = append(h["Via"], "1.1 nightjar")
	for k := range answer.Trailer {
		h.Add("Trailer", k)
	}
	w.WriteHeader(answer.StatusCode)
	defer answer.Body.Close()
	if answer.ContentLength != 0 {
		if err := copyBody(w, answer); err != nil {
			return err
		}
	}
	for k, values := range answer.Trailer {
		h[k] = values
	}
	return nil
}

func copyBody(w http.ResponseWriter, answer *http.Response) error {
	b := buffers.Get().(*[]byte)
	defer buffers.Put(b)
	var flush http.Flusher
	if answer.ContentLength < 0 {
		flush, _ = w.(http.Flusher)
	}
	for {
		n, err := answer.Body.Read(*b)
		if n > 0 {
			if _, werr := w.Write((*b)[:n]); werr != nil {
				return werr
			}
			if flush != nil {
				flush.Flush()
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// answered is the value of wire.HeaderAnswered: which version, instance and
// route a request came to. The names that rules allow need no quoting.
func (c *carrier) answered(e *exchange, in *engine.Instance, revision uint) string {
	id := ""
	if in != nil {
		id = in.ID
	}
	route, gate := e.Route()
	if e.Service() == "" && gate != nil { // a gateway's route answered
		return fmt.Sprintf("%s/; revision=%d; gate=%q", gate.Of(), revision, gate.Name())
	}
	v := fmt.Sprintf("%s/%s; instance=%q; revision=%d", e.Service(), e.Version(), id, revision)
	if route != nil {
		v += fmt.Sprintf("; route=%q", route.Name())
	}
	if gate != nil {
		v += fmt.Sprintf("; gate=%q", gate.Name())
	}
	return v
}

// problem is the body of a refusal (RFC 9457).
type problem struct {
	Type   string        `json:"type"`
	Title  string        `json:"title"`
	Status int           `json:"status"`
	Detail string        `json:"detail"`
	Reason engine.Reason `json:"reason"`
	Proxy  string        `json:"proxy"`
	Rule   string        `json:"rule,omitempty"`
}

// answer writes what a route answers by itself.
func (c *carrier) answer(w http.ResponseWriter, e *exchange, status int) {
	h := w.Header()
	reply, redirect := e.Answer()
	body := ""
	if reply != nil {
		if body = reply.Body; body != "" {
			h["Content-Type"] = []string{"text/plain; charset=utf-8"}
		}
		edit(h, &rules.Edits{Set: reply.Headers})
	} else {
		h["Location"] = []string{redirect}
	}
	editAnswer(h, e)
	limitFields(h, e)
	if status != http.StatusNoContent && status != http.StatusNotModified {
		h["Content-Length"] = []string{strconv.Itoa(len(body))}
	}
	w.WriteHeader(status)
	io.WriteString(w, body)
}

// refuse answers in the mesh's own name: the reason, what happened, and the
// rule that led there. The body is JSON for callers that take it.
func (c *carrier) refuse(w http.ResponseWriter, r *http.Request, e *exchange, s engine.Step) {
	p := problem{Type: "about:blank", Title: http.StatusText(s.Status), Status: s.Status, Detail: s.Detail, Reason: s.Reason, Proxy: c.name}
	route, gate := e.Route()
	for _, rt := range []*engine.Route{route, gate} {
		if rt != nil && rt.Name() != "" && p.Rule == "" {
			p.Rule = fmt.Sprintf("route %s of %s, %s", rt.Name(), rt.Of(), rt.At())
		}
	}
	limitFields(w.Header(), e)
	if _, _, taken := e.Limit(); s.Reason == engine.Limited {
		w.Header()["Retry-After"] = []string{strconv.Itoa(wholeSeconds(taken.Wait))}
	}
	writeRefusal(w, r, c.name, p)
}

func writeRefusal(w http.ResponseWriter, r *http.Request, proxy string, p problem) {
	h := w.Header()
	h["Proxy-Status"] = []string{quoted(proxy) + "; error=" + p.Reason.ErrorType() + "; details=" + quoted(string(p.Reason)+": "+p.Detail)}
	var body []byte
	if accept := r.Header.Get("Accept"); strings.Contains(accept, "json") {
		h.Set("Content-Type", "application/problem+json")
		body, _ = json.Marshal(p)
		body = append(body, '\n')
	} else {
		h.Set("Content-Type", "text/plain; charset=utf-8")
		h.Set("X-Content-Type-Options", "nosniff")
		body = fmt.Appendf(nil, "%d %s: %s\n", p.Status, p.Reason, p.Detail)
		if p.Rule != "" {
			body = fmt.Appendf(body, "rule: %s\n", p.Rule)
		}
	}
	h.Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(p.Status)
	w.Write(body)
}

func fromLoopback(r *http.Request) bool {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	return err == nil && net.ParseIP(host).IsLoopback()
}

// inbound hands requests from other proxies to the workload beside it.
type inbound struct {
	carrier
	app *engine.Instance
}

func (in *inbound) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	limit := timeLeft(r.Header)
	if limit == 0 {
		limit = 24 * time.Hour // whoever calls without a proxy sets its own limit
	}
	answer, cut, o := in.try(r, call{to: in.app, path: wirePath(r), deadline: in.now() + limit})
	if answer == nil {
		if r.Context().Err() != nil {
			panic(http.ErrAbortHandler)
		}
		w.Header().Set(wire.HeaderReason, string(o.Reason))
		writeRefusal(w, r, in.name, problem{Type: "about:blank", Title: http.StatusText(o.Reason.Status()), Status: o.Reason.Status(),
			Detail: "workload " + in.app.Address + ": " + o.Detail, Reason: o.Reason, Proxy: in.name})
		return
	}
	defer cut(nil)
	if err := pass(w, answer, nil); err != nil {
		panic(http.ErrAbortHandler)
	}
}
