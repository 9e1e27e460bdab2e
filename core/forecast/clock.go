package forecast

import "time"

// event is what a timer is for.
type event uint8

const (
	idle      event = iota
	arrival         // of a stream's next request
	waited          // an exchange has waited
	deadline        // of a try
	workEnded       // of a job's own time
)

// timer is one place in the clock.
type timer struct {
	at    time.Duration
	seq   uint64 // earlier set is earlier run
	place int32  // in the heap, counted from 1; 0: not set
	what  event
	call  *call
	job   *job
	of    *stream
}

// clock runs timers in order: a heap with four children to each node, in which
// every timer knows its place, so that it can be taken out (J. W. J. Williams,
// "Algorithm 232: Heapsort", 1964; D. B. Johnson, 1975).
type clock struct {
	now  time.Duration
	seq  uint64
	heap []*timer
}

func before(a, b *timer) bool { return a.at < b.at || a.at == b.at && a.seq < b.seq }

func (c *clock) set(t *timer, at time.Duration, what event) {
	if t.place > 0 {
		c.unset(t)
	}
	c.seq++
	t.at, t.seq, t.what = max(at, c.now), c.seq, what
	c.heap = append(c.heap, t)
	c.up(len(c.heap)-1, t)
}

func (c *clock) unset(t *timer) {
	if t.place == 0 {
		return
	}
	i, last := int(t.place)-1, len(c.heap)-1
	moved := c.heap[last]
	c.heap[last] = nil
	c.heap = c.heap[:last]
	t.place = 0
	if i < last {
		if i > 0 && before(moved, c.heap[(i-1)/4]) {
			c.up(i, moved)
		} else {
			c.down(i, moved)
		}
	}
}

// next takes the first timer out; nil: none is set.
func (c *clock) next() *timer {
	if len(c.heap) == 0 {
		return nil
	}
	t := c.heap[0]
	c.unset(t)
	c.now = t.at
	return t
}

func (c *clock) up(i int, t *timer) {
	for i > 0 {
		p := (i - 1) / 4
		if !before(t, c.heap[p]) {
			break
		}
		c.heap[i] = c.heap[p]
		c.heap[i].place = int32(i + 1)
		i = p
	}
	c.heap[i] = t
	t.place = int32(i + 1)
}

func (c *clock) down(i int, t *timer) {
	for {
		least := 4*i + 1
		if least >= len(c.heap) {
			break
		}
		for k := least + 1; k < min(4*i+5, len(c.heap)); k++ {
			if before(c.heap[k], c.heap[least]) {
				least = k
			}
		}
		if !before(c.heap[least], t) {
			break
		}
		c.heap[i] = c.heap[least]
		c.heap[i].place = int32(i + 1)
		i = least
	}
	c.heap[i] = t
	t.place = int32(i + 1)
}
