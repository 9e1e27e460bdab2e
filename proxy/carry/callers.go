package carry

import (
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
)

// Callers bounds the connections of callers to all listeners of a proxy, so that
// descriptors are left for those to instances, and one address does not take all.
// When there are too many, those that wait for their caller go first: an idle one,
// or one whose request does not come. nil bounds nothing.
type Callers struct {
	own bounds // of the proxy, whatever the rules say
	now func() time.Duration

	mu sync.Mutex // guards what follows; taken when a connection comes or goes
	bounds
	conns     map[*caller]struct{}
	byAddress map[netip.Prefix]int
	refused   int
	closed    int
	last      time.Duration // when one was refused or closed
}

// bounds are how many connections there may be.
type bounds struct {
	most       int
	perAddress int // of one address, or block of them; 0: no bound of its own
}

// caller is one connection of a caller.
type caller struct {
	owner   *Callers     // nil: it is not bounded
	address netip.Prefix // see engine.Block
	// When it began to wait for its caller, plus 1; 0: a request is under way.
	waits atomic.Int64
	drop  func() // ends it while it waits
	isOut atomic.Bool
}

// Of the descriptors of a process callers get what is left by files, by the service
// and by connections to instances: half of few, and all but so many of many.
const (
	ownDescriptors = 32
	toInstances    = 4096
	leastCallers   = 16
)

// MaxCallers is how many connections of callers a process may hold by its limit of
// descriptors.
func MaxCallers() int {
	var l syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l) != nil {
		return 0
	}
	all := int(min(l.Cur, 1<<30))
	return max(all-min(all/2, toInstances)-ownDescriptors, leastCallers)
}

// NewCallers bounds the connections of a proxy to most, and those of one address to
// perAddress; 0: no bound of its own.
func NewCallers(most, perAddress int, epoch time.Time) *Callers {
	b := bounds{most, perAddress}
	return &Callers{
		own:       b,
		bounds:    b,
		now:       func() time.Duration { return time.Since(epoch) },
		conns:     map[*caller]struct{}{},
		byAddress: map[netip.Prefix]int{},
	}
}

// Bound bounds them further, as rules say; 0: not.
func (l *Callers) Bound(most, perAddress int) {
	least := func(a, b int) int {
		if a == 0 || b == 0 {
			return a + b
		}
		return min(a, b)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.bounds = bounds{least(l.own.most, most), least(l.own.perAddress, perAddress)}
}

// admit takes a new connection in, which is to be dropped by drop while it waits
// for its caller. nil: there is no room for it.
func (l *Callers) admit(conn net.Conn, drop func()) *caller {
	c := &caller{owner: l, drop: drop}
	if l == nil {
		return c
	}
	if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
		c.address = engine.Block(at.Addr())
	}
	c.wait()
	l.mu.Lock()
	var gone []*caller
	isFull := len(l.conns) >= l.most
	if l.perAddress > 0 && l.byAddress[c.address] >= l.perAddress {
		gone = l.longestWaiting(func(o *caller) bool { return o.address == c.address })
		isFull = true
	} else if isFull {
		gone = l.longestWaiting(func(*caller) bool { return true })
	}
	for _, o := range gone {
		l.remove(o)
	}
	l.closed += len(gone)
	isIn := !isFull || len(gone) > 0
	if isFull {
		l.last = l.now()
	}
	if isIn {
		l.conns[c] = struct{}{}
		l.byAddress[c.address]++
	} else {
		l.refused++
	}
	l.mu.Unlock()
	for _, o := range gone {
		o.end()
	}
	if !isIn {
		return nil
	}
	return c
}

// longestWaiting are some of the connections that wait for their callers, those
// first that have waited longest. Several go at once, so that a flood does not have
// all looked at for each. The caller holds mu.
func (l *Callers) longestWaiting(among func(*caller) bool) []*caller {
	type waiting struct {
		c     *caller
		since int64
	}
	var list []waiting
	for c := range l.conns {
		if since := c.waits.Load(); since > 0 && among(c) {
			list = append(list, waiting{c, since})
		}
	}
	slices.SortFunc(list, func(a, b waiting) int { return int(min(max(a.since-b.since, -1), 1)) })
	var out []*caller
	for _, w := range list[:min(len(list), 1+len(l.conns)/64)] {
		out = append(out, w.c)
	}
	return out
}

// remove forgets a connection. The caller holds mu.
func (l *Callers) remove(c *caller) {
	if _, isIn := l.conns[c]; !isIn {
		return
	}
	delete(l.conns, c)
	if l.byAddress[c.address]--; l.byAddress[c.address] <= 0 {
		delete(l.byAddress, c.address)
	}
}

// end drops a connection that waits; isOut tells those who serve it that it is to
// go at once, without an answer.
func (c *caller) end() {
	c.isOut.Store(true)
	c.drop()
}

// wait says that the connection waits for its caller from now on, and work that a
// request is under way.
func (c *caller) wait() {
	if c.owner != nil {
		c.waits.Store(int64(c.owner.now()) + 1)
	}
}
func (c *caller) work() { c.waits.Store(0) }

// leave says that the connection is gone.
func (c *caller) leave() {
	if l := c.owner; l != nil {
		l.mu.Lock()
		l.remove(c)
		l.mu.Unlock()
	}
}

// relieve closes some connections that wait for their callers, since a descriptor
// is needed.
func (l *Callers) relieve() {
	if l == nil {
		return
	}
	l.mu.Lock()
	gone := l.longestWaiting(func(*caller) bool { return true })
	for _, c := range gone {
		l.remove(c)
	}
	l.closed += len(gone)
	l.last = l.now()
	l.mu.Unlock()
	for _, c := range gone {
		c.end()
	}
}

// tellsFor is for how long a shortage is told of after it passed.
const tellsFor = time.Minute

// Shortage tells of callers' connections that found no room in the last minute;
// empty: all did.
func (l *Callers) Shortage() string {
	if l == nil {
		return ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed+l.refused == 0 {
		return ""
	}
	if l.now()-l.last > tellsFor {
		l.closed, l.refused = 0, 0
		return ""
	}
	what := fmt.Sprintf("no room for more than %d connections of callers: %d that waited were closed", l.most, l.closed)
	if l.perAddress > 0 {
		what = fmt.Sprintf(
			"no room for more than %d connections of callers, %d of one address: %d that waited were closed",
			l.most,
			l.perAddress,
			l.closed,
		)
	}
	if l.refused > 0 {
		what += fmt.Sprintf(", and %d were refused", l.refused)
	}
	return what
}

// noRoom is the answer to a connection for which there is no room.
const noRoom = "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 1\r\nConnection: close\r\n" +
	"Content-Type: text/plain; charset=utf-8\r\nContent-Length: 13\r\n\r\n503 shortage\n"

// refuse tells a caller of HTTP that there is no room, as far as that takes no
// time, and closes.
func (l *Listener) refuse(conn *net.TCPConn) {
	isHTTP := (l.TLS == nil || l.TLS() == nil) && (l.Relay == nil || l.Relay() == nil)
	if isHTTP {
		conn.SetWriteDeadline(time.Now().Add(10 * time.Millisecond))
		io.WriteString(conn, noRoom)
	}
	conn.Close()
}
