package carry

import (
	"errors"
	"io"
	"net"
	"net/http/httptrace"
	"sync/atomic"
	"time"
)

// errNotHTTP2 ends a connection whose other end answers HTTP/2 with something else.
var errNotHTTP2 = errors.New("the workload does not speak HTTP/2")

// isNotHTTP2 tells whether an attempt failed since the other end does not speak
// HTTP/2. Depending on which of its goroutines finds out first, net/http hides the
// error of the connection behind one of its own, which it does not export: there
// was no first frame.
func isNotHTTP2(err error) bool {
	return errors.Is(err, errNotHTTP2) || err != nil && err.Error() == "http2: client conn could not be established"
}

// way is the connection that an attempt got.
type way struct {
	isThere atomic.Bool
	at      atomic.Int64            // when it was there, in nanoseconds of the clock
	sniffed atomic.Pointer[sniffed] // nil: it does not have to speak HTTP/2
}

func (w *way) got(info httptrace.GotConnInfo) {
	if s, ok := info.Conn.(*sniffed); ok {
		w.sniffed.Store(s)
	}
	w.at.Store(time.Now().UnixNano())
	w.isThere.Store(true)
}

// left is how much of the last d was left when the connection was there; 0: it is not.
func (w *way) left(d time.Duration) time.Duration {
	at := w.at.Load()
	if at == 0 {
		return 0
	}
	return min(d, time.Duration(time.Now().UnixNano()-at))
}

// isNotHTTP2 tells whether nothing of HTTP/2 has come on the connection: it may have
// been closed for another request's sake.
func (w *way) isNotHTTP2() bool {
	s := w.sniffed.Load()
	return s != nil && !s.isSeen.Load()
}

// dialer opens connections to members.
var dialer = net.Dialer{Timeout: dialTimeout}

// forgiving is a connection on which writing never fails before reading does: what
// cannot be written is dropped, and the reader finds the answer that came
// nevertheless, or the error.
type forgiving struct {
	net.Conn
	isDeaf atomic.Bool // the other end takes nothing any more
}

func (f *forgiving) Write(p []byte) (int, error) {
	if f.isDeaf.Load() {
		return len(p), nil
	}
	n, err := f.Conn.Write(p)
	if err == nil || !isClosedThere(err) {
		return n, err
	}
	f.isDeaf.Store(true)
	return len(p), nil
}

// CloseWrite ends one direction, after a switch to another protocol.
func (f *forgiving) CloseWrite() error { return f.Conn.(callerConn).CloseWrite() }

// sniffed looks at the first byte that comes: a frame of HTTP/2 begins with the
// upper byte of a length that is never so large, and a record of TLS with its type;
// both are below any letter.
type sniffed struct {
	net.Conn
	isSeen atomic.Bool // something came
}

func (s *sniffed) Read(p []byte) (int, error) {
	n, err := s.Conn.Read(p)
	switch {
	case s.isSeen.Load():
	case n > 0 && p[0] >= ' ', err == io.EOF, err != nil && isClosedThere(err):
		return 0, errNotHTTP2
	case n > 0:
		s.isSeen.Store(true)
	}
	return n, err
}

func (s *sniffed) Write(p []byte) (int, error) {
	n, err := s.Conn.Write(p)
	if err != nil && isClosedThere(err) && !s.isSeen.Load() {
		err = errNotHTTP2
	}
	return n, err
}
