package guard

import (
	"sync"
	"sync/atomic"

	"nightjar/core/rules"
)

// Queue bounds the requests that are under way at once, and those that wait for
// a place, first in first out. It is safe for concurrent use; a request that
// finds a place takes no lock.
type Queue struct {
	now atomic.Uint64 // requests under way in the upper half, waiting in the lower
	cap atomic.Uint64 // the same of what is allowed

	mu          sync.Mutex // guards the line and every change of the lower half
	first, last *Ticket
}

// Ticket is a place in the line. It may be used again once Leave has been
// called, or once it was called up and its place was given back.
type Ticket struct {
	next, prev *Ticket
	called     atomic.Bool
	wake       func()
}

// Entry is the answer to Enter.
type Entry uint8

// The entries.
const (
	Enters Entry = iota // it has a place
	Waits               // it waits in the line
	Full                // neither
)

// NewQueue makes an empty queue.
func NewQueue(r *rules.Queue) *Queue {
	q := new(Queue)
	q.Set(r)
	return q
}

const one = 1 << 32

// Set puts another rule in the place of the old one. When it allows more, those
// who wait longest are called up.
func (q *Queue) Set(r *rules.Queue) {
	q.cap.Store(uint64(r.InFlight)<<32 | uint64(r.Waiting))
	q.mu.Lock()
	woken := q.callUp()
	q.mu.Unlock()
	for _, wake := range woken {
		wake()
	}
}

// Enter asks for a place. A request that waits is called up by wake, which may
// be called from any goroutine, before Enter returns even; its Ticket tells.
// With a nil ticket nobody waits.
func (q *Queue) Enter(t *Ticket, wake func()) Entry {
	most := q.cap.Load() >> 32
	for s := q.now.Load(); s>>32 < most && s&(one-1) == 0; s = q.now.Load() {
		if q.now.CompareAndSwap(s, s+one) {
			return Enters
		}
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	for {
		s, limit := q.now.Load(), q.cap.Load()
		switch {
		case s>>32 < limit>>32 && q.first == nil:
			if q.now.CompareAndSwap(s, s+one) {
				return Enters
			}
		case t == nil || s&(one-1) >= limit&(one-1):
			return Full
		case q.now.CompareAndSwap(s, s+1):
			t.called.Store(false)
			t.wake, t.next, t.prev = wake, nil, q.last
			if q.last == nil {
				q.first = t
			} else {
				q.last.next = t
			}
			q.last = t
			return Waits
		}
	}
}

// unlink takes a ticket out of the line. The caller holds mu.
func (q *Queue) unlink(t *Ticket) {
	if t.prev == nil {
		q.first = t.next
	} else {
		t.prev.next = t.next
	}
	if t.next == nil {
		q.last = t.prev
	} else {
		t.next.prev = t.prev
	}
	t.next, t.prev = nil, nil
}

// callUp gives free places to those who wait longest. The caller holds mu.
func (q *Queue) callUp() (woken []func()) {
	for q.first != nil {
		s := q.now.Load()
		if s>>32 >= q.cap.Load()>>32 {
			return woken
		}
		if !q.now.CompareAndSwap(s, s+one-1) {
			continue
		}
		woken = append(woken, q.call())
	}
	return woken
}

// call takes the first ticket out of the line and marks it. The caller holds mu.
func (q *Queue) call() (wake func()) {
	t := q.first
	q.unlink(t)
	wake = t.wake
	t.called.Store(true)
	return wake
}

// Called tells whether a ticket that waited has a place now.
func (t *Ticket) Called() bool { return t.called.Load() }

// Leave takes a ticket out of the line. False: it was called up meanwhile and
// has a place.
func (q *Queue) Leave(t *Ticket) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if t.called.Load() {
		return false
	}
	q.unlink(t)
	q.now.Add(^uint64(0))
	return true
}

// Exit gives a place back, to the first in the line if there is one.
func (q *Queue) Exit() {
	for {
		s := q.now.Load()
		if s&(one-1) == 0 {
			if q.now.CompareAndSwap(s, s-one) {
				return
			}
			continue
		}
		q.mu.Lock()
		var wake func()
		done := false
		if s = q.now.Load(); q.first != nil && s>>32 <= q.cap.Load()>>32 {
			if done = q.now.CompareAndSwap(s, s-1); done {
				wake = q.call()
			}
		} else {
			done = q.now.CompareAndSwap(s, s-one)
		}
		q.mu.Unlock()
		if done {
			if wake != nil {
				wake()
			}
			return
		}
	}
}

// QueueState is how a queue stands.
type QueueState struct{ InFlight, Waiting, InFlightMax, WaitingMax int }

// State is how the queue stands now.
func (q *Queue) State() QueueState {
	s, limit := q.now.Load(), q.cap.Load()
	return QueueState{int(s >> 32), int(s & (one - 1)), int(limit >> 32), int(limit & (one - 1))}
}
