package carry

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/interop/grpc_testing"
	"google.golang.org/grpc/status"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
)

// newGuarded is a caller's proxy in front of workloads, each an instance of
// version v1 of service s, by those rules.
func newGuarded(t *testing.T, kind, text string, apps ...string) (hop, *Router) {
	t.Helper()
	e := ends{t: t, kind: kind, transport: NewTransports(nil), pools: &Pools{Epoch: time.Now()}}
	t.Cleanup(func() { e.transport.CloseIdle(); e.pools.CloseIdle() })
	rs, found := rules.Check([]rules.File{{Name: "guarded.yaml", Text: "services:\n  s:\n    versions: [v1]\n" + text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	var instances []engine.Instance
	for i, app := range apps {
		instances = append(instances, engine.Instance{ID: fmt.Sprintf("s-v1-%c", 'a'+i), Service: "s", Version: "v1", Address: app})
	}
	table, err := engine.Compile(rs, instances, engine.Options{Revision: 7})
	if err != nil {
		t.Fatal(err)
	}
	c := newCaller("", table, e.transport)
	t.Cleanup(c.Close)
	rec := observe.NewRecorder(2, "caller")
	return hop{"http://" + e.listen(c, rec), rec, c, nil}, c
}

// app is a workload; its address.
func app(t *testing.T, h http.HandlerFunc) string {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// fails answers 503 after it has read the body, and counts.
func fails(n *atomic.Int32) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		n.Add(1)
		http.Error(w, "not now", http.StatusServiceUnavailable)
	}
}

// TestRetrySendsTheWholeBody: a request is sent again with all of its body, or
// not at all.
func TestRetrySendsTheWholeBody(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var failed atomic.Int32
		var mu sync.Mutex
		var got []byte
		h, _ := newGuarded(t, kind, "    retry: {times: 1, methods: all, budget: 100%}\n", app(t, fails(&failed)), app(t, func(w http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			mu.Lock()
			defer mu.Unlock()
			got = b
		}))
		for _, c := range []struct {
			size    int
			chunked bool
			again   bool
		}{{0, false, true}, {1000, false, true}, {1000, true, true}, {64 << 10, false, true}, {64 << 10, true, true}, {64<<10 + 1, false, false}, {200_000, true, false}} {
			for try := range 2 { // one of them begins at the instance that fails
				body := bytes.Repeat([]byte("berth"), c.size/5+1)[:c.size]
				var r io.Reader = bytes.NewReader(body)
				if c.chunked {
					r = io.MultiReader(r)
				}
				before := failed.Load()
				req, _ := http.NewRequest("POST", h.url+"/", r)
				req.Host = "s"
				resp, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Fatal(err)
				}
				answer, _ := io.ReadAll(resp.Body)
				resp.Body.Close()
				hit := failed.Load() > before
				mu.Lock()
				whole := bytes.Equal(got, body)
				mu.Unlock()
				switch {
				case hit && !c.again:
					if resp.StatusCode != 503 || !strings.Contains(string(answer), "not now") {
						t.Errorf("%+v, try %d: %d %s, want the instance's own answer", c, try, resp.StatusCode, answer)
					}
				case resp.StatusCode != 200 || !whole:
					t.Errorf("%+v, try %d (failed first %t): %d, body of %d bytes came whole: %t", c, try, hit, resp.StatusCode, c.size, whole)
				}
			}
		}
		if n := failed.Load(); n != 7 {
			t.Errorf("the failing instance was asked %d times, want once for each pair", n)
		}
	})
}

