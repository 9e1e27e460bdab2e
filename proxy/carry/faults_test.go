package carry

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// answering is a workload of raw connections; its address.
func answering(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
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
			go serve(c)
		}
	}()
	return l.Addr().String()
}

// TestAnswersBeforeTheBodyIsRead: the caller gets the answer though it has not
// sent everything, and the hop goes on.
func TestAnswersBeforeTheBodyIsRead(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.NewResponseController(w).EnableFullDuplex()
			w.WriteHeader(http.StatusRequestEntityTooLarge)
		}))
		body, more := io.Pipe()
		defer more.Close()
		req, _ := http.NewRequest("POST", h.url+"/", body)
		req.Host = "s"
		go more.Write([]byte("the beginning"))
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != http.StatusRequestEntityTooLarge {
			t.Fatalf("%v, %v", resp, err)
		}
		resp.Body.Close()
	})
}

// TestEarlyAnswerAndClose: a workload that answers before it has read a large body,
// and closes, is heard: over each protocol, time and again.
func TestEarlyAnswerAndClose(t *testing.T) {
	t.Parallel()
	workload := answering(t, func(c net.Conn) {
		bufio.NewReader(c).ReadString('\n')
		io.WriteString(c, "HTTP/1.1 413 Content Too Large\r\nConnection: close\r\nContent-Length: 9\r\n\r\ntoo large")
		c.Close() // with bytes unread, so that the other end is reset
	})
	each(t, func(t *testing.T, kind string) {
		c := newChain(t, kind, "edge", "", workload)
		two := &http.Transport{Protocols: new(http.Protocols)}
		two.Protocols.SetUnencryptedHTTP2(true)
		defer two.CloseIdleConnections()
		for i := range 60 {
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			if i%3 == 2 {
				client.Transport = two
			}
			req, _ := http.NewRequest("POST", c.url+"/", io.LimitReader(zeros{}, 5<<20))
			if req.Host = "s"; i%3 == 0 {
				req.ContentLength = 5 << 20
			}
			resp, err := client.Do(req)
			if err != nil {
				t.Fatalf("%d: %v", i, err)
			}
			got, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if resp.StatusCode != http.StatusRequestEntityTooLarge || string(got) != "too large" {
				t.Fatalf("%d: %d %q", i, resp.StatusCode, got)
			}
		}
		c.nothingHappened(t, "in all")
	})
}

// TestBadWorkloads: whatever the workload does, the caller gets a refusal that
// says what happened, and the next request is not harmed.
func TestBadWorkloads(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var behaviour atomic.Pointer[func(net.Conn)] // of every connection that a request comes on
		workload := answering(t, func(c net.Conn) {  // one may have been opened ahead, for no request
			if _, err := c.Read(make([]byte, 1)); err != nil {
				c.Close()
				return
			}
			(*behaviour.Load())(c)
		})
		h := newHopTo(t, kind, "", workload, http.NotFoundHandler())
		says := func(text string) func(net.Conn) {
			return func(c net.Conn) {
				bufio.NewReader(c).ReadString('\n')
				io.WriteString(c, text)
				c.Close()
			}
		}
		rows := []struct {
			name, request, want string
			do                  func(net.Conn)
		}{
			{"garbage", get("/"), "502 Bad Gateway\r\n", says("\x00\x01\x02garbage\r\n\r\n")},
			{"another protocol", get("/"), "reset", says("SSH-2.0-boat\r\n")},
			{"two lengths", get("/"), "502 ", says("HTTP/1.1 200 OK\r\nContent-Length: 3\r\nContent-Length: 4\r\n\r\nabcd")},
			{"a broken head", get("/"), "502 ", says("HTTP/1.1 200 OK\r\nX-Half: ")},
			{"nothing at all", "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 2\r\n\r\nhi", "502 reset: ", func(c net.Conn) { c.Close() }},
			{"a reset", "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 2\r\n\r\nhi", "502 ", func(c net.Conn) { c.(*net.TCPConn).SetLinger(0); c.Close() }},
			{"never answers", get("/", wire.HeaderTimeLeft+": 100"), "504 ", func(c net.Conn) { io.Copy(io.Discard, c); c.Close() }},
			{"switches unasked", get("/"), "502 ", says("HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: upgrade\r\n\r\n")},
			{"until the end of the connection", get("/"), "all of it", says("HTTP/1.1 200 OK\r\n\r\nall of it")},
			{"an old server", get("/"), "all of it", says("HTTP/1.0 200 OK\nServer: old\n\nall of it")},
			{"a length beside chunks", get("/"), "all of it", says("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Length: 3\r\n\r\n9;x=y\r\nall of it\r\n0\r\nX-Sum: 9\r\n\r\n")},
			{"cut inside its length", get("/"), "", says("HTTP/1.1 200 OK\r\nContent-Length: 30\r\n\r\nnot all")},
			{"cut inside its chunks", get("/"), "", says("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n9\r\nall of it\r\n")},
			{"a chunk that is none", get("/"), "", says("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n9\r\nall of it\r\nzz\r\n")},
		}
		for _, protocol := range []string{"1.1", "1.0", "2"} {
			for _, c := range rows {
				behaviour.Store(&c.do)
				got := h.ask(t, protocol, c.request)
				if !strings.Contains(got, c.want) || strings.Contains(got, "garbage") || strings.Contains(got, ";x=y") {
					t.Errorf("%s, HTTP/%s: got\n%s", c.name, protocol, got)
				}
				if c.want != "" || protocol == "1.0" { // where the end of the connection is the end of a body
					continue
				}
				looksWhole := strings.HasSuffix(got, "0\r\n\r\n") || protocol == "2" && !strings.Contains(got, "reset: ")
				if looksWhole || strings.Contains(got, "Content-Length: 7\r\n") {
					t.Errorf("%s, HTTP/%s: a body that broke off looks whole:\n%s", c.name, protocol, got)
				}
			}
		}
	})
}

