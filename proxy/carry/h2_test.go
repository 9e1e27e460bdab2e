package carry

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/interop/grpc_testing"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/h2"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// TestGRPCByMutualTLS: connections of HTTP/2 between proxies prove who is at both ends, and
// those that were made under authorities that are not trusted any more take no more requests.
func TestGRPCByMutualTLS(t *testing.T) {
	m := newMutual(t)
	beside, in := m.beside(t, http.NotFoundHandler(), rules.IdentityRequired)
	in.App = &engine.Instance{ID: "app", Address: grpcWorkload(t, grpcEcho{}), Outside: true}
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: "services: {s: {protocol: grpc}}"}}, rules.Live{})
	table, err := engine.Compile(rs, []engine.Instance{{ID: "s-1", Service: "s", Version: "v1", Address: beside.Addr().String(), Member: true}}, engine.Options{})
	if err != nil {
		t.Fatal(err)
	}
	shown := m.shown(t, "caller")
	c := newCaller("", table, NewTransports(shown))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	pools := &Pools{Epoch: c.Epoch, Shown: shown}
	o := Open(Config{Name: "test", Listener: l, Pools: pools, Transport: NewTransports(shown), Log: slog.New(slog.DiscardHandler)}, c)
	go o.Serve()
	t.Cleanup(func() { o.Drain(0, time.Second); pools.CloseIdle() })
	conn, err := grpc.NewClient("passthrough:///"+l.Addr().String(), grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority("s"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	call := func(size int) {
		t.Helper()
		var head, payload = 0, &grpc_testing.Payload{Body: make([]byte, size)}
		out, err := grpc_testing.NewTestServiceClient(conn).UnaryCall(t.Context(), &grpc_testing.SimpleRequest{Payload: payload})
		if err != nil || len(out.Payload.Body) != size {
			t.Fatalf("%d bytes: %v %v", size, head, err)
		}
	}
	call(5)
	call(900_000)
	before := *upstreams(pools)
	if len(before) != 1 {
		t.Fatalf("%d connections", len(before))
	}
	before[0].goodUntil = 0 // its certificate has run out
	call(5)
	waitFor(t, func() bool {
		now := *upstreams(pools)
		return len(now) == 1 && now[0] != before[0] && before[0].conn.Streams() == 0
	})
}

// upstreams are the connections to the only instance.
func upstreams(p *Pools) (list *[]*h2Upstream) {
	list = new([]*h2Upstream)
	p.h2ByAddr.Range(func(_, k any) bool {
		list = k.(*h2Pool).conns.Load()
		return false
	})
	return list
}

// frames is a workload that speaks frames: each of its connections is given to serve.
func frames(t *testing.T, serve func(f *http2.Framer), settings ...http2.Setting) (address string) {
	return listenRaw(t, func(conn net.Conn) {
		io.ReadFull(conn, make([]byte, len(h2.Preface)))
		f := http2.NewFramer(conn, conn)
		f.WriteSettings(settings...)
		serve(f)
	})
}

var (
	grpcOK   = []byte{0x88, 0x40, 12, 'c', 'o', 'n', 't', 'e', 'n', 't', '-', 't', 'y', 'p', 'e', 16, 'a', 'p', 'p', 'l', 'i', 'c', 'a', 't', 'i', 'o', 'n', '/', 'g', 'r', 'p', 'c'}
	grpcDone = append(append([]byte{0, 11}, "grpc-status"...), 1, '0')
)

// answerOK answers a unary call with an empty message.
func answerOK(f *http2.Framer, stream uint32) {
	f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: grpcOK, EndHeaders: true})
	f.WriteData(stream, false, []byte{0, 0, 0, 0, 0})
	f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: grpcDone, EndHeaders: true, EndStream: true})
}

