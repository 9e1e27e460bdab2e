package carry

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"nightjar/core/rules"
	"nightjar/proxy/h2"
	"nightjar/proxy/observe"
)

// Listener is one address of a proxy with everything that serves its
// connections: our own codecs for plain HTTP/1.1 and for HTTP/2, net/http for the
// rest, a relay for TCP. Make one with Open.
type Listener struct {
	Config
	handler Handler
	src     *Source

	fallback *http.Server
	server   *server // that fallback serves by
	tunnels  tunnels
	handed   chan net.Conn // to fallback
	closed   chan struct{} // fallback takes no more
	closing  sync.Once
	ended    chan struct{}   // Serve of fallback returned
	base     context.Context // of all requests that are carried over net/http
	cut      context.CancelCauseFunc

	isGeneral bool // no connection is served by the codec for plain HTTP/1.1
	isH2      bool // every request of HTTP/2 is carried by the bearer h2

	mu        sync.Mutex // guards what follows; taken when a connection comes or goes
	conns     map[*plain]struct{}
	serving   sync.WaitGroup // Serve, and connections that are not with fallback
	next      int
	draining  atomic.Bool
	h2Callers map[*h2Caller]struct{}
	fallbacks map[net.Conn]*caller // connections of fallback
	hijacked  map[net.Conn]*caller // those that became tunnels
}

// Config of a Listener. Recorder, TLS and Relay may be nil.
type Config struct {
	Name      string // outbound, inbound, gateway, or the name of a service
	Listener  net.Listener
	Pools     *Pools
	Transport *Transports
	Recorder  *observe.Recorder // nil: nothing is counted
	Log       *slog.Logger
	TLS       func() *tls.Config             // nil, or nil from it: none is spoken
	Relay     func() func(net.Conn, *member) // nil, or nil from it: HTTP is spoken
	Identity  *Identity                      // of callers that are members; nil: there are none
	Stall     time.Duration                  // after which a peer that takes no byte is given up; 2 minutes when 0
	Callers   *Callers                       // nil: their connections are not bounded
	HTTP2     *HTTP2                         // nil: its own
	// LeastRate is how many bytes of a body a second a caller has to send or take, over
	// rules.RateOver; nil, or 0 from it: any.
	LeastRate func() float64
}

// Open makes a listener whose requests go to h, a Router or an Inbound. Call
// Serve to begin.
func Open(cfg Config, h Handler) *Listener {
	if in, ok := h.(*Inbound); ok {
		cfg.Identity = in.Identity
	}
	if cfg.HTTP2 == nil {
		cfg.HTTP2 = new(HTTP2)
	}
	if cfg.Stall == 0 {
		cfg.Stall = stallTimeout
	}
	l := &Listener{
		Config:    cfg,
		handler:   h,
		src:       h.source(),
		conns:     map[*plain]struct{}{},
		h2Callers: map[*h2Caller]struct{}{},
		fallbacks: map[net.Conn]*caller{},
		hijacked:  map[net.Conn]*caller{},
		handed:    make(chan net.Conn),
		closed:    make(chan struct{}),
		ended:     make(chan struct{}),
	}
	boundUnsent(cfg.Listener)
	base, cut := context.WithCancelCause(context.Background())
	l.base, l.cut = base, cut
	s := &server{
		handler:    h,
		src:        l.src,
		transport:  cfg.Transport,
		identity:   cfg.Identity,
		recorder:   cfg.Recorder,
		isDraining: l.isDraining,
		tunnels:    &l.tunnels,
		stall:      cfg.Stall,
		rate:       l.rate,
		ended:      l.tunnelEnded,
	}
	l.server = s
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	l.fallback = &http.Server{
		Handler:                      s,
		ReadHeaderTimeout:            headerTimeout,
		IdleTimeout:                  idleTimeout,
		MaxHeaderBytes:               maxHeader,
		Protocols:                    protocols,
		DisableGeneralOptionsHandler: true, // "OPTIONS *" is a request like others
		ConnContext:                  s.connContext,
		BaseContext:                  func(net.Listener) context.Context { return base },
		ErrorLog:                     slog.NewLogLogger(cfg.Log.Handler(), slog.LevelDebug),
		ConnState:                    l.fallbackState,
	}
	return l
}

// maxUnsent is how many bytes the system takes for a caller that does not take them:
// with a buffer that grows to megabytes, many such callers would have the workloads
// make answers for nobody (tcp(7), TCP_NOTSENT_LOWAT).
const maxUnsent = 256 << 10

// boundUnsent sets maxUnsent for all connections of a listener. Where it cannot be
// set, it is not.
func boundUnsent(l net.Listener) {
	t, ok := l.(*net.TCPListener)
	if !ok {
		return
	}
	if raw, err := t.SyscallConn(); err == nil {
		raw.Control(func(fd uintptr) {
			syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, maxUnsent)
		})
	}
}