// TestNoRetryAfterAnInterimAnswer: what has begun to arrive is not begun anew.
func TestNoRetryAfterAnInterimAnswer(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var asked atomic.Int32
		hint := func(w http.ResponseWriter, r *http.Request) {
			asked.Add(1)
			if r.URL.Path == "/hint" {
				w.WriteHeader(http.StatusEarlyHints)
			}
			http.Error(w, "not now", http.StatusServiceUnavailable)
		}
		h, _ := newGuarded(t, kind, "    retry: {times: 1, budget: 100%}\n", app(t, hint), app(t, hint))
		if got := h.raw(t, get("/hint")); strings.Count(got, "103 Early Hints") != 1 || !strings.Contains(got, "HTTP/1.1 503") || asked.Load() != 1 {
			t.Errorf("asked %d times:\n%s", asked.Load(), got)
		}
		if h.raw(t, get("/")); asked.Load() != 3 {
			t.Errorf("without a hint it was asked %d times, want 2", asked.Load()-1)
		}
	})
}

// TestLine: a request waits for its place, the next one is refused, and one
// whose caller leaves makes room.
func TestLine(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		release, inside := make(chan struct{}), make(chan string, 10)
		h, c := newGuarded(t, kind, "    guard: {in-flight: 1, waiting: 1, wait-at-most: 20s}\n", app(t, func(w http.ResponseWriter, r *http.Request) {
			inside <- r.URL.Path
			<-release
		}))
		defer close(release)
		waiting := func(n int) {
			t.Helper()
			waitFor(t, func() bool {
				s := c.Table.Load().Status(c.now())
				return len(s) == 1 && s[0].Versions[0].Queue.Waiting == n && s[0].Versions[0].Queue.InFlight == 1
			})
		}
		answers := make(chan string, 10)
		call := func(ctx context.Context, path string) {
			req, _ := http.NewRequestWithContext(ctx, "GET", h.url+path, nil)
			req.Host = "s"
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				answers <- path + " left"
				return
			}
			io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			answers <- fmt.Sprintf("%s %d", path, resp.StatusCode)
		}
		go call(t.Context(), "/first")
		<-inside
		leaves, leave := context.WithCancel(t.Context())
		go call(leaves, "/second")
		waiting(1)
		if got := h.raw(t, get("/third", "Accept: application/json")); !strings.Contains(got, "503") || !strings.Contains(got, `"reason":"overflow"`) || !strings.Contains(got, "connection_limit_reached") {
			t.Errorf("the line is full, and got\n%s", got)
		}
		leave()
		if got := <-answers; got != "/second left" {
			t.Fatal(got)
		}
		waiting(0)
		go call(t.Context(), "/fourth")
		waiting(1)
		release <- struct{}{}
		if got := <-answers; got != "/first 200" {
			t.Errorf("first: %s", got)
		}
		if got := <-inside; got != "/fourth" {
			t.Errorf("then came %s", got)
		}
		release <- struct{}{}
		if got := <-answers; got != "/fourth 200" {
			t.Errorf("then: %s", got)
		}
	})
}

// TestABreakersRefusal says when to come again.
func TestABreakersRefusal(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var failed atomic.Int32
		h, _ := newGuarded(t, kind, "    guard: {breaker: {errors: 50%, least: 3, open: 20s}}\n", app(t, fails(&failed)))
		for range 3 {
			h.raw(t, get("/"))
		}
		got := h.raw(t, get("/"))
		if failed.Load() != 3 || !strings.Contains(got, "Retry-After: 20\r\n") || !strings.Contains(got, "503 breaker-open: the breaker of s/v1 opened") || !strings.Contains(got, "3 of 3") {
			t.Errorf("asked %d times, then\n%s", failed.Load(), got)
		}
	})
}

// unavailableOnce is a workload of gRPC that is not there the first time.
type unavailableOnce struct {
	grpcEcho
	calls *atomic.Int32
}

func (u unavailableOnce) UnaryCall(ctx context.Context, in *grpc_testing.SimpleRequest) (*grpc_testing.SimpleResponse, error) {
	if u.calls.Add(1) == 1 {
		return nil, status.Error(codes.Unavailable, "not yet")
	}
	return u.grpcEcho.UnaryCall(ctx, in)
}

