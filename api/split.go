package api

import (
	"bytes"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

const (
	// firstByte is how long a connection may take to say what it speaks.
	firstByte = 10 * time.Second
	// maxUndecided is how many connections may be silent at once.
	maxUndecided = 4096
	// maxPlain is how many connections people may have at once: proxies have theirs.
	maxPlain = 4096
	// tlsRecord is the first byte of a connection by TLS (RFC 8446, section 5.1).
	tlsRecord = 0x16
)

// split gives the connections of one listener to two, by their first byte: people and
// the console speak plain HTTP, proxies TLS.
type split struct {
	net.Listener
	plain, secure *half
	undecided     chan struct{}
	people        chan struct{} // a place for each plain connection
	deciding      sync.WaitGroup
	ending        sync.Once
	ended         chan struct{}
}

func newSplit(l net.Listener) *split {
	s := &split{Listener: l, undecided: make(chan struct{}, maxUndecided),
		people: make(chan struct{}, maxPlain), ended: make(chan struct{})}
	s.plain, s.secure = &half{s, make(chan net.Conn)}, &half{s, make(chan net.Conn)}
	return s
}

// run accepts until the listener is closed. An error means that it broke.
func (s *split) run() error {
	defer s.deciding.Wait()
	defer s.end()
	for {
		conn, err := s.Accept()
		switch {
		case errors.Is(err, net.ErrClosed):
			return nil
		case err != nil:
			var passing net.Error
			if errors.As(err, &passing) && passing.Timeout() {
				continue
			}
			select {
			case <-s.ended:
				return nil
			case <-time.After(50 * time.Millisecond): // as when there are too many open files
				continue
			}
		}
		select {
		case s.undecided <- struct{}{}:
			s.deciding.Go(func() {
				defer func() { <-s.undecided }()
				s.decide(conn)
			})
		default:
			conn.Close()
		}
	}
}

// decide looks at the first byte of a connection.
func (s *split) decide(conn net.Conn) {
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		select {
		case <-s.ended:
			conn.SetReadDeadline(time.Unix(1, 0))
		case <-stop:
		}
	}()
	conn.SetReadDeadline(time.Now().Add(firstByte))
	var b [1]byte
	if _, err := io.ReadFull(conn, b[:]); err != nil {
		conn.Close()
		return
	}
	conn.SetReadDeadline(time.Time{})
	to, one := s.secure, &begun{Conn: conn, from: io.MultiReader(bytes.NewReader(b[:]), conn), left: func() {}}
	if b[0] != tlsRecord {
		select {
		case s.people <- struct{}{}:
			to, one.left = s.plain, sync.OnceFunc(func() { <-s.people })
		default: // there are too many
			conn.Close()
			return
		}
	}
	select {
	case to.conns <- one:
	case <-s.ended:
		one.Close()
	}
}

func (s *split) end() {
	s.ending.Do(func() {
		close(s.ended)
		s.Listener.Close()
	})
}

// half is one of the two listeners.
type half struct {
	of    *split
	conns chan net.Conn
}

func (h *half) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.of.ended:
		return nil, net.ErrClosed
	}
}

func (h *half) Close() error   { h.of.end(); return nil }
func (h *half) Addr() net.Addr { return h.of.Listener.Addr() }

// begun is a connection of which the first byte was read.
type begun struct {
	net.Conn
	from io.Reader
	left func() // is called when it is closed
}

func (b *begun) Close() error { b.left(); return b.Conn.Close() }

func (b *begun) Read(p []byte) (int, error) { return b.from.Read(p) }
