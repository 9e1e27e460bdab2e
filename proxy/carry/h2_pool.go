package carry

import (
	"cmp"
	"context"
	"crypto/tls"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/h2"
	"nightjar/proxy/outside"
)

// Connections of HTTP/2 to one instance. Few of them carry many requests: what goes the
// same way together costs less.
const (
	h2Connections = 8    // to one instance at most
	h2Few         = 8    // streams of a connection after which another one is opened, up to one for each processor
	h2Shared      = 48   // and after which more are
	h2Most        = 250  // streams of a connection at most, if its instance takes so many
	h2Line        = 4096 // requests that wait for a connection to one instance
)

// h2Pool are the connections of HTTP/2 to one instance.
type h2Pool struct {
	of     *Pools
	name   *outside.Name // of the host of to; nil: it has none
	to     engine.Instance
	conns  atomic.Pointer[[]*h2Upstream] // those that take streams
	unused int                           // sweeps in a row that found none

	mu      sync.Mutex // guards what follows; not held with that of a request
	dialing int
	line    []h2Waiter
	waiting atomic.Int32 // of the line
}

// h2Waiter is an attempt that waits for a connection. Its request is kept.
type h2Waiter struct {
	f  *h2Request
	up *h2Attempt
}

// h2Upstream is one connection to an instance.
type h2Upstream struct {
	pool      *h2Pool
	conn      *h2.Conn
	ip        netip.Addr    // where it goes, outside the mesh
	trusted   uint64        // over mutual TLS: see identity.Peer
	goodUntil time.Duration // over mutual TLS: when the certificate of the other end runs out
}

// Open refuses streams that the instance would open.
func (u *h2Upstream) Open(*h2.Conn, *h2.Block) (*h2.Stream, h2.Receiver) { return nil, nil }

// Busy says nothing here.
func (u *h2Upstream) Busy(*h2.Conn, bool) {}

// Leaves takes the connection out of those that take streams.
func (u *h2Upstream) Leaves(*h2.Conn) { u.pool.remove(u) }

// h2Key tells the instances apart to which there are connections.
func h2Key(to *engine.Instance) string { return cmp.Or(to.Key, to.Address) }

func (p *Pools) h2Of(to *engine.Instance) *h2Pool {
	key := h2Key(to)
	if k, ok := p.h2ByAddr.Load(key); ok {
		return k.(*h2Pool)
	}
	k := &h2Pool{of: p, to: *to, name: p.Outside.NameOf(to.Address)}
	k.conns.Store(new([]*h2Upstream))
	was, _ := p.h2ByAddr.LoadOrStore(key, k)
	return was.(*h2Pool)
}

// pick is a connection with room for another stream; near tells callers apart, so that
// each keeps to its own. nil: there is none yet, and await has to be asked.
func (k *h2Pool) pick(near int) *h2Upstream {
	list := *k.conns.Load()
	var second *h2Upstream
	enough := h2Shared
	if len(list) < runtime.GOMAXPROCS(0) {
		enough = h2Few
	}
	for i := range list {
		u := list[(near+i)%len(list)]
		switch open := u.conn.Streams(); {
		case !k.isGood(u):
			go u.retire() // it flushes, which those who ask here may not
		case open < enough && u.conn.Room() > 0:
			return u
		case second == nil && u.conn.Room() > 0:
			second = u
		}
	}
	if second != nil && len(list) < h2Connections {
		k.open(nil)
	}
	return second
}

func (k *h2Pool) isGood(u *h2Upstream) bool {
	return !k.to.Mutual || u.trusted == k.of.Shown.Trusted() && time.Since(k.of.Epoch) < u.goodUntil
}

// retire lets a connection end with the streams that it has.
func (u *h2Upstream) retire() {
	u.pool.remove(u)
	var b h2.Batch
	u.conn.GoAway(&b)
	b.Flush()
}

// await puts an attempt into the line of those that wait for a connection. False: it is full.
func (k *h2Pool) await(w h2Waiter) bool {
	w.f.keep()
	if k.open(&w) {
		return true
	}
	w.f.release()
	return false
}

// open opens another connection, if there may be one more, and puts w into the line.
func (k *h2Pool) open(w *h2Waiter) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if w != nil {
		if len(k.line) >= h2Line {
			return false
		}
		k.line = append(k.line, *w)
		k.waiting.Add(1)
	}
	// One at a time: of an instance that has just begun, or that lost its connections, is
	// not asked more than it has shown that it can do.
	if k.dialing == 0 && len(*k.conns.Load()) < h2Connections {
		k.dialing++
		go k.dial()
	}
	return true
}

// dial opens a connection, and gives it to those who wait.
func (k *h2Pool) dial() {
	u, err := k.connect()
	k.mu.Lock()
	k.dialing--
	if err == nil {
		list := append(slices.Clone(*k.conns.Load()), u)
		k.conns.Store(&list)
	}
	k.mu.Unlock()
	if err == nil {
		k.of.h2ByAddr.LoadOrStore(h2Key(&k.to), k) // should it have been forgotten meanwhile
		go u.serve()
		k.next()
		return
	}
	for _, w := range k.take(h2Line) {
		w.f.failed(w.up, err)
	}
}

