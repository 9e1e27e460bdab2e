package carry

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"nightjar/proxy/h2"
	"nightjar/proxy/observe"
)

// Limits of connections of HTTP/2.
const (
	h2Streams       = 1000             // that another proxy may have open at once
	h2CalmOutsiders = 1000             // see h2.Config.Calm
	h2CalmMembers   = 200_000          // their streams are those of many callers
	h2Tick          = time.Second      // how often connections are looked after
	h2Ping          = 15 * time.Second // a connection with streams that is silent for so long is asked whether it lives
)

// HTTP2 is what all connections of HTTP/2 of a proxy have in common. The zero value is one
// of nothing yet.
type HTTP2 struct {
	held   h2.Budget
	counts h2.Counts
}

// Held is how many bytes of bodies are held that nobody takes.
func (h *HTTP2) Held() int64 { return h.held.Held() }

// Flooding counts connections that were ended since their peers asked for too much, Broken
// those whose peers broke the protocol, Refused streams over the limit, and TooLarge header
// lists over theirs.
func (h *HTTP2) Flooding() uint64 { return h.counts.Flooded.Load() }
func (h *HTTP2) Broken() uint64   { return h.counts.Broken.Load() }
func (h *HTTP2) Refused() uint64  { return h.counts.Refused.Load() }
func (h *HTTP2) TooLarge() uint64 { return h.counts.TooLarge.Load() }

// h2Caller is a connection of a caller that speaks HTTP/2.
type h2Caller struct {
	l       *Listener
	conn    *h2.Conn
	at      *caller
	peer    *member // who calls, by mutual TLS; nil: without
	shard   *observe.Shard
	remote  string // address of the caller
	address string // without the port, where resets are counted; empty: they are not
	tls     *tls.ConnectionState
	ctx     context.Context // of all its requests that are carried over net/http
	slot    int

	next  atomic.Int64 // when a request is to be looked at, since the source's epoch; 0: none is
	timer *time.Timer  // for that
}

// serveH2 serves a connection of HTTP/2 until it ends. early was read of it before.
func (l *Listener) serveH2(tcp *net.TCPConn, under *h2.Under, t *tls.Conn, early []byte, peer *member, at *caller) {
	defer at.leave()
	defer tcp.Close()
	c := &h2Caller{l: l, at: at, peer: peer, remote: tcp.RemoteAddr().String()}
	if t != nil {
		state := t.ConnectionState()
		c.tls = &state
	}
	cfg := h2.Config{
		Handler:  c,
		Streams:  h2Streams,
		Budget:   &l.HTTP2.held,
		Calm:     h2CalmMembers,
		Patience: l.patience,
		Now:      l.src.now,
	}
	if isOutside(l.handler) {
		c.address, _, _ = net.SplitHostPort(c.remote)
		cfg.Streams, cfg.Calm = cmp.Or(edgeLimits(l.handler).Streams, maxStreams), h2CalmOutsiders
	}
	if l.Recorder != nil {
		c.shard = l.Recorder.Assign()
	}
	ctx, leave := context.WithCancelCause(context.WithValue(l.base, connKey{}, &servedConn{shard: c.shard, peer: peer}))
	defer leave(errCallerLeft)
	c.ctx = ctx
	var err error
	if c.conn, err = h2.New(tcp, under, t, early, &l.HTTP2.counts, cfg); err != nil {
		return
	}
	l.mu.Lock()
	l.next++
	c.slot = l.next
	l.h2Callers[c] = struct{}{}
	isDraining := l.isDraining()
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.h2Callers, c)
		l.mu.Unlock()
	}()
	if isDraining {
		var b h2.Batch
		c.conn.GoAway(&b)
		b.Flush()
	}
	c.timer = time.AfterFunc(time.Hour, c.look)
	defer c.timer.Stop()
	defer func() {
		if what := recover(); what != nil { // one connection is to suffer, not all
			l.panicked(what)
			c.conn.Abandon(errPanicked)
		}
	}()
	c.conn.Serve()
}

// errPanicked is why a connection is ended after a fault of this program.
var errPanicked = errors.New("a fault of this program")

// schedule has the requests looked at when a time comes. Most requests are over before
// theirs does, so that all share one timer, which is hardly ever set.
func (c *h2Caller) schedule(at time.Duration) {
	for {
		next := c.next.Load()
		if next != 0 && next <= int64(at) {
			return
		}
		if c.next.CompareAndSwap(next, int64(at)) {
			c.timer.Reset(max(at-c.l.src.now(), 0))
			return
		}
	}
}

