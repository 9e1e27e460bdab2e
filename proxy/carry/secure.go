package carry

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/identity"
	"nightjar/proxy/h2"
	"nightjar/proxy/outside"
)

const (
	handshakeTime = 10 * time.Second // for a caller to prove who it is
	// plainPatience is how long the first byte of a TCP connection may take where callers
	// without identity are let in: whoever lets the workload speak first is one of them.
	plainPatience = time.Second
	tlsRecord     = 0x16 // the first byte of a connection by TLS (RFC 8446, section 5.1)
)

// isRefusedThere tells whether the other end said by an alert of TLS that it does not
// take this proxy's certificate, which shows when the first answer is read (RFC 8446,
// section 4.4.2.4).
func isRefusedThere(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "remote error"
}

// Handshakes counts how callers proved who they are.
type Handshakes struct {
	Done      atomic.Uint64 // by mutual TLS
	Plain     atomic.Uint64 // connections without TLS
	None      atomic.Uint64 // failed: no certificate
	Expired   atomic.Uint64 // failed: it ran out
	Unknown   atomic.Uint64 // failed: of another authority
	Otherwise atomic.Uint64 // failed otherwise

	mu   sync.Mutex // guards what follows
	news map[string]*refusedCalls
	told time.Time // when News last told of any
}

// refusedCalls are callers that were refused for one reason, since they were last told of.
type refusedCalls struct {
	count   int
	from    string // address of the last
	request string // id that the last was told; empty: none
}

// newsEvery is how often callers that were refused are told of, whatever their number.
const newsEvery = 10 * time.Second

// maxNews bounds the reasons that are told apart.
const maxNews = 16

// Failed counts a caller that did not prove who it is.
func (h *Handshakes) Failed(err error, from string) {
	switch {
	case errors.Is(err, identity.ErrNoIdentity):
		h.None.Add(1)
	case errors.Is(err, identity.ErrExpired):
		h.Expired.Add(1)
	case errors.Is(err, identity.ErrUnknown):
		h.Unknown.Add(1)
	default:
		h.Otherwise.Add(1)
	}
	why := err.Error()
	if outside.IsBroken(err) {
		why = "it left before it proved who it is"
	}
	h.note(why, from, "")
}

// NoIdentity counts a caller without TLS where an identity is required. request is the id
// that it was told; empty: none.
func (h *Handshakes) NoIdentity(from, request string) {
	h.None.Add(1)
	h.note("no identity: it spoke without TLS", from, request)
}

// NotLetIn counts a caller that may come without an identity, and that access rules refuse.
func (h *Handshakes) NotLetIn(from, request string) {
	h.note("no access rule lets a caller without an identity do this", from, request)
}

