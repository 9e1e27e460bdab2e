package carry

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/proxy/outside"
)

const (
	keptIdle = 30 * time.Second // how long a connection to an instance is kept without a request
	poolSize = 2048             // kept connections to one address; more busy ones than this are opened anew each time
)

// Pools keep connections to instances between requests.
type Pools struct {
	Outside *outside.Dialer // to instances outside the mesh; nil: as the system does
	Epoch   time.Time
	Shown   *identity.Credentials // to members; nil: none can be called by mutual TLS
	mu      sync.Mutex            // held to add and drop pools
	byAddr  sync.Map              // address with a mark for TLS → *connPool

	HTTP2    HTTP2
	Log      *slog.Logger // nil: nobody reads
	h2ByAddr sync.Map     // the same → *h2Pool
}

// connPool keeps the connections to one address. Taking one and putting it back
// touch one slot each; requests share no lock.
type connPool struct {
	address string
	of      string        // service
	name    *outside.Name // of the host in address; nil: it has none
	secure  bool          // by TLS, outside the mesh
	member  place         // of an instance that is spoken to by mutual TLS; the zero place: it is not
	slots   [poolSize]atomic.Pointer[upstream]
	gone    atomic.Bool
	unused  int // sweeps in a row that found it empty
}

// upstream is a connection to an instance. It belongs to one request at a time.
type upstream struct {
	conn       net.Conn
	raw        syscall.RawConn // nil over TLS to an instance outside the mesh
	isSecure   bool            // by TLS of either kind
	trusted    uint64          // over mutual TLS: see identity.Peer
	goodUntil  time.Duration   // over mutual TLS: when the certificate of the other end runs out
	pool       *connPool
	ip         netip.Addr    // where it goes, if its instance has a name
	isKept     bool          // it was used before
	since      time.Duration // when it was put back
	writeUntil time.Duration // write deadline; 0: there is none

	isDead bool // what isAlive found
	probe  func(fd uintptr)
}

// smallWrite is what the system takes of a write on an idle connection without
// waiting, whatever its buffers: the least that Linux gives a socket (tcp(7),
// tcp_wmem).
const smallWrite = 4 << 10

// setDeadline bounds the read that follows by until, and the write of n bytes
// before it. A small one cannot wait, so it needs no limit. Over TLS, where a write
// that was cut short cannot be gone on with, a write has a limit of its own.
func (u *upstream) setDeadline(n int, until, write time.Duration, epoch time.Time) {
	u.conn.SetReadDeadline(epoch.Add(until))
	switch {
	case n > smallWrite && u.isSecure:
		u.writeUntil = write
	case n > smallWrite:
		u.writeUntil = until
	case u.writeUntil == 0:
		return
	default:
		u.writeUntil = 0
		u.conn.SetWriteDeadline(time.Time{})
		return
	}
	u.conn.SetWriteDeadline(epoch.Add(u.writeUntil))
}

// interrupt ends a read or a write that waits.
func (u *upstream) interrupt(error) { u.conn.SetDeadline(time.Unix(1, 0)) }