// headTime is how long the head of a request may take to come.
func (l *Listener) headTime() time.Duration {
	if slow := edgeLimits(l.handler).Slow; slow > 0 {
		return slow
	}
	return headerTimeout
}

// patience is for how long a caller may take so many bytes.
func (l *Listener) patience(n int) time.Duration { return patience(n, l.Stall, l.rate()) }

func (l *Listener) rate() float64 {
	if l.LeastRate == nil {
		return 0
	}
	return l.LeastRate()
}

// patience is for how long a peer may take to take n bytes, or to send them, at a
// least rate in bytes a second; 0: any.
func patience(n int, stall time.Duration, rate float64) time.Duration {
	if rate == 0 {
		return stall
	}
	return min(stall, rules.RateOver+time.Duration(float64(n)/rate*float64(time.Second)))
}

// panicked tells of a fault of this program, after which one connection or request suffers,
// and not all. A nil log takes nothing.
func panicked(log *slog.Logger, what any) {
	if log != nil {
		log.Error("panic while serving a request; please report it", "panic", what, "stack", string(debug.Stack()))
	}
}

func (l *Listener) panicked(what any) { panicked(l.Log, what) }

// Addr is where it listens.
func (l *Listener) Addr() net.Addr { return l.Listener.Addr() }

func (l *Listener) isDraining() bool { return l.draining.Load() }

// Serve accepts connections until the listener is drained. An error means that
// it broke.
func (l *Listener) Serve() error {
	l.serving.Add(1) // so that Drain does not wait while the last connection that was accepted is taken
	defer l.serving.Done()
	go func() {
		defer close(l.ended)
		l.fallback.Serve(handedOn{l}) // ends with Drain
	}()
	l.serving.Go(l.tickH2)
	return accept(l.Listener, l.isDraining, l.take, func(err error, isNews bool) {
		if isNews {
			l.Log.Error(noNew, "listener", l.Name, "error", err)
		}
		l.Callers.relieve()
		l.Pools.CloseIdle()
	})
}

// noNew is what is logged while connections cannot be accepted.
const noNew = "cannot take new connections for now; those that are open go on"

// accept gives the connections of a listener to take, until it is closed, as isOver says. In a
// shortage of descriptors or memory it calls short, which makes room, and says so with isNews
// now and then, and waits. An error means that the listener broke.
func accept(l net.Listener, isOver func() bool, take func(*net.TCPConn), short func(err error, isNews bool)) error {
	pause := time.Duration(0)
	var told time.Time
	for {
		conn, err := l.Accept()
		switch {
		case err == nil:
			pause = 0
			take(conn.(*net.TCPConn))
			continue
		case isOver():
			return nil
		case errors.Is(err, syscall.ECONNABORTED):
			continue
		case !isShortage(err):
			return err
		}
		isNews := time.Since(told) > newsEvery
		if isNews {
			told = time.Now()
		}
		short(err, isNews)
		pause = min(max(5*time.Millisecond, 2*pause), time.Second)
		time.Sleep(pause)
	}
}

// take gives a new connection to what serves it.
func (l *Listener) take(conn *net.TCPConn) {
	at := l.Callers.admit(conn, func() { conn.SetReadDeadline(time.Unix(1, 0)) })
	if at == nil {
		l.refuse(conn)
		return
	}
	if l.TLS != nil {
		if cfg := l.TLS(); cfg != nil {
			if l.server.isSpent(conn) {
				cfg = cfg.Clone()
				cfg.NextProtos = []string{"http/1.1", "http/1.0"}
			}
			l.serving.Go(func() { l.handshake(conn, cfg, at) })
			return
		}
	}
	if l.Identity != nil {
		l.serving.Go(func() { l.welcome(conn, at) })
		return
	}
	raw, err := conn.SyscallConn()
	if err != nil {
		at.leave()
		conn.Close()
		return
	}
	l.serving.Go(func() { l.begin(conn, conn, raw, nil, at) })
}

// begin serves a connection: conn on top of tcp, of a member or of anybody.
func (l *Listener) begin(conn callerConn, tcp *net.TCPConn, raw syscall.RawConn, peer *member, at *caller) {
	if l.Relay != nil {
		if relay := l.Relay(); relay != nil {
			defer at.leave()
			at.work()
			relay(conn, peer)
			return
		}
	}
	c := &plain{
		listener: l,
		src:      l.src,
		conn:     conn,
		raw:      raw,
		peer:     peer,
		remote:   tcp.RemoteAddr().String(),
		at:       at,
	}
	if l.Recorder != nil {
		c.shard = l.Recorder.Assign()
	}
	l.mu.Lock()
	l.next++
	c.slot = l.next % poolSize
	l.conns[c] = struct{}{}
	l.mu.Unlock()
	c.serve()
}

func (l *Listener) forget(c *plain) {
	l.mu.Lock()
	delete(l.conns, c)
	l.mu.Unlock()
}

