package carry

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/proxy/observe"
)

// TestOneAnswer: a body that cannot be read gets one answer, and the connection
// ends, whether or not the workload answered before.
func TestOneAnswer(t *testing.T) {
	const head = "POST /PATH HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n"
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/early" {
				http.NewResponseController(w).EnableFullDuplex()
				w.Write([]byte("early\n"))
				w.(http.Flusher).Flush()
			}
			io.Copy(io.Discard, r.Body)
		}))
		for name, body := range map[string]string{
			"a size that is none":    "3\r\nabc\r\nzz\r\nabc\r\n\r\nGET /hidden HTTP/1.1\r\nHost: s\r\n\r\n",
			"a chunk that goes on":   "3\r\nabcdef\r\n0\r\n\r\n",
			"a trailer that is none": "3\r\nabc\r\n0\r\nno trailer\r\n\r\n",
			"a large extension":      "3;" + strings.Repeat("x", 20<<10) + "\r\nabc\r\n0\r\n\r\n",
		} {
			for _, path := range []string{"read", "early"} {
				got := h.raw(t, strings.Replace(head, "PATH", path, 1)+body)
				if n := strings.Count(got, "HTTP/1."); n != 1 || path == "read" && !strings.HasPrefix(got, "HTTP/1.1 400 ") {
					t.Errorf("%s, %s: %d answers:\n%s", name, path, n, got)
				}
			}
		}
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Counts.Failed > 0 {
					t.Errorf("the workload is blamed: %+v", s.Counts)
				}
				if s.Counts.CallerFault > 0 {
					return true
				}
			}
			return false
		})
	})
}

// TestQuietStreams: a stream may be quiet for longer than a caller may take to
// read; one that does not read is given up.
func TestQuietStreams(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		const stall = 200 * time.Millisecond
		gone := make(chan struct{}, 1)
		h := newHopWith(t, kind, "", stall, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			io.WriteString(w, "first\n")
			w.(http.Flusher).Flush()
			if r.URL.Path == "/endless" {
				for r.Context().Err() == nil {
					if _, err := w.Write(make([]byte, 64<<10)); err != nil {
						break
					}
				}
				gone <- struct{}{}
				return
			}
			time.Sleep(4 * stall)
			io.WriteString(w, "second\n")
		}))
		for _, protocol := range []string{"1.1", "2"} {
			if got := h.ask(t, protocol, get("/quiet")); !strings.Contains(got, "second") {
				t.Errorf("by HTTP/%s:\n%s", protocol, got)
			}
		}
		for _, protocol := range []string{"1.1", "2"} {
			if protocol == "2" {
				c := rawHTTP2To(t, h.url)
				fields, _ := asHTTP2(get("/endless"))
				c.send(1, fields, nil)
			} else {
				conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				io.WriteString(conn, get("/endless"))
			}
			select {
			case <-gone:
			case <-time.After(10 * time.Second):
				t.Errorf("by HTTP/%s: who reads nothing is waited for", protocol)
			}
		}
	})
}

// deafWorkload accepts connections and reads nothing, with as little room in
// between as the system allows.
func deafWorkload(t *testing.T) string {
	lc := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) { syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVBUF, 4096) })
	}}
	l, err := lc.Listen(t.Context(), "tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
	return l.Addr().String()
}

