package proxy

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/wire"
)

// transports are the ways on from net/http: HTTP/1.1 without TLS and with it,
// and HTTP/2 where the instance speaks nothing else.
type transports struct {
	http1 *http.Transport
	http2 *http.Transport
}

func newTransports() *transports {
	dial := (&net.Dialer{Timeout: dialTimeout}).DialContext
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	two.SetHTTP2(true)
	return &transports{
		http1: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 512, IdleConnTimeout: keptIdle, ExpectContinueTimeout: time.Second,
			DialContext: dial, WriteBufferSize: 16 << 10, ReadBufferSize: 16 << 10, MaxResponseHeaderBytes: maxHeader},
		http2: &http.Transport{DisableCompression: true, IdleConnTimeout: keptIdle, Protocols: two, DialContext: dial, MaxResponseHeaderBytes: maxHeader,
			HTTP2: &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 10 * time.Second}},
	}
}

func (t *transports) closeIdle() {
	t.http1.CloseIdleConnections()
	t.http2.CloseIdleConnections()
}

// server carries requests over net/http.
type server struct {
	handler   handler
	transport *transports
	recorder  *recorder   // nil: nothing is counted
	leaving   func() bool // answers are to end their connections
	tunnels   *tunnels    // connections that became something else than HTTP
}

type shardKey struct{}

// connContext gives a new connection its shard.
func (s *server) connContext(ctx context.Context, conn net.Conn) context.Context {
	if s.recorder == nil {
		return ctx
	}
	return context.WithValue(ctx, shardKey{}, s.recorder.assign())
}

// general is the bearer over net/http. It is pooled.
type general struct {
	engine.Exchange
	s      *server
	w      http.ResponseWriter
	r      *http.Request
	by     *carrier
	path   string
	answer *http.Response
	free   context.CancelCauseFunc // frees what the answer holds
	body   *keptBody               // of the request; nil: none, or nobody needs it twice
	sent   *metered                // the request's body; nil: there is none
	passed atomic.Uint64           // bytes of answers' bodies that went to the caller
	alarm
}

var generals = sync.Pool{New: func() any { return &general{alarm: newAlarm()} }}

func (g *general) Method() string             { return g.r.Method }
func (g *general) Host() string               { return g.r.Host }
func (g *general) Path() string               { return g.path }
func (g *general) Query() string              { return g.r.URL.RawQuery }
func (g *general) Header(key string) []string { return g.r.Header[key] }
func (g *general) Caller() string             { return g.by.caller }
func (g *general) Site() string               { return g.by.site }
func (g *general) version() int               { return g.r.ProtoMajor }
func (g *general) remote() string             { return g.r.RemoteAddr }
func (g *general) moved() (sent, received uint64) {
	if g.sent != nil {
		sent = g.sent.n.Load()
	}
	return sent, g.passed.Load()
}
func (g *general) local() string {
	if a, ok := g.r.Context().Value(http.LocalAddrContextKey).(net.Addr); ok {
		return a.String()
	}
	return ""
}
func (g *general) left() bool {
	ctx := g.r.Context()
	return ctx.Err() != nil && context.Cause(ctx) != errLeaving
}

// wirePath is the path as it came on the wire, where that can be told.
func wirePath(r *http.Request) string {
	if u := r.RequestURI; u != "" && u[0] == '/' {
		path, _, _ := strings.Cut(u, "?")
		return path
	}
	if r.URL.Path == "" {
		return "/"
	}
	return r.URL.EscapedPath()
}

// ServeHTTP carries one request.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	g := generals.Get().(*general)
	g.s, g.w, g.r, g.path, g.by = s, w, r, wirePath(r), carrierOf(s.handler)
	g.passed.Store(0)
	if r.ContentLength != 0 { // of its own: a transport may read on when the request is over
		g.sent = &metered{ReadCloser: r.Body} // r keeps its own, which the server looks at
	}
	defer func() {
		if g.free != nil {
			g.free(nil)
		}
		g.s, g.w, g.r, g.by, g.answer, g.free, g.body, g.sent = nil, nil, nil, nil, nil, nil, nil, nil
		generals.Put(g)
	}()
	if r.ProtoMajor == 1 {
		if s.leaving != nil && s.leaving() {
			w.Header()["Connection"] = []string{"close"}
		}
		if r.ContentLength != 0 { // an answer may come before the body has gone by
			http.NewResponseController(w).EnableFullDuplex()
		}
	}
	shard, _ := r.Context().Value(shardKey{}).(*shard)
	if !s.handler.carry(g, &g.Exchange, shard) {
		panic(http.ErrAbortHandler)
	}
}

