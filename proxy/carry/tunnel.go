package carry

import (
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// tunnels are connections that carry something else than HTTP: after an
// upgrade, or to a service that speaks TCP. They end with the proxy.
type tunnels struct {
	mu   sync.Mutex
	open map[*tunnel]struct{}
	over bool
	none sync.WaitGroup
}

type tunnel struct{ a, b io.Closer }

// join copies both ways until both are at their end, or one breaks, or the
// proxy has ended. It closes both. forth and back are told how many bytes went
// from a to b and from b to a, as they go.
func (t *tunnels) join(a, b io.ReadWriteCloser, forth, back *atomic.Uint64) {
	this := &tunnel{a, b}
	t.mu.Lock()
	if t.over {
		t.mu.Unlock()
		a.Close()
		b.Close()
		return
	}
	if t.open == nil {
		t.open = map[*tunnel]struct{}{}
	}
	t.open[this] = struct{}{}
	t.none.Add(1)
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		delete(t.open, this)
		t.mu.Unlock()
		a.Close()
		b.Close()
		t.none.Done()
	}()
	done := make(chan struct{})
	go func() {
		defer close(done)
		stream(a, b, back)
	}()
	stream(b, a, forth)
	<-done
}

// stream copies until the end, which it hands on, or until either breaks; then
// it closes both, so that the other direction ends too.
func stream(to, from io.ReadWriteCloser, count *atomic.Uint64) {
	err := copyCounted(to, from, count)
	half, ok := to.(interface{ CloseWrite() error })
	if err != nil || !ok || half.CloseWrite() != nil {
		to.Close()
		from.Close()
	}
}

// longestUncounted is how long bytes of a slow connection may go by before they
// are counted.
const longestUncounted = 16 * time.Second

// copyCounted copies until the end. Between two TCP connections the kernel
// moves the bytes and says how many only when it is done; so it is made to stop
// now and then: each second while bytes flow, less often while none do.
func copyCounted(to io.Writer, from io.Reader, count *atomic.Uint64) error {
	conn, direct := from.(*net.TCPConn)
	if !direct {
		_, err := io.Copy(to, &counted{from, count})
		return err
	}
	for pause := time.Second; ; {
		conn.SetReadDeadline(time.Now().Add(pause))
		n, err := io.Copy(to, conn)
		if n > 0 {
			count.Add(uint64(n))
			pause = time.Second
		} else {
			pause = min(2*pause, longestUncounted)
		}
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
	}
}

// counted counts what is read.
type counted struct {
	from  io.Reader
	count *atomic.Uint64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.count.Add(uint64(n))
	return n, err
}

func (t *tunnels) count() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.open)
}

// end closes what is still open after limit.
func (t *tunnels) end(limit time.Duration) {
	t.mu.Lock()
	t.over = true
	t.mu.Unlock()
	idle := make(chan struct{})
	go func() { t.none.Wait(); close(idle) }()
	select {
	case <-idle:
		return
	case <-time.After(limit):
	}
	t.mu.Lock()
	for o := range t.open {
		o.a.Close()
		o.b.Close()
	}
	t.mu.Unlock()
	<-idle
}

// upgradeOf is the protocol that a request asks to switch to (RFC 9110, section
// 7.8); empty: none. HTTP/2 is not spoken on after an upgrade (RFC 9113,
// section 3.1).
func upgradeOf(r *http.Request) string {
	u := r.Header["Upgrade"]
	if r.ProtoMajor != 1 || len(u) != 1 || !tokenIn(r.Header["Connection"], "upgrade") ||
		strings.EqualFold(u[0], "h2c") {
		return ""
	}
	return u[0]
}

// switchTo tells the caller that the workload switched protocols, and carries
// bytes from then on.
func (g *general) switchTo(answer *http.Response) error {
	back, ok := answer.Body.(io.ReadWriteCloser)
	if !ok {
		return errors.New("the switched connection cannot be written to")
	}
	h := g.w.Header()
	h["Connection"], h["Upgrade"] = []string{"Upgrade"}, answer.Header["Upgrade"]
	g.w.WriteHeader(answer.StatusCode)
	conn, early, err := http.NewResponseController(g.w).Hijack()
	if err != nil {
		back.Close()
		return err
	}
	if g.s.ended != nil {
		defer g.s.ended(conn)
	}
	conn.SetDeadline(time.Time{})
	var front io.ReadWriteCloser = conn
	if early.Reader.Buffered() > 0 {
		front = &begunConn{Conn: conn, from: early.Reader}
	}
	if g.body == nil {
		g.body = &callerBody{}
	}
	g.s.tunnels.join(front, back, &g.body.read, &g.received)
	return nil
}

// begunConn is a connection of which something was read already.
type begunConn struct {
	net.Conn
	from io.Reader
	peer *member // who calls, by mutual TLS; nil: without

	heads headTime
}

// SetReadDeadline is what net/http sets.
func (b *begunConn) SetReadDeadline(t time.Time) error {
	return b.Conn.SetReadDeadline(b.heads.bound(t))
}

func (b *begunConn) Read(p []byte) (int, error) { return b.from.Read(p) }

func (b *begunConn) CloseWrite() error {
	if half, ok := b.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return errors.New("cannot close one direction alone")
}
