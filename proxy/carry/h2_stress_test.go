package carry

import (
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/interop/grpc_testing"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/observe"
)

// grpcHop is a caller's proxy and the workload's, with their listeners and pools, before a
// workload of gRPC.
type grpcHop struct {
	outer, inner *Listener
	pools        []*Pools
	recorder     *observe.Recorder
	address      string
}

func newGRPCHop(t testing.TB, service string) *grpcHop {
	t.Helper()
	return grpcHopTo(t, service, grpcWorkload(t, grpcEcho{}))
}

// grpcHopTo is one to a workload that runs already. service are the settings of the service.
func grpcHopTo(t testing.TB, service, workload string) *grpcHop {
	t.Helper()
	h := &grpcHop{recorder: observe.NewRecorder(2, "caller")}
	open := func(handler Handler, rec *observe.Recorder, epoch time.Time) *Listener {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		pools := &Pools{Epoch: epoch}
		h.pools = append(h.pools, pools)
		o := Open(Config{Name: "test", Listener: l, Pools: pools, Transport: NewTransports(nil), Recorder: rec, Log: slog.New(slog.DiscardHandler)}, handler)
		go o.Serve()
		t.Cleanup(func() { o.Drain(0, time.Second); pools.CloseIdle() })
		return o
	}
	in := newInbound("s-v1-a", workload)
	in.IsHTTP2 = func() bool { return true }
	h.inner = open(in, nil, in.Epoch)
	rs, found := rules.Check([]rules.File{{Name: "f.yaml", Text: "services: {s: {protocol: grpc, versions: [v1]" + service + "}}"}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	table, err := engine.Compile(rs, []engine.Instance{{ID: "s-v1-a", Service: "s", Version: "v1", Address: h.inner.Addr().String()}}, engine.Options{})
	if err != nil {
		t.Fatal(err)
	}
	c := newCaller("", table, NewTransports(nil))
	h.outer = open(c, h.recorder, c.Epoch)
	h.address = h.outer.Addr().String()
	return h
}

func (h *grpcHop) dial(t testing.TB, more ...grpc.DialOption) grpc_testing.TestServiceClient {
	t.Helper()
	conn, err := grpc.NewClient("passthrough:///"+h.address, append(more, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithAuthority("s"))...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	return grpc_testing.NewTestServiceClient(conn)
}

// isQuiet tells whether nothing is left of any request.
func (h *grpcHop) isQuiet() bool {
	for _, l := range []*Listener{h.outer, h.inner} {
		busy := 0
		l.eachH2(func(c *h2Caller) { busy += c.conn.Streams() })
		if busy > 0 || l.HTTP2.Held() != 0 {
			return false
		}
	}
	for _, p := range h.pools {
		busy := 0
		p.h2ByAddr.Range(func(_, k any) bool {
			for _, u := range *k.(*h2Pool).conns.Load() {
				busy += u.conn.Streams()
			}
			return true
		})
		if busy > 0 || p.HTTP2.Held() != 0 {
			return false
		}
	}
	return true
}

// TestH2UnderStress: callers that leave, that take nothing, that give little room, and large
// messages both ways, all at once. What is well is not harmed, and nothing is left.
func TestH2UnderStress(t *testing.T) {
	t.Parallel()
	h := newGRPCHop(t, "")
	length := 3 * time.Second
	if testing.Short() {
		length = time.Second
	}
	ctx, stop := context.WithTimeout(t.Context(), length)
	defer stop()
	var all sync.WaitGroup
	payload := &grpc_testing.Payload{Body: make([]byte, 300_000)}
	for range 4 { // that is well
		c := h.dial(t)
		all.Go(func() {
			for ctx.Err() == nil {
				out, err := c.UnaryCall(context.Background(), &grpc_testing.SimpleRequest{Payload: payload})
				if err != nil || len(out.Payload.Body) != len(payload.Body) {
					t.Errorf("a caller that does nothing wrong: %v", err)
					return
				}
			}
		})
	}
	for range 4 { // that gives up what it begins
		c := h.dial(t)
		all.Go(func() {
			for ctx.Err() == nil {
				short, leave := context.WithTimeout(ctx, time.Duration(rand.IntN(5000))*time.Microsecond)
				if both, err := c.FullDuplexCall(short); err == nil {
					for both.Send(&grpc_testing.StreamingOutputCallRequest{Payload: payload}) == nil {
						if _, err := both.Recv(); err != nil {
							break
						}
					}
				}
				leave()
			}
		})
	}
	for i := range 6 { // that takes nothing, gives no room, or breaks off
		all.Go(func() {
			for ctx.Err() == nil {
				r := rawHTTP2To(t, "http://"+h.address)
				if i%2 == 0 {
					r.framer.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: uint32(rand.IntN(3))})
				}
				for s := range uint32(20) {
					r.head(2*s+1, [][2]string{{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/grpc.testing.TestService/UnaryCall"}, {"content-type", "application/grpc"}, {"te", "trailers"}},
						append([]byte{0, 0, 0, 4, 2}, make([]byte, 1026)...))
					if s%3 == 0 {
						r.framer.WriteRSTStream(2*s+1, http2.ErrCodeCancel)
					}
				}
				if i < 3 {
					go io.Copy(io.Discard, r.conn)
				}
				time.Sleep(time.Duration(rand.IntN(100)) * time.Millisecond)
				if i%3 == 0 {
					r.conn.(*net.TCPConn).SetLinger(0)
				}
				r.conn.Close()
			}
		})
	}
	all.Wait()
	waitFor(t, h.isQuiet)
	c := h.dial(t)
	waitFor(t, func() bool { // for a while no connection is taken of an address that reset so much
		out, err := c.UnaryCall(t.Context(), &grpc_testing.SimpleRequest{Payload: payload})
		return err == nil && len(out.Payload.Body) == len(payload.Body)
	})
}