// TestUnprocessed: a request that its instance has certainly not processed is sent again
// within the rules, whatever its method; one that it may have is not.
func TestUnprocessed(t *testing.T) {
	for _, c := range []struct {
		name  string
		end   func(f *http2.Framer, stream uint32)
		again bool
	}{
		{"GOAWAY below it", func(f *http2.Framer, stream uint32) { f.WriteGoAway(0, http2.ErrCodeNo, nil) }, true},
		{"a stream that is refused", func(f *http2.Framer, stream uint32) { f.WriteRSTStream(stream, http2.ErrCode(h2.Refused)) }, true},
		{"INTERNAL_ERROR", func(f *http2.Framer, stream uint32) { f.WriteRSTStream(stream, http2.ErrCodeInternal) }, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			var asked atomic.Int32
			at := frames(t, func(f *http2.Framer) {
				for {
					frame, err := f.ReadFrame()
					if err != nil {
						return
					}
					if d, is := frame.(*http2.DataFrame); is && d.StreamEnded() {
						if asked.Add(1) == 1 {
							c.end(f, d.StreamID)
						} else {
							answerOK(f, d.StreamID)
						}
					}
				}
			})
			h := grpcHopTo(t, ", retry: {times: 2, on: [reset, unreachable]}", at)
			_, err := h.dial(t).UnaryCall(t.Context(), &grpc_testing.SimpleRequest{})
			if isAgain := asked.Load() == 2; isAgain != c.again || (err == nil) != c.again {
				t.Errorf("asked %d times, %v", asked.Load(), err)
			}
			waitFor(t, h.isQuiet)
		})
	}
}

// TestStreamsRunOut: more requests at once than the connections to an instance take wait for
// a place, and none is lost.
func TestStreamsRunOut(t *testing.T) {
	var now, most atomic.Int32
	release := make(chan struct{})
	at := frames(t, func(f *http2.Framer) {
		var mu sync.Mutex // guards what follows, and the writing
		var waiting []uint32
		released := false
		answer := func() {
			for _, s := range waiting {
				now.Add(-1)
				answerOK(f, s)
			}
			waiting = nil
		}
		go func() {
			<-release
			mu.Lock()
			defer mu.Unlock()
			released = true
			answer()
		}()
		for {
			frame, err := f.ReadFrame()
			if err != nil {
				return
			}
			if d, is := frame.(*http2.DataFrame); is && d.StreamEnded() {
				mu.Lock()
				most.Store(max(most.Load(), now.Add(1)))
				waiting = append(waiting, d.StreamID)
				if released {
					answer()
				}
				mu.Unlock()
			}
		}
	}, http2.Setting{ID: http2.SettingMaxConcurrentStreams, Val: 3})
	h := grpcHopTo(t, "", at)
	const calls = 90
	errs := make(chan error, calls)
	client := h.dial(t)
	for range calls {
		go func() {
			_, err := client.UnaryCall(t.Context(), &grpc_testing.SimpleRequest{})
			errs <- err
		}()
	}
	waitFor(t, func() bool { return now.Load() >= 3 })
	close(release)
	for range calls {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	if n := most.Load(); n > 3*h2Connections {
		t.Errorf("%d requests at once on %d connections of 3", n, h2Connections)
	}
	waitFor(t, h.isQuiet)
}

// TestNotHTTP2: a workload that speaks something else is at fault only where its service says
// that it speaks HTTP/2.
func TestNotHTTP2(t *testing.T) {
	at := listenRaw(t, func(conn net.Conn) {
		io.WriteString(conn, "HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n")
	})
	h := grpcHopTo(t, "", at)
	_, err := h.dial(t).UnaryCall(t.Context(), &grpc_testing.SimpleRequest{})
	if status.Code(err) != codes.Unavailable {
		t.Errorf("got %v", err)
	}
	waitFor(t, func() bool {
		list, _ := h.recorder.Collect(engine.Instance{})
		for _, s := range list {
			if s.Counts.Failed == 1 {
				return true
			}
		}
		return false
	})
}

// TestH2Draining: what is under way ends by itself or is told why not, and a caller knows
// which requests were not looked at.
func TestH2Draining(t *testing.T) {
	h := newGRPCHop(t, "")
	client := h.dial(t, grpc.WithDisableRetry())
	if _, err := client.UnaryCall(t.Context(), &grpc_testing.SimpleRequest{}); err != nil {
		t.Fatal(err)
	}
	hung := make(chan error, 1)
	go func() {
		_, err := client.UnaryCall(t.Context(), &grpc_testing.SimpleRequest{ResponseSize: -1})
		hung <- err
	}()
	waitFor(t, func() bool {
		busy := 0
		h.inner.eachH2(func(c *h2Caller) { busy += c.conn.Streams() })
		return busy == 1
	})
	begun := time.Now()
	h.outer.Drain(0, 300*time.Millisecond)
	if took := time.Since(begun); took > 2*time.Second {
		t.Errorf("it took %s", took)
	}
	if err := <-hung; status.Code(err) != codes.Unavailable || !strings.Contains(err.Error(), "draining") {
		t.Errorf("got %v", err)
	}
	waitFor(t, h.isQuiet)
}

// TestStuckCaller: a caller that gives its stream no room keeps nobody busy, and is given up.
func TestStuckCaller(t *testing.T) {
	t.Parallel()
	h := newGRPCHop(t, ", timeout: 1s, guard: {in-flight: 1}")
	h.outer.Stall = 1500 * time.Millisecond
	stuck := rawHTTP2To(t, "http://"+h.address)
	stuck.framer.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1})
	fields := [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/grpc.testing.TestService/UnaryCall"}, {"content-type", "application/grpc"}, {"te", "trailers"}}
	message := []byte("\x00\x00\x00\x00\x07\x1a\x05\x12\x03tea")
	stuck.send(1, fields, message)
	for isAnswered := false; !isAnswered; { // so it has the only place
		f, err := stuck.framer.ReadFrame()
		if err != nil {
			t.Fatal(err)
		}
		_, isAnswered = f.(*http2.HeadersFrame)
	}
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	waitFor(t, func() bool { // its place is free when its time is over
		_, err := h.dial(t).UnaryCall(ctx, &grpc_testing.SimpleRequest{})
		return err == nil
	})
	if got := stuck.answer(1); !strings.HasSuffix(got, "reset: CANCEL") {
		t.Errorf("got %q", got)
	}
	waitFor(t, h.isQuiet)
}

