package h2

import (
	"encoding/binary"
	"errors"
	"time"

	"golang.org/x/net/http2/hpack"
)

// Costs of what a peer can ask for without bringing anything.
const (
	frameCost    = 1
	resetCost    = 4
	largeCost    = 50
	calmPerFrame = 4      // that a connection may cost more for each frame of DATA or HEADERS that is sent to it
	calmMost     = 20_000 // that is kept of it
)

// calm bounds frames that bring nothing: pings, settings, updates of windows, empty
// frames, resets.
type calm struct {
	perSecond     int
	spent, earned int
	since         time.Time
}

func (m *calm) take(n int) bool {
	if m.spent += n; m.spent <= m.perSecond+m.earned {
		return true
	}
	now := time.Now()
	if now.Sub(m.since) < time.Second {
		return false
	}
	m.spent, m.earned, m.since = n, 0, now
	return true
}

// earn gives a connection more room. What is long past does not count for ever.
func (m *calm) earn(n int) {
	if m.earned += n; m.earned-m.spent > calmMost {
		m.spent, m.earned = 0, calmMost
	}
}

// ask counts a frame that brings nothing.
func (c *Conn) ask(n int) error {
	c.mu.Lock()
	isCalm := c.calm.take(n)
	c.mu.Unlock()
	if !isCalm {
		return connError(EnhanceYourCalm, "too many frames that ask for work and bring nothing")
	}
	return nil
}

// take deals with a frame (RFC 9113, section 6).
func (c *Conn) take(kind, flags byte, id uint32, p []byte) error {
	if c.blockID != 0 && (kind != frameContinuation || id != c.blockID) {
		return connError(ProtocolError, "a header list is interrupted")
	}
	switch kind {
	case frameData:
		return c.takeData(flags, id, p)
	case frameHeaders:
		return c.takeHeaders(flags, id, p)
	case frameContinuation:
		return c.takeContinuation(flags, id, p)
	case frameReset:
		return c.takeReset(id, p)
	case frameSettings:
		return c.takeSettings(flags, id, p)
	case framePing:
		return c.takePing(flags, id, p)
	case frameGoAway:
		return c.takeGoAway(id, p)
	case frameWindow:
		return c.takeWindow(id, p)
	case framePush:
		return connError(ProtocolError, "nothing is to be pushed")
	case framePriority:
		switch {
		case id == 0:
			return connError(ProtocolError, "PRIORITY without a stream")
		case len(p) != 5:
			return streamError(FrameSizeError, "PRIORITY of a wrong length")
		case binary.BigEndian.Uint32(p)&maxWindow == id:
			return streamError(ProtocolError, "a stream that depends on itself")
		}
	}
	return c.ask(frameCost) // what is not known is passed over
}

// isIdle tells whether a stream has not been opened.
func (c *Conn) isIdle(id uint32) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if (id%2 == 1) == c.cfg.IsClient {
		return id >= c.nextID
	}
	return id > c.lastID
}

// find is a stream that is open on some side, and kept for the caller; nil: it is over, or
// has not begun.
func (c *Conn) find(id uint32) *Stream {
	c.mu.Lock()
	s := c.streams[id]
	if s != nil {
		s.to.Keep()
	}
	c.mu.Unlock()
	return s
}

// isForgotten tells whether a stream was reset here a short while ago: its peer may not
// have heard of it (RFC 9113, section 5.1).
func (c *Conn) isForgotten(id uint32) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range c.forgotten {
		if f == id {
			return true
		}
	}
	return false
}