// TestTheCallerLeavesMidUpload ends the try.
func TestTheCallerLeavesMidUpload(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		ended := make(chan error, 1)
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			_, err := io.Copy(io.Discard, r.Body)
			ended <- err
		}))
		conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 1000000\r\n\r\n%s", strings.Repeat("x", 200_000))
		conn.Close()
		select {
		case err := <-ended:
			if err == nil {
				t.Error("half an upload looked whole")
			}
		case <-time.After(10 * time.Second):
			t.Fatal("the workload was not told")
		}
	})
}

// TestSlowReader: a caller that reads slowly holds the workload back, and not
// memory.
func TestSlowReader(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		blocked := make(chan int64, 1)
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.NewResponseController(w).SetWriteDeadline(time.Now().Add(time.Second))
			n, _ := io.Copy(w, io.LimitReader(zeros{}, 1<<30))
			blocked <- n
			panic(http.ErrAbortHandler)
		}))
		req, _ := http.NewRequest("GET", h.url+"/", nil)
		req.Host = "s"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if n := <-blocked; n > 64<<20 { // what sockets hold, and no more
			t.Errorf("the workload could write %d bytes that nobody read", n)
		}
		if _, err := io.Copy(io.Discard, resp.Body); err == nil {
			t.Error("a broken answer looked whole")
		}
		resp.Body.Close()
	})
}