// TestWritingIsBounded: a write to an instance ends with the time of the request,
// and with the caller's leaving.
func TestWritingIsBounded(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
		rec := observe.NewRecorder(1, "")
		in := newInbound("in", deafWorkload(t))
		h := hop{url: "http://" + e.listen(in, rec), recorder: rec}
		// More than the buffers of two sockets hold.
		large := "POST / HTTP/1.1\r\nHost: s\r\nX-Large: " + strings.Repeat("x", 60<<10) + "\r\nContent-Length: 4000000\r\n"
		short := "POST / HTTP/1.1\r\nHost: s\r\nX-Large: " + strings.Repeat("x", 60<<10) + "\r\nContent-Length: 60000\r\n"
		for name, request := range map[string]string{
			"streamed": large + "Nightjar-Time-Left: 300\r\n\r\n" + strings.Repeat("y", 4_000_000),
			"whole":    short + "Nightjar-Time-Left: 300\r\n\r\n" + strings.Repeat("y", 60_000),
		} {
			began := time.Now()
			conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
			if err != nil {
				t.Fatal(err)
			}
			go io.WriteString(conn, request)
			conn.SetReadDeadline(time.Now().Add(5 * time.Second))
			resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
			if err != nil || resp.StatusCode != http.StatusGatewayTimeout || time.Since(began) > 3*time.Second {
				t.Errorf("%s: %v, %v after %s", name, resp, err, time.Since(began))
			}
			conn.Close()
		}
		rec.Collect(engine.Instance{})
		conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(conn, short+"\r\n"+strings.Repeat("y", 60_000))
		time.Sleep(100 * time.Millisecond) // it is being written by now
		conn.Close()
		waitFor(t, func() bool {
			list, _ := rec.Collect(engine.Instance{})
			return len(list) == 1 && list[0].Counts.Abandoned == 1
		})
	})
}

// drainable is a caller's proxy to a workload, by rules, that can be drained.
func drainable(t *testing.T, text, app string) (h hop, drain func(limit time.Duration)) {
	t.Helper()
	h, c := newGuarded(t, "plain", text, app)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o := Open(Config{Name: "test", Listener: l, Pools: &Pools{Epoch: time.Now()}, Transport: NewTransports(nil), Recorder: h.recorder, Log: slog.New(slog.DiscardHandler)}, c)
	go o.Serve()
	var once atomic.Bool
	drain = func(limit time.Duration) {
		if once.CompareAndSwap(false, true) {
			o.Drain(0, limit)
		}
	}
	t.Cleanup(func() { drain(0) })
	h.url = "http://" + l.Addr().String()
	return h, drain
}

// TestDrainingEndsWaits: a request that waits (for a fault's delay, a place, a
// retry) is answered when the proxy has no more time, and not after its wait.
func TestDrainingEndsWaits(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	defer close(release)
	var asked atomic.Int32
	for name, text := range map[string]string{
		"a delay":    "    routes: [{name: r, send: v1, fault: {delay: 9s}}]\n",
		"a place":    "    guard: {in-flight: 1, waiting: 5, wait-at-most: 9s}\n",
		"a back-off": "    retry: {times: 1, on: [503], wait: 9s..9s, budget: 100%}\n    timeout: 60s\n",
	} {
		for _, protocol := range []string{"1.1", "1.0", "2"} {
			asked.Store(0)
			h, drain := drainable(t, text, app(t, func(w http.ResponseWriter, r *http.Request) {
				asked.Add(1)
				if name == "a place" {
					select {
					case <-release:
					case <-r.Context().Done():
					}
				}
				w.WriteHeader(http.StatusServiceUnavailable)
			}))
			if name == "a place" {
				go h.ask(t, "1.1", get("/first"))
				waitFor(t, func() bool { return asked.Load() == 1 })
			}
			answer := make(chan string, 1)
			go func() { answer <- h.ask(t, protocol, get("/")) }()
			time.Sleep(100 * time.Millisecond) // it waits by now
			began := time.Now()
			drain(300 * time.Millisecond)
			if took := time.Since(began); took > 2*time.Second {
				t.Errorf("%s, HTTP/%s: draining for 300 ms took %s", name, protocol, took)
			}
			if got := <-answer; !strings.Contains(got, "503 Service Unavailable") || !strings.Contains(got, "draining") {
				if name != "a back-off" || !strings.Contains(got, "503") { // its wait may have been short
					t.Errorf("%s, HTTP/%s: got\n%s", name, protocol, got)
				}
			}
		}
	}
}

