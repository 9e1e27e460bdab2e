package carry

import (
	"context"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/proxy/outside"
)

// pair are two ways on from net/http: HTTP/1.1, and HTTP/2 where the instance speaks
// nothing else.
type pair struct {
	http1 *http.Transport
	http2 *http.Transport
}

// dialFunc opens a connection to host:port.
type dialFunc func(ctx context.Context, network, address string) (net.Conn, error)

func newPair(dial1, dial2 dialFunc) pair {
	two := new(http.Protocols)
	two.SetUnencryptedHTTP2(true)
	two.SetHTTP2(true)
	return pair{
		http1: &http.Transport{
			DisableCompression:     true,
			MaxIdleConnsPerHost:    512,
			IdleConnTimeout:        keptIdle,
			ExpectContinueTimeout:  time.Second,
			DialContext:            dial1,
			WriteBufferSize:        16 << 10,
			ReadBufferSize:         16 << 10,
			MaxResponseHeaderBytes: maxHeader,
		},
		http2: &http.Transport{
			DisableCompression:     true,
			IdleConnTimeout:        keptIdle,
			Protocols:              two,
			DialContext:            dial2,
			MaxResponseHeaderBytes: maxHeader,
			HTTP2:                  &http.HTTP2Config{SendPingTimeout: 15 * time.Second, PingTimeout: 10 * time.Second},
		},
	}
}

// CloseIdle closes the connections without a request.
func (t *pair) CloseIdle() {
	t.http1.CloseIdleConnections()
	t.http2.CloseIdleConnections()
}

// Transports are the ways on from net/http: to members of the mesh by mutual TLS, and to
// everybody else, without TLS and with it.
type Transports struct {
	Outside *outside.Dialer // to instances outside the mesh; nil: as the system does
	pair
	secure  pair                  // outside the mesh, by TLS
	shown   *identity.Credentials // to members; nil: none can be called by mutual TLS
	members atomic.Pointer[memberTransports]
	vias    atomic.Pointer[memberTransports] // the same through crossings, made anew every viaLife

	renewing sync.Mutex // guards old
	old      []*memberTransports
}

// NewTransports makes transports without a connection yet. shown is what members are
// shown; nil: they cannot be called.
func NewTransports(shown *identity.Credentials) *Transports {
	if shown == nil {
		shown = &identity.Credentials{}
	}
	t := &Transports{shown: shown}
	t.pair = newPair(t.plainly(asForgiving), t.plainly(asSniffed))
	t.secure = newPair(t.securely("http/1.1", asForgiving), t.securely("h2", asSniffed))
	return t
}

// asForgiving is how HTTP/1.1 sees a connection to an instance, and asSniffed how HTTP/2 does.
func asForgiving(c net.Conn) net.Conn { return &forgiving{Conn: c} }
func asSniffed(c net.Conn) net.Conn   { return &sniffed{Conn: c} }

// plainly opens connections without TLS.
func (t *Transports) plainly(as func(net.Conn) net.Conn) dialFunc {
	return func(ctx context.Context, _, address string) (net.Conn, error) {
		ctx, stop := context.WithTimeout(ctx, dialTimeout)
		defer stop()
		c, err := t.Outside.Dial(ctx, address)
		if err != nil {
			return nil, err
		}
		return as(c), nil
	}
}

// securely opens connections by TLS to instances outside the mesh, by the host of their place.
func (t *Transports) securely(protocol string, as func(net.Conn) net.Conn) dialFunc {
	return func(ctx context.Context, _, host string) (net.Conn, error) {
		to, err := placeAt(host)
		if err != nil {
			return nil, err
		}
		ctx, stop := context.WithTimeout(ctx, dialTimeout)
		defer stop()
		c, err := t.Outside.Dial(ctx, to.address)
		if err != nil {
			return nil, err
		}
		s, err := t.Outside.Secure(ctx, c, to.service, to.address, protocol)
		if err != nil {
			return nil, err
		}
		if protocol == "h2" && s.ConnectionState().NegotiatedProtocol != protocol {
			s.Close()
			return nil, errNotHTTP2
		}
		return as(s), nil
	}
}

// For is the transport for instances that speak HTTP/2 alone, or for all others.
func (t *pair) For(isHTTP2 bool) http.RoundTripper {
	if isHTTP2 {
		return t.http2
	}
	return t.http1
}

// To is the transport for requests to an instance: see Addressed.
func (t *Transports) To(in *engine.Instance, isHTTP2 bool) http.RoundTripper {
	switch {
	case in.Mutual:
	case in.Secure:
		return t.secure.For(isHTTP2)
	default:
		return t.For(isHTTP2)
	}
	slot := &t.members
	if in.Via != "" {
		slot = &t.vias
	}
	m, trusted := slot.Load(), t.shown.Trusted()
	if !m.isGood(trusted, in.Via != "") {
		m = t.renew(slot, trusted, in.Via != "")
	}
	return m.For(isHTTP2)
}

// isGood tells whether a request may go by m.
func (m *memberTransports) isGood(trusted uint64, isVia bool) bool {
	return m != nil && m.trusted == trusted && (!isVia || time.Since(m.made) < viaLife)
}

// renew makes new connections to members, since other authorities are trusted now, or those
// through crossings are too old. Those that there are end when their requests are over.
func (t *Transports) renew(slot *atomic.Pointer[memberTransports], trusted uint64, isVia bool) *memberTransports {
	t.renewing.Lock()
	defer t.renewing.Unlock()
	before := slot.Load()
	if before.isGood(trusted, isVia) {
		return before
	}
	m := &memberTransports{newPair(
		func(ctx context.Context, _, host string) (net.Conn, error) {
			c, err := t.dial(ctx, host)
			if err != nil {
				return nil, err
			}
			return &forgiving{Conn: c}, nil
		},
		func(ctx context.Context, _, host string) (net.Conn, error) {
			c, err := t.dial(ctx, host)
			if err != nil {
				return nil, err
			}
			return &sniffed{Conn: c}, nil
		},
	), trusted, time.Now()}
	slot.Store(m)
	if before != nil {
		if t.old = append(t.old, before); len(t.old) > maxOld {
			t.old = t.old[1:]
		}
		before.CloseIdle()
	}
	return m
}

// maxOld is how many generations of connections are looked after. A connection that is
// older ends by itself when it is idle.
const maxOld = 4

// dial opens a connection to a member, by the host of its place.
func (t *Transports) dial(ctx context.Context, host string) (*memberConn, error) {
	to, err := placeAt(host)
	if err != nil {
		return nil, err
	}
	return members{t.shown, t.Outside}.dial(ctx, to)
}

// Sweep ends connections that are idle and were made by authorities that are not trusted
// any more, or lead to an address that a name no longer has; call it every few seconds.
func (t *Transports) Sweep() {
	if t.Outside.HasMoved() {
		t.pair.CloseIdle()
		t.secure.CloseIdle()
	}
	t.renewing.Lock()
	defer t.renewing.Unlock()
	for _, old := range t.old {
		old.CloseIdle()
	}
}

// CloseIdle closes the connections without a request.
func (t *Transports) CloseIdle() {
	t.pair.CloseIdle()
	t.secure.CloseIdle()
	for _, slot := range []*atomic.Pointer[memberTransports]{&t.members, &t.vias} {
		if m := slot.Load(); m != nil {
			m.CloseIdle()
		}
	}
	t.Sweep()
}

// memberTransports are connections to members under the same authorities.
type memberTransports struct {
	pair
	trusted uint64 // see identity.Credentials.Trusted
	made    time.Time
}