func (c *Conn) takeData(flags byte, id uint32, p []byte) error {
	if id == 0 {
		return connError(ProtocolError, "DATA without a stream")
	}
	flow, isEnd := len(p), flags&flagEnd != 0
	p, err := unpad(p, flags)
	if err != nil {
		return err
	}
	c.mu.Lock()
	if c.recvLeft -= int64(flow); c.recvLeft < 0 {
		c.mu.Unlock()
		return connError(FlowControlError, "more DATA than the window of the connection allows")
	}
	s := c.streams[id]
	c.batch.add(c)
	if s == nil || s.gotEnd {
		c.creditConn(flow)
		c.mu.Unlock()
		switch {
		case s != nil:
			return streamError(StreamClosed, "DATA after the end")
		case c.isIdle(id):
			return connError(ProtocolError, "DATA on a stream that was not opened")
		case c.cfg.IsClient || c.isForgotten(id):
			return c.ask(frameCost)
		}
		return streamError(StreamClosed, "DATA on a stream that is over")
	}
	if flow == 0 && !isEnd && !c.calm.take(frameCost) {
		c.mu.Unlock()
		return connError(EnhanceYourCalm, "too many empty frames")
	}
	if flow > 0 {
		c.calm.earn(1)
	}
	if why := s.receive(len(p), flow, isEnd); why != nil {
		c.creditConn(flow)
		c.mu.Unlock()
		return why
	}
	s.to.Keep()
	if isEnd {
		s.finish()
	}
	c.mu.Unlock()
	s.to.Data(&c.batch, p, flow, isEnd)
	s.to.Release()
	return nil
}

// creditConn gives bytes of the connection's window back, some at a time. The caller holds
// mu, and flushes.
func (c *Conn) creditConn(n int) {
	if c.owed += n; c.owed < connWindow/4 || c.isDead {
		return
	}
	c.w = appendFrame(c.w, 4, frameWindow, 0, 0)
	c.w = appendUint32(c.w, uint32(c.owed))
	c.recvLeft += int64(c.owed)
	c.owed = 0
}

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
	}
	c.mu.Unlock()
	s.to.Head(&c.batch, &c.block, c.blockEnd)
	return nil
}

func (c *Conn) takeReset(id uint32, p []byte) error {
	switch {
	case len(p) != 4:
		return connError(FrameSizeError, "RST_STREAM of a wrong length")
	case id == 0 || c.isIdle(id):
		return connError(ProtocolError, "RST_STREAM on a stream that was not opened")
	}
	code := Code(binary.BigEndian.Uint32(p))
	c.mu.Lock()
	s := c.streams[id]
	if s != nil {
		s.to.Keep()
		s.close()
	}
	c.mu.Unlock()
	if s != nil {
		s.to.Gone(&c.batch, &Gone{Code: code, IsUnprocessed: code == Refused})
		s.to.Release()
	}
	return c.ask(resetCost)
}

func (c *Conn) takeSettings(flags byte, id uint32, p []byte) error {
	switch {
	case id != 0:
		return connError(ProtocolError, "SETTINGS of a stream")
	case flags&flagAck != 0 && len(p) > 0, len(p)%settingLength != 0:
		return connError(FrameSizeError, "SETTINGS of a wrong length")
	case flags&flagAck != 0:
		return nil
	}
	if err := c.setAll(p); err != nil {
		return err
	}
	c.pump(&c.batch) // their windows may have grown
	return nil
}

// setAll takes the peer's settings, and says so.
func (c *Conn) setAll(p []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for n := 0; len(p) > 0; p = p[settingLength:] {
		if n++; n > 64 {
			return connError(EnhanceYourCalm, "too many settings")
		}
		if err := c.set(binary.BigEndian.Uint16(p), binary.BigEndian.Uint32(p[2:])); err != nil {
			return err
		}
	}
	if !c.calm.take(frameCost) || len(c.w) > hardRoom {
		return connError(EnhanceYourCalm, "too many settings")
	}
	c.w = appendFrame(c.w, 0, frameSettings, flagAck, 0)
	c.batch.add(c)
	return nil
}

