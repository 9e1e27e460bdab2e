// Package guard holds the small state machines that protect services. Time is
// passed in; nothing here reads a clock or starts anything.
package guard

import (
	"sync"
	"time"

	"nightjar/core/hash"
)

// MaxKeys is how many buckets a Limit keeps; the least recently used goes
// first, and comes back full.
const MaxKeys = 16 << 10

const limitShards = 16

// Limit is an exact token bucket for each of a bounded number of keys. It is
// safe for concurrent use. Requests with different keys rarely meet at a lock.
type Limit struct {
	count  int64 // tokens that come back in per
	per    int64 // nanoseconds
	full   int64 // level of a full bucket; a level of per is one token
	fills  int64 // nanoseconds in which an empty bucket fills up for certain
	shards []limitShard
}

// limitShard is some of the buckets, in the order of their use.
type limitShard struct {
	mu      sync.Mutex
	buckets map[string]*bucket
	front   bucket // next is the most recently used, prev the least
	most    int
	_       [24]byte // a cache line of its own
}

// bucket holds whole numbers only, so that nothing is lost to rounding: its
// level rises by count each nanosecond, and a token is worth per.
type bucket struct {
	key        string
	level      int64
	at         time.Duration // when level was right
	prev, next *bucket
}

// NewLimit makes a limit of count tokens in per, with burst tokens in a full
// bucket. Without keyed there is one bucket for all.
func NewLimit(count int, per time.Duration, burst int, keyed bool) *Limit {
	l := &Limit{count: int64(count), per: int64(per), full: int64(burst) * int64(per)}
	l.fills = l.full/l.count + 1
	n := 1
	if keyed {
		n = limitShards
	}
	l.shards = make([]limitShard, n)
	for i := range l.shards {
		s := &l.shards[i]
		s.buckets, s.most = map[string]*bucket{}, MaxKeys/limitShards
		s.front.prev, s.front.next = &s.front, &s.front
	}
	return l
}

// Taken is what became of asking for a token.
type Taken struct {
	OK   bool
	Left int           // whole tokens left
	Wait time.Duration // until a token will be there; 0 when one is left
}

// Take asks for one token of the key's bucket. now never goes back.
func (l *Limit) Take(key []byte, now time.Duration) Taken {
	s := &l.shards[0]
	if len(l.shards) > 1 {
		s = &l.shards[hash.Bytes(key)%limitShards]
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b := s.buckets[string(key)]
	if b == nil {
		b = s.make(string(key))
		b.level, b.at = l.full, now
	} else if passed := int64(now - b.at); passed > 0 {
		// Compared before it is multiplied, so that nothing overflows.
		if passed >= l.fills {
			b.level = l.full
		} else {
			b.level = min(b.level+passed*l.count, l.full)
		}
		b.at = now
	}
	s.touch(b)
	t := Taken{OK: b.level >= l.per}
	if t.OK {
		b.level -= l.per
	}
	t.Left = int(b.level / l.per)
	if t.Left == 0 {
		t.Wait = time.Duration((l.per - b.level + l.count - 1) / l.count)
	}
	return t
}

// make adds a bucket, in the place of the least recently used if need be.
func (s *limitShard) make(key string) *bucket {
	if len(s.buckets) >= s.most {
		old := s.front.prev
		old.prev.next, old.next.prev = old.next, old.prev
		delete(s.buckets, old.key)
	}
	b := &bucket{key: key}
	b.prev, b.next = b, b
	s.buckets[key] = b
	return b
}

// touch puts a bucket to the front.
func (s *limitShard) touch(b *bucket) {
	if s.front.next == b {
		return
	}
	b.prev.next, b.next.prev = b.next, b.prev
	b.prev, b.next = &s.front, s.front.next
	b.prev.next, b.next.prev = b, b
}

// Keys is how many buckets there are now.
func (l *Limit) Keys() int {
	n := 0
	for i := range l.shards {
		s := &l.shards[i]
		s.mu.Lock()
		n += len(s.buckets)
		s.mu.Unlock()
	}
	return n
}
