package carry

import (
	"net"
	"sync"
	"time"
)

// What one connection of HTTP/2 may do in a second, with as much again at once.
// Streams that are reset as soon as they are opened cost the caller nothing and
// everybody else a lot.
const (
	streamsPerSecond = 10_000 // that it opens
	resetsPerSecond  = 100    // that it gives up before their answer
)

// streams bounds what a connection of HTTP/2 does with its streams.
type streams struct {
	conn net.Conn

	mu     sync.Mutex // guards what follows
	at     time.Time
	opened float64 // tokens used
	resets float64
	isOver bool
}

// open counts a stream that is opened. False: the connection has ended, since there
// were too many.
func (s *streams) open(now time.Time) bool { return s.count(now, 1, 0) }

// reset counts a stream that was given up before its answer.
func (s *streams) reset(now time.Time) { s.count(now, 0, 1) }

func (s *streams) count(now time.Time, opened, resets float64) bool {
	s.mu.Lock()
	passed := now.Sub(s.at).Seconds()
	s.at = now
	s.opened = max(s.opened-passed*streamsPerSecond, 0) + opened
	s.resets = max(s.resets-passed*resetsPerSecond, 0) + resets
	isTooMuch := s.opened > 2*streamsPerSecond || s.resets > 2*resetsPerSecond
	isFirst := isTooMuch && !s.isOver
	s.isOver = s.isOver || isTooMuch
	isOver := s.isOver
	s.mu.Unlock()
	if isFirst {
		s.conn.Close()
	}
	return !isOver
}
