package h2

import (
	"bytes"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
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
}

type echoStream struct {
	Stream
	of    *echo
	body  []byte
	isEnd bool
}

func (e *echo) Open(*Conn, *Block) (*Stream, Receiver) {
	e.open.Add(1)
	s := &echoStream{of: e}
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
	s.Write(b, s.body, false)
	if w = s.Begin(b); w != nil {
		w.Add("sum", fmt.Sprint(len(s.body)))
		w.End(true)
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

// standard is the standard library's server with the same answers.
func standard(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err == nil {
			w.Write(body)
		}
	})
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	srv := &http.Server{Handler: h, Protocols: two, MaxHeaderBytes: maxList, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 100, MaxReadFrameSize: maxFrame}, ErrorLog: log.New(io.Discard, "", 0)}
	go srv.Serve(l)
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

// malformed are what a peer must not say, with the verdict on it: where the standard library
// has another one, both are within the protocol.
var malformed = []struct {
	name string
	say  func(p *peer)
	want string
	lax  bool // the standard library takes it, or answers 400
}{
	{"nothing wrong", func(p *peer) { p.WriteSettings(); p.head(1, true) }, "ok", false},
	{"no settings first", func(p *peer) { p.head(1, true) }, "connection PROTOCOL_ERROR", false},
	{"a frame that is too long", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(0xfe, 0, 0, make([]byte, maxFrame+1)) }, "connection FRAME_SIZE_ERROR", false},
	{"DATA without a stream", func(p *peer) { p.WriteSettings(); p.WriteData(0, true, nil) }, "connection PROTOCOL_ERROR", false},
	{"DATA on an idle stream", func(p *peer) { p.WriteSettings(); p.WriteData(1, true, nil) }, "connection PROTOCOL_ERROR", false},
	{"DATA after the end", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteData(1, true, nil)
		p.WriteData(1, false, []byte("x"))
	}, "stream 1 STREAM_CLOSED ok", false},
	{"too much padding", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteRawFrame(http2.FrameData, http2.FlagDataPadded, 1, []byte{9, 1})
	}, "connection PROTOCOL_ERROR", false},
	{"HEADERS without a stream", func(p *peer) { p.WriteSettings(); p.head(0, true) }, "connection PROTOCOL_ERROR", false},
	{"an even stream", func(p *peer) { p.WriteSettings(); p.head(2, true) }, "connection PROTOCOL_ERROR", false},
	{"a list that is interrupted", func(p *peer) {
		p.WriteSettings()
		p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: p.fields(get...), EndStream: true})
		p.WritePing(false, [8]byte{})
	}, "connection PROTOCOL_ERROR", false},
	{"CONTINUATION of nothing", func(p *peer) { p.WriteSettings(); p.WriteContinuation(1, true, nil) }, "connection PROTOCOL_ERROR", false},
	{"what cannot be decoded", func(p *peer) {
		p.WriteSettings()
		p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: []byte{0xff, 0xff, 0xff, 0xff, 0xff}, EndHeaders: true, EndStream: true})
	}, "connection COMPRESSION_ERROR", false},
	{"a capital letter", func(p *peer) { p.WriteSettings(); p.head(1, true, "X-A", "1") }, "stream 1 PROTOCOL_ERROR ok", false},
	{"a field of a connection", func(p *peer) { p.WriteSettings(); p.head(1, true, "connection", "close") }, "stream 1 PROTOCOL_ERROR ok", true},
	{"a te that is not trailers", func(p *peer) { p.WriteSettings(); p.head(1, true, "te", "gzip") }, "stream 1 PROTOCOL_ERROR ok", true},
	{"a line break in a value", func(p *peer) { p.WriteSettings(); p.head(1, true, "x", "a\r\nb") }, "stream 1 PROTOCOL_ERROR ok", false},
	{"two methods", func(p *peer) { p.WriteSettings(); p.head(1, true, ":method", "GET") }, "stream 1 PROTOCOL_ERROR ok", false},
	{"a pseudo-field after others", func(p *peer) { p.WriteSettings(); p.head(1, true, "x", "1", ":path", "/") }, "stream 1 PROTOCOL_ERROR ok", false},
	{"a pseudo-field that there is not", func(p *peer) { p.WriteSettings(); p.head(1, true, ":ship", "x") }, "stream 1 PROTOCOL_ERROR ok", false},
	{"two lengths", func(p *peer) {
		p.WriteSettings()
		p.head(1, false, "content-length", "1", "content-length", "2")
		p.WriteData(1, true, []byte("x"))
	}, "stream 1 PROTOCOL_ERROR ok", true},
	{"a body that is too long", func(p *peer) {
		p.WriteSettings()
		p.head(1, false, "content-length", "1")
		p.WriteData(1, true, []byte("xy"))
	}, "stream 1 PROTOCOL_ERROR ok", false},
	{"a body that is too short", func(p *peer) {
		p.WriteSettings()
		p.head(1, false, "content-length", "3")
		p.WriteData(1, true, []byte("xy"))
	}, "stream 1 PROTOCOL_ERROR ok", true},
	{"a second head that does not end", func(p *peer) { p.WriteSettings(); p.head(1, false); p.head(1, false) }, "stream 1 PROTOCOL_ERROR ok", false},
	{"a stream that depends on itself", func(p *peer) { p.WriteSettings(); p.WritePriority(1, http2.PriorityParam{StreamDep: 1}) }, "stream 1 PROTOCOL_ERROR ok", false},
	{"PRIORITY is passed over", func(p *peer) {
		p.WriteSettings()
		p.WritePriority(3, http2.PriorityParam{StreamDep: 1})
		p.head(1, true)
	}, "ok", false},
	{"PRIORITY of a wrong length", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteRawFrame(http2.FramePriority, 0, 1, []byte{1})
	}, "stream 1 FRAME_SIZE_ERROR ok", false},
	{"RST_STREAM of an idle stream", func(p *peer) { p.WriteSettings(); p.WriteRSTStream(1, 8) }, "connection PROTOCOL_ERROR", false},
	{"RST_STREAM of a wrong length", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteRawFrame(http2.FrameRSTStream, 0, 1, []byte{1})
	}, "connection FRAME_SIZE_ERROR", false},
	{"SETTINGS of a stream", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FrameSettings, 0, 1, nil) }, "connection PROTOCOL_ERROR", false},
	{"SETTINGS of a wrong length", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FrameSettings, 0, 0, []byte{1}) }, "connection FRAME_SIZE_ERROR", false},
	{"an acknowledgement with settings", func(p *peer) {
		p.WriteSettings()
		p.WriteRawFrame(http2.FrameSettings, http2.FlagSettingsAck, 0, make([]byte, 6))
	}, "connection FRAME_SIZE_ERROR", false},
	{"a window that is too large", func(p *peer) { p.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1 << 31}) }, "connection FLOW_CONTROL_ERROR", false},
	{"a frame size that is too small", func(p *peer) { p.WriteSettings(http2.Setting{ID: http2.SettingMaxFrameSize, Val: 1}) }, "connection PROTOCOL_ERROR", false},
	{"a push that is neither on nor off", func(p *peer) { p.WriteSettings(http2.Setting{ID: http2.SettingEnablePush, Val: 2}) }, "connection PROTOCOL_ERROR", false},
	{"PUSH_PROMISE", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteRawFrame(http2.FramePushPromise, 4, 1, make([]byte, 4))
	}, "connection PROTOCOL_ERROR", false},
	{"PING of a stream", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FramePing, 0, 1, make([]byte, 8)) }, "connection PROTOCOL_ERROR", false},
	{"PING of a wrong length", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FramePing, 0, 0, make([]byte, 7)) }, "connection FRAME_SIZE_ERROR", false},
	{"GOAWAY of a stream", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FrameGoAway, 0, 1, make([]byte, 8)) }, "connection PROTOCOL_ERROR", false},
	{"a window that grows by nothing", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(http2.FrameWindowUpdate, 0, 0, make([]byte, 4)) }, "connection PROTOCOL_ERROR", false},
	{"a stream's window that grows by nothing", func(p *peer) {
		p.WriteSettings()
		p.head(1, false)
		p.WriteRawFrame(http2.FrameWindowUpdate, 0, 1, make([]byte, 4))
	}, "stream 1 PROTOCOL_ERROR ok", false},
	{"a window over its end", func(p *peer) { p.WriteSettings(); p.WriteWindowUpdate(0, 1<<31-1) }, "connection FLOW_CONTROL_ERROR", false},
	{"a stream's window over its end", func(p *peer) { p.WriteSettings(); p.head(1, false); p.WriteWindowUpdate(1, 1<<31-1) }, "stream 1 FLOW_CONTROL_ERROR ok", false},
	{"WINDOW_UPDATE of an idle stream", func(p *peer) { p.WriteSettings(); p.WriteWindowUpdate(1, 1) }, "connection PROTOCOL_ERROR", false},
	{"a frame that nobody knows", func(p *peer) { p.WriteSettings(); p.WriteRawFrame(0xfe, 7, 3, []byte("x")); p.head(1, true) }, "ok", false},
	{"CONNECT with a path", func(p *peer) {
		p.WriteSettings()
		p.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: p.fields(":method", "CONNECT", ":authority", "s", ":path", "/"), EndHeaders: true, EndStream: true})
	}, "stream 1 PROTOCOL_ERROR ok", false},
}