// TestDrainingSaysClose: an answer whose head is written after draining began
// ends its connection, and says so.
func TestDrainingSaysClose(t *testing.T) {
	for _, length := range []string{"Content-Length: 0\r\n", "Transfer-Encoding: chunked\r\n"} { // on the plain bearer, and on the other
		release, inside := make(chan struct{}), make(chan struct{})
		h, drain := drainable(t, "", app(t, func(w http.ResponseWriter, r *http.Request) {
			close(inside)
			<-release
		}))
		body := ""
		if strings.HasPrefix(length, "T") {
			body = "0\r\n\r\n"
		}
		answer := make(chan string, 1)
		go func() { answer <- h.raw(t, "POST / HTTP/1.1\r\nHost: s\r\n"+length+"\r\n"+body) }()
		<-inside
		drained := make(chan struct{})
		go func() { drain(5 * time.Second); close(drained) }()
		time.Sleep(50 * time.Millisecond)
		close(release)
		if got := <-answer; !strings.HasPrefix(got, "HTTP/1.1 200 OK") || !strings.Contains(got, "Connection: close") {
			t.Errorf("%q: got\n%s", length, got)
		}
		<-drained
	}
}

// TestHungWorkload: callers that give up on a workload that does not answer open
// the breaker and sideline the instance, although the mesh waits for longer.
func TestHungWorkload(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		h, c := newGuarded(t, kind, "    timeout: 600ms\n    guard: {breaker: {errors: 50%, over: 10s, least: 10, open: 5s}, sideline: {after: 5, for: 20s, most: 100%}}\n",
			app(t, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
		for _, patience := range []time.Duration{100 * time.Millisecond, 400 * time.Millisecond} {
			for range 10 {
				ctx, leave := context.WithTimeout(t.Context(), patience)
				req, _ := http.NewRequestWithContext(ctx, "GET", h.url, nil)
				req.Host = "s"
				if resp, err := http.DefaultClient.Do(req); err == nil {
					resp.Body.Close()
				}
				leave()
			}
			isHurt := func() bool {
				st := c.Table.Load().Status(c.now())[0].Versions[0]
				return st.Breaker.State == "open" || len(st.Sidelined) > 0
			}
			if patience < 300*time.Millisecond {
				time.Sleep(50 * time.Millisecond)
				if isHurt() {
					t.Fatal("who leaves early hurts the workload")
				}
				continue
			}
			waitFor(t, isHurt)
		}
	})
}

// TestNothingSentIsRepeated: a request that may not reach an instance twice is sent
// again when it did not reach one at all.
func TestNothingSentIsRepeated(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var got atomic.Int32
		h, _ := newGuarded(t, kind, "    retry: {times: 1, on: [unreachable, 503], wait: 0s, budget: 100%}\n", "127.0.0.1:1", app(t, func(w http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			got.Add(int32(len(b)))
		}))
		for _, body := range []string{"Content-Length: 5\r\n\r\nhello", "Transfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n"} {
			for range 4 {
				if a := h.raw(t, "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\n"+body); !strings.HasPrefix(a, "HTTP/1.1 200") {
					t.Errorf("got\n%s", a)
				}
			}
		}
		if got.Load() != 40 {
			t.Errorf("%d bytes came", got.Load())
		}
	})
}

// TestInterimAnswersAreBounded: a workload that sends interim answers without end
// does not hold its caller.
func TestInterimAnswersAreBounded(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			for range 100_000 {
				w.WriteHeader(http.StatusProcessing)
			}
		}))
		got := h.raw(t, get("/"))
		if n := strings.Count(got, "102 Processing"); n > 16 || !strings.Contains(got, "HTTP/1.1 502 ") {
			t.Errorf("%d interim answers, then\n%s", n, got[strings.LastIndex(got, "HTTP/1.1"):])
		}
	})
}

