package api

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"runtime"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"nightjar/identity"
	"nightjar/wire"
)

const (
	// heartbeat is how often a stream of snapshots shows that it is alive.
	heartbeat = 2 * time.Second
	// ackTime is how long a proxy may take to acknowledge before it gets more changes of
	// instances; below the time between two signs of life.
	ackTime = time.Second

	// handshakeRate bounds the handshakes that proxies begin, in a second and on each
	// processor, so that a thousand that start together leave time for those that are
	// connected. Others wait for handshakeWait at most.
	handshakeRate = 300
	maxJoin       = 64 << 10 // of a request to join, in bytes
	handshakeWait = 5 * time.Second
)

// peerKey is where a request of a proxy has its identity.Peer.
const peerKey = "peer"

// newMembers makes what proxies reach; see package wire. Everything but joining needs a
// certificate, and is about the proxy of the certificate alone.
func (s *Server) newMembers() *echo.Echo {
	e := echo.New()
	e.Logger, e.HTTPErrorHandler = s.log, s.fail
	e.Use(func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			most := int64(maxBody)
			if c.Request().URL.Path == wire.JoinPath {
				most = maxJoin // anybody may send it
			}
			bound(c, most)
			return next(c)
		}
	})
	e.POST(wire.JoinPath, s.join)
	g := e.Group(wire.Prefix[:len(wire.Prefix)-1], s.authenticate)
	g.PUT("/:id", s.register)
	g.GET("/:id", func(c *echo.Context) error { return c.NoContent(http.StatusNoContent) })
	g.DELETE("/:id", func(c *echo.Context) error {
		s.control.Fleet.Withdraw(c.Param("id"), c.QueryParam("nonce"))
		return c.JSON(http.StatusOK, wire.Withdrawn{KnownAfterMS: s.control.Fleet.BatchTime().Milliseconds()})
	})
	g.POST("/:id/certificate", s.renew)
	g.GET("/:id/snapshots", s.snapshots)
	g.GET("/:id/programs/:hash", s.program)
	g.POST("/:id/acks", func(c *echo.Context) error {
		var a wire.Ack
		if err := body(c, &a); err != nil {
			return err
		}
		if err := s.control.Fleet.Acknowledge(c.Param("id"), a); err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	})
	g.POST("/:id/telemetry", func(c *echo.Context) error {
		var d wire.Delta
		if err := body(c, &d); err != nil {
			return err
		}
		if err := s.control.Members.CheckDelta(peerOf(c), &d); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, s.control.Count(c.Param("id"), d))
	})
	g.POST("/:id/limits", func(c *echo.Context) error {
		var asks wire.LimitAsks
		if err := body(c, &asks); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, s.control.Limits.Deal(c.Param("id"), asks))
	})
	g.POST("/:id/seen", func(c *echo.Context) error {
		var seen wire.Seen
		if err := body(c, &seen); err != nil {
			return err
		}
		if err := s.control.Members.CheckSeen(peerOf(c), &seen); err != nil {
			return err
		}
		s.control.Feed.Report(seen)
		return c.NoContent(http.StatusNoContent)
	})
	return e
}

// handshakes bounds the handshakes that are begun.
type handshakes struct{ begun *rate.Limiter }

func newHandshakes() handshakes {
	processors := runtime.GOMAXPROCS(0)
	return handshakes{rate.NewLimiter(rate.Limit(handshakeRate*processors), 25*processors)}
}

// wait waits for the turn of one.
func (h handshakes) wait(hello *tls.ClientHelloInfo) error {
	ctx, stop := context.WithTimeout(hello.Context(), handshakeWait)
	defer stop()
	return h.begun.Wait(ctx)
}

// membersTLS is how proxies connect. A certificate is not verified before its request,
// so that the response can say what is wrong with it.
func (s *Server) membersTLS() *tls.Config {
	turns := newHandshakes()
	return &tls.Config{
		GetConfigForClient:     func(hello *tls.ClientHelloInfo) (*tls.Config, error) { return nil, turns.wait(hello) },
		MinVersion:             tls.VersionTLS13,
		SessionTicketsDisabled: true,
		NextProtos:             []string{"http/1.1"},
		ClientAuth:             tls.RequestClientCert,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			if own := s.control.Members.Node.Own(); own != nil {
				return own, nil
			}
			return nil, errors.New("the service has no certificate")
		},
	}
}