func (h *Handshakes) note(why, from, request string) {
	if host, _, err := net.SplitHostPort(from); err == nil {
		from = host
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.news == nil {
		h.news = map[string]*refusedCalls{}
	}
	one := h.news[why]
	if one == nil {
		if len(h.news) >= maxNews {
			return
		}
		one = &refusedCalls{}
		h.news[why] = one
	}
	one.count++
	one.from, one.request = from, request
}

// News tells of callers that were refused since it last did, one line for each reason.
func (h *Handshakes) News() []string {
	h.mu.Lock()
	var news map[string]*refusedCalls
	if now := time.Now(); now.Sub(h.told) >= newsEvery && h.news != nil {
		news, h.news, h.told = h.news, nil, now
	}
	h.mu.Unlock()
	var out []string
	for why, one := range news {
		times := "once"
		if one.count > 1 {
			times = fmt.Sprintf("%d times, the last time", one.count)
		}
		told := ""
		if one.request != "" {
			told = ", as request " + one.request
		}
		out = append(out, fmt.Sprintf("a caller was refused, %s from %s%s: %s", times, one.from, told, why))
	}
	return out
}

// welcome finds out what a caller of an inbound listener speaks, and serves it.
func (l *Listener) welcome(conn *net.TCPConn, at *caller) {
	raw, err := conn.SyscallConn()
	if err != nil {
		at.leave()
		conn.Close()
		return
	}
	isTCP := l.Relay != nil && l.Relay() != nil
	isSecure := isTCP && l.Identity.Mode() == rules.IdentityRequired
	if !isSecure {
		patience := idleTimeout
		if isTCP {
			patience = plainPatience
		}
		isSecure, err = peekTLS(conn, raw, at, patience)
		if err != nil && !isTCP {
			at.leave()
			conn.Close()
			return
		}
	}
	if !isSecure {
		l.Identity.Handshakes.Plain.Add(1)
		l.begin(conn, conn, raw, nil, at)
		return
	}
	t := tls.Server(h2.NewUnder(conn), l.Identity.config())
	conn.SetDeadline(time.Now().Add(handshakeTime))
	if at.isOut.Load() {
		at.leave()
		conn.Close()
		return
	}
	peer := new(member)
	if err = t.Handshake(); err == nil {
		peer.Peer, err = l.Identity.Credentials.Verify(t.ConnectionState().PeerCertificates, time.Now())
	}
	if err == nil && peer.Kind == identity.Crossing { // its site may be called like a service
		err = errCrossingCalls
	}
	if err != nil {
		if !l.isDraining() {
			l.Identity.Handshakes.Failed(err, conn.RemoteAddr().String())
		}
		l.reject(t, conn)
		at.leave()
		return
	}
	conn.SetDeadline(time.Time{})
	l.Identity.Handshakes.Done.Add(1)
	peer.party = engine.NewParty(peer.Name.Name, peer.Kind == identity.Gateway, peer.Site)
	peer.party.IsNode = peer.Kind == identity.Node
	l.begin(t, conn, raw, peer, at)
}

// errCrossingCalls refuses a caller that carries what others send, and sends nothing itself.
var errCrossingCalls = errors.New("a crossing calls nobody")

// reject ends a connection whose caller has an alert to read still.
func (l *Listener) reject(t *tls.Conn, conn *net.TCPConn) {
	conn.SetDeadline(time.Now().Add(lingering))
	conn.CloseWrite()
	io.CopyN(io.Discard, conn, 64<<10) // closing with bytes unread would take the alert with it
	t.Close()
	conn.Close()
}

// peekTLS tells whether the first byte of a connection is that of TLS. It waits without
// a buffer, and takes nothing.
func peekTLS(conn *net.TCPConn, raw syscall.RawConn, at *caller, patience time.Duration) (is bool, err error) {
	conn.SetReadDeadline(time.Now().Add(patience))
	if at.isOut.Load() { // it had to make room before the deadline was set
		return false, errDone
	}
	defer conn.SetReadDeadline(time.Time{})
	var b [1]byte
	var n int
	var failed error
	err = raw.Read(func(fd uintptr) bool {
		n, _, failed = syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		return failed != syscall.EAGAIN && failed != syscall.EINTR
	})
	switch {
	case err != nil:
		return false, err
	case failed != nil:
		return false, failed
	case n == 0:
		return false, io.EOF
	}
	return b[0] == tlsRecord, nil
}

// Identity is how an inbound listener knows its callers.
type Identity struct {
	Credentials *identity.Credentials
	Mode        func() string // required, optional or none
	Handshakes  *Handshakes
	// Unproven is told of a request, or a TCP connection, that is let in without an identity
	// where one is asked for, and from which IP address; nil: nobody is.
	Unproven func(address string)

	made   sync.Once
	server *tls.Config
}

// config is for connections of callers. A certificate that is shown must be good,
// whatever the mode.
func (i *Identity) config() *tls.Config {
	i.made.Do(func() { i.server = i.Credentials.ServerConfig(false) })
	return i.server
}

// letIn tells of what is let in without an identity: remote is HOST:PORT. Where none is
// asked for that says nothing.
func (i *Identity) letIn(remote string) {
	if i == nil || i.Unproven == nil || i.Mode() != rules.IdentityOptional {
		return
	}
	if end := strings.LastIndexByte(remote, ':'); end >= 0 {
		remote = remote[:end]
	}
	i.Unproven(strings.Trim(remote, "[]"))
}

// notLetIn tells of what access rules refuse without an identity.
func (i *Identity) notLetIn(remote, request string) {
	if i != nil {
		i.Handshakes.NotLetIn(remote, request)
	}
}

// isGood tells whether a caller's connection may go on after the request under way.
func (l *Listener) isGood(peer *member) bool {
	return peer == nil || l.Identity.Credentials.IsGood(&peer.Peer, time.Now())
}

// callerOf is who calls: the member that proved to, or else the source's own.
func callerOf(s *Source, m *member) string {
	if m != nil {
		return m.Name.Name
	}
	return s.Hop.Caller
}

func siteOf(s *Source, m *member) string {
	if m != nil {
		return m.Peer.Site
	}
	return s.Site
}
