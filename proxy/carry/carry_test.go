package carry

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/forward"
	"nightjar/proxy/observe"
	"nightjar/proxy/outside"
	"nightjar/wire"
)

// hop is a caller's proxy, the called instance's inbound proxy and the
// workload behind it, joined without a service. The table below is what every
// carrier has to pass.
type hop struct {
	url      string // of the caller's proxy
	recorder *observe.Recorder
	router   *Router
	copies   chan string // what came to the version that gets copies
}

// reasonsOf is how many requests of a series the mesh answered for a reason.
func reasonsOf(s wire.Series, r engine.Reason) uint64 {
	n, _ := r.Number()
	return s.Counts.Reasons[n]
}

// series is what the outer proxy counted since the last time.
func (h hop) series() []wire.Series {
	list, _ := h.recorder.Collect(engine.Instance{})
	return list
}

const hopRules = `
services:
  s:
    versions: [v1, v2, v3]
    routes:
      - {name: gone, when: {path: /gone}, send: v2}
      - {name: short, when: {path: /slow/**}, send: v1, timeout: 2s}
      - {name: moved, when: {path: /old/**}, rewrite: {path: /new/**, host: other.example}, send: v1}
      - {name: headed, when: {path: /headed}, send: v1, headers: {request: {set: {x-two: [c, d]}, add: {x-named: e}, remove: user-agent}, response: {set: {x-kept: no}, add: {x-added: "1"}, remove: content-type}}}
      - {name: away, when: {path: /away/**}, redirect: {path: /there/**, status: 308}, headers: {response: {set: {x-added: "2"}}}}
      - {name: said, when: {path: /said}, reply: {status: 418, body: "short and stout\n", headers: {x-pot: tea}}}
      - {name: limited, when: {path: /limited}, limit: {rate: 1/h, burst: 1, per: "header:x-k"}, send: v1}
      - {name: late, when: {path: /late}, fault: {delay: 150ms}, send: v1}
      - {name: harmed, when: {path: /harmed}, fault: {status: 503}, send: v1}
      - {name: copied, when: {path: /copied/**}, rewrite: {path: /new/**}, mirror: {to: v3}, send: v1}
      - {name: secure, when: {path: /secure}, send: office/v1}
      - {name: per-host, when: {path: /per-host}, limit: {rate: 1/h, burst: 1, per: "header:host"}, send: v1}
      - {name: for-ship, when: {path: /for-ship, headers: {host: s}}, send: v1}
      - {name: for-ship-2, when: {path: /for-ship, headers: {host: S.internal}}, reply: {status: 418}}
      - {name: rest, send: v1, timeout: 1h}
  office: {versions: [v1], instances: [{at: OFFICE, version: v1}]}
  refusing: {versions: [v1]}
  spoken: {protocol: grpc, versions: [v1]}
`

// kinds are the bearers. The outer proxy of a hop has the one, and the inbound
// proxies too.
var kinds = []string{"plain", "general"}

// newCaller is a caller's proxy, or a gateway, that follows a table.
func newCaller(gateway string, table *engine.Table, t *Transports) *Router {
	follows := new(atomic.Pointer[engine.Table])
	follows.Store(table)
	epoch := time.Now()
	return NewRouter(Router{
		Source: Source{
			Proxy:   "caller-a",
			Hop:     forward.Hop{Caller: "caller", IsGateway: gateway != ""},
			Epoch:   epoch,
			Observe: &observe.Observer{Proxy: "caller-a", Caller: "caller", Epoch: epoch, Feed: observe.NewFeed(), Spans: &observe.Spans{}},
		},
		Gateway: gateway,
		Table:   follows,
	}, t)
}

// newInbound is the proxy beside a workload.
func newInbound(name, app string) *Inbound {
	epoch := time.Now()
	return &Inbound{Source: Source{Proxy: name, Epoch: epoch, Observe: &observe.Observer{Proxy: name, Epoch: epoch, Spans: &observe.Spans{}}},
		App: &engine.Instance{Address: app, Outside: true}}
}

