package h2

import (
	"errors"
	"time"
)

// Stream is one stream of a connection. It lives in what its handler made for it, and
// may be used for another one when nobody keeps its receiver any more.
type Stream struct {
	c  *Conn
	id uint32
	to Receiver

	// Guarded by the connection.
	sendLeft int64 // of the peer's window
	recvLeft int64 // of ours
	window   int64 // ours, as it was last
	taken    int64 // bytes that were given on with this window
	owed     int   // of our window, to be given back
	held     int   // of the connection's window, to be given back when they have gone on
	length   int64 // of the body that still has to come; -1: any
	pending  []byte
	trailer  []field       // after what is pending
	isHead   bool          // of a client: it asks by HEAD
	hasHead  bool          // the head of the peer's message has come
	gotEnd   bool          // the peer's side is over
	sentEnd  bool          // our side is
	isEnding bool          // our side is over with what is pending
	isQueued bool          // it is among those that could send on
	isOver   bool          // it is not the connection's any more
	hasMoved bool          // some of what was pending has gone on since the last tick
	stuck    time.Duration // since when nothing has; 0: not known
	leaves   bool          // what still comes is not wanted: see Leave
}

// add takes a stream in. The caller holds mu.
func (c *Conn) add(s *Stream, id uint32, to Receiver) {
	*s = Stream{
		c:        c,
		id:       id,
		to:       to,
		sendLeft: c.sendStart,
		recvLeft: streamWindow,
		window:   streamWindow,
		length:   -1,
		pending:  s.pending[:0],
		trailer:  s.trailer[:0],
	}
	to.Keep()
	c.streams[id] = s
	if c.busy.Add(1) == 1 {
		c.cfg.Handler.Busy(c, true)
	}
}

// finish ends a stream both of whose sides are over. The caller holds mu.
func (s *Stream) finish() {
	if s.gotEnd && s.sentEnd {
		s.close()
	}
}

// close takes a stream out of its connection. The caller holds mu, and keeps the receiver.
func (s *Stream) close() {
	c := s.c
	if s.isOver {
		return
	}
	s.isOver = true
	c.cfg.Budget.Add(-len(s.pending))
	if s.pending = s.pending[:0]; cap(s.pending) > keptPending {
		s.pending = nil
	}
	clear(s.trailer)
	s.trailer = s.trailer[:0]
	c.creditConn(s.held)
	s.held = 0
	delete(c.streams, s.id)
	if c.busy.Add(-1) == 0 {
		c.cfg.Handler.Busy(c, false)
	}
	c.endIfDone()
	s.to.Release()
}

// keptPending is how much room a stream keeps for what waits to be sent on.
const keptPending = 4 << 10

// receive takes DATA in: n bytes of a body, and flow bytes of the windows. The caller holds mu.
func (s *Stream) receive(n, flow int, isEnd bool) error {
	if !s.hasHead {
		return streamError(ProtocolError, "DATA before the head of the message")
	}
	if s.recvLeft -= int64(flow); s.recvLeft < 0 {
		return streamError(FlowControlError, "more DATA than the window of the stream allows")
	}
	if s.length >= 0 {
		if s.length -= int64(n); s.length < 0 {
			return streamError(ProtocolError, "a body that is longer than its content-length")
		}
	}
	if isEnd {
		if s.length > 0 {
			return streamError(ProtocolError, "a body that is shorter than its content-length")
		}
		s.gotEnd = true
	}
	if s.c.cfg.Budget.IsOver() {
		s.held += flow
	} else {
		s.c.creditConn(flow)
	}
	return nil
}

// Credit gives bytes of the window back, since they have gone on.
func (s *Stream) Credit(b *Batch, n int) {
	if n == 0 {
		return
	}
	c := s.c
	c.mu.Lock()
	defer c.mu.Unlock()
	if s.isOver || c.isDead {
		return
	}
	if s.held > 0 {
		m := min(n, s.held)
		s.held -= m
		c.creditConn(m)
	}
	if s.leaves {
		b.add(c) // for what the connection gives back
		return
	}
	s.owed += n
	s.taken += int64(n)
	if s.gotEnd || int64(s.owed) < s.window/2 {
		b.add(c) // for what the connection gives back
		return
	}
	if s.taken > 4*s.window && s.window < streamWindowMax && !c.cfg.Budget.IsOver() {
		s.owed += int(s.window) // whoever takes so much as it comes is allowed more
		s.window *= 2
		s.taken = 0
	}
	c.w = appendUint32(appendFrame(c.w, 4, frameWindow, 0, s.id), uint32(s.owed))
	s.recvLeft += int64(s.owed)
	s.owed = 0
	b.add(c)
}

// Errors of Open.
var (
	ErrFull = errors.New("the connection has no room for another stream")
	ErrLast = errors.New("the connection takes no more streams")
)

// Open opens a stream of a client, in s, and begins its head: end it with Writer.End.
// isHead says that the request is a HEAD. The error is ErrFull or ErrLast.
func (c *Conn) Open(b *Batch, s *Stream, to Receiver, isHead bool) (*Writer, error) {
	c.mu.Lock()
	switch {
	case c.isLast || c.isDead || c.ended != nil:
		c.mu.Unlock()
		return nil, ErrLast
	case len(c.streams) >= min(c.cfg.Streams, int(c.peerMax)) || len(c.w) > hardRoom:
		c.mu.Unlock()
		return nil, ErrFull
	}
	c.add(s, c.nextID, to)
	s.isHead = isHead
	if c.nextID += 2; c.nextID > maxWindow { // numbers are not used twice
		c.isLast = true
	}
	return c.begin(b, s), nil
}

// Room is how many more streams a client may open now.
func (c *Conn) Room() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.isLast || c.isDead || c.ended != nil {
		return 0
	}
	return max(min(c.cfg.Streams, int(c.peerMax))-len(c.streams), 0)
}

// Reset ends the stream before its end.
func (s *Stream) Reset(b *Batch, code Code) {
	c := s.c
	c.mu.Lock()
	defer c.mu.Unlock()
	if s.isOver {
		return
	}
	s.to.Keep()
	c.resetLocked(s.id, s, code)
	b.add(c)
	s.to.Release()
}

// Leave says that what the peer still sends on a stream is not wanted, since this side has
// said everything. It is reset a little later: some clients forget an answer that they have
// not read to its end when the reset comes (RFC 9113, section 8.1, forbids that).
func (s *Stream) Leave(b *Batch) {
	c := s.c
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case s.isOver:
	case c.isLast || len(c.streams) > c.cfg.Streams/2: // its place is needed
		s.to.Keep()
		c.resetLocked(s.id, s, NoError)
		b.add(c)
		s.to.Release()
	default:
		s.leaves, s.stuck = true, 0
	}
}

// lingers is for how long at least a stream is left open after Leave, until the next tick.
const lingers = 500 * time.Millisecond

// resetLocked writes a reset, and takes the stream out if there is one.
func (c *Conn) resetLocked(id uint32, s *Stream, code Code) {
	if !c.isDead {
		c.w = appendUint32(appendFrame(c.w, 4, frameReset, 0, id), uint32(code))
	}
	c.forget(id)
	if s != nil {
		s.close()
	}
}

// forget remembers that a stream was ended here. The caller holds mu.
func (c *Conn) forget(id uint32) {
	c.forgotten[c.forgot%len(c.forgotten)] = id
	c.forgot++
}
