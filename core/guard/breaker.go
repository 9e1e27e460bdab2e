package guard

import (
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// Mode is the state of a breaker.
type Mode uint8

// The modes of a breaker.
const (
	Closed  Mode = iota // requests go through
	Open                // all are refused
	Probing             // a few are let through to see how they fare
)

func (m Mode) String() string { return [...]string{"closed", "open", "probing"}[m] }

// Change is what a report did to a state machine.
type Change uint8

// The changes; most reports change nothing.
const (
	Same Change = iota
	Opened
	Reopened // a probe failed
	Probes
	Reclosed // the probes went well
	Out      // the instance was taken out
	Longer   // its trial failed, and it stays out for longer
	Back     // it takes requests again
	Lost     // no connection to the instance comes about
	Found    // one does again
)

// Breaker stops requests to a version that fails. It is safe for concurrent
// use; while it is closed a request takes no lock.
//
// Its life is a row of periods, each in one mode: closed until the window says
// that too many failed, open for as long as the rule says, probing until enough
// probes went well (closed) or one did not (open). A permit holds for the period
// in which it was given; what is reported with it later says nothing.
type Breaker struct {
	rule  atomic.Pointer[rules.Breaker]
	state atomic.Uint32 // period and mode: what was begun in an earlier period says nothing
	bad   atomic.Int64  // when a failed or slow request was last seen, plus 1

	seen, failed, slow window

	mu    sync.Mutex // guards what follows, and every change of state
	since time.Duration
	until time.Duration
	sent  int           // probes under way, or good; in one that is probing
	given time.Duration // when the places of probes were last given out
	good  int
	why   [3]uint64 // requests, failed and slow ones in the window that opened it
}

// Permit is the permission to send one request. Every permit is given back by Done
// or Cancel.
type Permit uint32

func (p Permit) mode() Mode { return Mode(p & 3) }

// NewBreaker makes a closed breaker.
func NewBreaker(r *rules.Breaker, now time.Duration) *Breaker {
	b := &Breaker{since: now}
	b.rule.Store(r)
	b.state.Store(1 << 2)
	return b
}

// Set puts another rule in the place of the old one; what was seen under the
// old one still counts, unless the window is another. Probing begins anew with
// another number of probes.
func (b *Breaker) Set(r *rules.Breaker) {
	b.mu.Lock()
	defer b.mu.Unlock()
	old := b.rule.Swap(r)
	if old.Over != r.Over {
		b.clear()
	}
	if old.Probes != r.Probes && Mode(b.state.Load()&3) == Probing {
		b.turn(Probing, b.since)
	}
}

func (b *Breaker) clear() {
	b.seen.clear()
	b.failed.clear()
	b.slow.clear()
	b.bad.Store(0)
}

// Refuses tells whether a request would be refused now, without asking for permission
// for one, and how long it is until one may be let through.
func (b *Breaker) Refuses(now time.Duration) (wait time.Duration, refused bool) {
	if Mode(b.state.Load()&3) == Closed {
		return 0, false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.refuses(now)
}

func (b *Breaker) refuses(now time.Duration) (wait time.Duration, refused bool) {
	switch Mode(b.state.Load() & 3) {
	case Open:
		return max(b.until-now, 0), now < b.until
	case Probing:
		r := b.rule.Load()
		// A probe that has not come back after the time for which a breaker stays
		// open may never come back: its place is given to another.
		if b.sent >= r.Probes && now-b.given >= r.OpenFor {
			b.sent, b.given = b.good, now
		}
		return 0, b.sent >= r.Probes
	}
	return 0, false
}

// Allow asks for permission to send a request. Without it, wait tells how long the
// breaker stays open; 0: probes are under way.
func (b *Breaker) Allow(now time.Duration) (p Permit, wait time.Duration, ok bool, c Change) {
	if s := b.state.Load(); Mode(s&3) == Closed {
		return Permit(s), 0, true, Same
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if wait, refused := b.refuses(now); refused {
		return 0, wait, false, Same
	}
	switch Mode(b.state.Load() & 3) {
	case Open:
		b.turn(Probing, now)
		c = Probes
		b.sent = 1
	case Probing:
		b.sent++
	}
	return Permit(b.state.Load()), 0, true, c
}

// turn begins a new period. The caller holds mu.
func (b *Breaker) turn(m Mode, now time.Duration) {
	b.state.Store((b.state.Load()>>2+1)<<2 | uint32(m))
	b.since, b.given, b.sent, b.good = now, now, 0, 0
	b.clear()
	if m == Open {
		b.until = now + b.rule.Load().OpenFor
	}
}

// Done gives a permit back: how the request fared, and how long it took.
func (b *Breaker) Done(p Permit, failed bool, took, now time.Duration) Change {
	if uint32(p) != b.state.Load() {
		return Same
	}
	r := b.rule.Load()
	slow := r.Slow > 0 && took > r.SlowOver
	if p.mode() == Probing {
		return b.probed(p, failed && r.Errors > 0 || slow, now)
	}
	at := part(now, r.Over)
	b.seen.add(at)
	if failed {
		b.failed.add(at)
	}
	if slow {
		b.slow.add(at)
	}
	if failed || slow {
		b.bad.Store(int64(now) + 1)
	} else if last := b.bad.Load(); last == 0 || int64(now) >= last+int64(r.Over) {
		return Same
	}
	if !b.over(r, at) {
		return Same
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if uint32(p) != b.state.Load() || !b.over(r, at) {
		return Same
	}
	b.trip(at, now)
	return Opened
}

// trip opens the breaker for what its window holds. The caller holds mu.
func (b *Breaker) trip(at uint32, now time.Duration) {
	b.why = [3]uint64{b.seen.sum(at), b.failed.sum(at), b.slow.sum(at)}
	b.turn(Open, now)
}

// over tells whether the window says that the breaker is to open.
func (b *Breaker) over(r *rules.Breaker, at uint32) bool {
	n := b.seen.sum(at)
	reached := func(share rules.Percent, w *window) bool {
		return share > 0 && w.sum(at)*uint64(rules.Whole) >= uint64(share)*n
	}
	return n >= uint64(r.Least) && (reached(r.Errors, &b.failed) || reached(r.Slow, &b.slow))
}

func (b *Breaker) probed(p Permit, bad bool, now time.Duration) Change {
	b.mu.Lock()
	defer b.mu.Unlock()
	if uint32(p) != b.state.Load() {
		return Same
	}
	if bad {
		b.turn(Open, now)
		return Reopened
	}
	if b.good++; b.good >= b.rule.Load().Probes {
		b.turn(Closed, now)
		return Reclosed
	}
	return Same
}

// Spoil says that a request which looked well at first failed after all.
func (b *Breaker) Spoil(p Permit, now time.Duration) Change {
	if uint32(p) != b.state.Load() {
		return Same
	}
	r := b.rule.Load()
	if p.mode() == Probing {
		if r.Errors == 0 {
			return Same
		}
		return b.probed(p, true, now)
	}
	at := part(now, r.Over)
	b.failed.add(at)
	b.bad.Store(int64(now) + 1)
	if !b.over(r, at) {
		return Same
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if uint32(p) != b.state.Load() {
		return Same
	}
	b.trip(at, now)
	return Opened
}

// Cancel gives a permit back without a word on how the request fared.
func (b *Breaker) Cancel(p Permit) {
	if p.mode() != Probing {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if uint32(p) == b.state.Load() && b.sent > b.good {
		b.sent--
	}
}

// BreakerState is how a breaker stands.
type BreakerState struct {
	Mode   Mode
	Since  time.Duration // of the mode
	Until  time.Duration // end of the refusals of an open one
	Seen   uint64        // requests in the window; of an open or probing one, those that opened it
	Failed uint64
	Slow   uint64
}

// State is how the breaker stands now.
func (b *Breaker) State(now time.Duration) BreakerState {
	b.mu.Lock()
	defer b.mu.Unlock()
	at, mode := part(now, b.rule.Load().Over), Mode(b.state.Load()&3)
	if mode != Closed {
		return BreakerState{mode, b.since, b.until, b.why[0], b.why[1], b.why[2]}
	}
	return BreakerState{mode, b.since, b.until, b.seen.sum(at), b.failed.sum(at), b.slow.sum(at)}
}
