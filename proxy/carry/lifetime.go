package carry

import (
	"cmp"
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Limits of time.
const (
	dialTimeout   = time.Second            // for a connection to come about
	placeGrace    = time.Second            // a caller that takes nothing keeps its place for so long at least
	stallTimeout  = 2 * time.Minute        // a peer that takes no byte for so long is given up
	headerTimeout = 10 * time.Second       // for the head of a request
	idleTimeout   = 2 * time.Minute        // of a caller's connection without a request
	bodyPatience  = 50 * time.Millisecond  // a short body that takes longer is streamed
	watchAfter    = 10 * time.Millisecond  // an attempt that takes longer has its caller watched
	lingering     = 500 * time.Millisecond // for a refused caller to take its answer
	lastWords     = 250 * time.Millisecond // for the answers to requests that were cut off
)

// Why a request or an attempt is given up.
var (
	errCallerLeft = errors.New("the caller left")
	errDraining   = errors.New("this proxy ends")
	errDeadline   = errors.New("no answer in time")
	errStalled    = errors.New("it took no more bytes")
	errTooLarge   = errors.New("the body of the request is larger than this gateway takes")
	errSlowBody   = errors.New("the body of the request did not come in time")
)

// isEnd tells whether an error is why a request or an attempt was ended here.
func isEnd(err error) bool {
	for _, end := range []error{
		context.Canceled, errCallerLeft, errDraining, errDeadline, errStalled, errSlowBody, errTooLarge,
	} {
		if errors.Is(err, end) {
			return true
		}
	}
	return false
}

// lifetime owns the time of a request and of the attempt that is under way: the
// one place where they end before their answer, and the reason. Whatever a
// request waits for on either bearer (a dial, a write, the answer, a place in a
// line) is stopped through it.
//
// A request ends for one reason at most, the first; so does an attempt. The
// caller's leaving, its slow body and draining end the request, the deadline and a
// stall the attempt alone, after which another may begin.
type lifetime struct {
	// Of a request over net/http: done when the caller left, or by errDraining. It
	// says nothing any more once reading from the caller was broken off here.
	ctx    context.Context
	isDeaf atomic.Bool

	isOver  atomic.Bool // a look without the lock: request or attempt is set
	mu      sync.Mutex  // guards what follows
	number  uint64      // of the attempt, over all requests
	request error
	attempt error
	stop    func(why error) // interrupts what is waited for; nil: nothing is
}

// begin makes it the lifetime of another request.
func (l *lifetime) begin(ctx context.Context) {
	l.mu.Lock()
	l.ctx, l.request, l.attempt, l.stop = ctx, nil, nil, nil
	l.number++
	l.isOver.Store(false)
	l.isDeaf.Store(false)
	l.mu.Unlock()
}

// forget lets go of the request.
func (l *lifetime) forget() {
	l.mu.Lock()
	l.ctx, l.stop = nil, nil
	l.number++
	l.mu.Unlock()
}

// beginAttempt forgets why the attempt before ended.
func (l *lifetime) beginAttempt() {
	if !l.isOver.Load() {
		return
	}
	l.mu.Lock()
	l.attempt, l.stop = nil, nil
	l.isOver.Store(l.request != nil)
	l.mu.Unlock()
}

// endRequest gives the request up, and with it the attempt.
func (l *lifetime) endRequest(why error) {
	l.mu.Lock()
	l.end(&l.request, why)
}

// endAttempt gives the attempt up.
func (l *lifetime) endAttempt(why error) {
	l.mu.Lock()
	l.end(&l.attempt, why)
}

// expireAfter gives the attempt that begins now up by errDeadline after d, unless
// stop is called before. When stop is called later, it was given up. When isCallers says that
// the caller kept it waiting, the request is given up, by errSlowBody.
func (l *lifetime) expireAfter(d time.Duration, isCallers func() bool) (stop func()) {
	l.mu.Lock()
	l.number++
	number := l.number
	l.mu.Unlock()
	expire := func() {
		l.mu.Lock()
		switch {
		case l.number != number: // it was stopped too late, and the attempt is over
			l.mu.Unlock()
		case isCallers():
			l.end(&l.request, errSlowBody)
		default:
			l.end(&l.attempt, errDeadline)
		}
	}
	timer := time.AfterFunc(d, expire)
	return func() {
		if !timer.Stop() { // it may not have come so far yet
			expire()
		}
	}
}

// end unlocks mu, which the caller holds, before it interrupts.
func (l *lifetime) end(which *error, why error) {
	if *which == nil {
		*which = why
	}
	l.isOver.Store(true)
	stop := l.stop
	l.mu.Unlock()
	if stop != nil {
		stop(why)
	}
}

// onEnd sets what interrupts the wait that begins now; nil: nothing is waited for
// any more. It is called at once when the end came already.
func (l *lifetime) onEnd(stop func(why error)) {
	l.mu.Lock()
	l.stop = stop
	why := cmp.Or(l.request, l.attempt)
	l.mu.Unlock()
	if why != nil && stop != nil {
		stop(why)
	}
}

// ended says why the request is given up; nil: it is not.
func (l *lifetime) ended() error {
	if why := l.given(); why != nil {
		return why
	}
	if l.ctx != nil && !l.isDeaf.Load() && l.ctx.Err() != nil {
		if context.Cause(l.ctx) == errDraining {
			return errDraining
		}
		return errCallerLeft
	}
	return nil
}

// given is why the request was given up here; what then breaks in consequence says
// nothing.
func (l *lifetime) given() error {
	if !l.isOver.Load() {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.request
}

// cause says why the attempt is given up, with its request or alone; nil: it goes on.
func (l *lifetime) cause() error {
	if why := l.ended(); why != nil {
		return why
	}
	if !l.isOver.Load() {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.attempt
}

// alarm wakes a request that waits.
type alarm struct {
	woken chan struct{}
	waker func()
	ender func(error) // waker, for lifetime.onEnd
}

func newAlarm() alarm {
	woken := make(chan struct{}, 1)
	wake := func() {
		select {
		case woken <- struct{}{}:
		default: // it has not heard the last one yet
		}
	}
	return alarm{woken, wake, func(error) { wake() }}
}

// callerWatch notices that the caller of a connection leaves while its request is
// under way. It is started only when something takes long, so that quick requests
// do not pay. It reads nothing: it looks whether there is something to read.
type callerWatch struct {
	isOn  bool
	ended chan struct{} // closed when it has seen enough
}

// start begins to watch; left is called when the caller leaves. Over TLS it says so
// before it does.
func (w *callerWatch) start(raw syscall.RawConn, isSecure bool, left func()) {
	if w.isOn {
		return
	}
	w.isOn, w.ended = true, make(chan struct{})
	go func(ended chan struct{}) {
		defer close(ended)
		isGone := false
		err := raw.Read(func(fd uintptr) bool {
			var b [len(closingAlert)]byte
			n, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
			if err == syscall.EAGAIN || err == syscall.EINTR {
				return false
			}
			isGone = err != nil || n == 0 || isSecure && b == closingAlert
			return true // the next request came: the watch sees no further
		})
		if err == nil && isGone {
			left()
		}
	}(w.ended)
}

// closingAlert begins a record of TLS 1.3 that has room for an alert alone (RFC 8446,
// section 5.2): two bytes, their type, and the tag of the cipher. No request is so short.
var closingAlert = [5]byte{0x17, 3, 3, 0, 2 + 1 + 16}

// stop ends the watch before the connection is read again. interrupt ends a read
// that waits.
func (w *callerWatch) stop(interrupt func()) {
	if !w.isOn {
		return
	}
	interrupt()
	<-w.ended
	w.isOn = false
}
