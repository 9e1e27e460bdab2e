package h2

import (
	"errors"
	"io"
	"time"
)

// errEnded ends a connection that has nothing more to say.
var errEnded = errors.New("the connection has ended")

// end is the end of the connection: every stream is told, and the peer.
func (c *Conn) end(err error) {
	var broken *ConnError
	c.mu.Lock()
	if errors.As(err, &broken) && !c.isDead {
		c.appendGoAway(broken.Code, broken.Why)
	}
	streams := make([]*Stream, 0, len(c.streams))
	for _, s := range c.streams {
		s.to.Keep()
		streams = append(streams, s)
	}
	for _, s := range streams {
		s.close()
	}
	c.isLast = true
	c.mu.Unlock()
	why := &Gone{Code: InternalError, IsOwn: true, Err: err}
	if err == io.EOF {
		why.Err = io.ErrUnexpectedEOF
	}
	for _, s := range streams {
		s.to.Gone(&c.batch, why)
		s.to.Release()
	}
	c.cfg.Handler.Leaves(c)
	c.flush(&c.batch)
	if broken != nil {
		c.awaitWritten()
		if broken.Code == EnhanceYourCalm {
			c.counts.Flooded.Add(1)
		} else {
			c.counts.Broken.Add(1)
		}
		c.wire.linger(broken.Code == EnhanceYourCalm)
	} else if err == errEnded { // what the peer sends meanwhile must not take the GOAWAY away
		c.wire.linger(false)
	}
	c.mu.Lock()
	c.isDead = true
	c.room.Broadcast()
	c.mu.Unlock()
	c.wire.drop()
}

// Close ends the connection at once.
func (c *Conn) Close() {
	c.mu.Lock()
	c.isDead = true
	c.room.Broadcast()
	c.mu.Unlock()
	c.wire.close()
}

// Abandon ends a connection whose Serve has not returned as it should, since a receiver
// panicked; call it where that would have returned. All streams are told, unless it
// happened with the connection locked.
func (c *Conn) Abandon(err error) {
	if c.mu.TryLock() {
		c.ended = err
		c.mu.Unlock()
		c.end(err)
		c.batch.Flush()
	}
	c.wire.close()
}

// flooded ends the connection of a peer that asks for too much. The reader finds out.
func (c *Conn) flooded() {
	c.mu.Lock()
	c.ended = connError(EnhanceYourCalm, "too many frames that ask for work and bring nothing")
	c.mu.Unlock()
}

// GoAway tells the peer that no more streams are taken here, or opened. The connection
// ends with the last that there is. Streams of the peer that it has opened meanwhile are
// passed over: it knows that they were not looked at.
func (c *Conn) GoAway(b *Batch) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.isLast || c.isDead {
		return
	}
	c.isLast = true
	c.appendGoAway(NoError, "")
	b.add(c)
	c.endIfDone()
}

// awaitWritten waits, for a little, until the peer has taken what is written for it, since
// somebody else may be writing just now. The reader calls it.
func (c *Conn) awaitWritten() {
	end := time.Now().Add(lingerTime)
	c.mu.Lock()
	defer c.mu.Unlock()
	defer time.AfterFunc(lingerTime, func() {
		c.mu.Lock()
		c.room.Broadcast()
		c.mu.Unlock()
	}).Stop()
	for (c.flushing || len(c.w) > 0) && !c.isDead && time.Now().Before(end) {
		c.room.Wait()
	}
}

// endIfDone ends the reader when the last stream of a connection that takes no more is
// over, and what was written has gone. The caller holds mu.
func (c *Conn) endIfDone() {
	if c.isLast && len(c.streams) == 0 && len(c.w) == 0 && !c.flushing && c.ended == nil {
		c.ended = errEnded
		c.wire.interrupt()
	}
}

func (c *Conn) appendGoAway(code Code, why string) {
	why = why[:min(len(why), 128)]
	c.w = appendFrame(c.w, 8+len(why), frameGoAway, 0, 0)
	c.told = min(c.told, c.lastID) // which never grows
	c.w = appendUint32(c.w, c.told)
	c.w = appendUint32(c.w, uint32(code))
	c.w = append(c.w, why...)
}

// Tick ends what takes too long, streams whose peer takes nothing among it; call it every
// second or so, with a batch of the caller's own. idle is how long the connection may have
// no stream; ping, how long one with streams may be silent before its peer is asked, and for
// the answer; head, how long a frame and a header list may take to come. 0 is without end.
func (c *Conn) Tick(b *Batch, idle, ping, head time.Duration) {
	now := c.now()
	c.endStuck(b, now)
	silent := now - time.Duration(c.heard.Load())
	if c.busy.Load() == 0 && silent > time.Second {
		c.freeRoom()
	}
	switch begun := time.Duration(c.begun.Load()); {
	case head > 0 && begun > 0 && now-begun > head:
		c.interruptFor(connError(EnhanceYourCalm, "a frame or a header list does not come whole"))
	case c.busy.Load() == 0 && idle > 0 && silent > idle:
		c.GoAway(b)
	case ping > 0 && silent > ping:
		if asked := time.Duration(c.asked.Load()); asked > 0 {
			if now-asked > ping {
				c.interruptFor(errors.New("the peer does not answer a ping"))
			}
			return
		}
		c.asked.Store(int64(now))
		c.mu.Lock()
		if !c.isDead {
			c.w = appendFrame(c.w, 8, framePing, 0, 0)
			c.w = append(c.w, "nightjar"...)
			b.add(c)
		}
		c.mu.Unlock()
	}
}

// End ends the connection, and tells the peer why. Those who read find out.
func (c *Conn) End(code Code, why string) { c.interruptFor(connError(code, why)) }

// freeRoom lets go of what a connection keeps for writing.
func (c *Conn) freeRoom() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.spare = nil; len(c.w) == 0 {
		c.w = nil
	}
}

// interruptFor has the reader end the connection.
func (c *Conn) interruptFor(why error) {
	c.mu.Lock()
	if c.ended == nil {
		c.ended = why
	}
	c.room.Broadcast()
	c.mu.Unlock()
	c.wire.interrupt()
}

// ErrStuck is why a stream is given up whose peer takes nothing of it.
var ErrStuck = errors.New("it takes no more bytes")

// endStuck gives up the streams whose peer has taken nothing for longer than it may.
func (c *Conn) endStuck(b *Batch, now time.Duration) {
	var stuck, left []*Stream
	c.mu.Lock()
	for _, s := range c.streams {
		switch {
		case s.leaves && s.stuck == 0:
			s.stuck = now
		case s.leaves:
			if now-s.stuck >= lingers {
				left = append(left, s)
			}
		case len(s.pending) == 0:
			s.stuck = 0
		case s.stuck == 0 || s.hasMoved:
			s.stuck, s.hasMoved = now, false
		case now-s.stuck > c.patience(len(s.pending)):
			s.to.Keep()
			stuck = append(stuck, s)
		}
	}
	for _, s := range left {
		s.to.Keep()
		c.resetLocked(s.id, s, NoError)
		b.add(c)
	}
	for _, s := range stuck {
		c.resetLocked(s.id, s, Cancel)
		b.add(c)
	}
	c.mu.Unlock()
	for _, s := range left {
		s.to.Release()
	}
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