func TestMalformed(t *testing.T) {
	ours, theirs := serve(t, &echo{}, Config{}), standard(t)
	for _, c := range malformed {
		p := dial(t, ours)
		c.say(p)
		if got := p.verdict(); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
		p = dial(t, theirs)
		c.say(p)
		if got := p.verdict(); (got == "ok") != (c.want == "ok" || c.lax) {
			t.Errorf("%s: the standard library says %s", c.name, got)
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

// FuzzFrames compares verdicts with those of the standard library: what is well-formed for
// one is for the other. The input is a list of frames: type, flags, stream, length, payload.
func FuzzFrames(f *testing.F) {
	for _, c := range malformed {
		var b bytes.Buffer
		p := &peer{Framer: http2.NewFramer(&b, &b)}
		p.AllowIllegalWrites = true
		p.enc = hpack.NewEncoder(&p.block)
		c.say(p)
		var program []byte
		for raw := b.Bytes(); len(raw) >= frameHead && len(raw) < 1000; {
			n := int(raw[2])
			program = append(append(program, raw[3], raw[4], raw[8], raw[2]), raw[frameHead:frameHead+n]...)
			raw = raw[frameHead+n:]
		}
		f.Add(program)
	}
	ours, theirs := serve(f, &echo{}, Config{Streams: 100}), standard(f)
	f.Fuzz(func(t *testing.T, program []byte) {
		frames := framesOf(program)
		a, b := ask(t, ours, frames), ask(t, theirs, frames)
		if a != b {
			t.Errorf("%q: %s, and the standard library says %s", frames, a, b)
		}
	})
}

// framesOf are the frames of an input. What is left out of them is in the table.
func framesOf(program []byte) []byte {
	frames := appendFrame(nil, 0, frameSettings, 0, 0)
	for n := 0; len(program) >= 4 && n < 100; n++ {
		kind, flags, id := program[0], program[1], uint32(program[2]%8)
		length := min(int(program[3]), len(program)-4)
		payload := program[4 : 4+length]
		program = program[4+length:]
		switch kind {
		case framePriority:
			if length != 5 { // which ends the stream alone (RFC 9113, section 6.3)
				continue
			}
		case frameHeaders: // what is wrong in them is in the table: the library looks at it before all else
			id, flags, payload = id|1, flags&^(flagPadded|flagPriority), []byte{0x82, 0x86, 0x84}
		case frameContinuation:
			payload = nil
		case frameSettings: // one of each kind: the library takes a second one for an attack
			if length%settingLength == 0 {
				payload = payload[:min(length, settingLength)]
			}
			if len(payload) > 1 && payload[1] == 9 { // of priorities (RFC 9218), which are passed over here
				continue
			}
		case frameWindow: // of an idle stream the library says first that it grows by nothing
			if length == 4 {
				payload = append(payload[:3:3], payload[3]|1)
			}
		case 0x10: // PRIORITY_UPDATE (RFC 9218), which is passed over here
			continue
		}
		frames = append(appendFrame(frames, len(payload), kind, flags, id), payload...)
	}
	return frames
}

// ask says frames, and tells whether the connection was ended for them.
func ask(t *testing.T, address string, frames []byte) string {
	p := dial(t, address)
	defer p.conn.Close()
	p.conn.Write(frames)
	begun := time.Now()
	got := p.verdict()
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("%q: no verdict for %s", frames, took)
	}
	isLate := strings.Contains(got, "STREAM_CLOSED") // whether the stream or the connection ends depends on what has been answered
	if strings.HasSuffix(got, "ok") && !isLate {
		return "not ended"
	}
	return "ended"
}