func (p *Pools) of(to *engine.Instance) *connPool {
	key := to.Key
	if key == "" {
		key = to.Address
	}
	if k, ok := p.byAddr.Load(key); ok {
		return k.(*connPool)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	made := newConnPool(to)
	made.name = p.Outside.NameOf(to.Address)
	k, _ := p.byAddr.LoadOrStore(key, made)
	return k.(*connPool)
}

func newConnPool(to *engine.Instance) *connPool {
	k := &connPool{address: to.Address, of: to.Service, secure: to.Secure && !to.Mutual}
	if to.Mutual {
		k.member = placeOf(to)
	}
	return k
}

// take takes a kept connection; near is where to look first. nil: there is none.
func (k *connPool) take(near int) *upstream {
	for i := range poolSize {
		s := &k.slots[(near+i)%poolSize]
		if s.Load() != nil {
			if u := s.Swap(nil); u != nil {
				return u
			}
		}
	}
	return nil
}

// put keeps a connection, or closes it when there is no room.
func (k *connPool) put(near int, u *upstream, now time.Duration) {
	u.since, u.isKept = now, true
	if !k.gone.Load() && k.name.Has(u.ip) {
		for i := range poolSize {
			if s := &k.slots[(near+i)%poolSize]; s.Load() == nil && s.CompareAndSwap(nil, u) {
				return
			}
		}
	}
	u.conn.Close()
}

// isAlive tells whether a kept connection is still open and silent, as far as can
// be told without waiting. Bytes that nobody asked for would be taken for the
// answer to the next request.
func (u *upstream) isAlive() bool {
	if u.raw == nil {
		return true
	}
	u.isDead = false
	if u.probe == nil {
		u.probe = func(fd uintptr) {
			var b [1]byte
			_, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
			u.isDead = err != syscall.EAGAIN && err != syscall.EINTR // an end, an error, or bytes that nobody asked for
		}
	}
	return u.raw.Control(u.probe) == nil && !u.isDead
}

// isGood tells whether a kept connection may be used again: the certificate of its other
// end is still good, and its authority trusted.
func (p *Pools) isGood(u *upstream, now time.Duration) bool {
	return u.pool.member.service == "" || u.trusted == p.Shown.Trusted() && now < u.goodUntil
}

// members opens connections to other members.
func (p *Pools) members() members { return members{p.Shown, p.Outside} }

// Try opens a connection to an instance as a request would, and closes it: an error says why
// there is none.
func (p *Pools) Try(ctx context.Context, to *engine.Instance) error {
	var conn net.Conn
	var err error
	if at := placeOf(to); at.isVia() { // the crossing may be there, and the instance not
		conn, err = p.members().dial(ctx, at)
	} else {
		conn, err = p.Outside.Dial(ctx, to.Address)
	}
	if err == nil {
		conn.Close()
	}
	return err
}

// dial opens a connection.
func (p *Pools) dial(ctx context.Context, k *connPool) (*upstream, error) {
	if k.member.service != "" {
		c, err := p.members().dial(ctx, k.member)
		if err != nil {
			return nil, err
		}
		u := &upstream{conn: c, pool: k, isSecure: true, trusted: c.peer.Trusted}
		u.goodUntil = c.until.Sub(p.Epoch)
		u.raw, err = c.tcp.SyscallConn()
		return u, err
	}
	ctx, stop := context.WithTimeout(ctx, dialTimeout)
	defer stop()
	conn, err := p.Outside.Dial(ctx, k.address)
	if err != nil {
		return nil, err
	}
	u := &upstream{conn: conn, pool: k}
	if k.name != nil {
		u.ip = ipOf(conn)
	}
	if k.secure {
		t, err := p.Outside.Secure(ctx, conn, k.of, k.address, "http/1.1")
		if err != nil {
			return nil, err
		}
		u.conn, u.isSecure = t, true
		return u, nil
	}
	u.raw, err = conn.(*net.TCPConn).SyscallConn()
	return u, err
}

// ipOf is where a connection goes.
func ipOf(conn net.Conn) netip.Addr {
	at, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}

// Sweep closes what was kept for too long; call it every few seconds.
func (p *Pools) Sweep() { p.sweep(time.Since(p.Epoch), keptIdle) }

// sweep closes what was kept for too long, and forgets addresses that nobody
// calls any more.
func (p *Pools) sweep(now time.Duration, keep time.Duration) {
	p.byAddr.Range(func(key, value any) bool {
		k, any := value.(*connPool), false
		for i := range k.slots {
			if k.slots[i].Load() == nil {
				continue
			}
			u := k.slots[i].Swap(nil)
			switch any = true; {
			case u == nil:
			case now-u.since > keep || !k.slots[i].CompareAndSwap(nil, u):
				u.conn.Close()
			}
		}
		if k.unused++; any {
			k.unused = 0
		}
		if k.unused > 60 {
			k.gone.Store(true)
			p.byAddr.Delete(key)
		}
		return true
	})
	p.h2ByAddr.Range(func(key, value any) bool {
		k := value.(*h2Pool)
		if k.tick(max(keep, 1)); k.unused > 60 {
			p.h2ByAddr.Delete(key)
		}
		return true
	})
}

// CloseIdle closes what is kept.
func (p *Pools) CloseIdle() { p.sweep(time.Since(p.Epoch), -time.Hour) }
