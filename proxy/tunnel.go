package proxy

import (
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
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
// proxy has ended. It closes both.
func (t *tunnels) join(a, b io.ReadWriteCloser) {
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
		stream(a, b)
	}()
	stream(b, a)
	<-done
}

// stream copies until the end, which it hands on, or until either breaks; then
// it closes both, so that the other direction ends too.
func stream(to, from io.ReadWriteCloser) {
	_, err := io.Copy(to, from)
	half, ok := to.(interface{ CloseWrite() error })
	if err != nil || !ok || half.CloseWrite() != nil {
		to.Close()
		from.Close()
	}
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
	if r.ProtoMajor != 1 || len(u) != 1 || !tokenIn(r.Header["Connection"], "upgrade") || strings.EqualFold(u[0], "h2c") {
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
	conn.SetDeadline(time.Time{})
	var front io.ReadWriteCloser = conn
	if early.Reader.Buffered() > 0 {
		front = &begun{conn, early.Reader}
	}
	g.s.tunnels.join(front, back)
	return nil
}

// begun is a connection of which something was read already.
type begun struct {
	net.Conn
	from io.Reader
}

func (b *begun) Read(p []byte) (int, error) { return b.from.Read(p) }

func (b *begun) CloseWrite() error {
	if half, ok := b.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return errors.New("cannot close one direction alone")
}
