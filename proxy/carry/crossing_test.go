package carry

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
)

// crossTo serves a crossing that knows one instance, s-1, at an address.
func crossTo(t testing.TB, address string) *Crossing {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	x := NewCrossing(CrossingConfig{
		Listener: l,
		Callers:  NewCallers(100, 50, time.Now()),
		Log:      slog.New(slog.DiscardHandler),
		Find: func(name string) string {
			if name == engine.CrossingName("s-1") {
				return address
			}
			return ""
		},
	})
	ended := make(chan struct{})
	go func() { x.Serve(); close(ended) }()
	t.Cleanup(func() { x.Drain(time.Second); <-ended })
	return x
}

// farTable knows instance s-1 at the site of a crossing.
func farTable(t testing.TB, x *Crossing, mode string) *engine.Table {
	t.Helper()
	text := "sites: {north: {crossing: '" + x.Listener.Addr().String() + "'}}\nservices: {s: {versions: [v1], identity: " + mode + "}}"
	rs, findings := rules.Check([]rules.File{{Name: "f.yaml", Text: text}}, rules.Live{})
	if rs == nil {
		t.Fatal(findings)
	}
	// The address is that of nobody: only the crossing may be asked.
	in := engine.Instance{ID: "s-1", Service: "s", Version: "v1", Site: "north", Address: "127.0.0.1:1", Member: true}
	table, err := engine.Compile(rs, []engine.Instance{in}, engine.Options{Site: "south"})
	if err != nil {
		t.Fatal(err)
	}
	return table
}

// TestCrossing: both ends prove to each other who they are, through a crossing that has no
// part in it, whatever callers have to prove elsewhere.
func TestCrossing(t *testing.T) {
	for _, mode := range []string{"required", "none"} {
		m := newMutual(t)
		l, in := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			w.Header().Set("Content-Length", strconv.Itoa(len(body)))
			w.Write(body)
		}), mode)
		x := crossTo(t, l.Addr().String())
		table := farTable(t, x, mode)
		each(t, func(t *testing.T, kind string) {
			e := ends{t: t, kind: kind, transport: NewTransports(m.shown(t, "kiosk")), pools: &Pools{Epoch: time.Now(), Shown: m.shown(t, "kiosk")}}
			c := newCaller("", table, e.transport)
			t.Cleanup(c.Close)
			h := hop{url: "http://" + e.listen(c, nil)}
			body := strings.Repeat("ferry ", 20_000)
			for range 2 {
				if got := h.raw(t, "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 120000\r\n\r\n"+body); !strings.HasSuffix(got, body) {
					t.Errorf("%s: got %.200s", mode, got)
				}
			}
		})
		if in.Identity.Handshakes.Done.Load() == 0 || in.Identity.Handshakes.Plain.Load() != 0 || x.Counts.Carried.Load() == 0 {
			t.Errorf("%s: %d proved who they are, %d spoke plainly", mode, in.Identity.Handshakes.Done.Load(), in.Identity.Handshakes.Plain.Load())
		}
		waitFor(t, func() bool { return x.Counts.In.Load() > 480_000 && x.Counts.Out.Load() > 480_000 })
	}
}

