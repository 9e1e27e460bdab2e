package h2

import (
	"encoding/binary"
	"errors"
	"time"
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

// flushSoon has the reader flush what the end of a stream gave back. The caller holds mu.
func (c *Conn) flushSoon() {
	if len(c.w) > 0 {
		c.batch.add(c)
	}
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
		c.flushSoon()
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
	if c.cfg.Settled != nil {
		c.cfg.Settled()
	}
	return nil
}

// setAll takes the peer's settings, and says so.
func (c *Conn) setAll(p []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.isSettled {
		c.isSettled, c.peerMax = true, usualStreams
	}
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
	c.flushSoon()
	c.endIfDone()
	c.mu.Unlock()
	why := &Gone{
		Code:          code,
		IsUnprocessed: true,
		Err:           errors.New("the peer takes no more streams: " + code.String()),
	}
	for _, s := range lost {
		s.to.Gone(&c.batch, why)
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
