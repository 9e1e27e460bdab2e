package h2

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// echo is a server that answers with the body that came, and the trailer "sum".
type echo struct {
	budget Budget
	counts Counts
	open   atomic.Int32  // streams
	held   chan struct{} // closed: it reads bodies; nil: always
	more   int           // bytes that follow each body
	leaves bool          // it takes no more streams after the first answer
}

type echoStream struct {
	Stream
	of    *echo
	on    *Conn
	body  []byte
	isEnd bool
}

func (e *echo) Open(c *Conn, _ *Block) (*Stream, Receiver) {
	e.open.Add(1)
	s := &echoStream{of: e, on: c}
	return &s.Stream, s
}

func (e *echo) Busy(*Conn, bool) {}
func (e *echo) Leaves(*Conn)     {}
func (s *echoStream) Keep()      {}
func (s *echoStream) Release()   {}

func (s *echoStream) Head(b *Batch, head *Block, isEnd bool) {
	if s.isEnd = isEnd; isEnd {
		s.answer(b)
	}
}

func (s *echoStream) Data(b *Batch, p []byte, flow int, isEnd bool) {
	s.body = append(s.body, p...)
	if s.of.held == nil {
		s.Credit(b, flow)
	}
	if isEnd {
		s.answer(b)
	}
}

func (s *echoStream) answer(b *Batch) {
	w := s.Begin(b)
	if w == nil {
		return
	}
	w.Add(":status", "200")
	w.Add("Content-Type", "text/plain")
	w.End(false)
	s.Write(b, append(s.body, make([]byte, s.of.more)...), false)
	if w = s.Begin(b); w != nil {
		w.Add("sum", fmt.Sprint(len(s.body)))
		w.End(true)
	}
	if s.of.leaves {
		s.on.GoAway(b)
	}
}

func (s *echoStream) Sent(*Batch, int, bool) {}
func (s *echoStream) Gone(*Batch, *Gone)     { s.of.open.Add(-1) }

