package proxy

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// fake is a service that says what a test wants it to say.
type fake struct {
	*httptest.Server
	t     *testing.T
	lines chan string // to be sent on the stream; "" breaks it

	mu        sync.Mutex
	acks      []wire.Ack
	deltas    []wire.Delta
	registers int
	last      wire.Registration
	withdrawn bool
	kept      wire.Kept
	deaf      bool // answers telemetry with an error
	seq       uint64
	rules     *rules.Rules // last sent
	revision  uint
}

func newFake(t *testing.T) *fake {
	f := &fake{t: t, lines: make(chan string, 16)}
	f.Server = httptest.NewServer(f)
	t.Cleanup(f.Close)
	return f
}

func (f *fake) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case r.Method == http.MethodPut:
		f.registers++
		f.last = wire.Registration{}
		json.Unmarshal(body, &f.last)
		fmt.Fprintln(w, `{"seconds": 10}`)
	case r.Method == http.MethodDelete:
		f.withdrawn = true
	case strings.HasSuffix(r.URL.Path, "/acks"):
		var a wire.Ack
		json.Unmarshal(body, &a)
		f.acks = append(f.acks, a)
	case strings.HasSuffix(r.URL.Path, "/telemetry"):
		if f.deaf {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var d wire.Delta
		json.Unmarshal(body, &d)
		f.deltas = append(f.deltas, d)
		json.NewEncoder(w).Encode(f.kept)
	case strings.HasSuffix(r.URL.Path, "/snapshots"):
		f.mu.Unlock()
		defer f.mu.Lock()
		w.(http.Flusher).Flush()
		for {
			select {
			case l := <-f.lines:
				if l == "" {
					return
				}
				fmt.Fprintln(w, l)
				w.(http.Flusher).Flush()
			case <-r.Context().Done():
				return
			}
		}
	}
}

func (f *fake) see(what func() bool) {
	f.t.Helper()
	waitFor(f.t, func() bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		return what()
	})
}

// send puts a snapshot on the stream and waits for its acknowledgement.
func (f *fake) send(revision uint, text string, settled bool, instances ...engine.Instance) wire.Ack {
	f.t.Helper()
	f.seq++
	s := wire.Snapshot{Sequence: f.seq, Settled: settled, Whole: instances != nil, Instances: instances}
	if text != "" {
		rs, found := rules.Check([]rules.File{{Name: "f.yaml", Text: text}}, rules.Live{})
		if rules.Mistakes(found) > 0 {
			f.t.Fatal(found[0].Text())
		}
		f.rules, f.revision = rs, revision
	}
	if text != "" || s.Whole {
		rest := *f.rules
		rest.Services = nil
		s.Services, s.Rest, s.Revision = f.rules.Services, &rest, f.revision
	}
	b, _ := json.Marshal(s)
	f.lines <- string(b)
	var ack wire.Ack
	f.see(func() bool {
		i := slices.IndexFunc(f.acks, func(a wire.Ack) bool { return a.Sequence == f.seq })
		if i >= 0 {
			ack = f.acks[i]
		}
		return i >= 0
	})
	return ack
}

// runProxy runs a proxy until the test ends, and checks that it withdraws.
func runProxy(t *testing.T, f *fake, cfg Config) *Proxy {
	t.Helper()
	cfg.Server, cfg.Drain = f.URL, time.Second
	p, err := New(cfg)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- p.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
		f.see(func() bool { return f.withdrawn })
	})
	return p
}

// ask calls a service through a proxy.
func ask(addr, host, path string) string {
	req, _ := http.NewRequest("GET", "http://"+addr+path, nil)
	req.Host = host
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return strings.TrimSpace(string(b))
}

func instance(t *testing.T, id, version string) engine.Instance {
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, id) }))
	t.Cleanup(app.Close)
	return engine.Instance{ID: id, Service: "s", Version: version, Address: strings.TrimPrefix(app.URL, "http://")}
}

const toV1, toV2 = "services: {s: {versions: [v1, v2], routes: [{name: r, send: v1}]}}", "services: {s: {versions: [v1, v2], routes: [{name: r, send: v2}]}}"

