package h2

import (
	"time"
	"unsafe"
)

// Batch is what somebody wrote to connections and still has to flush. It is for one
// goroutine.
type Batch struct{ dirty []*Conn }

func (b *Batch) add(c *Conn) {
	if !c.isDirty.Load() && c.isDirty.CompareAndSwap(false, true) {
		b.dirty = append(b.dirty, c)
	}
}

// Flush writes what was written to connections, as far as they take it. It does not wait.
func (b *Batch) Flush() {
	for len(b.dirty) > 0 {
		last := len(b.dirty) - 1
		c := b.dirty[last]
		b.dirty[last] = nil
		b.dirty = b.dirty[:last]
		c.flush(b)
	}
}

// flush writes what the system takes, and gives the rest to a goroutine. What can go on
// then is told to its receivers, who write more into the batch.
func (c *Conn) flush(b *Batch) {
	c.isDirty.Store(false)
	c.mu.Lock()
	if c.flushing || c.isDead {
		c.mu.Unlock()
		return
	}
	c.flushing = true
	for len(c.w) > 0 && !c.isDead {
		p := c.w
		c.w, c.spare = c.spare, nil
		c.mu.Unlock()
		rest, err := c.wire.tryWrite(p)
		c.mu.Lock()
		if err != nil {
			c.fail(err)
			break
		}
		if len(rest) > 0 {
			c.draining.Go(func() { c.drain(p, rest) })
			c.mu.Unlock()
			return
		}
		c.reuse(p)
		if len(c.blocked) > 0 {
			c.mu.Unlock()
			c.pump(b)
			c.mu.Lock()
		}
	}
	c.flushing = false
	if c.endIfDone(); c.ended != nil {
		c.room.Broadcast() // see awaitWritten
	}
	c.mu.Unlock()
}

// reuse keeps room for what is written next. The caller holds mu.
func (c *Conn) reuse(p []byte) {
	if cap(p) > keptRoom {
		return
	}
	if c.w == nil {
		c.w = p[:0]
	} else if c.spare == nil {
		c.spare = p[:0]
	}
}

// fail ends the connection, since it cannot be written to. The reader finds out. The
// caller holds mu.
func (c *Conn) fail(err error) {
	c.isDead = true
	if c.ended == nil {
		c.ended = err
	}
	c.room.Broadcast()
	c.wire.interrupt()
}

// drain writes what the system did not take at once: a slow peer has a goroutine of its
// own, and no reader waits for it. p is what rest is of.
func (c *Conn) drain(p, rest []byte) {
	err := c.wire.writeRest(rest, time.Now().Add(c.patience(len(rest))))
	c.mu.Lock()
	c.flushing = false
	c.reuse(p)
	if err != nil && !c.isDead {
		c.fail(err)
	}
	c.mu.Unlock()
	var b Batch
	c.pump(&b)
	b.add(c)
	b.Flush()
	c.mu.Lock()
	c.room.Broadcast()
	c.mu.Unlock()
}

func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }
