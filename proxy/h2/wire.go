package h2

import (
	"crypto/tls"
	"io"
	"net"
	"sync"
	"syscall"
	"time"
)

// Under is a connection of TCP below TLS. Once it is held, what TLS writes is collected
// here instead of sent, so that writing never waits.
type Under struct {
	*net.TCPConn
	mu     sync.Mutex // guards what follows
	isHeld bool
	held   []byte
}

// NewUnder is a connection that is not held yet.
func NewUnder(c *net.TCPConn) *Under { return &Under{TCPConn: c} }

func (u *Under) Write(p []byte) (int, error) {
	u.mu.Lock()
	if !u.isHeld {
		u.mu.Unlock()
		return u.TCPConn.Write(p)
	}
	u.held = append(u.held, p...)
	u.mu.Unlock()
	return len(p), nil
}

// ReadFrom hides that of the connection, which would pass the hold by.
func (u *Under) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{u}, r)
}

func (u *Under) hold() {
	u.mu.Lock()
	u.isHeld = true
	u.mu.Unlock()
}

// take is what was collected. The next call wants room back.
func (u *Under) take(room []byte) []byte {
	u.mu.Lock()
	defer u.mu.Unlock()
	b := u.held
	u.held = room
	return b
}

// wire reads and writes the bytes of a connection.
type wire struct {
	tcp   *net.TCPConn
	raw   syscall.RawConn
	under *Under    // nil: without TLS
	tls   *tls.Conn // nil: without TLS
	early []byte    // was read before

	// Of reading, by the reader alone. The functions are made once, so that they cost nothing.
	in      *buffer
	kept    []byte // the beginning of a frame, while its rest is waited for without a buffer
	got     int
	readErr error
	readFD  func(fd uintptr) bool
	waits   func() // is called before the reader waits
	first   [1]byte

	// Of writing, by whoever flushes.
	out      []byte
	sealed   []byte // room for what TLS makes of it
	put      int
	writeErr error
	writeFD  func(fd uintptr) bool
}

// buffer is room for reading. It is pooled, so that idle connections have none.
type buffer struct {
	b    [64 << 10]byte
	r, w int // what came and is not dealt with
}

var buffers = sync.Pool{New: func() any { return new(buffer) }}

func (w *wire) open() (err error) {
	if w.raw, err = w.tcp.SyscallConn(); err != nil {
		return err
	}
	if w.under != nil {
		w.under.hold()
	}
	w.readFD = func(fd uintptr) bool {
		if w.in == nil {
			w.in = buffers.Get().(*buffer)
			w.in.w = copy(w.in.b[:], w.kept)
		}
		for {
			n, err := syscall.Read(int(fd), w.in.b[w.in.w:])
			switch {
			case err == syscall.EINTR:
				continue
			case err == syscall.EAGAIN:
				w.waits()
				w.rest()
				return false
			}
			w.kept = w.kept[:0]
			if w.got, w.readErr = max(n, 0), err; n == 0 && err == nil {
				w.readErr = io.EOF
			}
			return true
		}
	}
	w.writeFD = func(fd uintptr) bool {
		for {
			n, err := syscall.Write(int(fd), w.out)
			if err == syscall.EINTR {
				continue
			}
			if err == syscall.EAGAIN {
				n, err = 0, nil
			}
			w.put, w.writeErr = max(n, 0), err
			return true // whatever it took: nobody waits here
		}
	}
	return nil
}

// keptMost is how much of a frame is kept while its rest is waited for.
const keptMost = 1 << 10

// rest gives the buffer back while nothing comes. Of a frame that has begun little is kept.
func (w *wire) rest() {
	in := w.in
	if in.w-in.r > keptMost {
		return
	}
	w.kept = append(w.kept[:0], in.b[in.r:in.w]...)
	in.r = in.w
	w.release()
}

// release gives the buffer back, unless something is left in it.
func (w *wire) release() {
	if w.in != nil && w.in.r == w.in.w {
		w.in.r, w.in.w = 0, 0
		buffers.Put(w.in)
		w.in = nil
	}
}

// drop gives the buffer back with what is in it.
func (w *wire) drop() {
	if w.in != nil {
		w.in.r = w.in.w
		w.release()
	}
}

// fill reads more into the buffer. It waits without one when there is nothing in it.
func (w *wire) fill() error {
	if w.early != nil {
		if w.in == nil {
			w.in = buffers.Get().(*buffer)
		}
		n := copy(w.in.b[w.in.w:], w.early)
		w.in.w += n
		if w.early = w.early[n:]; len(w.early) == 0 {
			w.early = nil
		}
		return nil
	}
	if in := w.in; in != nil {
		switch {
		case in.r == in.w:
			in.r, in.w = 0, 0
		case len(in.b)-in.r < frameHead+maxFrame:
			in.w = copy(in.b[:], in.b[in.r:in.w])
			in.r = 0
		}
	}
	if w.tls != nil {
		w.waits() // perhaps
		return w.fillSecure()
	}
	w.got, w.readErr = 0, nil
	err := w.raw.Read(w.readFD)
	if err == nil {
		err = w.readErr
	}
	if w.got > 0 {
		w.in.w += w.got
		return nil
	}
	return err
}

// fillSecure waits for one byte. The rest of its record is there then.
func (w *wire) fillSecure() error {
	w.release()
	if w.in == nil {
		n, err := w.tls.Read(w.first[:])
		if n == 0 {
			return err
		}
		w.in = buffers.Get().(*buffer)
		w.in.b[0], w.in.w = w.first[0], 1
	}
	n, err := w.tls.Read(w.in.b[w.in.w:])
	w.in.w += n
	if n > 0 {
		return nil
	}
	return err
}

// tryWrite writes what the system takes without waiting. rest is what it did not take,
// for writeRest. What TLS said by itself goes first.
func (w *wire) tryWrite(p []byte) (rest []byte, err error) {
	if w.tls != nil {
		if len(p) > 0 {
			if _, err := w.tls.Write(p); err != nil {
				return nil, err
			}
		}
		w.sealed = w.under.take(w.sealed[:0])
		p = w.sealed
	}
	for len(p) > 0 {
		w.out, w.put, w.writeErr = p, 0, nil
		err = w.raw.Write(w.writeFD)
		w.out = nil
		if err == nil {
			err = w.writeErr
		}
		if err != nil {
			return nil, err
		}
		if w.put == 0 {
			break
		}
		p = p[w.put:]
	}
	if cap(w.sealed) > keptRoom {
		w.sealed = nil
	}
	return p, nil
}

// writeRest waits until the system has taken everything, until a time at most.
func (w *wire) writeRest(p []byte, until time.Time) error {
	w.tcp.SetWriteDeadline(until)
	_, err := w.tcp.Write(p)
	w.tcp.SetWriteDeadline(time.Time{})
	return err
}

// interrupt ends reading.
func (w *wire) interrupt() { w.tcp.SetReadDeadline(time.Unix(1, 0)) }

func (w *wire) close() { w.tcp.Close() }

// lingering bounds how long, and with how many bytes, a peer that was told of the end is
// listened to, so that it finds what it was told (closing with bytes unread would take it
// away).
const (
	lingerTime  = 500 * time.Millisecond
	lingerBytes = 64 << 10
)

func (w *wire) linger(isFlood bool) {
	w.tcp.CloseWrite()
	end := time.Now().Add(lingerTime)
	w.tcp.SetReadDeadline(end)
	if _, err := io.CopyN(io.Discard, w.tcp, lingerBytes); err == nil && isFlood {
		time.Sleep(time.Until(end)) // nothing more is read: whoever floods has to wait as well
	}
}
