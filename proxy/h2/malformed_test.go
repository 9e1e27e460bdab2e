package h2

import (
	"bytes"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

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