// each runs a test with every bearer.
func each(t *testing.T, test func(t *testing.T, kind string)) {
	for _, kind := range kinds {
		t.Run(kind, func(t *testing.T) { test(t, kind) })
	}
}

// ends are what the hops of a test share.
type ends struct {
	t         *testing.T
	kind      string
	transport *Transports
	pools     *Pools
	stall     time.Duration // of its listeners
}

// trust has the certificate of a server outside the mesh trusted.
func (e ends) trust(srv *httptest.Server) {
	e.pools.Outside = &outside.Dialer{Default: srv.Client().Transport.(*http.Transport).TLSClientConfig}
	e.transport.Outside = e.pools.Outside
}

// listen serves a handler by the bearer in question and returns its address.
func (e ends) listen(h Handler, rec *observe.Recorder) string {
	e.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		e.t.Fatal(err)
	}
	o := Open(Config{Name: "test", Listener: l, Pools: e.pools, Transport: e.transport, Recorder: rec, Log: slog.New(slog.DiscardHandler), Stall: e.stall}, h)
	o.isGeneral, o.isH2 = e.kind == "general", e.kind == "h2"
	go o.Serve()
	e.t.Cleanup(func() { o.Drain(0, time.Second) })
	return l.Addr().String()
}

func newHop(t *testing.T, kind, gateway string, app http.Handler) hop {
	t.Helper()
	return newHopWith(t, kind, gateway, 0, app)
}

// newHopWith is newHop whose listeners give a peer up after stall; 0: as usual.
func newHopWith(t *testing.T, kind, gateway string, stall time.Duration, app http.Handler) hop {
	t.Helper()
	workload := httptest.NewUnstartedServer(app)
	workload.Config.DisableGeneralOptionsHandler = true
	workload.Config.Protocols = new(http.Protocols)
	workload.Config.Protocols.SetHTTP1(true)
	workload.Config.Protocols.SetUnencryptedHTTP2(true)
	workload.Start()
	t.Cleanup(workload.Close)
	e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}, stall: stall}
	return e.hop(gateway, workload.Listener.Addr().String(), app)
}

// newHopTo is newHop to a workload that runs already.
func newHopTo(t *testing.T, kind, gateway, workload string, outside http.Handler) hop {
	t.Helper()
	return ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}.hop(gateway, workload, outside)
}

