package forecast

import (
	"container/heap"
	"time"
)

// event is what a timer is for.
type event uint8

const (
	arrival   event = iota // of a stream's next request
	waited                 // an exchange has waited
	deadline               // of a try
	workEnded              // of a job's own time
)

// timer is one place in the clock.
type timer struct {
	at    time.Duration
	seq   uint64 // of two at one time the one that was set earlier comes first
	place int    // among timers, counted from 1; 0: not set
	what  event
	call  *call
	job   *job
	of    *stream
}

// clock runs timers in order.
type clock struct {
	now    time.Duration
	seq    uint64
	timers timers
}

func (c *clock) set(t *timer, at time.Duration, what event) {
	c.seq++
	t.at, t.seq, t.what = max(at, c.now), c.seq, what
	if t.place > 0 {
		heap.Fix(&c.timers, t.place-1)
	} else {
		heap.Push(&c.timers, t)
	}
}

func (c *clock) unset(t *timer) {
	if t.place > 0 {
		heap.Remove(&c.timers, t.place-1)
	}
}

// next takes the first timer out; nil: none is set.
func (c *clock) next() *timer {
	if len(c.timers) == 0 {
		return nil
	}
	t := heap.Pop(&c.timers).(*timer)
	c.now = t.at
	return t
}

// timers are a heap in which each knows its place.
type timers []*timer

func (h timers) Len() int { return len(h) }
func (h timers) Less(i, j int) bool {
	return h[i].at < h[j].at || h[i].at == h[j].at && h[i].seq < h[j].seq
}
func (h timers) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].place, h[j].place = i+1, j+1
}
func (h *timers) Push(x any) {
	t := x.(*timer)
	*h = append(*h, t)
	t.place = len(*h)
}
func (h *timers) Pop() any {
	last := len(*h) - 1
	t := (*h)[last]
	(*h)[last] = nil
	*h = (*h)[:last]
	t.place = 0
	return t
}