func carrierOf(h handler) *carrier {
	switch h := h.(type) {
	case *carrier:
		return h
	case *inbound:
		return &h.carrier
	}
	return nil
}

func (g *general) wait(d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-g.woken:
		return true
	case <-g.r.Context().Done():
		return false
	}
}

func (g *general) wake() func() { return g.waker }

var (
	errDeadline = errors.New("no answer in time")
	errLeaving  = errors.New("this proxy ends")
)

func (g *general) try(to call) engine.Outcome {
	if g.answer != nil {
		g.answer.Body.Close()
		g.free(nil)
		g.answer, g.free = nil, nil
	}
	if to.left <= 0 {
		return engine.Outcome{Reason: engine.TimedOut}
	}
	if g.body != nil && !g.body.again() {
		return engine.Outcome{Reason: engine.Reset, Spent: true, Detail: "the request's body could not be had again for another try"}
	}
	ctx, cancel := context.WithCancelCause(g.r.Context())
	timer := time.AfterFunc(to.left, func() { cancel(errDeadline) })
	r := g.r
	upgrade := upgradeOf(r)
	out := &http.Request{Method: r.Method, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Host: to.host,
		URL: target(to.to, to.path, r.URL.RawQuery, r.URL.ForceQuery), Header: to.by.outHeader(g, &to), ContentLength: r.ContentLength, Trailer: r.Trailer}
	if out.Host == "" {
		out.Host = r.Host
	}
	for _, e := range to.edits {
		if e != nil {
			edit(out.Header, &e.Request)
		}
	}
	if upgrade != "" {
		out.Header["Connection"], out.Header["Upgrade"] = []string{"Upgrade"}, []string{upgrade}
	}
	if r.ContentLength != 0 {
		if out.Body = g.sent; g.body == nil && (to.mirror != nil || to.again) {
			g.body = newKeptBody(g.sent)
		}
		if g.body != nil {
			out.Body = g.body.once()
		}
	}
	copyOf := func(body []byte) {
		to.by.mirrors.send(&http.Request{Method: out.Method, Proto: out.Proto, ProtoMajor: 1, ProtoMinor: 1, Host: out.Host,
			URL: target(to.mirror, to.path, r.URL.RawQuery, r.URL.ForceQuery), Header: out.Header.Clone()}, body, to.left)
	}
	if to.mirror != nil && g.body == nil {
		copyOf(nil)
	}
	transport := g.s.transport.http1
	if to.grpc || r.ProtoMajor == 2 && isGRPC(g) {
		transport = g.s.transport.http2
		if tokenIn(r.Header["Te"], "trailers") {
			out.Header["Te"] = []string{"trailers"}
		}
	}
	interim := &interim{to: g.w}
	if upgrade == "" {
		ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: interim.pass})
	}
	answer, err := transport.RoundTrip(out.WithContext(ctx))
	interim.end()
	if to.mirror != nil && g.body != nil {
		if body, whole := g.body.all(); whole {
			copyOf(body)
		}
	}
	spent := interim.passed || g.body == nil && r.ContentLength != 0 || g.body != nil && g.body.gone()
	stopped := timer.Stop()
	if err == nil && !stopped && context.Cause(ctx) == errDeadline {
		answer.Body.Close()
		err = errDeadline
	}
	if err == nil && answer.StatusCode == http.StatusSwitchingProtocols && upgrade == "" {
		answer.Body.Close()
		err = errors.New("it switched to another protocol without being asked")
	}
	if err != nil {
		o := outcome(err, context.Cause(ctx))
		o.Spent = spent
		cancel(nil)
		return o
	}
	g.answer, g.free = answer, cancel
	if reason := answer.Header[wire.HeaderReason]; reason != nil {
		delete(answer.Header, wire.HeaderReason)
		if !to.to.Outside {
			return engine.Outcome{Status: answer.StatusCode, Reason: engine.Reason(reason[0]), Detail: "its proxy could not reach the workload", Spent: spent}
		}
	}
	o := engine.Outcome{Status: answer.StatusCode, Spent: spent}
	if isGRPC(g) {
		o.Means = grpcMeans(answer.Header.Get("Grpc-Status")) // an answer that is over with its head
	}
	return o
}