// TestSentAgainOnce: when a kept connection ends under a request, one that may
// be repeated is sent once more on a new connection, and any other is not.
func TestSentAgainOnce(t *testing.T) {
	var seen atomic.Int64
	workload := answering(t, func(c net.Conn) { // answers the first request of a connection, and leaves at the second
		defer c.Close()
		r := bufio.NewReader(c)
		for i := range 2 {
			req, err := http.ReadRequest(r)
			if err != nil {
				return
			}
			io.Copy(io.Discard, req.Body)
			if seen.Add(1); i == 0 {
				io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
			}
		}
	})
	// One proxy alone, so that what is counted is what it sent.
	in := newInbound("in", workload)
	e := ends{t: t, kind: "plain", transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	h := hop{url: "http://" + e.listen(in, nil)}
	post := "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 2\r\n\r\nhi"
	for _, c := range []struct {
		request, want string
		sent          int64
	}{
		{get("/"), "200 OK", 1},                 // a new connection
		{get("/"), "200 OK", 2},                 // the kept one ends; again on a new one
		{post, "502 reset: ", 1},                // the kept one ends
		{post, "200 OK", 1},                     // a new one
		{get("/", "X: 1"), "200 OK", 2},         // the kept one ends; again on a new one
		{"PUT " + post[5:], "200 OK", 2},        // so it goes for every method that may be repeated
		{"PATCH " + post[5:], "502 reset: ", 1}, // and for no other
	} {
		before := seen.Load()
		got := h.raw(t, c.request)
		if sent := seen.Load() - before; !strings.Contains(got, c.want) || sent != c.sent {
			t.Errorf("%.10q: sent %d times, want %d:\n%s", c.request, sent, c.sent, got)
		}
	}
}

// TestKeptConnectionsAreUsedAgain: however many requests are under way at once,
// those that follow need no new connections; the ports of this machine would
// run out.
func TestKeptConnectionsAreUsedAgain(t *testing.T) {
	const many = 600
	var opened, arrived atomic.Int64
	var release atomic.Pointer[chan struct{}]
	app := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		wait := *release.Load()
		arrived.Add(1)
		<-wait
	}))
	app.Config.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateNew {
			opened.Add(1)
		}
	}
	app.Start()
	defer app.Close()
	in := newInbound("in", app.Listener.Addr().String())
	e := ends{t: t, kind: "plain", transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	defer e.pools.CloseIdle()
	at := e.listen(in, nil)
	callers := make([]net.Conn, many)
	for i := range callers {
		c, err := net.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(30 * time.Second))
		callers[i] = c
	}
	kept := func() (n int) { // an answer can be there before its connection is put back
		k := e.pools.of(in.App)
		for i := range k.slots {
			if k.slots[i].Load() != nil {
				n++
			}
		}
		return n
	}
	for round := range 3 {
		wait := make(chan struct{})
		release.Store(&wait)
		arrived.Store(0)
		for _, c := range callers {
			io.WriteString(c, "GET / HTTP/1.1\r\nHost: s\r\n\r\n")
		}
		waitFor(t, func() bool { return arrived.Load() == many })
		close(wait)
		for _, c := range callers {
			resp, err := http.ReadResponse(bufio.NewReader(c), nil)
			if err != nil || resp.StatusCode != http.StatusOK {
				t.Fatalf("round %d: %v, %v", round, resp, err)
			}
		}
		waitFor(t, func() bool { return kept() == many })
		if n := opened.Load(); n != many {
			t.Fatalf("round %d: %d connections were opened for %d requests at once", round, n, many)
		}
	}
}

// TestSlowBodyAfterSlowConnect: a body that does not come is the caller's fault, also where
// half of the time went by before there was a connection.
func TestSlowBodyAfterSlowConnect(t *testing.T) {
	t.Parallel()
	office := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) }))
	defer office.Close()
	var pause atomic.Int64
	at := listenRaw(t, func(in net.Conn) {
		time.Sleep(time.Duration(pause.Load())) // before the handshake
		out, err := net.Dial("tcp", office.Listener.Addr().String())
		if err != nil {
			return
		}
		defer out.Close()
		go io.Copy(out, in)
		io.Copy(in, out)
	})
	start := func(t *testing.T, kind, wait string) hop {
		e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
		e.trust(office)
		rs, _ := rules.Check([]rules.File{{Name: "f.yaml", Text: "services: {s: {timeout: " + wait + ", versions: [v1], instances: [{at: 'https://" + at + "', version: v1}]}}"}}, rules.Live{})
		table, err := engine.Compile(rs, nil, engine.Options{})
		if err != nil {
			t.Fatal(err)
		}
		c := newCaller("", table, e.transport)
		t.Cleanup(c.Close)
		return hop{url: "http://" + e.listen(c, nil)}
	}
	fields := [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/"}}
	each(t, func(t *testing.T, kind string) {
		h := start(t, kind, "1s")
		pause.Store(int64(500 * time.Millisecond))
		if got := h.raw(t, "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 100000\r\n\r\nabc"); !strings.Contains(got, "408 Request Timeout") {
			t.Errorf("got\n%s", got)
		}
		pause.Store(int64(5 * time.Second)) // there is none in time
		two := rawHTTP2To(t, h.url)
		two.head(1, fields, []byte("abc"))
		if got := two.answer(1); !strings.Contains(got, "408 Request Timeout") {
			t.Errorf("a body that has not come, and no connection:\n%s", got)
		}
		two = rawHTTP2To(t, h.url)
		two.send(1, fields, []byte("abc"))
		if got := two.answer(1); !strings.Contains(got, "504 Gateway Timeout") {
			t.Errorf("a body that has come, and no connection:\n%s", got)
		}
		h = start(t, kind, "4s") // longer than a connection may take: it cannot be reached
		const unreachable = "error=connection_timeout"
		if got := h.raw(t, "POST / HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: 3\r\n\r\nabc"); !strings.Contains(got, unreachable) {
			t.Errorf("HTTP/1.1, no handshake:\n%s", got)
		}
		two = rawHTTP2To(t, h.url)
		two.send(1, fields, []byte("abc"))
		if got := two.answer(1); !strings.Contains(got, unreachable) {
			t.Errorf("HTTP/2, no handshake:\n%s", got)
		}
	})
}