// TestCrossingRefuses: what a crossing cannot carry is unreachable, with the reason, so that
// another instance is called.
func TestCrossingRefuses(t *testing.T) {
	m := newMutual(t)
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}), "required")
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	good, away := crossTo(t, l.Addr().String()), crossTo(t, closed.Addr().String())
	at := func(x *Crossing, service, instance string) place {
		return place{service, x.Listener.Addr().String(), engine.CrossingName(instance)}
	}
	dial := func(to place) error {
		c, err := members{shown: m.shown(t, "kiosk")}.dial(context.Background(), to)
		if err == nil {
			c.Close()
		}
		return err
	}
	for _, c := range []struct {
		name   string
		to     place
		reason engine.Reason
		says   string
	}{
		{"it is there", at(good, "s", "s-1"), "", ""},
		{"an instance that the crossing does not know", at(good, "s", "s-2"), engine.Unreachable, "does not know it"},
		{"an instance that is away", at(away, "s", "s-1"), engine.Unreachable, "cannot reach it"},
		{"an instance of another service", at(good, "t", "s-1"), engine.TLS, "it is s, not t"},
	} {
		switch err := dial(c.to); {
		case c.reason == "" && err == nil:
		case err == nil || outcomeOf(err).Reason != c.reason || !strings.Contains(err.Error(), c.says):
			t.Errorf("%s: %v", c.name, err)
		}
	}
	for name, sent := range map[string]string{
		"plain HTTP":           "GET / HTTP/1.1\r\nHost: s\r\n\r\n",
		"half a hello":         "\x16\x03\x01",
		"a hello without end":  "\x16\x03\x01\x40\x00" + strings.Repeat("\x01\xff\xff\xff", 0x1000) + strings.Repeat("\x16\x03\x01\x40\x00"+strings.Repeat("a", 0x4000), 6),
		"nothing":              "",
		"a record that is bad": "\x16\x03\x01\xff\xff" + strings.Repeat("a", 100),
	} {
		before := good.Counts.Unknown.Load()
		conn, err := net.Dial("tcp", good.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(conn, sent)
		conn.(*net.TCPConn).CloseWrite()
		conn.SetDeadline(time.Now().Add(3 * time.Second))
		if _, err := io.ReadAll(conn); errors.Is(err, context.DeadlineExceeded) || isTimeout(err) {
			t.Errorf("%s: the connection stays", name)
		}
		conn.Close()
		waitFor(t, func() bool { return good.Counts.Unknown.Load() == before+1 })
	}
	waitFor(t, func() bool { return good.Connections() == 0 })
}

func isTimeout(err error) bool {
	var slow net.Error
	return errors.As(err, &slow) && slow.Timeout()
}

// TestCrossingMakesRoom: those who do not say where they want to go give way to those who do.
func TestCrossingMakesRoom(t *testing.T) {
	m := newMutual(t)
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {}), "required")
	x := crossTo(t, l.Addr().String())
	for range 200 {
		conn, err := net.Dial("tcp", x.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
	}
	to := place{"s", x.Listener.Addr().String(), engine.CrossingName("s-1")}
	c, err := members{shown: m.shown(t, "kiosk")}.dial(context.Background(), to)
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
	waitFor(t, func() bool { return x.Connections() <= 50 }) // of one address
}

// TestCrossingDrains: connections are not cut while they end by themselves, and those through
// a crossing are not used for new requests for longer than that takes.
func TestCrossingDrains(t *testing.T) {
	m := newMutual(t)
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "x") }), "required")
	x := crossTo(t, l.Addr().String())
	to := place{"s", x.Listener.Addr().String(), engine.CrossingName("s-1")}
	c, err := members{shown: m.shown(t, "kiosk")}.dial(context.Background(), to)
	if err != nil {
		t.Fatal(err)
	}
	if left := time.Until(c.until); left > viaLife || left < viaLife/2 {
		t.Errorf("used for %s", left)
	}
	drained := make(chan struct{})
	go func() { x.Drain(20 * time.Second); close(drained) }()
	time.Sleep(50 * time.Millisecond)
	io.WriteString(c, "GET / HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n")
	if got, err := io.ReadAll(c); err != nil || !strings.HasSuffix(string(got), "x") {
		t.Errorf("got %q, %v", got, err)
	}
	c.Close()
	select {
	case <-drained:
	case <-time.After(5 * time.Second):
		t.Error("it waits for nobody")
	}
}