// set takes one of the peer's settings. The caller holds mu.
func (c *Conn) set(id uint16, v uint32) error {
	switch id {
	case settingTableSize:
		c.enc.setMax(v)
	case settingPush:
		if v > 1 || c.cfg.IsClient && v != 0 {
			return connError(ProtocolError, "ENABLE_PUSH has no such value")
		}
	case settingStreams:
		c.peerMax = v
	case settingWindow:
		if v > maxWindow {
			return connError(FlowControlError, "INITIAL_WINDOW_SIZE is too large")
		}
		more := int64(v) - c.sendStart
		c.sendStart = int64(v)
		for _, s := range c.streams {
			if s.sendLeft += more; s.sendLeft > maxWindow {
				return connError(FlowControlError, "the window of a stream is too large")
			}
			s.unblock()
		}
	case settingFrame:
		if v < maxFrame || v > 1<<24-1 {
			return connError(ProtocolError, "MAX_FRAME_SIZE has no such value")
		}
	case settingConnect:
		if v > 1 {
			return connError(ProtocolError, "ENABLE_CONNECT_PROTOCOL has no such value")
		}
	}
	return nil
}

func (c *Conn) takePing(flags byte, id uint32, p []byte) error {
	switch {
	case id != 0:
		return connError(ProtocolError, "PING of a stream")
	case len(p) != 8:
		return connError(FrameSizeError, "PING of a wrong length")
	case flags&flagAck != 0:
		c.asked.Store(0)
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.calm.take(frameCost) || len(c.w) > hardRoom {
		return connError(EnhanceYourCalm, "too many pings")
	}
	c.w = append(appendFrame(c.w, 8, framePing, flagAck, 0), p...)
	c.batch.add(c)
	return nil
}

func (c *Conn) takeGoAway(id uint32, p []byte) error {
	switch {
	case id != 0:
		return connError(ProtocolError, "GOAWAY of a stream")
	case len(p) < 8:
		return connError(FrameSizeError, "GOAWAY of a wrong length")
	}
	last, code := binary.BigEndian.Uint32(p)&maxWindow, Code(binary.BigEndian.Uint32(p[4:]))
	if !c.cfg.IsClient { // it takes none of ours, which there are not; its own go on
		return c.ask(frameCost)
	}
	var lost []*Stream
	c.mu.Lock()
	c.isLast = true
	for id, s := range c.streams {
		if id > last {
			s.to.Keep()
			lost = append(lost, s)
		}
	}
	for _, s := range lost {
		s.close()
	}
	c.endIfDone()
	c.mu.Unlock()
	for _, s := range lost {
		s.to.Gone(&c.batch, &Gone{Code: code, IsUnprocessed: true, Err: errors.New("the peer takes no more streams: " + code.String())})
		s.to.Release()
	}
	c.cfg.Handler.Leaves(c)
	return c.ask(frameCost)
}

func (c *Conn) takeWindow(id uint32, p []byte) error {
	if len(p) != 4 {
		return connError(FrameSizeError, "WINDOW_UPDATE of a wrong length")
	}
	more := int64(binary.BigEndian.Uint32(p) & maxWindow)
	if id == 0 {
		if more == 0 {
			return connError(ProtocolError, "a window is to grow by nothing")
		}
		c.mu.Lock()
		c.sendLeft += more
		isOver, isCalm := c.sendLeft > maxWindow, c.calm.take(frameCost)
		isWaiting := len(c.blocked) > 0
		c.mu.Unlock()
		switch {
		case isOver:
			return connError(FlowControlError, "the window of the connection is too large")
		case !isCalm:
			return connError(EnhanceYourCalm, "too many updates of windows")
		case isWaiting:
			c.pump(&c.batch)
		}
		return nil
	}
	if c.isIdle(id) {
		return connError(ProtocolError, "WINDOW_UPDATE on a stream that was not opened")
	}
	c.mu.Lock()
	isCalm := c.calm.take(frameCost)
	s := c.streams[id]
	isOver := false
	if s != nil {
		s.sendLeft += more
		isOver = s.sendLeft > maxWindow
		s.unblock()
	}
	isWaiting := len(c.blocked) > 0
	c.mu.Unlock()
	switch {
	case !isCalm:
		return connError(EnhanceYourCalm, "too many updates of windows")
	case more == 0:
		return streamError(ProtocolError, "a window is to grow by nothing")
	case isOver:
		return streamError(FlowControlError, "the window of the stream is too large")
	case isWaiting:
		c.pump(&c.batch)
	}
	return nil
}
