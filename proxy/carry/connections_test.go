package carry

import (
	"bufio"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"nightjar/core/engine"
)

// TestConnectionsOfCallers: when there are too many, those that wait for their caller
// go first, the longest waiting before others; those with a request stay, and where
// all have one a new caller is told.
func TestConnectionsOfCallers(t *testing.T) {
	release := make(chan struct{})
	workload := app(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/busy" {
			<-release
		}
		io.WriteString(w, "fine")
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	callers := NewCallers(4, 0, time.Now())
	pools := &Pools{Epoch: time.Now()}
	defer pools.CloseIdle()
	o := Open(Config{Name: "test", Listener: l, Pools: pools, Transport: NewTransports(nil), Log: slog.New(slog.DiscardHandler), Callers: callers}, newInbound("in", workload))
	go o.Serve()
	defer func() { o.Drain(0, time.Second) }()
	defer close(release)
	dial := func() net.Conn {
		t.Helper()
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		c.SetDeadline(time.Now().Add(10 * time.Second))
		return c
	}
	held := func(want int) {
		t.Helper()
		waitFor(t, func() bool { callers.mu.Lock(); defer callers.mu.Unlock(); return len(callers.conns) == want })
	}
	isOpen := func(c net.Conn) bool {
		io.WriteString(c, "GET / HTTP/1.1\r\nHost: s\r\n\r\n")
		resp, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err == nil {
			io.Copy(io.Discard, resp.Body)
		}
		return err == nil && resp.StatusCode == http.StatusOK
	}
	busy := dial()
	io.WriteString(busy, "GET /busy HTTP/1.1\r\nHost: s\r\n\r\n")
	held(1)
	slow := dial() // a head that does not come
	io.WriteString(slow, "GET / HT")
	held(2)
	first, second := dial(), dial()
	held(4)
	waitFor(t, func() bool { return isOpen(first) }) // so the second has waited longer
	third, fourth := dial(), dial()
	if !isOpen(third) || !isOpen(fourth) || !isOpen(first) {
		t.Error("callers found no room, or one that was in use lost its own")
	}
	for _, c := range []net.Conn{slow, second} {
		if isOpen(c) {
			t.Error("a connection that waited longest stayed")
		}
	}
	if s := callers.Shortage(); !strings.Contains(s, "4 connections") || !strings.Contains(s, "2 that waited were closed") {
		t.Errorf("the shortage is told as %q", s)
	}
	for _, c := range []net.Conn{first, third, fourth} {
		io.WriteString(c, "GET /busy HTTP/1.1\r\nHost: s\r\n\r\n")
	}
	waitFor(t, func() bool {
		callers.mu.Lock()
		defer callers.mu.Unlock()
		for c := range callers.conns {
			if c.waits.Load() > 0 {
				return false
			}
		}
		return true
	})
	got, _ := io.ReadAll(dial())
	if !strings.HasPrefix(string(got), "HTTP/1.1 503 ") || !strings.HasSuffix(string(got), "503 shortage\n") {
		t.Errorf("a caller without room got %q", got)
	}
}

// TestOneAddress: one address does not take the room of all.
func TestOneAddress(t *testing.T) {
	callers := NewCallers(10, 3, time.Now())
	from := func(ip string) net.Conn { return remote{ip: ip} }
	dropped := 0
	in := func(ip string, isBusy bool) *caller {
		c := callers.admit(from(ip), func() { dropped++ })
		if c != nil && isBusy {
			c.work()
		}
		return c
	}
	for range 3 {
		in("10.0.0.1", true)
	}
	if in("10.0.0.1", true) != nil {
		t.Error("a fourth connection of an address came in, though three are busy")
	}
	other := in("10.0.0.2", true)
	if other == nil {
		t.Fatal("another address found no room")
	}
	other.leave()
	for range 3 {
		in("10.0.0.2", false)
	}
	if in("10.0.0.2", false) == nil || dropped != 1 {
		t.Errorf("%d of an address's own waiting connections made room", dropped)
	}
}

type remote struct {
	net.Conn
	ip string
}

func (r remote) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.ParseIP(r.ip), Port: 1} }

// TestShortageIsNobodysFault: what this proxy lacks counts against no instance.
func TestShortageIsNobodysFault(t *testing.T) {
	for _, err := range []error{syscall.EMFILE, syscall.ENFILE, syscall.EADDRNOTAVAIL, syscall.ENOBUFS} {
		o := outcomeOf(&net.OpError{Op: "dial", Net: "tcp", Err: err})
		if o.Reason != engine.Shortage || engine.Classify(o.Reason, o.Reason.Status()) != engine.Failed {
			t.Errorf("%v: %+v", err, o)
		}
	}
}

// TestWorkloadIsLost: a proxy that cannot reach its workload says so, until it can.
func TestWorkloadIsLost(t *testing.T) {
	workload := app(t, func(http.ResponseWriter, *http.Request) {})
	in := newInbound("in", workload)
	pools := &Pools{Epoch: time.Now()}
	defer pools.CloseIdle()
	h := hop{url: "http://" + ends{t: t, kind: "plain", transport: NewTransports(nil), pools: pools}.listen(in, nil)}
	if in.IsKnown() || in.Lost() != "" {
		t.Error("something is known before the first call")
	}
	good := in.App.Address
	in.App.Address = "127.0.0.1:1"
	if got := h.raw(t, get("/")); !strings.Contains(got, "502 ") || !strings.Contains(in.Lost(), "127.0.0.1:1 cannot be reached") {
		t.Errorf("lost: %q, got\n%s", in.Lost(), got)
	}
	in.App.Address = good
	if got := h.raw(t, get("/")); !strings.Contains(got, "200 OK") || in.Lost() != "" {
		t.Errorf("lost: %q, got\n%s", in.Lost(), got)
	}
	if in.Tried(&net.OpError{Op: "dial", Err: errors.New("refused")}); in.Lost() == "" {
		t.Error("what a connection alone finds out is not told")
	}
}