// serve serves connections by e, and returns the address.
func serve(t testing.TB, e *echo, cfg Config) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	epoch := time.Now()
	cfg.Handler, cfg.Budget, cfg.Now = e, &e.budget, func() time.Duration { return time.Since(epoch) }
	go func() {
		for {
			tcp, err := l.Accept()
			if err != nil {
				return
			}
			if e.leaves {
				tcp.(*net.TCPConn).SetWriteBuffer(16 << 10) // so that its peer has to read first
			}
			c, err := New(tcp.(*net.TCPConn), nil, nil, nil, &e.counts, cfg)
			if err != nil {
				continue
			}
			go func() {
				ticks := time.NewTicker(20 * time.Millisecond)
				defer ticks.Stop()
				ended := make(chan struct{})
				go func() { c.Serve(); close(ended) }()
				for {
					select {
					case <-ticks.C:
						var b Batch
						c.Tick(&b, 0, 0, 300*time.Millisecond)
						b.Flush()
					case <-ended:
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// peer speaks frames, so that a test can say what no client would.
type peer struct {
	*http2.Framer
	conn  net.Conn
	block bytes.Buffer
	enc   *hpack.Encoder
}

func dial(t testing.TB, address string) *peer {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, Preface)
	p := &peer{Framer: http2.NewFramer(conn, conn), conn: conn}
	p.AllowIllegalWrites = true
	p.enc = hpack.NewEncoder(&p.block)
	return p
}

var get = []string{":method", "GET", ":scheme", "http", ":authority", "s", ":path", "/"}

func (p *peer) fields(list ...string) []byte {
	p.block.Reset()
	for i := 0; i < len(list); i += 2 {
		p.enc.WriteField(hpack.HeaderField{Name: list[i], Value: list[i+1]})
	}
	return p.block.Bytes()
}

func (p *peer) head(stream uint32, isEnd bool, more ...string) {
	p.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: p.fields(append(slices.Clone(get), more...)...), EndHeaders: true, EndStream: isEnd})
}

// verdict reads to the end: why the connection was ended, and which streams were; "ok" when
// nothing was.
func (p *peer) verdict() string {
	p.WritePing(false, [8]byte{1}) // after everything else
	var streams []string
	for {
		f, err := p.ReadFrame()
		if err != nil {
			if len(streams) > 0 {
				return strings.Join(streams, " ")
			}
			return "closed"
		}
		switch f := f.(type) {
		case *http2.GoAwayFrame:
			if f.ErrCode != http2.ErrCodeNo {
				return "connection " + f.ErrCode.String()
			}
		case *http2.RSTStreamFrame:
			if f.ErrCode != http2.ErrCodeNo {
				streams = append(streams, fmt.Sprintf("stream %d %s", f.StreamID, f.ErrCode))
			}
		case *http2.PingFrame:
			if f.IsAck() && f.Data == [8]byte{1} {
				return strings.Join(append(streams, "ok"), " ")
			}
		}
	}
}

// TestFloods: what asks for work and brings nothing ends the connection, with the code that
// says so. What does no harm does not.
func TestFloods(t *testing.T) {
	e := &echo{}
	address := serve(t, e, Config{Streams: 100})
	many := func(n int, what func(p *peer, i int) error) func(p *peer) {
		return func(p *peer) {
			for i := range n {
				if what(p, i) != nil {
					return
				}
			}
		}
	}
	for _, c := range []struct {
		name string
		say  func(p *peer)
		want string
	}{
		{"pings", many(5000, func(p *peer, i int) error { return p.WritePing(false, [8]byte{2}) }), "connection ENHANCE_YOUR_CALM"},
		{"settings", many(5000, func(p *peer, i int) error { return p.WriteSettings() }), "connection ENHANCE_YOUR_CALM"},
		{"empty frames", func(p *peer) {
			p.head(1, false)
			many(5000, func(p *peer, i int) error { return p.WriteData(1, false, nil) })(p)
		}, "connection ENHANCE_YOUR_CALM"},
		{"priorities", many(5000, func(p *peer, i int) error { return p.WritePriority(9, http2.PriorityParam{}) }), "connection ENHANCE_YOUR_CALM"},
		{"windows", many(5000, func(p *peer, i int) error { return p.WriteWindowUpdate(0, 1) }), "connection ENHANCE_YOUR_CALM"},
		{"resets", many(5000, func(p *peer, i int) error {
			p.head(uint32(2*i+1), false)
			return p.WriteRSTStream(uint32(2*i+1), http2.ErrCodeCancel)
		}), "connection ENHANCE_YOUR_CALM"},
		{"streams that are malformed", many(5000, func(p *peer, i int) error { p.head(uint32(2*i+1), true, "X", "1"); return nil }), "connection ENHANCE_YOUR_CALM"},
		{"continuations", func(p *peer) {
			p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: p.fields(get...)})
			many(5000, func(p *peer, i int) error { return p.WriteContinuation(1, false, nil) })(p)
		}, "connection ENHANCE_YOUR_CALM"},
		{"a list without end", func(p *peer) {
			p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: p.fields(get...)})
			part := p.fields("x", strings.Repeat("a", 10_000))
			many(50, func(p *peer, i int) error { return p.WriteContinuation(1, false, part) })(p)
		}, "connection ENHANCE_YOUR_CALM"},
		{"a list that does not come whole", func(p *peer) {
			p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: p.fields(get...)})
			p.conn.(*net.TCPConn).CloseWrite()
			time.Sleep(0)
		}, "closed"},
		{"more streams than were allowed", func(p *peer) {
			for i := range uint32(101) {
				p.head(2*i+1, false)
			}
		}, "stream 201 " + http2.ErrCode(Refused).String() + " ok"},
	} {
		p := dial(t, address)
		p.WriteSettings()
		c.say(p)
		if got := p.verdict(); got != c.want && got != strings.TrimSuffix(c.want, " ok") {
			if isWriteLost := got == "closed" && strings.HasPrefix(c.want, "connection"); !isWriteLost {
				t.Errorf("%s: %s, want %s", c.name, got, c.want)
			}
		}
	}
	if n := e.counts.Flooded.Load(); n < 8 {
		t.Errorf("%d connections were counted as flooding", n)
	}
	p := dial(t, address)
	p.WriteSettings()
	p.head(1, true)
	if got := p.verdict(); got != "ok" {
		t.Errorf("another connection: %s", got)
	}
}

