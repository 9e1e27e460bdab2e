package carry

import (
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// callerBody is the body of a request as it comes from the caller. An error of
// reading it is the caller's, and noted here, where it arises; so is the time that
// the caller lets the others wait.
type callerBody struct {
	from    io.ReadCloser
	read    atomic.Uint64
	isWhole atomic.Bool
	failed  atomic.Pointer[error]
	waiting atomic.Int64 // since when a read waits for the caller; 0: none does
	waited  atomic.Int64 // for how long reads did so far
	rate    float64      // bytes a second that have to come; 0: any
	most    uint64       // bytes in all; 0: any
	onEnd   func()       // called at the end of the body; nil: nothing is

	mu       sync.Mutex
	conn     *http.ResponseController // ends a read that waits; nil: the request is over
	isBroken atomic.Bool              // a read was ended that waited, so that the rest cannot be had

	reading sync.Mutex // held while something is read; guards isOver
	isOver  bool
}

// breakOff ends a read that waits for the caller, so that whoever reads goes on. Of
// a body that has come whole nothing is lost.
func (b *callerBody) breakOff(l *lifetime) {
	if b == nil || b.isWhole.Load() {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.conn != nil {
		b.isBroken.Store(true)
		l.isDeaf.Store(true)
		b.conn.SetReadDeadline(time.Unix(1, 0))
	}
}

// boundRead bounds a read that begins now, where bytes have to come at a rate.
func (b *callerBody) boundRead(now time.Time) {
	if b.rate == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.conn != nil && !b.isBroken.Load() {
		b.conn.SetReadDeadline(now.Add(rules.RateOver))
	}
}

// isBelowRate tells whether too few bytes came in the time that was waited for them.
func (b *callerBody) isBelowRate(read uint64, waited time.Duration) bool {
	return b.rate > 0 && waited >= rules.RateOver && float64(read) < b.rate*waited.Seconds()
}

// end says that the request is over: nobody reads any more, and its connection is
// not touched any more. A read that went on would have the server take its
// deadline away, and wait for the rest of the body.
func (b *callerBody) end(l *lifetime) {
	if b == nil {
		return
	}
	b.breakOff(l)
	b.mu.Lock()
	b.conn = nil
	b.mu.Unlock()
	b.reading.Lock()
	b.isOver = true
	b.reading.Unlock()
}

// maxLingering is how much of a body is dropped that still comes when the answer
// has gone.
const maxLingering = 16 << 20

// linger takes what still comes of the body, for a while, so that a caller that
// sends on finds the answer and not a connection that was reset (RFC 9112, section
// 9.6). Of one that sends nothing it expects nothing.
func (b *callerBody) linger(w http.ResponseWriter) {
	if b == nil || b.from == nil || b.isWhole.Load() || b.isBroken.Load() || b.failed.Load() != nil {
		return
	}
	conn := http.NewResponseController(w)
	if conn.Flush() != nil || conn.SetReadDeadline(time.Now().Add(lingering)) != nil {
		return
	}
	b.reading.Lock()
	defer b.reading.Unlock()
	b.isOver = true // for the transport
	io.CopyN(io.Discard, b.from, maxLingering)
}

func (b *callerBody) Read(p []byte) (int, error) {
	b.reading.Lock()
	defer b.reading.Unlock()
	if b.isOver {
		return 0, http.ErrBodyReadAfterClose
	}
	since := time.Now()
	b.boundRead(since)
	b.waiting.Store(since.UnixNano())
	n, err := b.from.Read(p)
	b.waiting.Store(0)
	waited := b.waited.Add(int64(time.Since(since)))
	read := b.read.Add(uint64(n))
	if b.isBelowRate(read, time.Duration(waited)) && err != io.EOF {
		n, err = 0, errSlowBody
	}
	if b.most > 0 && read > b.most {
		n, err = 0, errTooLarge
	}
	switch {
	case err == nil:
	case err == io.EOF:
		if b.onEnd != nil {
			b.onEnd()
		}
		b.isWhole.Store(true)
	case !b.isBroken.Load():
		b.failed.CompareAndSwap(nil, &err)
	}
	return n, err
}

// Close leaves the body open, for another attempt; the server closes it.
func (b *callerBody) Close() error { return nil }

// awaited is for how long reads have waited for the caller so far.
func (b *callerBody) awaited() time.Duration {
	sum := b.waited.Load()
	if since := b.waiting.Load(); since > 0 {
		sum += max(time.Now().UnixNano()-since, 0)
	}
	return time.Duration(sum)
}

// err is what went wrong with the body; nil: nothing so far.
func (b *callerBody) err() error {
	if b == nil {
		return nil
	}
	if p := b.failed.Load(); p != nil {
		return *p
	}
	return nil
}

// slowShare is the share of an attempt's time after which waiting for the caller's
// body is why it ran out.
const slowShare = 0.5

// isMissing tells whether the rest of the body has not come, whether or not it was read: with
// a connection at once the request would not have got further.
func (b *callerBody) isMissing() bool {
	if b == nil {
		return false
	}
	stream, isStream := b.from.(netBody)
	return isStream && stream.isMissing()
}

// isSlow tells whether an attempt of that length went by in waiting for the caller,
// who had kept the request waiting for before when it began.
func (b *callerBody) isSlow(before, took time.Duration) bool {
	return b != nil && !b.isWhole.Load() && float64(b.awaited()-before) >= slowShare*float64(took)
}