// look looks at the requests whose time has come.
func (c *h2Caller) look() {
	c.next.Store(0)
	var b h2.Batch
	next := time.Duration(0)
	for _, r := range c.conn.Receivers(nil) {
		if d, is := r.(*h2Down); is {
			if at := d.look(&b); at > 0 && (next == 0 || at < next) {
				next = at
			}
		}
		r.Release()
	}
	b.Flush()
	if next > 0 {
		c.schedule(next)
	}
}

// cut gives up what is under way, since the proxy ends.
func (c *h2Caller) cut() {
	var b h2.Batch
	for _, r := range c.conn.Receivers(nil) {
		if d, is := r.(*h2Down); is {
			d.cut(&b)
		}
		r.Release()
	}
	b.Flush()
}

// Open takes a new request: one of gRPC, or to a workload that speaks HTTP/2 alone, by our own
// codec, any other over net/http.
func (c *h2Caller) Open(_ *h2.Conn, head *h2.Block) (*h2.Stream, h2.Receiver) {
	if (isGRPC(&head.Fields) || c.l.isFramed()) && !head.IsTooLarge && head.Method != http.MethodConnect {
		f := newH2Request(c)
		return &f.down, (*h2Down)(f)
	}
	n := &netStream{caller: c}
	n.more.L = &n.mu
	return &n.Stream, n
}

// isFramed tells whether all requests of HTTP/2 go on as such.
func (l *Listener) isFramed() bool {
	return l.isH2 || !isOutside(l.handler) && l.handler.leadsToHTTP2("")
}

// Busy says whether the connection waits for its caller.
func (c *h2Caller) Busy(_ *h2.Conn, is bool) {
	if is {
		c.at.work()
	} else {
		c.at.wait()
	}
}

// Leaves says nothing here: the caller opens no more streams, and those that there are go on.
func (c *h2Caller) Leaves(*h2.Conn) {}

// reset counts a stream that its caller gave up before its answer. One that does so too
// often is ended.
func (c *h2Caller) reset() {
	if c.address != "" && !c.l.server.resets.take(c.address, time.Now()) {
		c.conn.End(h2.EnhanceYourCalm, "too many streams are given up before their answers")
	}
}

// tickH2 looks after the connections of HTTP/2 until the listener has closed.
func (l *Listener) tickH2() {
	ticks := time.NewTicker(h2Tick)
	defer ticks.Stop()
	for {
		select {
		case <-ticks.C:
		case <-l.closed:
			return
		}
		var b h2.Batch
		l.eachH2(func(c *h2Caller) { c.conn.Tick(&b, idleTimeout, 0, l.headTime()) })
		b.Flush()
	}
}

// eachH2 visits the connections of HTTP/2, and tells how many there are.
func (l *Listener) eachH2(do func(*h2Caller)) int {
	l.mu.Lock()
	list := make([]*h2Caller, 0, len(l.h2Callers))
	for c := range l.h2Callers {
		list = append(list, c)
	}
	l.mu.Unlock()
	for _, c := range list {
		do(c)
	}
	return len(list)
}

// awaitH2 waits until there are no connections of HTTP/2 any more, until end at most.
func (l *Listener) awaitH2(end time.Time) {
	for l.eachH2(func(*h2Caller) {}) > 0 && time.Now().Before(end) {
		time.Sleep(5 * time.Millisecond)
	}
}

// drainH2 tells callers that no more requests are taken on their connections, which end
// with those that are under way.
func (l *Listener) drainH2() {
	var b h2.Batch
	l.eachH2(func(c *h2Caller) { c.conn.GoAway(&b) })
	b.Flush()
}

// handshake is the one of a caller by TLS, whoever it is. It tells what is spoken.
func (l *Listener) handshake(conn *net.TCPConn, cfg *tls.Config, at *caller) {
	under := h2.NewUnder(conn)
	t := tls.Server(&secureConn{Under: under, heads: headTime{most: l.headTime}}, cfg)
	conn.SetDeadline(time.Now().Add(l.headTime()))
	if at.isOut.Load() || t.Handshake() != nil {
		at.leave()
		conn.Close()
		return
	}
	conn.SetDeadline(time.Time{})
	if t.ConnectionState().NegotiatedProtocol == "h2" {
		l.serveH2(conn, under, t, nil, nil, at)
		return
	}
	l.hand(t, at)
}

func isPreface(b []byte) bool { return strings.HasPrefix(string(b), h2.Preface[:16]) }