// TestCrossingsCallNobody: a site may be called like a service.
func TestCrossingsCallNobody(t *testing.T) {
	m := newMutual(t)
	l, in := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "x") }), "required")
	shown := &identity.Credentials{}
	who := identity.Member{Name: identity.Name{Kind: identity.Crossing, Name: "kiosk"}, Site: "kiosk", Domain: m.ca.Domain(), ID: "c-1"}
	if err := m.ca.Credentials(who, shown); err != nil {
		t.Fatal(err)
	}
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	c, _, err := shown.Client(t.Context(), conn, identity.Name{Kind: identity.Service, Name: "s"}, "")
	if err == nil {
		io.WriteString(c, get1)
		_, err = io.ReadAll(c)
	}
	if err == nil && in.Identity.Handshakes.Otherwise.Load() == 0 {
		t.Error("it was let in")
	}
	conn.Close()
	waitFor(t, func() bool {
		return in.Identity.Handshakes.Otherwise.Load() == 1 && in.Identity.Handshakes.Done.Load() == 0
	})
}

// BenchmarkCrossing compares a crossing with a relay of bytes that knows nothing: 1 KiB there
// and back, and 64 KiB pieces one way, on a connection; and new connections.
func BenchmarkCrossing(b *testing.B) {
	m := newMutual(b)
	shown := m.shown(b, "s")
	l := serveRaw(b, func(c net.Conn) {
		t := tls.Server(c, shown.ServerConfig(false))
		buf := make([]byte, 64<<10)
		for {
			n, err := t.Read(buf)
			if err != nil {
				return
			}
			if n <= 1<<10 { // pieces are taken, and short messages go back
				t.Write(buf[:n])
			}
		}
	})
	relay := serveRaw(b, func(c net.Conn) {
		there, err := net.Dial("tcp", l)
		if err != nil {
			return
		}
		go func() {
			io.Copy(c, there)
			c.Close()
		}()
		io.Copy(there, c)
		there.Close()
	})
	caller := m.shown(b, "kiosk")
	for _, way := range []struct{ name, at string }{{"relay", relay}, {"crossing", crossTo(b, l).Listener.Addr().String()}} {
		dial := func(b *testing.B) *memberConn {
			c, err := members{shown: caller}.dial(context.Background(), place{"s", way.at, engine.CrossingName("s-1")})
			if err != nil {
				b.Fatal(err)
			}
			return c
		}
		b.Run("messages/"+way.name, func(b *testing.B) {
			c := dial(b)
			defer c.Close()
			buf := make([]byte, 1<<10)
			for b.Loop() {
				c.Write(buf)
				if _, err := io.ReadFull(c, buf); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run("pieces/"+way.name, func(b *testing.B) {
			c := dial(b)
			defer c.Close()
			buf := make([]byte, 64<<10)
			b.SetBytes(int64(len(buf)))
			for b.Loop() {
				if _, err := c.Write(buf); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run("connections/"+way.name, func(b *testing.B) {
			for b.Loop() {
				dial(b).Close()
			}
		})
	}
}

// serveRaw serves connections until the benchmark ends.
func serveRaw(b *testing.B, serve func(net.Conn)) (address string) {
	b.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return l.Addr().String()
}

// TestCrossingIsPatient: a connection between sites whose other end is there, and takes nothing
// for a while, is not one over a network that is cut.
func TestCrossingIsPatient(t *testing.T) {
	t.Parallel()
	const size = 16 << 20
	m := newMutual(t)
	l, _ := m.beside(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(3 * time.Second) // while the body comes
		n, err := io.Copy(io.Discard, r.Body)
		if err != nil || n != size {
			t.Errorf("the workload got %d bytes, %v", n, err)
		}
		w.Header().Set("Content-Length", strconv.Itoa(size))
		w.Write(make([]byte, size))
	}), "required")
	x := crossTo(t, l.Addr().String())
	to := place{"s", x.Listener.Addr().String(), engine.CrossingName("s-1")}
	c, err := members{shown: m.shown(t, "kiosk")}.dial(context.Background(), to)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(30 * time.Second))
	fmt.Fprintf(c, "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: %d\r\n\r\n", size)
	if n, err := c.Write(make([]byte, size)); err != nil {
		t.Fatalf("after %d bytes: %v", n, err)
	}
	resp, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second)
	if n, err := io.Copy(io.Discard, resp.Body); err != nil || n != size {
		t.Errorf("the caller got %d bytes, %v", n, err)
	}
}
