package carry

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
)

// chain is a gateway or an outbound proxy, the inbound proxy of the one instance of
// service s, and its workload, with what both proxies count.
type chain struct {
	hop
	inbound hop // asked directly
	served  *observe.Recorder
	table   *engine.Table
}

// newChain makes a chain with settings of service s.
func newChain(t *testing.T, kind, gateway, settings, workload string) chain {
	t.Helper()
	e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	t.Cleanup(func() { e.transport.CloseIdle(); e.pools.CloseIdle() })
	text := "services:\n  s:\n    versions: [v1]\n" + settings
	if gateway != "" {
		text += "gateways: {" + gateway + ": {listen: ':80', hosts: ['*'], routes: [{name: all, send: s}]}}\n"
	}
	rs, found := rules.Check([]rules.File{{Name: "chain.yaml", Text: text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	var c chain
	c.served = observe.NewRecorder(2, "")
	at := e.listen(newInbound("s-v1-a", workload), c.served)
	c.inbound = hop{url: "http://" + at, recorder: c.served}
	table, err := engine.Compile(rs, []engine.Instance{{ID: "s-v1-a", Service: "s", Version: "v1", Address: at}}, engine.Options{Revision: 7})
	if err != nil {
		t.Fatal(err)
	}
	c.table = table
	router := newCaller(gateway, table, e.transport)
	t.Cleanup(router.Close)
	rec := observe.NewRecorder(2, "caller")
	c.hop = hop{"http://" + e.listen(router, rec), rec, router, nil}
	return c
}

// nervous are guards that act on the first failure.
const nervous = "    timeout: 500ms\n    guard: {breaker: {errors: 1%, over: 10s, least: 1, open: 1m}, sideline: {after: 1, for: 1m, most: 100%}}\n"

// stalls are requests whose body never comes to its end.
var stalls = map[string]string{
	"a length that is not kept": "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 100000\r\n\r\nabc",
	"a short one":               "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 10\r\n\r\nabc",
	"chunks that do not come":   "POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n",
	"after 100 Continue":        "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 100000\r\nExpect: 100-continue\r\n\r\nabc",
}

// malformed are requests that cannot be carried.
var malformed = map[string]string{
	"bad chunk size":    "POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\nzz\r\nabc\r\n0\r\n\r\n",
	"chunk extension":   "POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n3;" + strings.Repeat("x", 20<<10) + "\r\nabc\r\n0\r\n\r\n",
	"malformed trailer": "POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\nno colon here\r\n\r\n",
	"huge trailer":      "POST / HTTP/1.1\r\nHost: s\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\nX-Sum: " + strings.Repeat("x", 2<<20) + "\r\n\r\n",
	"a dot segment":     "GET /a/../b HTTP/1.1\r\nHost: s\r\nConnection: close\r\n\r\n",
	"no host":           "GET / HTTP/1.1\r\n\r\n",
	"a head too large":  "GET / HTTP/1.1\r\nHost: s\r\nX-Big: " + strings.Repeat("x", 80<<10) + "\r\n\r\n",
	"garbage":           "\x16\x03\x01\x00\xa5\r\n\r\n",
	"a tunnel":          "CONNECT s:80 HTTP/1.1\r\nHost: s:80\r\nConnection: close\r\n\r\n",
}

// framed are the same over HTTP/2: fields after the usual ones, the body, and
// whether the stream ends with it.
var framed = map[string]struct {
	fields [][2]string
	body   string
	ends   bool
}{
	"less than its length":   {[][2]string{{"content-length", "10"}}, "abc", true},
	"more than its length":   {[][2]string{{"content-length", "2"}}, "abcdef", true},
	"gRPC to a workload":     {[][2]string{{"content-type", "application/grpc"}, {"te", "trailers"}}, "\x00\x00\x00\x00\x00", true},
	"gRPC without patience":  {[][2]string{{"content-type", "application/grpc"}, {"te", "trailers"}, {"grpc-timeout", "1n"}}, "\x00\x00\x00\x00\x00", true},
	"a deadline without it":  {[][2]string{{"grpc-timeout", "1n"}}, "abc", true},
	"a body that never ends": {nil, "abc", false},
}

// TestCallersFaults: what a caller does wrong touches no guard and no success rate,
// for every way in; and the mesh goes on.
func TestCallersFaults(t *testing.T) {
	t.Parallel()
	workload := app(t, func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		io.WriteString(w, "fine")
	})
	each(t, func(t *testing.T, kind string) {
		for _, where := range []string{"outbound", "gateway", "inbound"} {
			t.Run(where, func(t *testing.T) {
				t.Parallel()
				gateway := ""
				if where == "gateway" {
					gateway = "edge"
				}
				c := newChain(t, kind, gateway, nervous, workload)
				h := c.hop
				if where == "inbound" {
					h = c.inbound
				}
				for name, request := range malformed {
					if kind == "general" && (name == "garbage" || name == "a head too large") {
						continue // what net/http makes of those never comes as far as a bearer
					}
					got := h.raw(t, request)
					if !strings.HasPrefix(got, "HTTP/1.1 4") {
						t.Errorf("%s: got\n%.300s", name, got)
					}
					c.nothingHappened(t, name)
				}
				for name, f := range framed {
					if f.ends {
						c2 := rawHTTP2To(t, h.url)
						c2.send(1, append([][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/"}}, f.fields...), []byte(f.body))
						got := c2.answer(1)
						if !strings.HasPrefix(got, "HTTP/2 4") && !strings.HasPrefix(got, "reset: ") && !strings.Contains(got, "Grpc-Status: ") && !strings.Contains(name, "patience") && !strings.Contains(name, "deadline") {
							t.Errorf("%s: got\n%s", name, got)
						}
						c.nothingHappened(t, name)
					}
				}
				if got := h.raw(t, get("/")); !strings.Contains(got, "200 OK") {
					t.Errorf("afterwards: got\n%s", got)
				}
				c.isUnmoved(t)
			})
		}
	})
}

// nothingHappened tells whether no guard of a chain acted.
func (c chain) nothingHappened(t *testing.T, after string) {
	t.Helper()
	for _, e := range c.table.Events(c.router.now()) {
		t.Errorf("%s: event: %s %s", after, e.Kind, e.Detail)
	}
}

// isUnmoved tells whether neither the guards nor the success rates of a chain moved.
func (c chain) isUnmoved(t *testing.T) {
	t.Helper()
	c.nothingHappened(t, "in all")
	faults := uint64(0)
	for _, rec := range []*observe.Recorder{c.recorder, c.served} {
		list, _ := rec.Collect(engine.Instance{})
		for _, s := range list {
			if s.Counts.Failed+s.Counts.Refused > 0 {
				t.Errorf("counted (app %t): %+v", s.App, s.Counts)
			}
			faults += s.Counts.CallerFault
		}
	}
	if faults == 0 {
		t.Error("nothing counts as the caller's fault")
	}
}

// TestStalledUploads: a body that does not come is given up at the timeout, with its
// place among the requests under way; it is the caller's fault.
func TestStalledUploads(t *testing.T) {
	t.Parallel()
	workload := app(t, func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) })
	each(t, func(t *testing.T, kind string) {
		for _, gateway := range []string{"", "edge"} {
			c := newChain(t, kind, gateway, strings.Replace(nervous, "guard: {", "guard: {in-flight: 8, ", 1), workload)
			begun := time.Now()
			var conns []net.Conn
			for _, request := range stalls {
				conn, err := net.Dial("tcp", strings.TrimPrefix(c.url, "http://"))
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				conn.SetDeadline(begun.Add(5 * time.Second))
				io.WriteString(conn, request)
				conns = append(conns, conn)
			}
			trickle := make(chan string)
			go func() { trickle <- trickled(c.hop) }()
			c2 := rawHTTP2To(t, c.url)
			c2.head(1, [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/"}}, []byte("abc"))
			for _, conn := range conns {
				b, _ := io.ReadAll(conn)
				if took := time.Since(begun); !strings.Contains(string(b), "408 ") || took > 1500*time.Millisecond {
					t.Errorf("gateway %q, after %s: got\n%s", gateway, took, b)
				}
			}
			if got := c2.answer(1); !strings.HasPrefix(got, "HTTP/2 408") {
				t.Errorf("gateway %q: got\n%s", gateway, got)
			}
			if got := <-trickle; !strings.Contains(got, "408 ") {
				t.Errorf("gateway %q: a trickled body got\n%s", gateway, got)
			}
			waitFor(t, func() bool {
				s := c.table.Status(c.router.now())
				return len(s) == 1 && s[0].Versions[0].Queue.InFlight == 0
			})
			c.isUnmoved(t)
		}
	})
}

// trickled sends a body of which a byte comes every 50 ms, and returns the answer.
func trickled(h hop) string {
	conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
	if err != nil {
		return err.Error()
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	fmt.Fprint(conn, "POST / HTTP/1.1\r\nHost: s\r\nContent-Length: 100000\r\n\r\n")
	go func() {
		for {
			if _, err := io.WriteString(conn, "x"); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	b, _ := io.ReadAll(conn)
	return string(b)
}

// TestReadersThatReadNothing: a caller that does not take its answer loses its place
// among the requests under way when their time is over, so that others come in; one
// that takes less than the least rate is cut off.
func TestReadersThatReadNothing(t *testing.T) {
	t.Parallel()
	workload := app(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/large" {
			io.Copy(w, io.LimitReader(zeros{}, 64<<20))
		}
	})
	each(t, func(t *testing.T, kind string) {
		for _, protocol := range []string{"1.1", "2"} {
			c := newChain(t, kind, "edge", "    timeout: 1s\n    guard: {in-flight: 4, waiting: 0}\n", workload)
			for range 4 {
				if protocol == "2" {
					c2 := rawHTTP2To(t, c.url) // it gives no more room than it has at the start
					c2.send(1, [][2]string{{":method", "GET"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/large"}}, nil)
					continue
				}
				conn, err := net.Dial("tcp", strings.TrimPrefix(c.url, "http://"))
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				conn.(*net.TCPConn).SetReadBuffer(4 << 10)
				io.WriteString(conn, "GET /large HTTP/1.1\r\nHost: s\r\n\r\n")
			}
			inFlight := func() int {
				if s := c.table.Status(c.router.now()); len(s) == 1 && len(s[0].Versions) == 1 && s[0].Versions[0].Queue != nil {
					return s[0].Versions[0].Queue.InFlight
				}
				return -1
			}
			waitFor(t, func() bool { return inFlight() == 4 })
			begun := time.Now()
			waitFor(t, func() bool { return inFlight() == 0 })
			if took := time.Since(begun); took < 500*time.Millisecond || took > 2500*time.Millisecond {
				t.Errorf("HTTP/%s: the places came free after %s", protocol, took)
			}
			if got := c.raw(t, get("/")); !strings.Contains(got, "200 OK") {
				t.Errorf("HTTP/%s: got\n%s", protocol, got)
			}
		}
	})
}

// TestLeastRate: what a caller has to send and to take.
func TestLeastRate(t *testing.T) {
	if p := patience(1<<20, time.Hour, 0); p != time.Hour {
		t.Errorf("without a rate: %s", p)
	}
	if p := patience(10_000, time.Hour, 1000); p != rules.RateOver+10*time.Second {
		t.Errorf("10,000 bytes at 1,000 a second: %s", p)
	}
	b := &callerBody{from: io.NopCloser(strings.NewReader(strings.Repeat("x", 5000))), rate: 1000}
	b.waited.Store(int64(rules.RateOver))
	if _, err := b.Read(make([]byte, 100)); err != errSlowBody {
		t.Errorf("100 bytes after ten seconds: %v", err)
	}
	if o, is := (&general{body: b}).bodyOutcome(); !is || o.Means != http.StatusRequestTimeout {
		t.Errorf("the outcome is %+v", o)
	}
	f := &h2Request{caller: &h2Caller{l: &Listener{Config: Config{LeastRate: func() float64 { return 1000 }}}}, h2State: h2State{doing: doingAsk, read: 5000}}
	if f.isBelowRate(rules.RateOver - 1) {
		t.Error("by HTTP/2 it is looked at too early")
	}
	if !f.isBelowRate(rules.RateOver) {
		t.Error("5,000 bytes in ten seconds by HTTP/2 are enough")
	}
	if f.read += 15_000; f.isBelowRate(2 * rules.RateOver) {
		t.Error("15,000 bytes in the next ten are not")
	}
	if f.gotEnd = true; f.isBelowRate(3 * rules.RateOver) {
		t.Error("a body that has come whole is too slow")
	}
}