// TestH2Recorder: what is counted is what happened.
func TestH2Recorder(t *testing.T) {
	h := newGRPCHop(t, "")
	feed := h.outer.src.Observe.Feed
	feed.Set([]wire.Watch{{ID: "1", Filter: wire.Filter{To: "s", Header: "x-berth=seven"}}}, "caller")
	client := h.dial(t)
	if _, err := client.UnaryCall(metadata.AppendToOutgoingContext(t.Context(), "x-berth", "seven"), &grpc_testing.SimpleRequest{}); err != nil {
		t.Fatal(err)
	}
	waitFor(t, func() bool { batches, _ := feed.Take(); return len(batches) == 1 && len(batches[0].Records) == 1 })
	for _, code := range []codes.Code{codes.OK, codes.OK, codes.NotFound, codes.Internal} {
		client.UnaryCall(t.Context(), &grpc_testing.SimpleRequest{Payload: &grpc_testing.Payload{Body: []byte("tea")}, ResponseStatus: &grpc_testing.EchoStatus{Code: int32(code)}})
	}
	var got observe.Result
	waitFor(t, func() bool {
		list, _ := h.recorder.Collect(engine.Instance{})
		for _, s := range list {
			got.Sent += s.Counts.OK
			got.Received += s.Counts.Failed
		}
		return got.Sent+got.Received == 5
	})
	if s := fmt.Sprint(got.Sent, got.Received); s != "4 1" {
		t.Errorf("succeeded and failed: %s", s)
	}
}

// TestH2Mirror: the copy of a request of gRPC is one of gRPC, as it is sent, and marked.
func TestH2Mirror(t *testing.T) {
	copies := make(chan string, 10)
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	srv := &http.Server{Protocols: two, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/grpc")
		if r.Header.Get("Nightjar-Mirror") != "" {
			copies <- fmt.Sprintf("%s %s %s %d %s", r.Proto, r.RequestURI, r.Header.Get("Content-Type"), len(body), r.Header.Get("X-Berth"))
		}
		w.Header().Set(http.TrailerPrefix+"Grpc-Status", "0")
		w.Write([]byte{0, 0, 0, 0, 0})
	})}
	go srv.Serve(l)
	t.Cleanup(func() { srv.Close() })
	h := grpcHopTo(t, ", routes: [{name: all, mirror: {to: s/v1}, send: v1}]", l.Addr().String())
	ctx := metadata.AppendToOutgoingContext(t.Context(), "x-berth", "seven")
	for _, size := range []int{5, 3000} {
		if _, err := h.dial(t).UnaryCall(ctx, &grpc_testing.SimpleRequest{Payload: &grpc_testing.Payload{Body: make([]byte, size)}}); err != nil {
			t.Fatal(err)
		}
		select {
		case got := <-copies:
			if want := "HTTP/2.0 /grpc.testing.TestService/UnaryCall application/grpc"; !strings.HasPrefix(got, want) || !strings.HasSuffix(got, " seven") {
				t.Errorf("copied %q, want %q", got, want)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("no copy of a request of %d bytes", size)
		}
	}
}