func TestSnapshotsComeIntoForce(t *testing.T) {
	f := newFake(t)
	one, two := instance(t, "one", "v1"), instance(t, "two", "v2")
	p := runProxy(t, f, Config{ID: "c", Service: "caller", Version: "v1"})

	early := make(chan string)
	go func() { early <- ask(p.Outbound(), "s", "/") }() // before any rules: it waits for them
	f.see(func() bool { return f.registers > 0 })
	if a := f.send(1, toV1, true, one, two); a.Revision != 1 || a.Error != "" {
		t.Errorf("ack %+v", a)
	}
	if got := <-early; got != "one" {
		t.Errorf("the early request got %q", got)
	}
	f.send(2, toV2, true) // the instances did not change
	if got := ask(p.Outbound(), "s", "/"); got != "two" {
		t.Errorf("revision 2 leads to %q", got)
	}

	// Rules that cannot be compiled are refused, and those before stay.
	f.seq++
	f.lines <- fmt.Sprintf(`{"sequence":%d,"revision":3,"services":[{"name":"s","routes":[{"name":"r","send":[{"service":"ghost","version":"v1","weight":100000}]}]}]}`, f.seq)
	f.see(func() bool {
		return strings.Contains(f.acks[len(f.acks)-1].Error, "ghost") && f.acks[len(f.acks)-1].Revision == 2
	})
	if got := ask(p.Outbound(), "s", "/"); got != "two" {
		t.Errorf("after bad rules: %q", got)
	}

	// A break, and nonsense on the stream: the proxy comes back, serving all the while.
	for _, l := range []string{"", "{nonsense"} {
		before := f.registers
		f.lines <- l
		f.see(func() bool { return f.registers > before })
		if got := ask(p.Outbound(), "s", "/"); got != "two" {
			t.Errorf("while the service is away: %q", got)
		}
	}

	// A service that just started may not know everybody yet.
	f.send(0, "", false, one)
	if got := ask(p.Outbound(), "s", "/"); got != "two" {
		t.Errorf("an instance that a new service does not know yet was forgotten: %q", got)
	}
	f.send(0, "", true, one)
	if got := ask(p.Outbound(), "s", "/"); !strings.Contains(got, "no-instance: s/v2 has no instance") {
		t.Errorf("an instance that is gone: %q", got)
	}
}

// TestNoRulesYet: with the service away from the beginning a caller is not left
// waiting.
func TestNoRulesYet(t *testing.T) {
	t.Parallel()
	f := newFake(t)
	p := runProxy(t, f, Config{ID: "c", Service: "caller", Version: "v1"})
	if got := ask(p.Outbound(), "s", "/"); !strings.Contains(got, "no rules from the service yet") {
		t.Errorf("got %q", got)
	}
}

func TestTheGatewayListensWhereTheRulesSay(t *testing.T) {
	f := newFake(t)
	p := runProxy(t, f, Config{ID: "g", Gateway: "door"})
	one := instance(t, "one", "v1")
	port := func() string { // below those that the system gives away by itself
		for {
			if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 15_000+rand.IntN(17_000))); err == nil {
				defer l.Close()
				return l.Addr().String()
			}
		}
	}
	rulesAt := func(listen string) string {
		return toV1 + fmt.Sprintf("\ngateways: {door: {listen: %q, hosts: [a.example], routes: [{name: all, send: s}]}}", listen)
	}
	a, b := port(), port()
	f.send(1, rulesAt(a), true, one)
	if got := ask(a, "a.example", "/"); got != "one" || p.Outbound() != a {
		t.Errorf("at the first address: %q", got)
	}
	if got := ask(a, "b.example", "/"); !strings.Contains(got, "404 no-route: request ") {
		t.Errorf("another host: %q", got)
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	if f.send(2, rulesAt(taken.Addr().String()), true); len(p.problems()) != 1 || p.problems()[0].Kind != wire.ProblemListener || !strings.Contains(p.problems()[0].Detail, "gateway door") {
		t.Errorf("at an address that is taken: %+v", p.problems())
	}
	if got := ask(a, "a.example", "/"); got != "one" {
		t.Errorf("the old address went before there was a new one: %q", got)
	}
	f.send(3, rulesAt(taken.Addr().String()), true)
	taken.Close()
	waitFor(t, func() bool { return len(p.problems()) == 0 }) // it is mended by itself
	f.send(4, rulesAt(b), true)
	if got := ask(b, "a.example", "/"); got != "one" {
		t.Errorf("at the second address: %q", got)
	}
	f.send(5, toV1, true)
	if got := ask(b, "a.example", "/"); !strings.Contains(got, "404 no-route: request ") {
		t.Errorf("not in the rules any more: %q", got)
	}
}