func (e ends) hop(gateway, workload string, outside http.Handler) hop {
	t := e.t
	t.Helper()
	t.Cleanup(func() { e.transport.CloseIdle(); e.pools.CloseIdle() })
	inbound := func(name, app string) string {
		return e.listen(newInbound(name, app), nil)
	}
	const closed = "127.0.0.1:1" // nobody listens there
	copies := make(chan string, 100)
	copySrv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		copies <- fmt.Sprintf("%s %s body=%d mark=%s", r.Method, r.RequestURI, len(body), r.Header.Get(wire.HeaderMirror))
	}))
	t.Cleanup(copySrv.Close)
	office := httptest.NewUnstartedServer(outside)
	office.EnableHTTP2 = true
	office.StartTLS()
	t.Cleanup(office.Close)
	office.Config.ErrorLog = log.New(io.Discard, "", 0)
	if gateway != "" { // there the office is trusted
		e.trust(office)
	}
	text := strings.Replace(hopRules, "OFFICE", strconv.Quote(office.URL), 1)
	if gateway != "" {
		text += fmt.Sprintf("gateways: {%s: {listen: ':80', hosts: ['*'], routes: [{name: all, send: s, headers: {request: {set: {x-two: g}, add: {x-named: g}}, response: {set: {x-added: g}}}}]}}\n", gateway)
	}
	rs, found := rules.Check([]rules.File{{Name: "hop.yaml", Text: text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	table, err := engine.Compile(rs, []engine.Instance{
		{ID: "s-v1-a", Service: "s", Version: "v1", Address: inbound("s-v1-a", workload)},
		{ID: "spoken-v1-a", Service: "spoken", Version: "v1", Address: inbound("spoken-v1-a", workload)},
		{ID: "s-v2-a", Service: "s", Version: "v2", Address: closed},
		{ID: "s-v3-a", Service: "s", Version: "v3", Address: inbound("s-v3-a", copySrv.Listener.Addr().String())},
		{ID: "refusing-v1-b", Service: "refusing", Version: "v1", Address: inbound("refusing-v1-b", closed)},
	}, engine.Options{Revision: 7})
	if err != nil {
		t.Fatal(err)
	}
	c := newCaller(gateway, table, e.transport)
	t.Cleanup(c.Close)
	rec := observe.NewRecorder(2, "caller")
	return hop{"http://" + e.listen(c, rec), rec, c, copies}
}

// listenRaw is a workload that serves each connection by hand, and closes it then.
func listenRaw(t testing.TB, serve func(conn net.Conn)) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
	return l.Addr().String()
}

// raw sends bytes and reads everything that comes back.
func (h hop) raw(t *testing.T, request string) string {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(conn, request)
	b, _ := io.ReadAll(conn)
	return string(b)
}

func get(path string, lines ...string) string {
	return "GET " + path + " HTTP/1.1\r\nHost: s\r\nConnection: close\r\n" + strings.Join(append(lines, "", ""), "\r\n")
}

func TestADelayOnPurpose(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(echo))
		begun := time.Now()
		if got := h.raw(t, get("/late")); !strings.Contains(got, "200 OK") || time.Since(begun) < 150*time.Millisecond {
			t.Errorf("after %s:\n%s", time.Since(begun), got)
		}
		// Who leaves meanwhile is not counted.
		ctx, leave := context.WithTimeout(context.Background(), 20*time.Millisecond)
		defer leave()
		req, _ := http.NewRequestWithContext(ctx, "GET", h.url+"/late", nil)
		req.Host = "s"
		if _, err := http.DefaultClient.Do(req); err == nil {
			t.Fatal("the caller did not leave")
		}
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Counts.Abandoned == 1 && s.Route == "late" {
					return true
				}
			}
			return false
		})
	})
}

// TestMirror: the copy is the request as it is sent, body and all, marked as a
// copy; a body that is too large to keep is not copied.
func TestMirror(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(echo))
		post := func(size int) string {
			return fmt.Sprintf("POST /copied/x?y=1 HTTP/1.1\r\nHost: s\r\nConnection: close\r\nContent-Length: %d\r\n\r\n%s", size, strings.Repeat("z", size))
		}
		for _, c := range []struct{ request, answer, copied string }{
			{get("/copied/a%2Fb", wire.HeaderMirror+": 7"), "GET /new/a%2Fb host=s body=0", "GET /new/a%2Fb body=0 mark=1"},
			{post(60_000), "POST /new/x?y=1 host=s body=60000", "POST /new/x?y=1 body=60000 mark=1"},
			{post(70_000), "POST /new/x?y=1 host=s body=70000", ""},
			{post(3), "body=3", "POST /new/x?y=1 body=3 mark=1"},
		} {
			if got := h.raw(t, c.request); !strings.Contains(got, c.answer) {
				t.Errorf("lacks %q:\n%s", c.answer, got)
			}
			if c.copied == "" {
				continue // were it sent, it would come before the next
			}
			select {
			case got := <-h.copies:
				if got != c.copied {
					t.Errorf("copied %q, want %q", got, c.copied)
				}
			case <-time.After(10 * time.Second):
				t.Fatalf("no copy of %.40s", c.request)
			}
		}
	})
}

func TestOutsideByTLS(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "edge", http.HandlerFunc(echo))
		if got := h.raw(t, get("/secure")); !strings.Contains(got, "GET /secure host=s") {
			t.Errorf("got\n%s", got)
		}
	})
}

