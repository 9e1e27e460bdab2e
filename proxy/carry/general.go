package carry

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
	"nightjar/proxy/observe"
)

// Transports are the ways on from net/http: HTTP/1.1 without TLS and with it,
// and HTTP/2 where the instance speaks nothing else.
type Transports struct {
	http1 *http.Transport
	http2 *http.Transport
}

// NewTransports makes transports without a connection yet.
func NewTransports() *Transports {
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	two.SetHTTP2(true)
	return &Transports{
		http1: &http.Transport{
			DisableCompression:     true,
			MaxIdleConnsPerHost:    512,
			IdleConnTimeout:        keptIdle,
			ExpectContinueTimeout:  time.Second,
			DialContext:            dialHTTP1,
			WriteBufferSize:        16 << 10,
			ReadBufferSize:         16 << 10,
			MaxResponseHeaderBytes: maxHeader,
		},
		http2: &http.Transport{
			DisableCompression:     true,
			IdleConnTimeout:        keptIdle,
			Protocols:              two,
			DialContext:            dialHTTP2,
			MaxResponseHeaderBytes: maxHeader,
			HTTP2:                  &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 10 * time.Second},
		},
	}
}

// For is the transport for instances that speak HTTP/2 alone, or for all others.
func (t *Transports) For(isHTTP2 bool) http.RoundTripper {
	if isHTTP2 {
		return t.http2
	}
	return t.http1
}

// CloseIdle closes the connections without a request.
func (t *Transports) CloseIdle() {
	t.http1.CloseIdleConnections()
	t.http2.CloseIdleConnections()
}

// server carries requests over net/http.
type server struct {
	handler    Handler
	src        *Source
	transport  *Transports
	recorder   *observe.Recorder // nil: nothing is counted
	isDraining func() bool       // answers are to end their connections
	tunnels    *tunnels          // connections that became something else than HTTP
	stall      time.Duration     // after which a caller that takes no byte is given up
	rate       func() float64    // see Config.LeastRate; nil: none
	resets     resets            // of streams
	ended      func(net.Conn)    // is told of a tunnel that ended; nil: nobody is
}

func (s *server) leastRate() float64 {
	if s.rate == nil {
		return 0
	}
	return s.rate()
}

type connKey struct{}

// servedConn is what a connection has for its requests.
type servedConn struct {
	shard   *observe.Shard // nil: nothing is counted
	streams streams
}

// connContext gives a new connection its shard, and counts its streams.
func (s *server) connContext(ctx context.Context, conn net.Conn) context.Context {
	c := &servedConn{}
	if streamsOf(s.handler) > 0 {
		host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
		c.streams = streams{conn: conn, address: host, resets: &s.resets}
	}
	if s.recorder != nil {
		c.shard = s.recorder.Assign()
	}
	return context.WithValue(ctx, connKey{}, c)
}

// connOf is what the connection of a request has.
func connOf(r *http.Request) *servedConn {
	c, _ := r.Context().Value(connKey{}).(*servedConn)
	if c == nil {
		c = &servedConn{}
	}
	return c
}

// general is the bearer over net/http. It is pooled.
type general struct {
	engine.Exchange
	s        *server
	w        http.ResponseWriter
	r        *http.Request
	path     string // as it came on the wire
	query    string
	hasQuery bool         // there is a question mark
	fields   http1.Fields // of the request
	answered http1.Fields // of the answer
	to       attempt
	life     lifetime
	answer   *http.Response
	free     context.CancelCauseFunc // frees what the answer holds
	body     *callerBody             // nil: there is none
	kept     *keptBody               // of the body; nil: nobody needs it twice
	received atomic.Uint64           // bytes of answers' bodies that went to the caller
	stalls   stallTimer
	alarm
}

var generals = sync.Pool{New: func() any { return &general{alarm: newAlarm()} }}

