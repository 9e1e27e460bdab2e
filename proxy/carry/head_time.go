package carry

import (
	"crypto/tls"
	"net"
	"sync/atomic"
	"time"

	"nightjar/proxy/h2"
)

// headTime bounds how long heads of requests may take to come on one connection of
// net/http, which knows one time for all of them.
type headTime struct {
	most      func() time.Duration
	isServing atomic.Bool // a request is under way, so that deadlines are not those of a head
}

// bound is a deadline, or an earlier one if it is that of a head.
func (h *headTime) bound(t time.Time) time.Time {
	if h.most == nil || h.isServing.Load() {
		return t
	}
	if left := time.Until(t); left > 0 && left <= headerTimeout {
		if most := h.most(); left > most {
			return time.Now().Add(most)
		}
	}
	return t
}

func (h *headTime) serving(is bool) {
	if h != nil {
		h.isServing.Store(is)
	}
}

// secureConn is a connection below the TLS of an outsider.
type secureConn struct {
	*h2.Under
	heads headTime
}

// SetReadDeadline is what net/http sets, by way of the connection of TLS.
func (s *secureConn) SetReadDeadline(t time.Time) error {
	return s.Under.SetReadDeadline(s.heads.bound(t))
}

// headsOf is the time of heads on a connection; nil: it is as built in.
func headsOf(conn net.Conn) *headTime {
	switch c := conn.(type) {
	case *begunConn:
		return &c.heads
	case *tls.Conn:
		if s, is := c.NetConn().(*secureConn); is {
			return &s.heads
		}
	}
	return nil
}