// TestBomb: a list that is small on the wire and large in memory is not put together.
func TestBomb(t *testing.T) {
	e := &echo{}
	p := dial(t, serve(t, e, Config{}))
	p.WriteSettings()
	p.fields(get...)
	p.enc.WriteField(hpack.HeaderField{Name: "x", Value: strings.Repeat("a", 3000)})
	block := bytes.Clone(p.block.Bytes())
	block = append(block, bytes.Repeat([]byte{0x80 | 62}, 16_000-len(block))...) // the newest entry, again and again
	p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block, EndHeaders: true, EndStream: true})
	if got := p.verdict(); got != "ok" || e.counts.TooLarge.Load() != 1 {
		t.Errorf("%s, counted %d times", got, e.counts.TooLarge.Load())
	}
	p.head(3, true) // both tables are still the same
	if got := p.verdict(); got != "ok" {
		t.Error(got)
	}
}

// TestWindows: nothing goes past the windows of the peer, which may change them at any
// time; the trailer comes after the last byte.
func TestWindows(t *testing.T) {
	e := &echo{}
	p := dial(t, serve(t, e, Config{}))
	p.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 5})
	p.head(1, false)
	p.WriteData(1, true, []byte("the night ferry"))
	var got []byte
	read := func(until func(f http2.Frame) bool) {
		t.Helper()
		for {
			f, err := p.ReadFrame()
			if err != nil {
				t.Fatalf("%v after %q", err, got)
			}
			if d, is := f.(*http2.DataFrame); is {
				got = append(got, d.Data()...)
			}
			if until(f) {
				return
			}
		}
	}
	pong := func(n byte) func(http2.Frame) bool {
		p.WritePing(false, [8]byte{n})
		return func(f http2.Frame) bool { g, is := f.(*http2.PingFrame); return is && g.Data[0] == n }
	}
	read(pong(1))
	if string(got) != "the n" || e.budget.Held() != 10 {
		t.Fatalf("got %q, %d bytes are held", got, e.budget.Held())
	}
	p.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0}) // it is below zero now
	p.WriteWindowUpdate(1, 3)
	read(pong(2))
	if string(got) != "the n" {
		t.Fatalf("got %q in a window of less than nothing", got)
	}
	p.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 4})
	read(pong(3))
	if string(got) != "the nig" {
		t.Fatalf("got %q", got)
	}
	p.WriteWindowUpdate(1, 1000)
	read(func(f http2.Frame) bool { h, is := f.(*http2.HeadersFrame); return is && h.StreamEnded() })
	if string(got) != "the night ferry" || e.budget.Held() != 0 {
		t.Errorf("got %q, %d bytes are held", got, e.budget.Held())
	}
}

// TestLeavesWhole: a connection that takes no more streams ends when its peer has all
// answers, however slowly it reads them.
func TestLeavesWhole(t *testing.T) {
	const long = 96 << 10
	p := dial(t, serve(t, &echo{more: long, leaves: true}, Config{}))
	p.conn.(*net.TCPConn).SetReadBuffer(16 << 10)
	p.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1 << 20})
	p.WriteWindowUpdate(0, 1<<20)
	p.head(1, true)
	time.Sleep(lingerTime + 300*time.Millisecond)
	got, hasEnded, hasLeft := 0, false, false
	for {
		f, err := p.ReadFrame()
		if err != nil {
			break
		}
		switch f := f.(type) {
		case *http2.DataFrame:
			got += len(f.Data())
		case *http2.HeadersFrame:
			hasEnded = f.StreamEnded()
		case *http2.GoAwayFrame:
			hasLeft = f.ErrCode == http2.ErrCodeNo
		}
	}
	if got != long || !hasEnded || !hasLeft {
		t.Errorf("%d of %d bytes came, the trailer: %v, the farewell: %v", got, long, hasEnded, hasLeft)
	}
}

