// Package h2 speaks HTTP/2 (RFC 9113), as a server and as a client, without a
// goroutine, a buffer or an allocation for a stream. It knows frames, streams and
// windows, and nothing of what messages are for.
//
// A connection has one reader, the goroutine that calls Conn.Serve. It takes frames
// apart in place and tells the Receiver of a stream what came. Anybody may write:
// what is written is collected in the connection, and leaves when a Batch is flushed.
// Nobody waits for a peer that does not read: what the system does not take at once
// is given to a goroutine that ends with it.
package h2

import "fmt"

// Preface is what a client begins with (RFC 9113, section 3.4).
const Preface = "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"

// Types of frames (RFC 9113, section 6).
const (
	frameData         = 0
	frameHeaders      = 1
	framePriority     = 2
	frameReset        = 3
	frameSettings     = 4
	framePush         = 5
	framePing         = 6
	frameGoAway       = 7
	frameWindow       = 8
	frameContinuation = 9
)

// Flags of frames.
const (
	flagEnd        = 0x1 // of DATA and HEADERS: the last frame of its side
	flagAck        = 0x1 // of SETTINGS and PING
	flagEndHeaders = 0x4
	flagPadded     = 0x8
	flagPriority   = 0x20
)

// Settings (RFC 9113, section 6.5.2; RFC 8441, section 3).
const (
	settingTableSize  = 1
	settingPush       = 2
	settingStreams    = 3
	settingWindow     = 4
	settingFrame      = 5
	settingHeaderList = 6
	settingConnect    = 8
)

const (
	frameHead     = 9        // bytes before the payload of a frame
	maxFrame      = 16 << 10 // bytes of a payload, in both directions: the least that a peer has to be allowed
	defaultWindow = 1<<16 - 1
	maxWindow     = 1<<31 - 1
	defaultTable  = 4 << 10 // bytes of a dynamic table of HPACK
	settingLength = 6
)

// Code is why a stream or a connection ends (RFC 9113, section 7).
type Code uint32

// The codes.
const (
	NoError            Code = 0
	ProtocolError      Code = 1
	InternalError      Code = 2
	FlowControlError   Code = 3
	StreamClosed       Code = 5
	FrameSizeError     Code = 6
	Refused            Code = 7 // of a stream that was not looked at
	Cancel             Code = 8
	CompressionError   Code = 9
	ConnectError       Code = 10
	EnhanceYourCalm    Code = 11
	InadequateSecurity Code = 12
	HTTP11Required     Code = 13
)

var codeNames = map[Code]string{
	NoError: "NO_ERROR", ProtocolError: "PROTOCOL_ERROR", InternalError: "INTERNAL_ERROR",
	FlowControlError: "FLOW_CONTROL_ERROR", 4: "SETTINGS_TIMEOUT", StreamClosed: "STREAM_CLOSED",
	FrameSizeError: "FRAME_SIZE_ERROR", Refused: "code 7 (refused)", Cancel: "CANCEL",
	CompressionError: "COMPRESSION_ERROR", ConnectError: "CONNECT_ERROR", EnhanceYourCalm: "ENHANCE_YOUR_CALM",
	InadequateSecurity: "INADEQUATE_SECURITY", HTTP11Required: "HTTP_1_1_REQUIRED",
}

func (c Code) String() string {
	if name := codeNames[c]; name != "" {
		return name
	}
	return fmt.Sprintf("code %d", uint32(c))
}

// ConnError ends a connection: the peer broke the protocol, or asks for too much.
type ConnError struct {
	Code Code
	Why  string
}

func (e *ConnError) Error() string { return e.Code.String() + ": " + e.Why }

// StreamError ends a stream.
type StreamError struct {
	Code Code
	Why  string
}

func (e *StreamError) Error() string { return e.Code.String() + ": " + e.Why }

func connError(c Code, why string) error   { return &ConnError{c, why} }
func streamError(c Code, why string) error { return &StreamError{c, why} }

// appendFrame appends the head of a frame whose payload has n bytes.
func appendFrame(b []byte, n int, kind, flags byte, id uint32) []byte {
	return append(b, byte(n>>16), byte(n>>8), byte(n), kind, flags, byte(id>>24), byte(id>>16), byte(id>>8), byte(id))
}

func appendUint32(b []byte, v uint32) []byte {
	return append(b, byte(v>>24), byte(v>>16), byte(v>>8), byte(v))
}

func appendSetting(b []byte, id uint16, v uint32) []byte {
	return appendUint32(append(b, byte(id>>8), byte(id)), v)
}

// unpad takes the padding of a frame away (RFC 9113, section 6.1).
func unpad(p []byte, flags byte) ([]byte, error) {
	if flags&flagPadded == 0 {
		return p, nil
	}
	if len(p) == 0 {
		return nil, connError(FrameSizeError, "a padded frame is empty")
	}
	n := int(p[0])
	if n >= len(p) {
		return nil, connError(ProtocolError, "the padding is longer than its frame")
	}
	return p[1 : len(p)-n], nil
}