func (g *general) Method() string             { return g.r.Method }
func (g *general) Host() string               { return g.r.Host }
func (g *general) Path() string               { return g.path }
func (g *general) Query() string              { return g.query }
func (g *general) Header(key string) []string { return g.r.Header[key] }
func (g *general) Caller() string             { return g.s.src.Hop.Caller }
func (g *general) Site() string               { return g.s.src.Site }
func (g *general) isHTTP2() bool              { return g.r.ProtoMajor == 2 }
func (g *general) attempt() *attempt          { return &g.to }
func (g *general) ended() error               { return g.life.ended() }
func (g *general) wake() func()               { return g.waker }
func (g *general) isBodySlow() bool           { return g.body.isSlow(0, g.s.src.now()-g.to.began) }

func (g *general) bytes() (sent, received uint64) {
	if g.body != nil {
		sent = g.body.read.Load()
	}
	return sent, g.received.Load()
}

func (g *general) came() forward.Came {
	c := forward.Came{
		Fields:   &g.fields,
		Host:     g.r.Host,
		Protocol: "1.1",
		Remote:   g.r.RemoteAddr,
		IsSecure: g.r.TLS != nil,
	}
	switch {
	case g.isHTTP2():
		c.Protocol = "2"
	case g.r.ProtoMinor == 0:
		c.Protocol = "1.0"
	}
	return c
}

// setTarget takes the path and the query as they came on the wire (RFC 9112,
// section 3.2; RFC 9113, section 8.3.1).
func (g *general) setTarget() error {
	target := g.r.RequestURI
	if i := strings.Index(target, "://"); i > 0 && target[0] != '/' { // the absolute form
		if scheme := target[:i]; !strings.EqualFold(scheme, "http") &&
			(g.r.TLS == nil || !strings.EqualFold(scheme, "https")) {
			return &http1.Refusal{
				Status: http.StatusBadRequest,
				Why:    "the target begins neither with a slash nor with http://",
			}
		}
		target = target[i+3:]
		if end := strings.IndexAny(target, "/?"); end >= 0 {
			target = target[end:]
		} else {
			target = "/"
		}
		if target[0] == '?' {
			target = "/" + target
		}
	}
	if g.r.Method == http.MethodConnect {
		target = "/"
	}
	g.path, g.query, g.hasQuery = strings.Cut(target, "?")
	if g.path == "*" && g.r.Method == http.MethodOptions && !g.hasQuery {
		return nil
	}
	if g.path == "" || g.path[0] != '/' {
		return &http1.Refusal{
			Status: http.StatusBadRequest,
			Why:    "the path " + strconv.Quote(g.path) + " does not begin with a slash",
		}
	}
	query := ""
	if g.hasQuery {
		query = target[len(g.path):]
	}
	return http1.CheckTarget(g.path, query)
}

// ServeHTTP carries one request.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	conn := connOf(r)
	if r.ProtoMajor == 2 && conn.streams.conn != nil {
		if !conn.streams.open(time.Now()) {
			panic(http.ErrAbortHandler)
		}
		if r.Context().Err() != nil { // it was reset before it was looked at, and nothing is done for it
			conn.streams.reset(time.Now())
			panic(http.ErrAbortHandler)
		}
		defer func() {
			if r.Context().Err() != nil {
				conn.streams.reset(time.Now())
			}
		}()
	}
	g := generals.Get().(*general)
	g.s, g.w, g.r = s, w, r
	g.received.Store(0)
	g.life.begin(r.Context())
	if r.ContentLength != 0 { // of its own: a transport may read on when the request is over
		// r keeps its own, which the server looks at
		g.body = &callerBody{from: r.Body, conn: http.NewResponseController(w), rate: s.leastRate()}
	}
	defer func() {
		if g.free != nil {
			g.free(nil)
		}
		g.body.end(&g.life)
		g.s, g.w, g.r, g.answer, g.free, g.body, g.kept = nil, nil, nil, nil, nil, nil, nil
		clear(g.fields.List) // the pool is to keep no header alive
		clear(g.answered.List)
		g.life.forget()
		generals.Put(g)
	}()
	if r.ProtoMajor == 1 && g.body != nil { // an answer may come before the body has gone by
		http.NewResponseController(w).EnableFullDuplex()
	}
	err := g.setTarget()
	if err == nil && !http1.IsHost(r.Host) && !(r.Host == "" && r.ProtoMajor == 1 && r.ProtoMinor == 0) {
		err = &http1.Refusal{Status: http.StatusBadRequest, Why: strconv.Quote(r.Host) + " is not a host"}
	}
	if err != nil {
		g.refuseUnread(err)
		return
	}
	g.fields.Reset()
	for k, values := range r.Header {
		for _, v := range values {
			g.fields.Add(k, v)
		}
	}
	if !s.handler.carry(g, &g.Exchange, conn.shard) {
		panic(http.ErrAbortHandler)
	}
	if r.ProtoMajor == 1 {
		g.body.linger(w)
	}
}