// handOn gives a connection of which something was read to the codec of HTTP/2, which
// serves it to its end, or else to net/http.
func (l *Listener) handOn(conn net.Conn, early []byte, peer *member, at *caller) {
	if isPreface(early) {
		if l.server.isSpent(conn) {
			conn.Close()
			at.leave()
			return
		}
		switch c := conn.(type) {
		case *net.TCPConn:
			l.serveH2(c, nil, nil, early, peer, at)
		case *tls.Conn:
			under := c.NetConn().(*h2.Under)
			l.serveH2(under.TCPConn, under, c, early, peer, at)
		}
		return
	}
	l.hand(&begunConn{
		Conn:  conn,
		from:  io.MultiReader(bytes.NewReader(early), conn),
		peer:  peer,
		heads: headTime{most: l.headTime},
	}, at)
}

func (l *Listener) hand(conn net.Conn, at *caller) {
	l.mu.Lock()
	l.fallbacks[conn] = at
	l.mu.Unlock()
	select {
	case l.handed <- conn:
	case <-l.closed:
		l.fallbackState(conn, http.StateClosed)
		conn.Close()
	}
}

// fallbackState follows what becomes of a connection with fallback.
func (l *Listener) fallbackState(conn net.Conn, s http.ConnState) {
	l.mu.Lock()
	at := l.fallbacks[conn]
	switch s {
	case http.StateHijacked: // it goes on as a tunnel
		l.hijacked[conn] = at
		delete(l.fallbacks, conn)
	case http.StateClosed:
		delete(l.fallbacks, conn)
	}
	l.mu.Unlock()
	if at == nil {
		return
	}
	switch s {
	case http.StateActive, http.StateHijacked:
		at.work()
	case http.StateIdle:
		at.wait()
	case http.StateClosed:
		at.leave()
	}
}

// tunnelEnded says that a connection that became a tunnel is gone.
func (l *Listener) tunnelEnded(conn net.Conn) {
	l.mu.Lock()
	at := l.hijacked[conn]
	delete(l.hijacked, conn)
	l.mu.Unlock()
	if at != nil {
		at.leave()
	}
}

// handedOn is the listener of net/http: what take and handOn give away.
type handedOn struct{ l *Listener }

func (h handedOn) Accept() (net.Conn, error) {
	select {
	case c := <-h.l.handed:
		return c, nil
	case <-h.l.closed:
		return nil, net.ErrClosed
	}
}

func (h handedOn) Close() error {
	h.l.closing.Do(func() { close(h.l.closed) })
	return nil
}

func (h handedOn) Addr() net.Addr { return h.l.Listener.Addr() }

// Connections tells how many are open.
func (l *Listener) Connections() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.conns) + len(l.h2Callers) + len(l.fallbacks) + l.tunnels.count()
}

// Drain stops accepting, lets requests finish for limit at most, and answers
// those that are left as draining. Idle connections are closed after grace, so
// that a request that is on its way still finds them open.
func (l *Listener) Drain(grace, limit time.Duration) {
	end := time.Now().Add(limit)
	l.draining.Store(true)
	l.Listener.Close()
	time.Sleep(min(grace, limit))
	l.drainH2()
	// Connections that still go to net/http find it open.
	l.await(time.Now().Add(limit/2), true)
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		ctx, stop := context.WithDeadline(context.Background(), end)
		defer stop()
		if l.fallback.Shutdown(ctx) != nil {
			l.cut(errDraining)
			last, stop := context.WithTimeout(context.Background(), lastWords)
			defer stop()
			if l.fallback.Shutdown(last) != nil {
				l.fallback.Close()
			}
		}
	}()
	l.await(end, true)
	l.awaitH2(end)
	l.each(func(c *plain, _ bool) { c.life.endRequest(errDraining) })
	l.tunnels.end(max(0, time.Until(end)))
	if l.eachH2((*h2Caller).cut) > 0 {
		l.cut(errDraining)
	}
	<-finished
	last := time.Now().Add(lastWords)
	l.await(last, false)
	l.awaitH2(last)
	l.each(func(c *plain, _ bool) { c.conn.Close() })
	l.eachH2(func(c *h2Caller) { c.conn.Close() })
	<-l.ended
	l.serving.Wait()
	l.cut(nil)
}

// await waits until there are no connections any more, until end at most; idle
// ones are closed.
func (l *Listener) await(end time.Time, closeIdle bool) {
	for l.each(func(c *plain, busy bool) {
		if closeIdle && !busy {
			c.conn.SetReadDeadline(time.Unix(1, 0))
		}
	}) > 0 && time.Now().Before(end) {
		time.Sleep(5 * time.Millisecond)
	}
}

// each visits the connections and tells how many there are.
func (l *Listener) each(do func(c *plain, busy bool)) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		do(c, c.busy.Load())
	}
	return len(l.conns)
}
