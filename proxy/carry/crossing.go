package carry

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

const (
	helloTime = 5 * time.Second // for a caller of a crossing to say which instance it wants
	maxHello  = 64 << 10        // bytes of that
	// Alerts of TLS by which a crossing says what is wrong (RFC 8446, section 6).
	alertInternal = 80
	alertUnknown  = 112
)

// Crossing carries connections from other sites to the instances of its own. The server
// name of their TLS says to which (see engine.CrossingName); nothing is decrypted, so both
// ends prove to each other who they are.
type Crossing struct {
	CrossingConfig
	Counts  CrossingCounts
	tunnels tunnels

	draining atomic.Bool
	serving  sync.WaitGroup
	mu       sync.Mutex // guards greeting
	greeting map[*net.TCPConn]struct{}
}

// CrossingConfig is what a Crossing is made of.
type CrossingConfig struct {
	Listener net.Listener
	Callers  *Callers
	// Find is the address of the instance of a name; empty: there is none at this site.
	Find func(name string) (address string)
	Log  *slog.Logger
}

// CrossingCounts are what a Crossing has seen.
type CrossingCounts struct {
	Carried     atomic.Uint64 // connections that reached their instance
	Unknown     atomic.Uint64 // that named no instance of this site, or spoke no TLS
	Unreachable atomic.Uint64 // whose instance took no connection
	In          atomic.Uint64 // bytes from other sites to instances
	Out         atomic.Uint64 // bytes from instances to other sites
}

// NewCrossing makes a Crossing. Call Serve to begin.
func NewCrossing(cfg CrossingConfig) *Crossing {
	return &Crossing{CrossingConfig: cfg, greeting: map[*net.TCPConn]struct{}{}}
}

// Connections tells how many are open.
func (x *Crossing) Connections() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.greeting) + x.tunnels.count()
}

// Serve takes connections until the crossing is drained. An error means that the listener
// broke.
func (x *Crossing) Serve() error {
	x.serving.Add(1) // so that Drain does not wait while the last connection is taken
	defer x.serving.Done()
	return accept(x.Listener, x.draining.Load, x.take, func(err error, isNews bool) {
		if isNews {
			x.Log.Error(noNew, "listener", "crossing", "error", err)
		}
		x.Callers.relieve()
	})
}

func (x *Crossing) take(conn *net.TCPConn) {
	at := x.Callers.admit(conn, func() { conn.SetReadDeadline(time.Unix(1, 0)) })
	if at == nil {
		conn.Close()
		return
	}
	watchFar(conn)
	x.mu.Lock()
	x.greeting[conn] = struct{}{}
	x.mu.Unlock()
	x.serving.Go(func() { x.carry(conn, at) })
}

// carry finds the instance that a connection is for, and copies both ways until it is over.
func (x *Crossing) carry(conn *net.TCPConn, at *caller) {
	defer at.leave()
	there := x.reach(conn, at)
	x.mu.Lock()
	delete(x.greeting, conn)
	x.mu.Unlock()
	if there == nil {
		conn.Close()
		return
	}
	at.work()
	x.tunnels.join(conn, there, &x.Counts.In, &x.Counts.Out)
}

// reach opens the connection to the instance that a caller names, and passes on what it has
// sent so far; nil: there is none.
func (x *Crossing) reach(conn *net.TCPConn, at *caller) *net.TCPConn {
	conn.SetDeadline(time.Now().Add(helloTime))
	if at.isOut.Load() { // it had to make room before the deadline was set
		return nil
	}
	name, hello, err := serverName(conn)
	if err != nil {
		if !at.isOut.Load() && !x.draining.Load() {
			x.Counts.Unknown.Add(1)
		}
		return nil
	}
	address := x.Find(name)
	if address == "" {
		x.Counts.Unknown.Add(1)
		alert(conn, alertUnknown)
		return nil
	}
	there, err := dialer.Dial("tcp", address)
	if err == nil {
		there.SetWriteDeadline(time.Now().Add(helloTime))
		if _, err = there.Write(hello); err != nil {
			there.Close()
		}
	}
	if err != nil {
		x.Counts.Unreachable.Add(1)
		alert(conn, alertInternal)
		return nil
	}
	there.SetWriteDeadline(time.Time{})
	conn.SetDeadline(time.Time{})
	x.Counts.Carried.Add(1)
	x.Counts.In.Add(uint64(len(hello)))
	return there.(*net.TCPConn)
}

// alert ends a connection whose TLS has not begun.
func alert(conn *net.TCPConn, code byte) {
	conn.SetDeadline(time.Now().Add(lingering))
	conn.Write([]byte{21, 3, 3, 0, 2, 2, code}) // a record of one fatal alert
	conn.CloseWrite()
	io.CopyN(io.Discard, conn, maxHello) // closing with bytes unread would take the alert with it
}

// crossingSaid is what the alerts of a crossing mean.
var crossingSaid = map[string]string{
	tls.AlertError(alertUnknown).Error():  "the crossing of its site does not know it",
	tls.AlertError(alertInternal).Error(): "the crossing of its site cannot reach it",
}

// saidByCrossing says of an error of a handshake through a crossing what it means.
func saidByCrossing(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "remote error" {
		if what := crossingSaid[op.Err.Error()]; what != "" {
			return &net.OpError{Op: "crossing", Net: "tcp", Err: errors.New(what)}
		}
	}
	return err
}

// errHello ends the handshake that finds the server name.
var errHello = errors.New("the name is known")

// serverName is the server name with which TLS begins on a connection, and what was read
// for it.
func serverName(conn net.Conn) (name string, read []byte, err error) {
	h := &hello{Conn: conn}
	isTLS := false
	err = tls.Server(h, &tls.Config{
		GetConfigForClient: func(info *tls.ClientHelloInfo) (*tls.Config, error) {
			name, isTLS = strings.ToLower(info.ServerName), true
			return nil, errHello
		},
	}).HandshakeContext(context.Background())
	if isTLS {
		return name, h.read.Bytes(), nil
	}
	return "", nil, err
}

// hello is a connection that is only read from, and remembers what.
type hello struct {
	net.Conn
	read bytes.Buffer
}

func (h *hello) Read(p []byte) (int, error) {
	if h.read.Len() >= maxHello {
		return 0, io.ErrShortBuffer
	}
	n, err := h.Conn.Read(p)
	h.read.Write(p[:n])
	return n, err
}

func (h *hello) Write(p []byte) (int, error) { return len(p), nil }

func (h *hello) Close() error { return nil }

// Drain stops taking connections, and waits until those that are open have ended, for limit
// at most.
func (x *Crossing) Drain(limit time.Duration) {
	end := time.Now().Add(limit)
	x.draining.Store(true)
	x.Listener.Close()
	for soon := time.Now().Add(min(limit, dialTimeout)); x.isGreeting() && time.Now().Before(soon); {
		time.Sleep(5 * time.Millisecond)
	}
	x.mu.Lock()
	for conn := range x.greeting {
		conn.SetReadDeadline(time.Unix(1, 0))
	}
	x.mu.Unlock()
	x.tunnels.end(max(0, time.Until(end)))
	x.serving.Wait()
}

// isGreeting tells whether a connection is on its way to its instance.
func (x *Crossing) isGreeting() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.greeting) > 0
}
