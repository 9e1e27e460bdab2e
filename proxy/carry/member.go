package carry

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/identity"
	"nightjar/proxy/h2"
	"nightjar/proxy/outside"
)

// viaLife is for how long a connection through a crossing is used for new requests: a
// crossing cannot see requests, so one that is to end waits until callers have made other
// connections.
const viaLife = time.Minute

// memberConn is a connection to another member, by mutual TLS.
type memberConn struct {
	*tls.Conn
	tcp   *net.TCPConn
	under *h2.Under
	peer  identity.Peer
	until time.Time // for how long it is good for new requests
}

// member is a caller that proved who it is.
type member struct {
	identity.Peer
	party engine.Party
}

// unproven is why no secure connection to a service came about.
type unproven struct {
	service string
	err     error
}

func (e unproven) Error() string {
	return fmt.Sprintf("no secure connection to %s: %s", e.service, e.err)
}
func (e unproven) Unwrap() error { return e.err }

// place is where an instance is reached.
type place struct {
	service string
	address string // host:port, of its crossing if it has a name there
	name    string // by which a crossing knows it, or isFar; empty: it is near
}

// isFar stands for a name where an instance at another site is called at its own address.
const isFar = "far"

func placeOf(in *engine.Instance) place {
	switch {
	case in.Via != "":
		return place{in.Service, in.Via, engine.CrossingName(in.ID)}
	case in.IsFar:
		return place{in.Service, in.Address, isFar}
	}
	return place{service: in.Service, address: in.Address}
}

func (p place) isVia() bool { return p.name != "" && p.name != isFar }

// members opens connections to other members.
type members struct {
	shown   *identity.Credentials
	outside *outside.Dialer // finds crossings by their names
}

// dial opens a connection to an instance, which has to prove that it is one of its service.
// It comes about within dialTimeout; the proof may take longer, where a machine is busy.
func (m members) dial(ctx context.Context, to place) (*memberConn, error) {
	if m.shown == nil || !m.shown.IsReady() {
		return nil, unproven{to.service, errors.New("this proxy has no certificate yet")}
	}
	conn, err := m.connect(ctx, to)
	if err != nil {
		return nil, err
	}
	tcp := conn.(*net.TCPConn)
	server := ""
	if to.name != "" {
		watchFar(tcp)
	}
	if to.isVia() {
		server = to.name
	}
	under := h2.NewUnder(tcp)
	t, peer, err := m.shown.Client(ctx, under, identity.Name{Kind: identity.Service, Name: to.service}, server)
	if err != nil {
		conn.Close()
		if to.isVia() {
			err = saidByCrossing(err)
		}
		if outside.IsBroken(err) {
			return nil, &net.OpError{Op: "dial", Net: "tcp", Addr: conn.RemoteAddr(), Err: err}
		}
		return nil, unproven{to.service, err}
	}
	c := &memberConn{Conn: t, tcp: tcp, under: under, peer: peer, until: peer.Expires}
	if end := time.Now().Add(viaLife); to.isVia() && end.Before(c.until) {
		c.until = end
	}
	return c, nil
}

func (m members) connect(ctx context.Context, to place) (net.Conn, error) {
	ctx, stop := context.WithTimeout(ctx, dialTimeout)
	defer stop()
	if to.isVia() {
		return m.outside.Dial(ctx, to.address)
	}
	return dialer.DialContext(ctx, "tcp", to.address)
}

// host is the place in addresses of net/http, which keeps connections by it: no connection
// to one service goes to another. placeAt undoes it.
func (p place) host() string {
	host, port, _ := net.SplitHostPort(p.address)
	return p.service + "~" + p.name + "~" + strings.ReplaceAll(host, ":", "_") + ":" + port
}

func placeAt(text string) (place, error) {
	host, port, err := net.SplitHostPort(text)
	if err != nil {
		return place{}, err
	}
	service, rest, ok := strings.Cut(host, "~")
	name, at, isWhole := strings.Cut(rest, "~")
	if !ok || !isWhole {
		return place{}, fmt.Errorf("%s is not the name of an instance", text)
	}
	if six := strings.ReplaceAll(at, "_", ":"); net.ParseIP(six) != nil {
		at = six
	}
	return place{service, net.JoinHostPort(at, port), name}, nil
}