// TestRequestLog: a line of JSON a request, without what its query may hide; and
// none unless it is asked for.
func TestRequestLog(t *testing.T) {
	f := newFake(t)
	var out syncBuffer
	p := runProxy(t, f, Config{ID: "c", Service: "caller", Version: "v1", LogShare: 1, LogTo: &out})
	f.send(4, toV1, true, instance(t, "one", "v1"))
	ask(p.Outbound(), "s", "/board?secret=1")
	ask(p.Outbound(), "ghost", "/")
	waitFor(t, func() bool { return strings.Count(out.String(), "\n") == 2 })
	for i, want := range []string{`"msg":"request","proxy":"c","caller":"caller","outcome":"ok","status":200,"method":"GET","host":"s","path":"/board","service":"s","version":"v1","durationMS":`,
		`"outcome":"refused","status":404,"method":"GET","host":"ghost","path":"/"`} {
		line := strings.Split(out.String(), "\n")[i]
		if !json.Valid([]byte(line)) || !strings.Contains(line, want) || strings.Contains(line, "secret") {
			t.Errorf("got %s\nwant %s", line, want)
		}
	}
	if !strings.Contains(out.String(), `"attempts":1,"requestBytes":0,"responseBytes":3,"revision":4,"instance":"one","route":"r","trace":"`) || !strings.Contains(out.String(), `"reason":"no-route"`) {
		t.Errorf("got %s", out.String())
	}
	if observe.NewRequestLog(&out, 0, false) != nil {
		t.Error("nobody asked for it")
	}
}

type syncBuffer struct {
	mu sync.Mutex
	b  strings.Builder
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// raw sends bytes and reads everything that comes back.
func raw(t *testing.T, addr, request string) string {
	t.Helper()
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, request)
	b, _ := io.ReadAll(conn)
	return string(b)
}

// get is a request after which the connection ends.
func get(path string, lines ...string) string {
	return "GET " + path + " HTTP/1.1\r\nHost: s\r\nConnection: close\r\n" + strings.Join(append(lines, "", ""), "\r\n")
}

func waitFor(t *testing.T, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("timed out waiting")
		}
	}
}

// app is a workload; its address.
func app(t *testing.T, h http.HandlerFunc) string {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// noInstance is how many requests of a series found no instance.
func noInstance(s wire.Series) uint64 {
	n, _ := engine.NoInstance.Number()
	return s.Counts.Reasons[n]
}

// TestNameTaken: a second proxy of a name says so and ends, soon, and does not
// withdraw the first.
func TestNameTaken(t *testing.T) {
	t.Parallel()
	withdrawn := make(chan string, 10)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodDelete {
			withdrawn <- r.URL.Query().Get("nonce")
			return
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		io.WriteString(w, `{"detail": "another proxy is registered as p: give this one a name of its own (--name)"}`)
	}))
	defer service.Close()
	p, err := New(Config{ID: "p", Server: service.URL, Drain: 10 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	if err := p.Run(ctx); err == nil || !strings.Contains(err.Error(), "another proxy is registered as p") {
		t.Errorf("it ended with %v", err)
	}
	if nonce := <-withdrawn; nonce == "" {
		t.Error("it withdrew whoever has the name, and not itself alone")
	}
}

// credentials are those of one proxy for each service, all of one mesh.
func credentials(t *testing.T, services ...string) []*identity.Credentials {
	t.Helper()
	ca, err := authority.Open(authority.Config{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	out := make([]*identity.Credentials, len(services))
	for i, name := range services {
		out[i] = &identity.Credentials{}
		who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: name}, Domain: ca.Domain(), ID: name + "-1"}
		if err := ca.Credentials(who, out[i]); err != nil {
			t.Fatal(err)
		}
	}
	return out
}