// outHeader is the header to send on: what goes beyond this hop, with Via and
// Forwarded, and without what only the mesh may say.
func (c *carrier) outHeader(g *general, to *call) http.Header {
	r := g.r
	h := make(http.Header, len(r.Header)+5)
	copyEndToEnd(h, r.Header)
	for k := range h {
		if c.owned(k) || to.retraces(k) {
			delete(h, k)
		}
	}
	if to.traced {
		h[headerTraceparent] = []string{string(to.trace[:])}
	}
	if _, ok := h["User-Agent"]; !ok {
		h["User-Agent"] = nil // none came, so none is added
	}
	via := "1.1 nightjar"
	if r.ProtoMajor == 1 && r.ProtoMinor == 0 {
		via = "1.0 nightjar"
	} else if r.ProtoMajor == 2 {
		via = "2 nightjar"
	}
	h["Via"] = append(r.Header["Via"][:len(r.Header["Via"]):len(r.Header["Via"])], via)
	if c.tells(to.to) {
		if c.caller != "" {
			h[wire.HeaderCaller] = c.callerValue
		}
		h[wire.HeaderTimeLeft] = []string{strconv.FormatInt(millis(to.left), 10)}
	}
	if c.gateway != "" {
		h["Forwarded"] = append(r.Header["Forwarded"][:len(r.Header["Forwarded"]):len(r.Header["Forwarded"])], forwarded(r.RemoteAddr, r.Host, r.TLS != nil))
	}
	return h
}

// target is the address of a try. The path goes out exactly as the engine
// gave it.
func target(to *engine.Instance, path, query string, force bool) *url.URL {
	u := &url.URL{Scheme: "http", Host: to.Address, RawQuery: query, ForceQuery: force}
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
	case cause == errLeaving || errors.Is(err, errLeaving):
		return engine.Outcome{Reason: engine.Draining, Detail: "the proxy in front of it ends before the answer came"}
	case errors.As(err, &untrusted), errors.As(err, &noTLS), errors.As(err, &alert):
		return engine.Outcome{Reason: engine.TLS, Detail: "no secure connection: " + err.Error()}
	case errors.As(err, &op) && op.Op == "dial", errors.Is(err, syscall.ECONNREFUSED):
		return engine.Outcome{Reason: engine.Unreachable, Detail: "cannot be reached: " + err.Error()}
	}
	return engine.Outcome{Reason: engine.Reset, Detail: "the connection broke before an answer: " + err.Error()}
}

// pass writes the answer to the caller. Bodies of unknown length are flushed as
// they come, so that streams arrive at once.
func (g *general) pass(p passing) (fault bool, err error) {
	w, answer := g.w, g.answer
	h := w.Header()
	copyEndToEnd(h, answer.Header)
	editAnswer(h, p.edits)
	h["Via"] = append(h["Via"], "1.1 nightjar")
	for _, f := range p.extra {
		h[f.Name] = []string{f.Value}
	}
	if answer.StatusCode == http.StatusSwitchingProtocols {
		return false, g.switchTo(answer)
	}
	if h["Content-Type"] == nil {
		h["Content-Type"] = nil // none came, so none is guessed
	}
	announced := len(answer.Trailer)
	if announced > 0 {
		for k := range answer.Trailer {
			h.Add("Trailer", k)
		}
		if g.r.ProtoMajor == 1 {
			delete(h, "Content-Length") // trailers need chunks
		}
	}
	defer answer.Body.Close()
	w.WriteHeader(answer.StatusCode)
	if answer.ContentLength != 0 {
		if err := g.copyBody(w, answer); err != nil {
			return false, err
		}
	}
	if len(answer.Trailer) > announced {
		http.NewResponseController(w).Flush() // a head that is still held back would end the stream
	}
	for k, values := range answer.Trailer {
		if announced > 0 && h["Trailer"] != nil && tokenIn(h["Trailer"], k) {
			h[k] = values
		} else {
			h[http.TrailerPrefix+k] = values
		}
	}
	return isGRPC(g) && grpcFault(answer), nil
}

func (g *general) say(status int, h http.Header, body []byte) {
	if g.answer != nil {
		g.answer.Body.Close()
	}
	to := g.w.Header()
	for k, v := range h {
		to[k] = v
	}
	if to["Content-Type"] == nil {
		to["Content-Type"] = nil
	}
	if status != http.StatusNoContent && status != http.StatusNotModified && to["Grpc-Status"] == nil {
		to["Content-Length"] = []string{strconv.Itoa(len(body))}
	}
	g.w.WriteHeader(status)
	if n, err := g.w.Write(body); err == nil && g.r.Method != http.MethodHead {
		g.passed.Add(uint64(n))
	}
}

// tokenIn tells whether a list of tokens has one of that name.
func tokenIn(lines []string, token string) bool {
	for _, l := range lines {
		for t := range strings.SplitSeq(l, ",") {
			if strings.EqualFold(strings.TrimSpace(t), token) {
				return true
			}
		}
	}
	return false
}
