package h2

import (
	"errors"
	"strings"
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
}

type field struct {
	name, value string
	isSecret    bool
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

// ErrStuck is why a stream is given up whose peer takes nothing of it.
var ErrStuck = errors.New("it takes no more bytes")

// endStuck gives up the streams whose peer has taken nothing for longer than it may.
func (c *Conn) endStuck(b *Batch, now time.Duration) {
	var stuck []*Stream
	c.mu.Lock()
	for _, s := range c.streams {
		switch {
		case len(s.pending) == 0:
			s.stuck = 0
		case s.stuck == 0 || s.hasMoved:
			s.stuck, s.hasMoved = now, false
		case now-s.stuck > c.patience(len(s.pending)):
			s.to.Keep()
			stuck = append(stuck, s)
		}
	}
	for _, s := range stuck {
		c.resetLocked(s.id, s, Cancel)
		b.add(c)
	}
	c.mu.Unlock()
	for _, s := range stuck {
		s.to.Gone(b, &Gone{Code: Cancel, IsOwn: true, Err: ErrStuck})
		s.to.Release()
	}
}

// patience is for how long the peer may take so many bytes.
func (c *Conn) patience(n int) time.Duration {
	if c.cfg.Patience == nil {
		return 2 * time.Minute
	}
	return c.cfg.Patience(n)
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

// Writer writes a header list, while the connection is locked.
type Writer struct {
	// Secret are names of fields that enter no table (see Block.Secret).
	Secret []string

	c      *Conn
	s      *Stream
	b      *Batch
	at     int  // where its frame begins
	isKept bool // it follows what is pending
}

// Begin begins a header list: the head of an answer, an interim answer, or a trailer. nil:
// the stream is over. End it with Writer.End.
func (s *Stream) Begin(b *Batch) *Writer {
	s.c.mu.Lock()
	if s.isOver || s.sentEnd || s.isEnding || s.c.isDead {
		s.c.mu.Unlock()
		return nil
	}
	return s.c.begin(b, s)
}

func (c *Conn) begin(b *Batch, s *Stream) *Writer {
	w := &c.writer
	*w = Writer{c: c, s: s, b: b, at: len(c.w), isKept: len(s.pending) > 0}
	if !w.isKept {
		c.w = appendFrame(c.w, 0, frameHeaders, flagEndHeaders, s.id)
		c.w = c.enc.begin(c.w)
	}
	return w
}

// Add adds a field. A name may have capitals.
func (w *Writer) Add(name, value string) { w.add(lower(name), value, false) }

// AddBytes adds a field whose value is good during the call alone.
func (w *Writer) AddBytes(name string, value []byte) { w.add(lower(name), text(value), true) }

func (w *Writer) add(name, value string, isBorrowed bool) {
	isSecret := isCredential(name) || w.isSecret(name)
	if w.isKept {
		if isBorrowed {
			value = strings.Clone(value)
		}
		w.s.trailer = append(w.s.trailer, field{name, value, isSecret})
		return
	}
	w.c.w = w.c.enc.field(w.c.w, name, value, isSecret, isBorrowed)
}

func (w *Writer) isSecret(name string) bool {
	for _, s := range w.Secret {
		if s == name {
			return true
		}
	}
	return false
}

// isCredential tells whether a field is to be kept from all tables, whoever wrote it.
func isCredential(name string) bool {
	switch len(name) {
	case 6:
		return name == "cookie"
	case 10:
		return name == "set-cookie"
	case 13:
		return name == "authorization"
	case 19:
		return name == "proxy-authorization"
	}
	return false
}

// End ends the list, and with isEnd the side of this end.
func (w *Writer) End(isEnd bool) {
	c, s := w.c, w.s
	if w.isKept {
		s.isEnding = isEnd
		c.mu.Unlock()
		return
	}
	c.endBlock(w.at, s.id, isEnd)
	if isEnd {
		s.sentEnd = true
		s.to.Keep()
		s.finish()
	}
	w.b.add(c)
	c.mu.Unlock()
	if isEnd {
		s.to.Release()
	}
}

// endBlock completes the frame of a header list that begins at a place, and splits one
// that is too long.
func (c *Conn) endBlock(at int, id uint32, isEnd bool) {
	c.calm.earn(calmPerFrame)
	flags := byte(flagEndHeaders)
	if isEnd {
		flags |= flagEnd
	}
	n := len(c.w) - at - frameHead
	if n <= maxFrame {
		c.w[at], c.w[at+1], c.w[at+2], c.w[at+4] = byte(n>>16), byte(n>>8), byte(n), flags
		return
	}
	list := append([]byte(nil), c.w[at+frameHead:]...)
	c.w = c.w[:at]
	kind := byte(frameHeaders)
	for flags &^= flagEndHeaders; len(list) > 0; kind, flags = frameContinuation, 0 {
		k := min(len(list), maxFrame)
		if k == len(list) {
			flags |= flagEndHeaders
		}
		c.w = append(appendFrame(c.w, k, kind, flags, id), list[:k]...)
		list = list[k:]
	}
}

// Write writes a piece of a body, and with isEnd the end of this side. It returns how many
// bytes have gone on; Receiver.Sent tells of the others. What a stream that is over is
// given has gone on.
func (s *Stream) Write(b *Batch, p []byte, isEnd bool) (sent int) {
	c := s.c
	c.mu.Lock()
	if s.isOver || s.sentEnd || s.isEnding || c.isDead {
		c.mu.Unlock()
		return len(p)
	}
	if len(s.pending) == 0 {
		sent = c.roomFor(s, len(p))
		isWhole := sent == len(p)
		if sent > 0 || isWhole && isEnd {
			c.put(s, p[:sent], isWhole && isEnd)
			b.add(c)
		}
		if isWhole {
			s.to.Keep()
			s.finish()
			c.mu.Unlock()
			s.to.Release()
			return sent
		}
	}
	s.pending = append(s.pending, p[sent:]...)
	c.cfg.Budget.Add(len(p) - sent)
	s.isEnding = isEnd
	s.unblock()
	c.mu.Unlock()
	return sent
}

// Pending is how many bytes wait for the peer.
func (s *Stream) Pending() int {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	return len(s.pending)
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

// roomFor is how many of n bytes may be written now. The caller holds mu.
func (c *Conn) roomFor(s *Stream, n int) int {
	return int(max(0, min(int64(n), c.sendLeft, s.sendLeft, int64(softRoom-len(c.w)))))
}

// put writes frames of DATA. The caller holds mu.
func (c *Conn) put(s *Stream, p []byte, isEnd bool) {
	c.sendLeft -= int64(len(p))
	s.sendLeft -= int64(len(p))
	for len(p) > maxFrame {
		c.w = append(appendFrame(c.w, maxFrame, frameData, 0, s.id), p[:maxFrame]...)
		p = p[maxFrame:]
		c.calm.earn(calmPerFrame)
	}
	flags := byte(0)
	if isEnd {
		flags, s.sentEnd = flagEnd, true
	}
	c.w = append(appendFrame(c.w, len(p), frameData, flags, s.id), p...)
	c.calm.earn(calmPerFrame)
}

// unblock puts a stream among those that could send on, when its own window lets it. The
// caller holds mu.
func (s *Stream) unblock() {
	if len(s.pending) > 0 && s.sendLeft > 0 && !s.isQueued {
		s.isQueued = true
		s.c.blocked = append(s.c.blocked, s)
		s.to.Keep()
	}
}

// sending is what has gone on of a stream.
type sending struct {
	s     *Stream
	n     int
	isEnd bool
}

// pump writes what was held back and may go on now, one stream after the other.
func (c *Conn) pump(b *Batch) {
	for isMore := true; isMore; {
		var gone [16]sending
		list := gone[:0]
		c.mu.Lock()
		isMore = false
		for range len(c.blocked) {
			if len(list) == cap(list) {
				isMore = true
				break
			}
			s := c.blocked[0]
			if !s.isOver && (c.sendLeft <= 0 || len(c.w) >= softRoom) {
				break
			}
			c.blocked = c.blocked[1:]
			s.isQueued = false
			if sent := c.sendOn(s); sent.n > 0 {
				list = append(list, sent) // s stays kept
				b.add(c)
			} else {
				s.to.Release()
			}
		}
		if len(c.blocked) == 0 {
			c.blocked = nil
		}
		c.mu.Unlock()
		for _, g := range list {
			g.s.to.Sent(b, g.n, g.isEnd)
			g.s.to.Release()
		}
	}
}

// sendOn writes what may go on of a stream. The caller holds mu.
func (c *Conn) sendOn(s *Stream) (out sending) {
	if s.isOver {
		return out
	}
	n := min(c.roomFor(s, len(s.pending)), 2*maxFrame) // so that others have their turn
	if n == 0 {
		return out
	}
	s.hasMoved = true
	isWhole := n == len(s.pending)
	hasTrailer := len(s.trailer) > 0
	c.put(s, s.pending[:n], isWhole && s.isEnding && !hasTrailer)
	c.cfg.Budget.Add(-n)
	out = sending{s, n, false}
	if !isWhole {
		s.pending = append(s.pending[:0], s.pending[n:]...)
		s.unblock()
		return out
	}
	if s.pending = s.pending[:0]; cap(s.pending) > keptPending {
		s.pending = nil
	}
	if hasTrailer {
		at := len(c.w)
		c.w = c.enc.begin(appendFrame(c.w, 0, frameHeaders, flagEndHeaders, s.id))
		for i := range s.trailer {
			f := &s.trailer[i]
			c.w = c.enc.field(c.w, f.name, f.value, f.isSecret, false)
		}
		c.endBlock(at, s.id, true)
		s.sentEnd = true
	}
	if out.isEnd = s.sentEnd; out.isEnd {
		s.finish()
	}
	return out
}
