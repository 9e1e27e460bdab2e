package proxy

import (
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// watch looks out for the caller's leaving while its request is under way. It
// is started only when something takes long, so that quick requests do not pay.
type watch struct {
	on      bool
	ended   chan struct{} // closed when it has seen enough
	gone    atomic.Bool
	cut     atomic.Bool // the proxy ends
	mu      sync.Mutex
	stop    func() // ends what the request waits for
	stopped bool
}

func (c *plain) left() bool { return c.gone.Load() }

// watchFor starts the watch, or gives it something else to stop.
func (c *plain) watchFor(stop func()) {
	c.mu.Lock()
	c.stop = stop
	now := c.stopped
	c.mu.Unlock()
	if now && stop != nil {
		stop()
	}
	if c.on {
		return
	}
	c.on, c.ended = true, make(chan struct{})
	go func(ended chan struct{}) {
		defer close(ended)
		err := c.raw.Read(func(fd uintptr) bool {
			var b [1]byte
			n, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
			switch {
			case err == syscall.EAGAIN || err == syscall.EINTR:
				return false
			case err != nil || n == 0:
				c.gone.Store(true)
			}
			return true
		})
		if err == nil && c.gone.Load() {
			c.interrupt()
		}
	}(c.ended)
}

// interrupt ends what the request waits for.
func (c *plain) interrupt() {
	c.mu.Lock()
	c.stopped = true
	stop := c.stop
	c.mu.Unlock()
	if stop != nil {
		stop()
	}
}

// cutOff ends a request that takes longer than the proxy has time for.
func (c *plain) cutOff() {
	c.cut.Store(true)
	c.interrupt()
}

// unwatch ends the watch before the connection is read again.
func (c *plain) unwatch() {
	if !c.on {
		return
	}
	c.conn.SetReadDeadline(time.Unix(1, 0))
	<-c.ended
	c.conn.SetReadDeadline(time.Time{})
	c.waitable = 0
	c.on = false
	c.mu.Lock()
	c.stop = nil
	c.mu.Unlock()
}