// TestTCPCallerLeaves: a connection that waits for its place and whose caller
// leaves makes room.
func TestTCPCallerLeaves(t *testing.T) {
	echo := httptest.NewServer(nil) // anything that accepts
	defer echo.Close()
	h, c := newGuarded(t, "plain", "    protocol: tcp\n    guard: {in-flight: 1, waiting: 1, wait-at-most: 60s}\n    timeout: 60s\n", echo.Listener.Addr().String())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o := Open(Config{Name: "s", Listener: l, Pools: &Pools{Epoch: time.Now()}, Transport: NewTransports(nil), Recorder: h.recorder, Log: slog.New(slog.DiscardHandler)}, c)
	o.RelayTo(c.For("s"), func() bool { return true })
	go o.Serve()
	defer o.Drain(0, 100*time.Millisecond)
	dial := func() net.Conn {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		return conn
	}
	queue := func() engine.QueueStatus {
		for _, s := range c.Table.Load().Status(c.now()) {
			return *s.Versions[0].Queue
		}
		return engine.QueueStatus{}
	}
	first := dial()
	defer first.Close()
	waitFor(t, func() bool { return queue().InFlight == 1 })
	second := dial()
	waitFor(t, func() bool { return queue().Waiting == 1 })
	second.Close()
	waitFor(t, func() bool { return queue().Waiting == 0 })
}

// TestErrorTypes: why no connection could be opened is said in the words of the
// standard.
func TestErrorTypes(t *testing.T) {
	dial := func(err error) error { return &net.OpError{Op: "dial", Net: "tcp", Err: err} }
	for _, c := range []struct {
		err    error
		reason engine.Reason
		kind   string
	}{
		{dial(syscall.ECONNREFUSED), engine.Unreachable, "connection_refused"},
		{dial(syscall.EHOSTUNREACH), engine.Unreachable, "destination_ip_unroutable"},
		{dial(context.DeadlineExceeded), engine.Unreachable, "connection_timeout"},
		{dial(&net.DNSError{Err: "no such host"}), engine.Unreachable, "dns_error"},
		{dial(&net.DNSError{Err: "late", IsTimeout: true}), engine.Unreachable, "dns_timeout"},
		{errStalled, engine.Reset, "connection_write_timeout"},
		{fmt.Errorf("x: %w", errDeadline), engine.TimedOut, ""},
		{errDraining, engine.Draining, ""},
		{io.EOF, engine.Reset, ""},
	} {
		if o := outcomeOf(c.err); o.Reason != c.reason || o.Error != c.kind {
			t.Errorf("%v: %s %q, want %s %q", c.err, o.Reason, o.Error, c.reason, c.kind)
		}
	}
}

// fullListener is an address that takes no more connections: dialing it waits.
func fullListener(t *testing.T) string {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Close(fd) })
	addr := &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}
	if err := syscall.Bind(fd, addr); err != nil {
		t.Fatal(err)
	}
	syscall.Listen(fd, 0)
	name, _ := syscall.Getsockname(fd)
	address := fmt.Sprintf("127.0.0.1:%d", name.(*syscall.SockaddrInet4).Port)
	for range 20 { // until its queue is full
		c, err := net.DialTimeout("tcp", address, 100*time.Millisecond)
		if err != nil {
			return address
		}
		t.Cleanup(func() { c.Close() })
	}
	t.Skip("the queue of a listener cannot be filled here")
	return ""
}

// TestTCPCallerLeavesWhileDialing: its leaving says nothing about the instance.
func TestTCPCallerLeavesWhileDialing(t *testing.T) {
	h, c := newGuarded(t, "plain", "    protocol: tcp\n    guard: {sideline: {after: 1, for: 20s, most: 100%}}\n", fullListener(t))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o := Open(Config{Name: "s", Listener: l, Pools: &Pools{Epoch: time.Now()}, Transport: NewTransports(nil), Recorder: h.recorder, Log: slog.New(slog.DiscardHandler)}, c)
	o.RelayTo(c.For("s"), func() bool { return true })
	go o.Serve()
	defer o.Drain(0, 100*time.Millisecond)
	conn, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(50 * time.Millisecond) // it is being dialed by now
	conn.Close()
	waitFor(t, func() bool {
		for _, s := range h.series() {
			if s.Counts.Failed > 0 {
				t.Errorf("the instance is blamed: %+v", s.Counts)
			}
			if s.Counts.Abandoned == 1 {
				return true
			}
		}
		return false
	})
	for _, s := range c.Table.Load().Status(c.now()) {
		for _, v := range s.Versions {
			if len(v.Sidelined) > 0 {
				t.Errorf("%+v", v.Sidelined)
			}
		}
	}
}
