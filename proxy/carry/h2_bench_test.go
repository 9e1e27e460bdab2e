package carry

import (
	"io"
	"log/slog"
	"net"
	"runtime"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/h2"
	"nightjar/proxy/observe"
	"nightjar/test/lean"
)

func leanWorkload(t testing.TB) (address string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go lean.Serve(l)
	return l.Addr().String()
}

func grpcBench(t testing.TB) (address string) {
	at := leanWorkload(t)
	rs, found := rules.Check([]rules.File{{Name: "bench.yaml", Text: "services: {s: {protocol: grpc, versions: [v1, v2], retry: {times: 1, on: [unreachable]}, guard: {breaker: {errors: 50%, over: 10s, least: 20, open: 5s}}, " +
		"instances: [{at: 'http://" + at + "', version: v1}, {at: 'http://" + at + "', version: v2}], routes: [{name: crew, when: {headers: {x-crew: 'yes'}}, send: v2}, {name: all, when: {path: /ferry.Line/**}, send: {v1: 85, v2: 15}}]}}"}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	table, err := engine.Compile(rs, nil, engine.Options{Revision: 7})
	if err != nil {
		t.Fatal(err)
	}
	c := newCaller("", table, NewTransports(nil))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	pools := &Pools{Epoch: c.Epoch}
	o := Open(Config{Name: "bench", Listener: l, Pools: pools, Transport: NewTransports(nil), Recorder: observe.NewRecorder(8, "caller"), Log: slog.New(slog.DiscardHandler)}, c)
	go o.Serve()
	t.Cleanup(func() { o.Drain(0, time.Second); pools.CloseIdle() })
	return l.Addr().String()
}

// BenchmarkGRPC is a request through the bearer h2, from bytes to bytes, with lean ends.
func BenchmarkGRPC(b *testing.B) {
	for _, c := range []struct {
		name           string
		conns, streams int
		path           string
	}{
		{"8x32", 8, 32, "/ferry.Line/Times"},
		{"8x1", 8, 1, "/ferry.Line/Times"},
		{"1x1", 1, 1, "/ferry.Line/Times"},
		{"messages", 4, 8, lean.EchoPath},
	} {
		b.Run(c.name, func(b *testing.B) {
			address := grpcBench(b)
			load := lean.Load{Address: address, Authority: "s", Path: c.path, Conns: c.conns, Streams: c.streams, Requests: 1000, Messages: c.path == lean.EchoPath}
			lean.Run(load)
			b.ReportAllocs()
			b.ResetTimer()
			load.Requests = int64(b.N)
			if _, err := lean.Run(load); err != nil {
				b.Error(err)
			}
		})
	}
}

// BenchmarkIdleHTTP2 is what a connection of HTTP/2 takes that is idle, and what a stream of
// one does that is open: bytes of the heap and of stacks.
func BenchmarkIdleHTTP2(b *testing.B) {
	address := grpcBench(b)
	used := func() float64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc + m.StackInuse)
	}
	const conns, streams = 500, 90
	before := used()
	var held []net.Conn
	for range conns {
		c, err := net.Dial("tcp", address)
		if err != nil {
			b.Fatal(err)
		}
		held = append(held, c)
		io.WriteString(c, h2.Preface+"\x00\x00\x00\x04\x00\x00\x00\x00\x00")
		var in [9]byte
		io.ReadFull(c, in[:])
	}
	time.Sleep(100 * time.Millisecond)
	b.ReportMetric((used()-before)/conns, "B/connection")
	for _, c := range held {
		c.Close()
	}
	time.Sleep(100 * time.Millisecond)
	before = used()
	end, err := lean.Hold(lean.Load{Address: address, Authority: "s", Path: lean.EchoPath, Conns: 10, Streams: streams})
	if err != nil {
		b.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	b.ReportMetric((used()-before)/(10*streams), "B/stream-of-all-three")
	end()
}
