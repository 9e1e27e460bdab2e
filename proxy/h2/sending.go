package h2

// Write writes a piece of a body, and with isEnd the end of this side. It returns how many
// bytes have gone on, and whether the end has; Receiver.Sent tells of the rest. The bytes that
// a stream is given which is over have gone on, and its end never does.
func (s *Stream) Write(b *Batch, p []byte, isEnd bool) (sent int, hasEnded bool) {
	c := s.c
	c.mu.Lock()
	if s.isOver || s.sentEnd || s.isEnding || c.isDead {
		c.mu.Unlock()
		return len(p), false
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
			return sent, isEnd
		}
	}
	s.pending = append(s.pending, p[sent:]...)
	c.cfg.Budget.Add(len(p) - sent)
	s.isEnding = isEnd
	s.unblock()
	c.mu.Unlock()
	return sent, false
}

// Pending is how many bytes wait for the peer.
func (s *Stream) Pending() int {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	return len(s.pending)
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
