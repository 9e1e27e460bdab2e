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
	"nightjar/proxy/forward"
	"nightjar/proxy/http1"
	"nightjar/proxy/observe"
)

// server carries requests over net/http.
type server struct {
	handler    Handler
	src        *Source
	transport  *Transports
	recorder   *observe.Recorder // nil: nothing is counted
	isDraining func() bool       // answers are to end their connections
	tunnels    *tunnels          // connections that became something else than HTTP
	identity   *Identity         // of callers that are members; nil: there are none
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
	shard *observe.Shard // nil: nothing is counted
	peer  *member        // who calls, by mutual TLS; nil: without
	heads *headTime      // nil: as built in
}

// connContext gives a new connection its shard.
func (s *server) connContext(ctx context.Context, conn net.Conn) context.Context {
	c := &servedConn{heads: headsOf(conn)}
	if b, ok := conn.(*begunConn); ok {
		c.peer = b.peer
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
	room     room
	alarm
	visitor
}

var generals = sync.Pool{New: func() any { return &general{alarm: newAlarm()} }}

func (g *general) Method() string             { return g.r.Method }
func (g *general) Host() string               { return g.r.Host }
func (g *general) Path() string               { return g.path }
func (g *general) Query() string              { return g.query }
func (g *general) Header(key string) []string { return g.r.Header[key] }
func (g *general) Caller() string             { return callerOf(g.s.src, g.member()) }
func (g *general) Site() string               { return siteOf(g.s.src, g.member()) }
func (g *general) member() *member            { return connOf(g.r).peer }
func (g *general) isHTTP2() bool              { return g.r.ProtoMajor == 2 }
func (g *general) attempt() *attempt          { return &g.to }
func (g *general) ended() error               { return g.life.ended() }
func (g *general) wake() func()               { return g.waker }
func (g *general) length() int64              { return g.r.ContentLength }
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
	_, isStream := g.w.(*netStream) // of a WebSocket too, which goes on as HTTP/1.1
	switch {
	case isStream:
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
	g := generals.Get().(*general)
	g.s, g.w, g.r = s, w, r
	g.received.Store(0)
	g.life.begin(r.Context())
	if r.ContentLength != 0 { // of its own: a transport may read on when the request is over
		// r keeps its own, which the server looks at
		g.body = &callerBody{from: r.Body, conn: http.NewResponseController(w), rate: s.leastRate(), most: uint64(edgeLimits(s.handler).Body)}
	}
	conn.heads.serving(true)
	defer conn.heads.serving(false)
	defer func() {
		if g.free != nil {
			g.free(nil)
		}
		g.body.end(&g.life)
		g.visitor = visitor{}
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
	if !carry(s.handler, g, &g.Exchange, conn.shard, &g.room) {
		panic(http.ErrAbortHandler)
	}
	if r.ProtoMajor == 1 {
		g.body.linger(w)
	}
}

// refuseTooLarge refuses a request of HTTP/2 whose header list is over the limit.
func (s *server) refuseTooLarge(w http.ResponseWriter, r *http.Request) {
	g := &general{s: s, w: w, r: r}
	g.life.begin(r.Context())
	g.refuseUnread(&http1.Refusal{
		Status: http.StatusRequestHeaderFieldsTooLarge,
		Why:    "the header list is longer than " + strconv.Itoa(maxHeader) + " bytes, or has too many fields",
	})
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
	var why *http1.Refusal
	if errors.As(err, &why) && why.Status == http.StatusRequestHeaderFieldsTooLarge {
		refusal.Status, refusal.Reason = why.Status, engine.TooLarge
	}
	g.reply(refusal.Status, h, refusal.Text(h))
	g.s.handler.refused(g, &g.Exchange, connOf(g.r).shard, &refusal)
}

func (g *general) wait(d time.Duration) (why error, isOver bool) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-g.woken:
	case <-g.r.Context().Done():
	}
	return g.life.ended(), true
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

// unreadable begins what is said of a body with an error.
const unreadable = "the body of the request cannot be read: "

// bodyOutcome is the outcome of an attempt that failed since the caller's body
// could not be read; false: that is not why.
func (g *general) bodyOutcome() (o engine.Outcome, yes bool) {
	err := g.bodyError()
	if err == nil {
		return o, false
	}
	if errors.Is(err, errSlowBody) || errors.Is(err, errTooLarge) {
		return outcomeOf(err), true
	}
	return engine.Outcome{
		Reason:  engine.BadRequest,
		IsSpent: true,
		Detail:  unreadable + err.Error(),
	}, true
}

// mustClose tells whether the connection ends with this answer: the proxy ends, the
// caller's certificate is no longer good, or the body of the request has not been read
// to its end, or not understood.
func (g *general) mustClose() bool {
	if peer := g.member(); peer != nil && g.s.identity != nil &&
		!g.s.identity.Credentials.IsGood(&peer.Peer, time.Now()) {
		return true
	}
	return g.r.ProtoMajor == 1 && (g.s.isDraining != nil && g.s.isDraining() || g.body != nil && !g.body.isWhole.Load())
}
