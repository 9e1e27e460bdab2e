package h2

import (
	"encoding/binary"

	"golang.org/x/net/http2/hpack"
)

func (c *Conn) emit(f hpack.HeaderField) {
	if !c.block.add(&f) {
		c.dec.SetEmitEnabled(false)
	}
}

func (c *Conn) takeHeaders(flags byte, id uint32, p []byte) error {
	if id == 0 {
		return connError(ProtocolError, "HEADERS without a stream")
	}
	p, err := unpad(p, flags)
	if err != nil {
		return err
	}
	c.blockErr = nil
	if flags&flagPriority != 0 {
		if len(p) < 5 {
			return connError(FrameSizeError, "HEADERS without the priority that they say they have")
		}
		if binary.BigEndian.Uint32(p)&maxWindow == id {
			c.blockErr = streamError(ProtocolError, "a stream that depends on itself")
		}
		p = p[5:]
	}
	c.block.reset()
	c.dec.SetEmitEnabled(true)
	c.blockID, c.blockEnd, c.blockSize, c.blockMore = id, flags&flagEnd != 0, 0, 0
	return c.takeFields(flags, p)
}

func (c *Conn) takeContinuation(flags byte, id uint32, p []byte) error {
	if c.blockID == 0 {
		return connError(ProtocolError, "CONTINUATION of nothing")
	}
	// Frames that are nearly empty cost more than they bring.
	if c.blockMore++; c.blockMore > 16+c.blockSize/256 {
		return connError(EnhanceYourCalm, "a header list in too many pieces")
	}
	return c.takeFields(flags, p)
}

// takeFields takes a piece of a header list. What is over the limits is decoded all the
// same, since the table of both ends has to stay one, but not without end.
func (c *Conn) takeFields(flags byte, p []byte) error {
	if c.blockSize += len(p); c.blockSize > 2*maxList {
		return connError(EnhanceYourCalm, "a header list without end")
	}
	if _, err := c.dec.Write(p); err != nil {
		return connError(CompressionError, err.Error())
	}
	if flags&flagEndHeaders == 0 {
		return nil
	}
	if err := c.dec.Close(); err != nil {
		return connError(CompressionError, err.Error())
	}
	id := c.blockID
	c.blockID = 0
	if c.block.IsTooLarge {
		c.counts.TooLarge.Add(1)
		if err := c.ask(largeCost); err != nil {
			return err
		}
	}
	if c.cfg.IsClient {
		return c.takeAnswer(id)
	}
	return c.takeRequest(id)
}

// takeRequest takes the head of a request, or its trailer.
func (c *Conn) takeRequest(id uint32) error {
	if s := c.find(id); s != nil {
		defer s.to.Release()
		return c.takeTrailer(s)
	}
	c.mu.Lock()
	lastID, isLast, isFull := c.lastID, c.isLast, len(c.streams) >= c.cfg.Streams
	c.mu.Unlock()
	switch {
	case id%2 == 0:
		return connError(ProtocolError, "a client has no streams with even numbers")
	case id <= lastID && c.isForgotten(id):
		return c.ask(resetCost)
	case id <= lastID:
		return connError(StreamClosed, "HEADERS on a stream that is over")
	}
	c.mu.Lock()
	c.lastID = id
	if isLast { // it was told, and knows
		c.forget(id)
	}
	c.mu.Unlock()
	if isLast {
		return c.ask(frameCost)
	}
	if c.blockErr != nil {
		return c.blockErr
	}
	if isFull {
		c.counts.Refused.Add(1)
		return streamError(Refused, "more streams at once than were allowed")
	}
	if why := c.block.asRequest(); why != "" && !c.block.IsTooLarge {
		return streamError(ProtocolError, why)
	}
	if c.blockEnd && c.block.length > 0 {
		return streamError(ProtocolError, "a content-length, and no body")
	}
	s, to := c.cfg.Handler.Open(c, &c.block)
	if s == nil {
		c.counts.Refused.Add(1)
		return streamError(Refused, "it is refused")
	}
	to.Keep()
	defer to.Release()
	c.mu.Lock()
	c.add(s, id, to)
	s.length = c.block.length
	s.hasHead = true
	s.gotEnd = c.blockEnd
	c.mu.Unlock()
	to.Head(&c.batch, &c.block, c.blockEnd)
	return nil
}

func (c *Conn) takeTrailer(s *Stream) error {
	c.mu.Lock()
	gotEnd, left := s.gotEnd, s.length
	c.mu.Unlock()
	switch why := c.block.asTrailer(); {
	case gotEnd:
		return streamError(StreamClosed, "HEADERS after the end")
	case c.blockErr != nil:
		return c.blockErr
	case c.block.IsTooLarge:
		return streamError(EnhanceYourCalm, "a trailer is too large")
	case why != "":
		return streamError(ProtocolError, why)
	case !c.blockEnd:
		return streamError(ProtocolError, "HEADERS that neither begin a message nor end it")
	case left > 0:
		return streamError(ProtocolError, "a body that is shorter than its content-length")
	}
	c.mu.Lock()
	s.gotEnd = true
	s.finish()
	c.flushSoon()
	c.mu.Unlock()
	s.to.Head(&c.batch, &c.block, true)
	return nil
}

// takeAnswer takes the head of an answer, an interim answer, or a trailer.
func (c *Conn) takeAnswer(id uint32) error {
	s := c.find(id)
	if s == nil {
		if c.isIdle(id) {
			return connError(ProtocolError, "HEADERS on a stream that was not opened")
		}
		return c.ask(frameCost)
	}
	defer s.to.Release()
	if s.hasHead {
		return c.takeTrailer(s)
	}
	why := c.block.asAnswer()
	switch {
	case c.blockErr != nil:
		return c.blockErr
	case c.block.IsTooLarge:
		return streamError(EnhanceYourCalm, "the head of its answer is too large")
	case why != "":
		return streamError(ProtocolError, why)
	case c.block.Status < 200 && c.blockEnd:
		return streamError(ProtocolError, "an interim answer ends the stream")
	case c.block.Status < 200:
		s.to.Head(&c.batch, &c.block, false)
		return c.ask(frameCost)
	}
	isEmpty := s.isHead || c.block.Status == 304 || c.block.Status == 204
	c.mu.Lock()
	s.hasHead = true
	s.length = -1
	if !isEmpty {
		s.length = c.block.length
	}
	if c.blockEnd {
		if s.length > 0 {
			c.mu.Unlock()
			return streamError(ProtocolError, "a content-length, and no body")
		}
		s.gotEnd = true
		s.finish()
		c.flushSoon()
	}
	c.mu.Unlock()
	s.to.Head(&c.batch, &c.block, c.blockEnd)
	return nil
}