func TestTimeoutCoversHeadersAlone(t *testing.T) {
	t.Parallel()
	each(t, func(t *testing.T, kind string) {
		release := make(chan struct{})
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/body") {
				io.WriteString(w, "first\n")
				w.(http.Flusher).Flush()
				select { // longer than the timeout, which ended with the headers
				case <-time.After(2200 * time.Millisecond):
				case <-r.Context().Done():
					return
				}
				io.WriteString(w, "second\n")
				return
			}
			select {
			case <-release:
			case <-r.Context().Done():
			}
		}))
		defer close(release)
		if got := h.raw(t, get("/slow/headers")); !strings.Contains(got, "504 Gateway Timeout") || !strings.Contains(got, "error=http_response_timeout") || !strings.Contains(got, "within 2s") {
			t.Errorf("slow headers:\n%s", got)
		}
		if got := h.raw(t, get("/slow/body")); !strings.Contains(got, "200 OK") || !strings.Contains(got, "second") {
			t.Errorf("slow body:\n%s", got)
		}
		if got := h.raw(t, get("/", wire.HeaderTimeLeft+": 30")); !strings.Contains(got, "504") || !strings.Contains(got, "within 30ms") {
			t.Errorf("a caller that waits for less:\n%s", got)
		}
	})
}

func TestStreamsAndTrailersArrive(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		next := make(chan struct{})
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Trailer", "X-Sum")
			io.WriteString(w, "one\n")
			w.(http.Flusher).Flush()
			<-next
			io.WriteString(w, "two\n")
			w.Header().Set("X-Sum", "2")
		}))
		req, _ := http.NewRequest("GET", h.url+"/", nil)
		req.Host = "s"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		lines := bufio.NewReader(resp.Body)
		if l, err := lines.ReadString('\n'); l != "one\n" { // before the workload goes on
			t.Fatalf("first line %q, %v", l, err)
		}
		close(next)
		rest, err := io.ReadAll(lines)
		if string(rest) != "two\n" || err != nil || resp.Trailer.Get("X-Sum") != "2" {
			t.Errorf("rest %q, %v, trailer %v", rest, err, resp.Trailer)
		}
	})
}

func TestTheCallersLeavingEndsTheTry(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		begun, ended := make(chan struct{}), make(chan struct{})
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			close(begun)
			<-r.Context().Done()
			close(ended)
		}))
		ctx, leave := context.WithCancel(context.Background())
		req, _ := http.NewRequestWithContext(ctx, "GET", h.url+"/", nil)
		req.Host = "s"
		go func() { <-begun; leave() }()
		if _, err := http.DefaultClient.Do(req); !errors.Is(err, context.Canceled) {
			t.Fatalf("got %v", err)
		}
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			t.Fatal("the workload was not told that its caller left")
		}
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Counts.Abandoned == 1 && s.Counts.Requests() == 0 {
					return true
				}
			}
			return false
		})
	})
}

func TestABrokenAnswerBreaksOffAndCounts(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "200000")
			io.WriteString(w, strings.Repeat("only this ", 10_000)) // more than any buffer on the way holds back
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		}))
		req, _ := http.NewRequest("GET", h.url+"/", nil)
		req.Host = "s"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if _, err := io.ReadAll(resp.Body); err == nil {
			t.Error("a broken answer looked whole")
		}
		waitFor(t, func() bool {
			for _, s := range h.series() {
				if s.Counts.Failed == 1 && reasonsOf(s, engine.Reset) == 1 && s.Route == "rest" && s.Instance == "s-v1-a" && len(s.Counts.Latency) == 1 {
					return true
				}
			}
			return false
		})
	})
}

func waitFor(t *testing.T, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("did not come about")
		}
	}
}

// TestALargeBodyIsStreamed: neither direction is held in memory.
func TestALargeBodyIsStreamed(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		const size = 64 << 20
		h := newHop(t, kind, "", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			n, _ := io.Copy(io.Discard, r.Body)
			w.Header().Set("X-Got", fmt.Sprint(n))
			io.Copy(w, io.LimitReader(zeros{}, size))
		}))
		req, _ := http.NewRequest("POST", h.url+"/", io.LimitReader(zeros{}, size))
		req.Host = "s"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		n, err := io.Copy(io.Discard, resp.Body)
		if n != size || err != nil || resp.Header.Get("X-Got") != fmt.Sprint(size) {
			t.Errorf("sent %d, the workload got %s, back came %d, %v", size, resp.Header.Get("X-Got"), n, err)
		}
	})
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }
