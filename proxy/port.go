package proxy

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Limits of every port of a proxy.
const (
	headerTimeout = 10 * time.Second
	idleTimeout   = 2 * time.Minute
	maxHeader     = 64 << 10
	lastWords     = 250 * time.Millisecond // for the answers to requests that were cut off
)

// port is one listener of a proxy with everything that serves its connections:
// our own codec for plain HTTP/1.1, net/http for the rest.
type port struct {
	name     string // outbound, inbound, gateway, or the name of a service
	listener net.Listener
	handler  handler
	by       *carrier // of the handler
	racks    *racks
	recorder *recorder // nil: nothing is counted
	log      *slog.Logger
	tls      func() *tls.Config          // nil, or nil from it: none is spoken
	relay    func() func(c *net.TCPConn) // nil, or nil from it: HTTP is spoken

	rest    *http.Server
	tunnels tunnels
	handed  chan net.Conn // to rest
	closed  chan struct{} // rest takes no more
	closing sync.Once
	ended   chan struct{} // Serve of rest returned
	cut     context.CancelCauseFunc

	mu       sync.Mutex // guards what follows; taken when a connection comes or goes
	conns    map[*plain]struct{}
	serving  sync.WaitGroup // connections that are not with rest
	next     int
	draining atomic.Bool

	elsewheres atomic.Int64 // connections of rest
}

// open makes the port ready; call serve to begin.
func (p *port) open(transport *transports) {
	p.conns, p.handed, p.closed, p.ended = map[*plain]struct{}{}, make(chan net.Conn), make(chan struct{}), make(chan struct{})
	base, cut := context.WithCancelCause(context.Background())
	p.cut = cut
	s := &server{handler: p.handler, transport: transport, recorder: p.recorder, leaving: p.leaving, tunnels: &p.tunnels}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	p.rest = &http.Server{Handler: s, ReadHeaderTimeout: headerTimeout, IdleTimeout: idleTimeout, MaxHeaderBytes: maxHeader, Protocols: protocols,
		ConnContext: s.connContext, BaseContext: func(net.Listener) context.Context { return base }, ErrorLog: slog.NewLogLogger(p.log.Handler(), slog.LevelDebug),
		ConnState: func(_ net.Conn, s http.ConnState) {
			switch s {
			case http.StateNew:
				p.elsewheres.Add(1)
			case http.StateClosed, http.StateHijacked:
				p.elsewheres.Add(-1)
			}
		}}
}

func (p *port) leaving() bool { return p.draining.Load() }

// serve accepts connections until the port is drained. An error means that the
// listener broke.
func (p *port) serve() error {
	go func() {
		defer close(p.ended)
		p.rest.Serve(handedOver{p}) // ends with drain
	}()
	pause := time.Duration(0)
	var told time.Time
	for {
		conn, err := p.listener.Accept()
		switch {
		case err == nil:
			pause = 0
			p.take(conn.(*net.TCPConn))
			continue
		case p.leaving():
			return nil
		case errors.Is(err, syscall.ECONNABORTED):
			continue
		case !errors.Is(err, syscall.EMFILE) && !errors.Is(err, syscall.ENFILE) && !errors.Is(err, syscall.ENOBUFS) && !errors.Is(err, syscall.ENOMEM):
			return err
		}
		if time.Since(told) > 10*time.Second {
			told = time.Now()
			p.log.Error("cannot take new connections for now; those that are open go on", "port", p.name, "error", err)
		}
		pause = min(max(5*time.Millisecond, 2*pause), time.Second)
		time.Sleep(pause)
	}
}

// take gives a new connection to what serves it.
func (p *port) take(conn *net.TCPConn) {
	if p.tls != nil {
		if cfg := p.tls(); cfg != nil {
			p.hand(tls.Server(conn, cfg))
			return
		}
	}
	if p.relay != nil {
		if relay := p.relay(); relay != nil {
			p.serving.Go(func() { relay(conn) })
			return
		}
	}
	raw, err := conn.SyscallConn()
	if err != nil {
		conn.Close()
		return
	}
	c := &plain{port: p, conn: conn, raw: raw, by: p.by, from: conn.RemoteAddr().String()}
	if p.recorder != nil {
		c.shard = p.recorder.assign()
	}
	p.mu.Lock()
	p.next++
	c.near = p.next % rackSize
	p.conns[c] = struct{}{}
	p.mu.Unlock()
	p.serving.Go(c.serve)
}

func (p *port) forget(c *plain) {
	p.mu.Lock()
	delete(p.conns, c)
	p.mu.Unlock()
}

// elsewhere gives a connection of which something was read to net/http.
func (p *port) elsewhere(conn net.Conn, early []byte) {
	p.hand(&begun{conn, io.MultiReader(bytes.NewReader(early), conn)})
}

func (p *port) hand(conn net.Conn) {
	select {
	case p.handed <- conn:
	case <-p.closed:
		conn.Close()
	}
}

// handedOver is the listener of net/http: what take and elsewhere give away.
type handedOver struct{ p *port }

func (h handedOver) Accept() (net.Conn, error) {
	select {
	case c := <-h.p.handed:
		return c, nil
	case <-h.p.closed:
		return nil, net.ErrClosed
	}
}

func (h handedOver) Close() error {
	h.p.closing.Do(func() { close(h.p.closed) })
	return nil
}

func (h handedOver) Addr() net.Addr { return h.p.listener.Addr() }

// connections tells how many are open.
func (p *port) connections() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.conns) + int(p.elsewheres.Load()) + p.tunnels.count()
}

// drain stops accepting, lets requests finish for limit at most, and answers
// the rest as draining. Connections that rest are closed after grace, so that
// a request that is on its way still finds them open.
func (p *port) drain(grace, limit time.Duration) {
	end := time.Now().Add(limit)
	p.draining.Store(true)
	p.listener.Close()
	time.Sleep(min(grace, limit))
	// Connections that still go elsewhere find net/http open.
	p.await(time.Now().Add(limit/2), true)
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		ctx, stop := context.WithDeadline(context.Background(), end)
		defer stop()
		if p.rest.Shutdown(ctx) != nil {
			p.cut(errLeaving)
			last, stop := context.WithTimeout(context.Background(), lastWords)
			defer stop()
			if p.rest.Shutdown(last) != nil {
				p.rest.Close()
			}
		}
	}()
	p.await(end, true)
	p.each(func(c *plain, _ bool) { c.cutOff() })
	p.tunnels.end(max(0, time.Until(end)))
	<-finished
	p.await(time.Now().Add(lastWords), false)
	p.each(func(c *plain, _ bool) { c.conn.Close() })
	<-p.ended
	p.serving.Wait()
	p.cut(nil)
}

// await waits until there are no connections any more, until end at most; idle
// ones are closed.
func (p *port) await(end time.Time, closeIdle bool) {
	for p.each(func(c *plain, busy bool) {
		if closeIdle && !busy {
			c.conn.SetReadDeadline(time.Unix(1, 0))
		}
	}) > 0 && time.Now().Before(end) {
		time.Sleep(5 * time.Millisecond)
	}
}

// each visits the connections and tells how many there are.
func (p *port) each(do func(c *plain, busy bool)) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.conns {
		do(c, c.busy.Load())
	}
	return len(p.conns)
}