// authenticate lets a proxy do what its certificate allows.
func (s *Server) authenticate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		state := c.Request().TLS
		if state == nil {
			return failed(http.StatusUnauthorized, "identity", "proxies connect by TLS, with a certificate")
		}
		peer, err := s.control.Members.Node.Verify(state.PeerCertificates, time.Now())
		if err != nil {
			return failed(http.StatusUnauthorized, "identity", "this proxy is not a member: %s. Have it join again, "+
				"with a token (nightjar join-token create) or the join file of this machine", err)
		}
		if peer.ID != c.Param("id") {
			return failed(
				http.StatusForbidden,
				"not-yours",
				"the certificate is that of proxy %s, which may not speak for %s",
				peer.ID,
				c.Param("id"),
			)
		}
		c.Set(peerKey, peer)
		return next(c)
	}
}

func peerOf(c *echo.Context) identity.Peer {
	p, _ := c.Get(peerKey).(identity.Peer)
	return p
}

// remoteOf is where a request comes from.
func remoteOf(r *http.Request) netip.Addr {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}

func (s *Server) join(c *echo.Context) error {
	var j wire.Join
	if err := body(c, &j); err != nil {
		return err
	}
	joined, err := s.control.Members.Join(c.Request().Context(), j, remoteOf(c.Request()))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, joined)
}

func (s *Server) renew(c *echo.Context) error {
	var r wire.Renewal
	if err := body(c, &r); err != nil {
		return err
	}
	joined, err := s.control.Members.Renew(c.Request().Context(), peerOf(c), r)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, joined)
}

func (s *Server) register(c *echo.Context) error {
	var r wire.Registration
	if err := body(c, &r); err != nil {
		return err
	}
	peer, members := peerOf(c), s.control.Members
	if err := members.Check(c.Request().Context(), peer, r, remoteOf(c.Request())); err != nil {
		return err
	}
	lease, err := s.control.Fleet.Register(r)
	if err != nil {
		return err
	}
	byCurrent := members.Authority.IsByCurrent(c.Request().TLS.PeerCertificates)
	s.control.Fleet.Certify(r.ID, peer.URI(), peer.Expires, byCurrent)
	members.Lease(r, byCurrent, &lease)
	lease.Program = s.control.Upgrades.Offer(r.ID, r.Build)
	return c.JSON(http.StatusOK, lease)
}

// snapshots streams snapshots to one proxy, each as soon as something changed.
func (s *Server) snapshots(c *echo.Context) error {
	ctx, end, err := s.stream(c, &s.proxies)
	if err != nil {
		return err
	}
	defer end()
	id, peer := c.Param("id"), peerOf(c)
	ackNonce, detach, err := s.control.Fleet.Attach(id, c.Request().Header.Get("Nightjar-Nonce"))
	if err != nil {
		return err
	}
	defer detach()
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out := http.NewResponseController(w)
	alive := time.NewTicker(heartbeat)
	defer alive.Stop()
	write := func(line []byte) bool {
		out.SetWriteDeadline(time.Now().Add(writeTime))
		_, err := w.Write(line)
		return err == nil && out.Flush() == nil
	}
	if !write([]byte(`{"nonce":"` + ackNonce + "\"}\n")) {
		return nil
	}
	var seen uint64
	for {
		urgent := s.control.Fleet.Urgent()
		update, changed := s.control.Fleet.Next(id, seen)
		if update != nil {
			if seen = update.Sequence; !update.IsEmpty && !write(update.Line()) {
				return nil
			}
			if !update.IsUrgent {
				s.gather(ctx, urgent)
				if !update.IsEmpty {
					s.awaitAck(ctx, id, seen, urgent)
				}
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-alive.C:
			// It comes back by the certificate that it has by then, and registers again.
			isGood := s.control.Members.Node.IsGood(&peer, time.Now()) && s.control.Fleet.HasStream(id)
			if !isGood || !write([]byte("{}\n")) {
				return nil
			}
		case <-changed:
		}
	}
}

// gather waits for more changes of instances, until something urgent changes.
func (s *Server) gather(ctx context.Context, urgent <-chan struct{}) {
	t := time.NewTimer(s.control.Fleet.BatchTime())
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	case <-urgent:
	}
}

// awaitAck waits until a proxy has acknowledged a snapshot, until something urgent
// changes, for a while at most: one that is slow gets what changes meanwhile at once.
func (s *Server) awaitAck(ctx context.Context, id string, sequence uint64, urgent <-chan struct{}) {
	t := time.NewTimer(ackTime)
	defer t.Stop()
	for {
		isThere, acked := s.control.Fleet.Acknowledged(id, sequence)
		if isThere {
			return
		}
		select {
		case <-acked:
		case <-t.C:
			return
		case <-ctx.Done():
			return
		case <-urgent:
			return
		}
	}
}

// ServeProxies serves the endpoints of the proxies alone on l, until ctx is done.
func (s *Server) ServeProxies(ctx context.Context, l net.Listener, drain time.Duration) error {
	return s.serve(ctx, s.members, l, s.membersTLS(), drain)
}