// take takes up to n out of the line.
func (k *h2Pool) take(n int) []h2Waiter {
	k.mu.Lock()
	defer k.mu.Unlock()
	n = min(n, len(k.line))
	out := k.line[:n:n]
	if k.line = k.line[n:]; len(k.line) == 0 {
		k.line = nil
	}
	k.waiting.Store(int32(len(k.line)))
	return out
}

// next lets as many of those who wait try again as there is room for.
func (k *h2Pool) next() {
	room := 0
	for _, u := range *k.conns.Load() {
		room += u.conn.Room()
	}
	if room == 0 && len(*k.conns.Load()) < h2Connections {
		k.open(nil)
	}
	for _, w := range k.take(room) {
		w.f.tryAgain(w.up)
	}
}

// freed says that a stream is over, and that others may wait for its place.
func (k *h2Pool) freed() {
	if k.waiting.Load() > 0 {
		go k.next()
	}
}

func (k *h2Pool) remove(u *h2Upstream) {
	k.mu.Lock()
	list := slices.DeleteFunc(slices.Clone(*k.conns.Load()), func(o *h2Upstream) bool { return o == u })
	k.conns.Store(&list)
	k.mu.Unlock()
	k.freed()
}

// connect opens a connection within dialTimeout.
func (k *h2Pool) connect() (*h2Upstream, error) {
	ctx, stop := context.WithTimeout(context.Background(), dialTimeout)
	defer stop()
	u, err := k.connectOnce(ctx)
	if err != nil && isShortage(err) { // what is kept and not needed makes room
		k.of.CloseIdle()
		u, err = k.connectOnce(ctx)
	}
	return u, err
}

func (k *h2Pool) connectOnce(ctx context.Context) (*h2Upstream, error) {
	u := &h2Upstream{pool: k}
	var tcp *net.TCPConn
	var under *h2.Under
	var t *tls.Conn
	if k.to.Mutual {
		c, err := k.of.members().dial(ctx, placeOf(&k.to))
		if err != nil {
			return nil, err
		}
		tcp, under, t = c.tcp, c.under, c.Conn
		u.trusted, u.goodUntil = c.peer.Trusted, c.until.Sub(k.of.Epoch)
	} else {
		conn, err := k.of.Outside.Dial(ctx, k.to.Address)
		if err != nil {
			return nil, err
		}
		tcp = conn.(*net.TCPConn)
		u.ip = ipOf(tcp)
		if k.to.Secure {
			if under, t, err = k.secure(ctx, tcp); err != nil {
				tcp.Close()
				return nil, err
			}
		}
	}
	var err error
	u.conn, err = h2.New(tcp, under, t, nil, &k.of.HTTP2.counts, h2.Config{
		Handler:  u,
		IsClient: true,
		Streams:  h2Most,
		Unheard:  1, // a burst is not to be refused by an instance that takes few
		Settled:  k.freed,
		Budget:   &k.of.HTTP2.held,
		Calm:     h2CalmMembers,
		Now:      func() time.Duration { return time.Since(k.of.Epoch) },
	})
	if err != nil {
		tcp.Close()
		return nil, err
	}
	return u, nil
}

// secure speaks TLS to an instance outside the mesh.
func (k *h2Pool) secure(ctx context.Context, tcp *net.TCPConn) (*h2.Under, *tls.Conn, error) {
	cfg, err := k.of.Outside.Config(k.to.Service, k.to.Address, "h2")
	if err != nil {
		return nil, nil, err
	}
	under := h2.NewUnder(tcp)
	t := tls.Client(under, cfg)
	if err := outside.Handshake(ctx, t); err != nil {
		if isRefusedThere(err) && strings.Contains(err.Error(), "no application protocol") { // RFC 7301, section 3.2
			err = errNotHTTP2
		}
		return nil, nil, err
	}
	if t.ConnectionState().NegotiatedProtocol != "h2" {
		return nil, nil, errNotHTTP2
	}
	return under, t, nil
}

// serve reads until the connection ends.
func (u *h2Upstream) serve() {
	defer u.pool.remove(u)
	defer func() {
		if what := recover(); what != nil { // one connection is to suffer, not all
			panicked(u.pool.of.Log, what)
			u.conn.Abandon(errPanicked)
		}
	}()
	u.conn.Serve()
}

// tick looks after the connections. A connection without a stream for as long as idle ends.
func (k *h2Pool) tick(idle time.Duration) {
	list := *k.conns.Load()
	var b h2.Batch
	for _, u := range list {
		u.conn.Tick(&b, idle, h2Ping, 0)
		if !k.isGood(u) || !k.name.Has(u.ip) {
			u.retire()
		}
	}
	b.Flush()
	if k.unused++; len(list) > 0 || k.waiting.Load() > 0 {
		k.unused = 0
	}
}

// notHTTP2 tells whether a stream ended since its instance does not speak HTTP/2.
func (u *h2Upstream) notHTTP2(why *h2.Gone) bool {
	return why.Err != nil && !u.conn.IsGreeted() && !isRefusedThere(why.Err)
}
