package carry

import (
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// benchCarrier leads everything to one address, by two routes and a split.
func benchCarrier(b *testing.B, address string) *Router {
	rs, found := rules.Check([]rules.File{{Name: "bench.yaml", Text: "services: {s: {versions: [v1, v2], instances: [{at: 'http://" + address + "', version: v1}, {at: 'http://" + address +
		"', version: v2}], routes: [{name: crew, when: {headers: {x-crew: 'yes'}}, send: v2}, {name: all, when: {path: /ferry/**}, send: {v1: 85, v2: 15}}]}}"}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		b.Fatal(found[0].Text())
	}
	table, err := engine.Compile(rs, nil, engine.Options{Revision: 7})
	if err != nil {
		b.Fatal(err)
	}
	return newCaller("", table, NewTransports(nil))
}

// BenchmarkHop compares what a request costs on its way through the carrier and
// through the standard library's reverse proxy: the client and the backend are
// the same in both, so the difference is the hop's.
func BenchmarkHop(b *testing.B) {
	body := []byte(strings.Repeat("night ferry. ", 79))[:1024]
	backend := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(body) }))
	defer backend.Close()
	address := strings.TrimPrefix(backend.URL, "http://")
	pool := func() *http.Transport { return &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true} }

	c := benchCarrier(b, address)
	target := &url.URL{Scheme: "http", Host: address}
	for name, h := range map[string]http.Handler{
		"general":  &server{handler: c, src: c.source(), transport: NewTransports(nil), recorder: observe.NewRecorder(8, "caller"), tunnels: new(tunnels)},
		"standard": &httputil.ReverseProxy{Transport: pool(), Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }},
		"none":     nil,
	} {
		b.Run(name, func(b *testing.B) {
			to := backend.URL
			if h != nil {
				srv := httptest.NewUnstartedServer(h)
				if s, ok := h.(*server); ok {
					srv.Config.ConnContext = s.connContext
				}
				srv.Start()
				defer srv.Close()
				to = srv.URL
			}
			client := &http.Client{Transport: pool()}
			b.ReportAllocs()
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					req, _ := http.NewRequest("GET", to+"/ferry/times", nil)
					req.Host = "s"
					resp, err := client.Do(req)
					if err != nil {
						b.Error(err)
						return
					}
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
			})
		})
	}
}

// quietBackend is a carrier to a workload that does nothing but read and write,
// so that what is allocated is the hop's.
func quietBackend(b *testing.B) *Router { return benchCarrier(b, quietWorkload(b)) }

func quietWorkload(b *testing.B) (address string) {
	answer := []byte("HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nDate: Mon, 23 Nov 2026 14:00:00 GMT\r\nContent-Length: 1024\r\n\r\n" + strings.Repeat("x", 1024))
	backend, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { backend.Close() })
	go func() {
		for {
			c, err := backend.Accept()
			if err != nil {
				return
			}
			go func() {
				for in := make([]byte, 4096); ; {
					if _, err := c.Read(in); err != nil {
						return
					}
					c.Write(answer)
				}
			}()
		}
	}()
	return backend.Addr().String()
}

// BenchmarkMutual is a request through two relays, with mutual TLS between them.
func BenchmarkMutual(b *testing.B) {
	m := newMutual(b)
	beside, in := m.beside(b, http.NotFoundHandler(), rules.IdentityRequired)
	in.App = &engine.Instance{ID: "app", Address: quietWorkload(b), Outside: true}
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: "services: {s: {}}"}}, rules.Live{})
	instances := []engine.Instance{{ID: "s-1", Service: "s", Version: "v1", Address: beside.Addr().String(), Member: true}}
	table, err := engine.Compile(rs, instances, engine.Options{})
	if err != nil {
		b.Fatal(err)
	}
	shown := m.shown(b, "caller")
	c := newCaller("", table, NewTransports(shown))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	o := Open(Config{Name: "bench", Listener: l, Pools: &Pools{Epoch: c.Epoch, Shown: shown}, Transport: NewTransports(shown), Recorder: observe.NewRecorder(8, "caller"), Log: slog.New(slog.DiscardHandler)}, c)
	go o.Serve()
	b.Cleanup(func() { o.Drain(0, time.Second) })
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) { askAgain(b, l.Addr().String(), pb.Next) })
}

// BenchmarkPlain is a request through the plain bearer, from bytes to bytes.
func BenchmarkPlain(b *testing.B) {
	c := quietBackend(b)
	addr := serveBench(b, c, observe.NewRecorder(8, "caller"))
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) { askAgain(b, addr, pb.Next) })
}

// BenchmarkTelemetry is the same hop with all telemetry and with none, in turn;
// x-off is the time with it in times of that without, the median of the turns.
func BenchmarkTelemetry(b *testing.B) {
	on := quietBackend(b)
	watched, off := *on, *on
	watched.Observe = &observe.Observer{Epoch: on.Epoch, Feed: observe.NewFeed(), Spans: &observe.Spans{}}
	watched.Observe.Feed.Set([]wire.Watch{{ID: "1", Filter: wire.Filter{To: "s", Header: "x-crew=yes"}}}, "caller")
	off.Observe = &observe.Observer{Epoch: on.Epoch}
	addrs := []string{serveBench(b, on, observe.NewRecorder(8, "caller")), serveBench(b, &watched, observe.NewRecorder(8, "caller")), serveBench(b, &off, nil)}
	const turns = 40
	took := make([][]float64, len(addrs))
	each := int64(b.N/turns/len(addrs) + 1)
	for turn := range turns {
		for i := range addrs {
			i = (i + turn) % len(addrs)
			var left atomic.Int64
			left.Store(each)
			begun := time.Now()
			var callers sync.WaitGroup
			for range 16 {
				callers.Go(func() { askAgain(b, addrs[i], func() bool { return left.Add(-1) >= 0 }) })
			}
			callers.Wait()
			took[i] = append(took[i], time.Since(begun).Seconds())
		}
	}
	middle := func(i int) float64 {
		ratios := make([]float64, turns)
		for turn := range turns {
			ratios[turn] = took[i][turn] / took[2][turn]
		}
		slices.Sort(ratios)
		return ratios[turns/2]
	}
	b.ReportMetric(middle(0), "x-off")
	b.ReportMetric(middle(1), "watched-x-off")
}

// serveBench serves a carrier and returns its address.
func serveBench(b *testing.B, c *Router, rec *observe.Recorder) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	o := Open(Config{Name: "bench", Listener: l, Pools: &Pools{Epoch: c.Epoch}, Transport: NewTransports(nil), Recorder: rec, Log: slog.New(slog.DiscardHandler)}, c)
	go o.Serve()
	b.Cleanup(func() { o.Drain(0, time.Second) })
	return l.Addr().String()
}

// askAgain asks on one connection as long as more says so.
func askAgain(b *testing.B, addr string, more func() bool) {
	ask := []byte("GET /ferry/times HTTP/1.1\r\nHost: s\r\nUser-Agent: bench\r\nAccept: */*\r\nCookie: berth=7\r\n\r\n")
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		b.Error(err)
		return
	}
	defer conn.Close()
	in := make([]byte, 4096)
	for more() {
		conn.Write(ask)
		for n := 0; n < 1024; {
			k, err := conn.Read(in)
			if err != nil {
				b.Error(err)
				return
			}
			n += k
		}
	}
}