// TestRetryOfGRPC: a status that means 503 is retried as a 503 is, with its
// message; one that is the caller's own fault is not.
func TestRetryOfGRPC(t *testing.T) {
	var calls atomic.Int32
	h, _ := newGuarded(t, "general", "    protocol: grpc\n    retry: {times: 2, methods: all, on: [503], budget: 100%}\n", grpcWorkload(t, unavailableOnce{calls: &calls}))
	conn, err := grpc.NewClient("passthrough:///"+strings.TrimPrefix(h.url, "http://"), grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority("s"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	client := grpc_testing.NewTestServiceClient(conn)
	out, err := client.UnaryCall(ctx, &grpc_testing.SimpleRequest{Payload: &grpc_testing.Payload{Body: []byte("board")}})
	if err != nil || string(out.Payload.Body) != "board" || calls.Load() != 2 {
		t.Errorf("%v, %v after %d calls", out, err, calls.Load())
	}
	_, err = client.UnaryCall(ctx, &grpc_testing.SimpleRequest{ResponseStatus: &grpc_testing.EchoStatus{Code: int32(codes.NotFound)}})
	if status.Code(err) != codes.NotFound || calls.Load() != 3 {
		t.Errorf("%v after %d calls", err, calls.Load())
	}
}

// TestAnAnswerThatIsDropped leaves nothing behind that the next one on its
// connection could be taken for.
func TestAnAnswerThatIsDropped(t *testing.T) {
	each(t, func(t *testing.T, kind string) {
		var asked atomic.Int32
		h, _ := newGuarded(t, kind, "    retry: {times: 1, wait: 0s, budget: 100%}\n", app(t, func(w http.ResponseWriter, r *http.Request) {
			if asked.Add(1)%2 == 0 {
				io.WriteString(w, "fine")
				return
			}
			w.Header().Set("Content-Length", "6")
			w.WriteHeader(http.StatusServiceUnavailable)
			io.WriteString(w, "not")
			w.(http.Flusher).Flush()
			time.Sleep(20 * time.Millisecond)
			io.WriteString(w, "now")
		}))
		for range 5 {
			if got := h.raw(t, get("/")); !strings.HasPrefix(got, "HTTP/1.1 200") || !strings.HasSuffix(got, "fine") {
				t.Fatalf("got\n%s", got)
			}
		}
	})
}

// brokenStream is a workload of gRPC whose streams begin well and end badly.
type brokenStream struct{ grpcEcho }

func (brokenStream) StreamingOutputCall(_ *grpc_testing.StreamingOutputCallRequest, out grpc.ServerStreamingServer[grpc_testing.StreamingOutputCallResponse]) error {
	out.Send(&grpc_testing.StreamingOutputCallResponse{})
	return status.Error(codes.Unavailable, "not any more")
}

// TestProbesOfGRPC: a breaker does not close before a probe's status is there.
func TestProbesOfGRPC(t *testing.T) {
	t.Parallel()
	h, c := newGuarded(t, "general", "    protocol: grpc\n    guard: {breaker: {errors: 50%, over: 10s, least: 2, open: 200ms, probes: 1}}\n", grpcWorkload(t, brokenStream{}))
	conn, err := grpc.NewClient("passthrough:///"+strings.TrimPrefix(h.url, "http://"), grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority("s"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	client := grpc_testing.NewTestServiceClient(conn)
	call := func() (message string) {
		stream, err := client.StreamingOutputCall(ctx, &grpc_testing.StreamingOutputCallRequest{})
		for err == nil {
			_, err = stream.Recv()
		}
		return status.Convert(err).Message()
	}
	breaker := func() string { return c.Table.Load().Status(c.now())[0].Versions[0].Breaker.State }
	for range 2 {
		call()
	}
	waitFor(t, func() bool { return breaker() == "open" })
	probes := 0
	for end := time.Now().Add(time.Second); time.Now().Before(end); {
		if call() == "not any more" {
			probes++
		}
		if breaker() == "closed" {
			t.Fatalf("%d probes failed, and the breaker is closed", probes)
		}
	}
	if probes == 0 || probes > 8 {
		t.Errorf("%d probes in a second", probes)
	}
}
