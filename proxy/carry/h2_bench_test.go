package carry

import (
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/h2"
	"nightjar/proxy/observe"
)

// leanEnd is a workload, or a caller, of HTTP/2 that does nothing but answer or ask, so that
// what is measured is the hop's.
type leanEnd struct {
	body   []byte
	left   *atomic.Int64 // requests that a caller still makes; nil: this is a workload
	done   *sync.WaitGroup
	failed *atomic.Int64
	conn   *h2.Conn
}

type leanStream struct {
	h2.Stream
	end   *leanEnd
	users atomic.Int32
}

func (e *leanEnd) Open(*h2.Conn, *h2.Block) (*h2.Stream, h2.Receiver) {
	s := leanStreams.Get().(*leanStream)
	s.end = e
	s.users.Store(0)
	return &s.Stream, s
}

var leanStreams = sync.Pool{New: func() any { return new(leanStream) }}

func (e *leanEnd) Busy(*h2.Conn, bool) {}
func (e *leanEnd) Leaves(*h2.Conn)     {}
func (s *leanStream) Keep()            { s.users.Add(1) }
func (s *leanStream) Release() {
	if s.users.Add(-1) == 0 && s.end.left == nil {
		leanStreams.Put(s)
	}
}

func (s *leanStream) Sent(*h2.Batch, int, bool) {
}

func (s *leanStream) Head(b *h2.Batch, _ *h2.Block, isEnd bool) {
	if isEnd {
		s.ended(b)
	}
}

func (s *leanStream) Data(b *h2.Batch, _ []byte, flow int, isEnd bool) {
	s.Credit(b, flow)
	if isEnd {
		s.ended(b)
	}
}

func (s *leanStream) Gone(*h2.Batch, *h2.Gone) {
	if s.end.left != nil {
		s.end.failed.Add(1)
		s.end.done.Done()
	}
}

func (s *leanStream) ended(b *h2.Batch) {
	if s.end.left != nil {
		if !s.end.ask(b, s) {
			s.end.done.Done()
		}
		return
	}
	w := s.Begin(b)
	w.Add(":status", "200")
	w.Add("content-type", "application/grpc")
	w.End(false)
	s.Write(b, s.end.body, false)
	w = s.Begin(b)
	w.Add("grpc-status", "0")
	w.End(true)
}

// ask makes the next request. False: there is none left to be made.
func (e *leanEnd) ask(b *h2.Batch, s *leanStream) bool {
	if e.left.Add(-1) < 0 {
		return false
	}
	w, err := e.conn.Open(b, &s.Stream, s, false)
	if err != nil {
		e.failed.Add(1)
		return false
	}
	for _, f := range [...][2]string{
		{":method", "POST"}, {":scheme", "http"}, {":authority", "s"}, {":path", "/ferry.Line/Times"},
		{"content-type", "application/grpc"}, {"te", "trailers"}, {"user-agent", "bench"},
	} {
		w.Add(f[0], f[1])
	}
	w.End(false)
	s.Write(b, []byte("\x00\x00\x00\x00\x03tea"), true)
	return true
}

func leanWorkload(t testing.TB) (address string) {
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
			e := &leanEnd{body: []byte(strings.Repeat("x", 1024))}
			conn, err := h2.New(c.(*net.TCPConn), nil, nil, nil, nil, h2.Config{Handler: e, Calm: 1 << 30})
			if err == nil {
				go conn.Serve()
			}
		}
	}()
	return l.Addr().String()
}

// askLean makes n requests on so many connections with so many streams each, and returns how
// many failed.
func askLean(t testing.TB, address string, conns, streams int, n int64) int64 {
	var left, failed atomic.Int64
	left.Store(n)
	var done sync.WaitGroup
	for range conns {
		c, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		e := &leanEnd{left: &left, failed: &failed, done: &done}
		if e.conn, err = h2.New(c.(*net.TCPConn), nil, nil, nil, nil, h2.Config{Handler: e, IsClient: true, Calm: 1 << 30}); err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		go e.conn.Serve()
		var b h2.Batch
		for range streams {
			done.Add(1)
			if !e.ask(&b, &leanStream{end: e}) {
				done.Done()
			}
		}
		b.Flush()
	}
	done.Wait()
	return failed.Load()
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
	}{{"8x32", 8, 32}, {"8x1", 8, 1}, {"1x1", 1, 1}} {
		b.Run(c.name, func(b *testing.B) {
			address := grpcBench(b)
			askLean(b, address, c.conns, c.streams, 1000)
			b.ReportAllocs()
			b.ResetTimer()
			if failed := askLean(b, address, c.conns, c.streams, int64(b.N)); failed > 0 {
				b.Errorf("%d failed", failed)
			}
		})
	}
}