// refuseUnread refuses a request whose target or host could not be written on.
func (g *general) refuseUnread(err error) {
	h := http.Header{}
	if g.r.ProtoMajor == 1 {
		h["Connection"] = []string{"close"}
	}
	refusal := forward.Refusal{
		Status: http.StatusBadRequest,
		Reason: engine.BadRequest,
		Detail: err.Error(),
		Proxy:  g.s.src.Proxy,

		Request: g.s.handler.outsider(),
	}
	g.reply(refusal.Status, h, refusal.Text(h))
	g.s.handler.refused(g, &g.Exchange, connOf(g.r).shard, &refusal)
}

func (g *general) wait(d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-g.woken:
	case <-g.r.Context().Done():
	}
	return g.life.ended()
}

// callerBody is the body of a request as it comes from the caller. An error of
// reading it is the caller's, and noted here, where it arises; so is the time that
// the caller lets the others wait.
type callerBody struct {
	from    io.ReadCloser
	read    atomic.Uint64
	isWhole atomic.Bool
	failed  atomic.Pointer[error]
	waiting atomic.Int64 // since when a read waits for the caller; 0: none does
	waited  atomic.Int64 // for how long reads did so far
	rate    float64      // bytes a second that have to come; 0: any
	onEnd   func()       // called at the end of the body; nil: nothing is

	mu       sync.Mutex
	conn     *http.ResponseController // ends a read that waits; nil: the request is over
	isBroken atomic.Bool              // a read was ended that waited, so that the rest cannot be had

	reading sync.Mutex // held while something is read; guards isOver
	isOver  bool
}