// TestH2Panic: a fault of this program ends the connection where it happens, and its requests
// are told; nothing is left of them.
func TestH2Panic(t *testing.T) {
	h := newGRPCHop(t, "")
	h.outer.src.Observe = nil // which every request asks
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	for range 2 {
		if _, err := h.dial(t).UnaryCall(ctx, &grpc_testing.SimpleRequest{}); status.Code(err) != codes.Unavailable {
			t.Errorf("got %v", err)
		}
	}
	waitFor(t, h.isQuiet)
}

// TestAnswerBeforeTheRequestEnds: an answer that is over before its request goes to the caller
// whole, however slowly it is taken; what still comes of the request is not wanted then.
func TestAnswerBeforeTheRequestEnds(t *testing.T) {
	const size = 100
	for name, end := range map[string]func(f *http2.Framer, stream uint32){
		"by an empty frame": func(f *http2.Framer, stream uint32) { f.WriteData(stream, true, nil) },
		"by a trailer": func(f *http2.Framer, stream uint32) {
			f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: grpcDone, EndHeaders: true, EndStream: true})
		},
	} {
		t.Run(name, func(t *testing.T) {
			at := frames(t, func(f *http2.Framer) {
				for {
					frame, err := f.ReadFrame()
					if err != nil {
						return
					}
					if h, is := frame.(*http2.HeadersFrame); is {
						f.WriteHeaders(http2.HeadersFrameParam{StreamID: h.StreamID, BlockFragment: grpcOK, EndHeaders: true})
						f.WriteData(h.StreamID, false, make([]byte, size))
						end(f, h.StreamID)
					}
				}
			})
			h := grpcHopTo(t, "", at)
			c := rawHTTP2To(t, "http://"+h.address)
			c.framer.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 10})
			c.head(1, [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/a/b"}, {"content-type", "application/grpc"}}, []byte("x"))
			waitFor(t, func() bool { // until all of the answer is here
				list := *upstreams(h.pools[1])
				return len(list) == 1 && list[0].conn.IsGreeted() && list[0].conn.Streams() == 0
			})
			came, isEnd := 0, false
			var ended time.Time
			for reset := ""; reset == ""; {
				frame, err := c.framer.ReadFrame()
				if err != nil {
					t.Fatalf("%d bytes came: %v", came, err)
				}
				switch f := frame.(type) {
				case *http2.DataFrame:
					came += len(f.Data())
					isEnd = isEnd || f.StreamEnded()
					if !f.StreamEnded() {
						c.framer.WriteWindowUpdate(1, 10)
					}
				case *http2.HeadersFrame:
					isEnd = isEnd || f.StreamEnded()
				case *http2.RSTStreamFrame:
					reset = f.ErrCode.String()
				}
				if isEnd && ended.IsZero() {
					ended = time.Now()
				}
				// A client that forgets what it has not read when a reset comes has the time to.
				if later := time.Since(ended); reset != "" && (came != size || !isEnd || reset != "NO_ERROR" || later < 250*time.Millisecond) {
					t.Errorf("%d of %d bytes came, at their end: %t, then after %s a reset by %s", came, size, isEnd, later, reset)
				}
			}
			waitFor(t, h.isQuiet)
		})
	}
}

// TestCancelAtTheDeadline: a workload that gives a request up when its time is about over is
// late; one that does so before has reset it.
func TestCancelAtTheDeadline(t *testing.T) {
	t.Parallel()
	for pause, want := range map[time.Duration]codes.Code{0: codes.Unavailable, 950 * time.Millisecond: codes.DeadlineExceeded} {
		at := frames(t, func(f *http2.Framer) {
			for {
				frame, err := f.ReadFrame()
				if err != nil {
					return
				}
				if d, is := frame.(*http2.DataFrame); is && d.StreamEnded() {
					time.Sleep(pause) // as a workload does that heard of the deadline
					f.WriteRSTStream(d.StreamID, http2.ErrCodeCancel)
				}
			}
		})
		h := grpcHopTo(t, ", timeout: 1s", at)
		if _, err := h.dial(t).UnaryCall(t.Context(), &grpc_testing.SimpleRequest{}); status.Code(err) != want {
			t.Errorf("after %s: %v", pause, err)
		}
	}
}
