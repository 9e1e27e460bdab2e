package carry

import (
	"net"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// resetsPerSecond is how many streams of HTTP/2 an address may give up before their answer
// in a second, with as many again at once. Streams that are reset as soon as they are opened
// cost the caller nothing and everybody else a lot. They are counted for all connections of
// an address together: one that is ended is quickly followed by another.
const resetsPerSecond = 100

// maxStreams bounds the streams of a connection that are open at once (RFC 9113,
// section 6.5.2, asks for no fewer).
const maxStreams = 100

// isOutside tells whether callers of a handler are to be bounded, one by one. Connections
// to an inbound proxy carry the requests of many.
func isOutside(h Handler) bool {
	_, isInbound := h.(*Inbound)
	return !isInbound
}

// isSpent tells whether a new connection is not to speak HTTP/2, since others of its
// address reset too many streams just now.
func (s *server) isSpent(conn net.Conn) bool {
	if !isOutside(s.handler) {
		return false
	}
	host, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	return err == nil && s.resets.isSpent(host, time.Now())
}

// resets are the streams that were given up, by the address of their callers.
type resets struct {
	mu        sync.Mutex
	byAddress map[string]*rate.Limiter
}

// maxAddresses bounds the addresses that are told apart; past it all begin anew.
const maxAddresses = 4096

func (r *resets) take(address string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	a := r.byAddress[address]
	if a == nil {
		if r.byAddress == nil || len(r.byAddress) >= maxAddresses {
			r.byAddress = map[string]*rate.Limiter{}
		}
		a = rate.NewLimiter(resetsPerSecond, 2*resetsPerSecond)
		r.byAddress[address] = a
	}
	return a.AllowN(now, 1)
}

// isSpent tells whether an address has used up more than it may in a second, so that
// its new connections are not to begin anything.
func (r *resets) isSpent(address string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	a := r.byAddress[address]
	return a != nil && a.TokensAt(now) < resetsPerSecond
}
