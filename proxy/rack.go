package proxy

import (
	"context"
	"crypto/tls"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
)

const (
	dialTimeout = 5 * time.Second
	keptIdle    = 30 * time.Second // how long a connection to an instance is kept without a request
	rackSize    = 2048             // kept connections to one address; more busy ones than this are opened anew each time
)

// racks keep connections to instances between requests.
type racks struct {
	tls    *tls.Config // for instances spoken to by TLS; nil: what the machine trusts
	epoch  time.Time
	mu     sync.Mutex // held to add and drop racks
	byAddr sync.Map   // address with a mark for TLS → *rack
}

// rack keeps the connections to one address. Taking one and putting it back
// touch one slot each; requests share no lock.
type rack struct {
	address string
	secure  bool
	slots   [rackSize]atomic.Pointer[upstream]
	gone    atomic.Bool
	unused  int // sweeps in a row that found it empty
}

// upstream is a connection to an instance.
type upstream struct {
	conn  net.Conn
	raw   syscall.RawConn // nil over TLS
	rack  *rack
	kept  bool          // it was used before
	since time.Duration // when it was put back
	until time.Duration // write deadline

	dead  bool // what alive found
	probe func(fd uintptr)
}

func (r *racks) of(to *engine.Instance) *rack {
	key := to.Address
	if to.Secure {
		key = "s" + key
	}
	if k, ok := r.byAddr.Load(key); ok {
		return k.(*rack)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	k, _ := r.byAddr.LoadOrStore(key, &rack{address: to.Address, secure: to.Secure})
	return k.(*rack)
}

// take takes a kept connection; near is where to look first. nil: there is none.
func (k *rack) take(near int) *upstream {
	for i := range rackSize {
		s := &k.slots[(near+i)%rackSize]
		if s.Load() != nil {
			if u := s.Swap(nil); u != nil {
				return u
			}
		}
	}
	return nil
}

// put keeps a connection, or closes it when there is no room.
func (k *rack) put(near int, u *upstream, now time.Duration) {
	u.since, u.kept = now, true
	if !k.gone.Load() {
		for i := range rackSize {
			if s := &k.slots[(near+i)%rackSize]; s.Load() == nil && s.CompareAndSwap(nil, u) {
				return
			}
		}
	}
	u.conn.Close()
}

// alive tells whether a kept connection is still open and silent, as far as can
// be told without waiting. Bytes that nobody asked for would be taken for the
// answer to the next request.
func (u *upstream) alive() bool {
	if u.raw == nil {
		return true
	}
	u.dead = false
	if u.probe == nil {
		u.probe = func(fd uintptr) {
			var b [1]byte
			_, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
			u.dead = err != syscall.EAGAIN && err != syscall.EINTR // an end, an error, or bytes that nobody asked for
		}
	}
	return u.raw.Control(u.probe) == nil && !u.dead
}

// hush ends a read that waits.
func (u *upstream) hush() { u.conn.SetReadDeadline(time.Unix(1, 0)) }

// dial opens a connection.
func (r *racks) dial(ctx context.Context, k *rack) (*upstream, error) {
	conn, err := (&net.Dialer{Timeout: dialTimeout}).DialContext(ctx, "tcp", k.address)
	if err != nil {
		return nil, err
	}
	u := &upstream{conn: conn, rack: k}
	if k.secure {
		cfg := &tls.Config{}
		if r.tls != nil {
			cfg = r.tls.Clone()
		}
		if cfg.ServerName == "" {
			cfg.ServerName, _, _ = net.SplitHostPort(k.address)
		}
		t := tls.Client(conn, cfg)
		if err := t.HandshakeContext(ctx); err != nil {
			conn.Close()
			return nil, err
		}
		u.conn = t
		return u, nil
	}
	u.raw, err = conn.(*net.TCPConn).SyscallConn()
	return u, err
}

// sweep closes what was kept for too long, and forgets addresses that nobody
// calls any more.
func (r *racks) sweep(now time.Duration, keep time.Duration) {
	r.byAddr.Range(func(key, value any) bool {
		k, any := value.(*rack), false
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
			r.byAddr.Delete(key)
		}
		return true
	})
}

func (r *racks) closeIdle() { r.sweep(time.Since(r.epoch), -time.Hour) }
