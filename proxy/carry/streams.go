package carry

import (
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// What callers of HTTP/2 may do in a second. Streams that are reset as soon as they
// are opened cost the caller nothing and everybody else a lot. Resets are counted for
// all connections of an address together: one that is ended is quickly followed by
// another.
const (
	streamsPerSecond = 10_000 // that a connection opens
	resetsPerSecond  = 100    // that an address gives up before their answer, with as many again at once
)

// maxStreams bounds the streams of a connection that are open at once (RFC 9113,
// section 6.5.2, asks for no fewer).
const maxStreams = 100

// streamsOf bounds the streams of a connection to a handler; 0: as usual. Those to an
// inbound proxy carry the requests of many.
func streamsOf(h Handler) int {
	if _, isInbound := h.(*Inbound); isInbound {
		return 0
	}
	return maxStreams
}

// isSpent tells whether a new connection is not to speak HTTP/2, since others of its
// address reset too many streams just now.
func (s *server) isSpent(conn net.Conn) bool {
	if streamsOf(s.handler) == 0 {
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

// streams bounds what a connection of HTTP/2 does with its streams.
type streams struct {
	conn    net.Conn
	address string
	resets  *resets

	second atomic.Int64 // of the clock, in which streams were opened last
	opened atomic.Int64 // in that second
	isOver atomic.Bool
}

// open counts a stream that is opened. False: the connection has ended, since there
// were too many. Streams share no lock.
func (s *streams) open(now time.Time) bool {
	if second := now.Unix(); s.second.Swap(second) != second {
		s.opened.Store(0)
	}
	if s.opened.Add(1) > streamsPerSecond {
		s.end()
	}
	return !s.isOver.Load()
}

// reset counts a stream that was given up before its answer.
func (s *streams) reset(now time.Time) {
	if !s.resets.take(s.address, now) {
		s.end()
	}
}

func (s *streams) end() {
	if s.isOver.CompareAndSwap(false, true) {
		s.conn.Close()
	}
}