// TestLeavesAfterResets: the window that resets give back is told to the peer, and a
// connection that takes no more streams ends with the last that was reset.
func TestLeavesAfterResets(t *testing.T) {
	e := &echo{held: make(chan struct{}), leaves: true}
	e.budget.Most = 1
	e.budget.Add(2)
	p := dial(t, serve(t, e, Config{}))
	p.WriteSettings()
	const held = connWindow / 4 / streamWindow // as much as is given back at once
	for s := range uint32(held) {
		p.head(2*s+1, false)
		for range streamWindow / maxFrame {
			p.WriteData(2*s+1, false, make([]byte, maxFrame))
		}
	}
	p.head(2*held+1, true)
	for hasLeft := false; !hasLeft; {
		f, err := p.ReadFrame()
		if err != nil {
			t.Fatal(err)
		}
		_, hasLeft = f.(*http2.GoAwayFrame)
	}
	for s := range uint32(held) {
		p.WriteRSTStream(2*s+1, http2.ErrCodeCancel)
	}
	p.conn.SetReadDeadline(time.Now().Add(3 * time.Second))
	given := uint32(0)
	for {
		f, err := p.ReadFrame()
		if err != nil {
			if given != connWindow/4 || err != io.EOF {
				t.Errorf("%d bytes were given back, and then: %v", given, err)
			}
			return
		}
		if w, is := f.(*http2.WindowUpdateFrame); is && w.StreamID == 0 {
			given += w.Increment
		}
	}
}

// TestHeldBack: a server that takes no body stops its caller at the window of the stream, and
// past the budget at that of the connection.
func TestHeldBack(t *testing.T) {
	e := &echo{held: make(chan struct{})}
	e.budget.Most = 1
	e.budget.Add(2)
	p := dial(t, serve(t, e, Config{}))
	p.WriteSettings()
	for s := range uint32(15) {
		p.head(2*s+1, false)
		for range streamWindow / maxFrame {
			p.WriteData(2*s+1, false, make([]byte, maxFrame))
		}
	}
	if got := p.verdict(); got != "ok" {
		t.Fatalf("within the windows: %s", got)
	}
	p.head(31, false)
	for range streamWindow/maxFrame + 1 {
		p.WriteData(31, false, make([]byte, maxFrame))
	}
	if got := p.verdict(); got != "connection FLOW_CONTROL_ERROR" {
		t.Errorf("past the window of the connection: %s", got)
	}
}

// TestEncoder: what is written is what is read, with whatever table, and what is secret
// enters none.
func TestEncoder(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	words := []string{":path", "/", "content-type", "x-berth", "via", "grpc-status", "authorization", "", "0", "/ferry.Line/Times", strings.Repeat("long", 200)}
	e := newEncoder()
	var got []hpack.HeaderField
	d := hpack.NewDecoder(defaultTable, func(f hpack.HeaderField) { got = append(got, f) })
	sizes := 0
	for range 3000 {
		if rnd.IntN(20) == 0 {
			n := uint32(rnd.IntN(6000))
			e.setMax(n)
		}
		var want []hpack.HeaderField
		b := e.begin(nil)
		for range rnd.IntN(12) {
			f := hpack.HeaderField{Name: words[rnd.IntN(7)], Value: words[rnd.IntN(len(words))]}
			if rnd.IntN(4) == 0 {
				f.Value = fmt.Sprint(rnd.IntN(1000))
			}
			f.Sensitive = f.Name == "authorization"
			borrowed := []byte(f.Value)
			b = e.field(b, f.Name, text(borrowed), f.Sensitive, true)
			clear(borrowed)
			want = append(want, f)
		}
		got = got[:0]
		if _, err := d.Write(b); err != nil {
			t.Fatal(err)
		}
		if err := d.Close(); err != nil || !slices.Equal(got, want) {
			t.Fatalf("%v: got %v, want %v", err, got, want)
		}
		sizes += len(b)
	}
	if e.size > defaultTable || e.n > ringSize {
		t.Errorf("the table has %d bytes and %d entries", e.size, e.n)
	}
	for range 3 {
		e.field(nil, "x-berth", "seven", false, false)
	}
	if n := len(e.field(nil, "x-berth", "seven", false, false)); n > 2 {
		t.Errorf("a field that comes back takes %d bytes", n)
	}
}