// breakOff ends a read that waits for the caller, so that whoever reads goes on. Of
// a body that has come whole nothing is lost.
func (b *callerBody) breakOff(l *lifetime) {
	if b == nil || b.isWhole.Load() {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.conn != nil {
		b.isBroken.Store(true)
		l.isDeaf.Store(true)
		b.conn.SetReadDeadline(time.Unix(1, 0))
	}
}

// boundRead bounds a read that begins now, where bytes have to come at a rate.
func (b *callerBody) boundRead(now time.Time) {
	if b.rate == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.conn != nil && !b.isBroken.Load() {
		b.conn.SetReadDeadline(now.Add(rules.RateOver))
	}
}

// end says that the request is over: nobody reads any more, and its connection is
// not touched any more. A read that went on would have the server take its
// deadline away, and wait for the rest of the body.
func (b *callerBody) end(l *lifetime) {
	if b == nil {
		return
	}
	b.breakOff(l)
	b.mu.Lock()
	b.conn = nil
	b.mu.Unlock()
	b.reading.Lock()
	b.isOver = true
	b.reading.Unlock()
}

// maxLingering is how much of a body is dropped that still comes when the answer
// has gone.
const maxLingering = 16 << 20

// linger takes what still comes of the body, for a while, so that a caller that
// sends on finds the answer and not a connection that was reset (RFC 9112, section
// 9.6). Of one that sends nothing it expects nothing.
func (b *callerBody) linger(w http.ResponseWriter) {
	if b == nil || b.from == nil || b.isWhole.Load() || b.isBroken.Load() || b.failed.Load() != nil {
		return
	}
	conn := http.NewResponseController(w)
	if conn.Flush() != nil || conn.SetReadDeadline(time.Now().Add(lingering)) != nil {
		return
	}
	b.reading.Lock()
	defer b.reading.Unlock()
	b.isOver = true // for the transport
	io.CopyN(io.Discard, b.from, maxLingering)
}

func (b *callerBody) Read(p []byte) (int, error) {
	b.reading.Lock()
	defer b.reading.Unlock()
	if b.isOver {
		return 0, http.ErrBodyReadAfterClose
	}
	since := time.Now()
	b.boundRead(since)
	b.waiting.Store(since.UnixNano())
	n, err := b.from.Read(p)
	b.waiting.Store(0)
	waited := b.waited.Add(int64(time.Since(since)))
	read := b.read.Add(uint64(n))
	if isTooSlow := float64(read) < b.rate*time.Duration(waited).Seconds(); b.rate > 0 && waited >= int64(rules.RateOver) &&
		isTooSlow && err != io.EOF {
		n, err = 0, errSlowBody
	}
	switch {
	case err == nil:
	case err == io.EOF:
		if b.onEnd != nil {
			b.onEnd()
		}
		b.isWhole.Store(true)
	case !b.isBroken.Load():
		b.failed.CompareAndSwap(nil, &err)
	}
	return n, err
}

// Close leaves the body open, for another attempt; the server closes it.
func (b *callerBody) Close() error { return nil }

// awaited is for how long reads have waited for the caller so far.
func (b *callerBody) awaited() time.Duration {
	sum := b.waited.Load()
	if since := b.waiting.Load(); since > 0 {
		sum += max(time.Now().UnixNano()-since, 0)
	}
	return time.Duration(sum)
}

// err is what went wrong with the body; nil: nothing so far.
func (b *callerBody) err() error {
	if b == nil {
		return nil
	}
	if p := b.failed.Load(); p != nil {
		return *p
	}
	return nil
}

// isCut tells whether the body broke off because the caller left.
func isCut(err error) bool {
	var op *net.OpError
	return errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &op)
}

func (g *general) bodyError() error {
	err := g.body.err()
	if err != nil && isCut(err) {
		g.life.endRequest(errCallerLeft)
	}
	return err
}

// bodyOutcome is the outcome of an attempt that failed since the caller's body
// could not be read; false: that is not why.
func (g *general) bodyOutcome() (o engine.Outcome, yes bool) {
	err := g.bodyError()
	if err == nil {
		return o, false
	}
	if errors.Is(err, errSlowBody) {
		return outcomeOf(errSlowBody), true
	}
	return engine.Outcome{
		Reason:  engine.BadRequest,
		IsSpent: true,
		Detail:  "the body of the request cannot be read: " + err.Error(),
	}, true
}

// slowShare is the share of an attempt's time after which waiting for the caller's
// body is why it ran out.
const slowShare = 0.5

// isSlow tells whether an attempt of that length went by in waiting for the caller,
// who had kept the request waiting for before when it began.
func (b *callerBody) isSlow(before, took time.Duration) bool {
	return b != nil && !b.isWhole.Load() && float64(b.awaited()-before) >= slowShare*float64(took)
}

// mustClose tells whether the connection ends with this answer: the proxy ends,
// or the body of the request has not been read to its end, or not understood.
func (g *general) mustClose() bool {
	return g.r.ProtoMajor == 1 && (g.s.isDraining != nil && g.s.isDraining() || g.body != nil && !g.body.isWhole.Load())
}
