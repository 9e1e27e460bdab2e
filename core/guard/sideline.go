package guard

import (
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/rules"
)

// Ramp is how long an instance that is new, or back, takes to come to its full
// share of requests.
const Ramp = 10 * time.Second

// leastWeight is the weight of an instance that has just begun.
const leastWeight = 0.05

// longestOut is how many times its first length a stay outside can have.
const longestOut = 10

// Why an instance does not simply take its share. Without any of these it does.
const (
	isOut         = 1 << iota // sidelined
	isDown                    // its health checks fail
	isShut                    // a drill takes it down
	isRamping                 // its share of requests rises
	isUnreachable             // no connection to it comes about
)

// Peer is what a caller knows of one instance. It is safe for concurrent use.
type Peer struct {
	Sick    atomic.Bool // what its health checks say, whether or not they are believed
	Doubted atomic.Bool // the service lost sight of it, and of most of its version at once

	flags  atomic.Uint32
	streak atomic.Int32 // failures in a row
	busy   atomic.Int32
	rose   atomic.Int64 // when it began to take requests
	due    atomic.Int64 // until, for a look without the lock
	reach  reach

	// Guarded by the lock of its Sideline.
	trial bool // the one request that decides is under way
	until time.Duration
	since time.Duration
	back  time.Duration // when it last came back
	last  time.Duration // how long it was out then
	times int           // how often it was taken out in a row
	cause string
}

// Clear tells whether the peer takes its full share of requests.
func (p *Peer) Clear() bool { return p.flags.Load() == 0 }

// Begin makes a peer ramp up to its share of requests over Ramp.
func (p *Peer) Begin(now time.Duration) {
	p.rose.Store(int64(now))
	p.flags.Or(isRamping)
}

// Weight is the part of its share that the peer takes now; 0: it takes none.
func (p *Peer) Weight(now time.Duration) float64 {
	f := p.flags.Load()
	switch {
	case f == 0:
		return 1
	case f&(isOut|isDown|isShut|isUnreachable) != 0:
		return 0
	}
	w := float64(now-time.Duration(p.rose.Load())) / float64(Ramp)
	if w >= 1 {
		p.flags.And(^uint32(isRamping))
		return 1
	}
	return max(w, leastWeight)
}

// SetDown tells the peer what its health checks say. It changes nothing when
// they said so before.
func (p *Peer) SetDown(down bool, now time.Duration) { p.set(isDown, down, now) }

// SetShut tells the peer that a drill takes it down, or does not any more.
func (p *Peer) SetShut(shut bool, now time.Duration) { p.set(isShut, shut, now) }

func (p *Peer) set(flag uint32, on bool, now time.Duration) {
	if (p.flags.Load()&flag != 0) == on {
		return
	}
	if on {
		p.flags.Or(flag)
		return
	}
	p.Begin(now)
	p.flags.And(^flag)
}

// IsOut tells whether the peer is sidelined.
func (p *Peer) IsOut() bool { return p.flags.Load()&isOut != 0 }

// IsDown tells whether the peer counts as unhealthy.
func (p *Peer) IsDown() bool { return p.flags.Load()&isDown != 0 }

// IsShut tells whether a drill takes the peer down.
func (p *Peer) IsShut() bool { return p.flags.Load()&isShut != 0 }

// Take and Release count the requests that the peer is busy with.
func (p *Peer) Take()     { p.busy.Add(1) }
func (p *Peer) Release()  { p.busy.Add(-1) }
func (p *Peer) Busy() int { return int(p.busy.Load()) }

// Sideline takes the instances of one version out that fail again and again,
// and lets them back by a single trial request. It is safe for concurrent use;
// a request that succeeds takes no lock.
type Sideline struct {
	rule  atomic.Pointer[rules.Sideline]
	mu    sync.Mutex // guards what follows
	peers []*Peer
	out   int
}

// Set tells which instances there are now and what holds for them; without a
// rule nobody is taken out. Instances that are out beyond what the rule allows
// come back, those first whose time ends first.
func (s *Sideline) Set(r *rules.Sideline, peers []*Peer, now time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rule.Store(r)
	s.peers, s.out = peers, 0
	for _, p := range peers {
		if p.IsOut() {
			s.out++
		}
	}
	for s.out > s.most() {
		var soonest *Peer
		for _, p := range peers {
			if p.IsOut() && (soonest == nil || p.until < soonest.until) {
				soonest = p
			}
		}
		s.letBack(soonest, now)
	}
}

// On tells whether instances are taken out at all.
func (s *Sideline) On() bool { return s.rule.Load() != nil }

// most is how many may be out at once. The caller holds mu.
func (s *Sideline) most() int {
	r := s.rule.Load()
	if r == nil {
		return 0
	}
	return len(s.peers) * int(r.Most) / int(rules.Whole)
}

func (s *Sideline) letBack(p *Peer, now time.Duration) {
	s.out--
	p.trial, p.back = false, now
	p.streak.Store(0)
	p.Begin(now)
	p.flags.And(^uint32(isOut))
}

// Good says that a request to the peer went well.
func (s *Sideline) Good(p *Peer) {
	if p.streak.Load() != 0 {
		p.streak.Store(0)
	}
}

// Failed says that a request to the peer failed, and how.
func (s *Sideline) Failed(p *Peer, cause string, now time.Duration) Change {
	r := s.rule.Load()
	if r == nil || int(p.streak.Add(1)) < r.After {
		return Same
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if r = s.rule.Load(); r == nil || p.IsOut() || s.out >= s.most() || int(p.streak.Load()) < r.After {
		return Same
	}
	if now-p.back >= p.last { // it did well for as long as it was out: that is forgiven
		p.times = 0
	}
	s.out++
	p.flags.Or(isOut)
	s.leave(p, r, cause, now)
	return Out
}

// leave begins a stay outside, twice as long as the one before.
func (s *Sideline) leave(p *Peer, r *rules.Sideline, cause string, now time.Duration) {
	length := r.For
	for range p.times {
		length = min(2*length, longestOut*r.For)
	}
	p.times = min(p.times+1, 8)
	p.trial, p.since, p.until, p.last, p.cause = false, now, now+length, length, cause
	p.due.Store(int64(p.until))
}

// Try claims the trial request of a sidelined peer, when its time is over and
// no other has it. Whoever gets it reports by Tried.
func (s *Sideline) Try(p *Peer, now time.Duration) bool {
	if int64(now) < p.due.Load() {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !p.IsOut() || p.trial || now < p.until || p.flags.Load()&(isDown|isShut) != 0 {
		return false
	}
	p.trial = true
	return true
}

// Tried tells how a trial request went. Without an answer, because the
// caller left, the next request is the trial.
func (s *Sideline) Tried(p *Peer, answered, good bool, cause string, now time.Duration) Change {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !p.IsOut() || !p.trial {
		return Same
	}
	switch r := s.rule.Load(); {
	case !answered || r == nil:
		p.trial = false
		return Same
	case !good:
		s.leave(p, r, cause, now)
		return Longer
	}
	s.letBack(p, now)
	return Back
}

// PeerState is how a sidelined peer stands.
type PeerState struct {
	Since, Until time.Duration
	Times        int // in a row
	Trial        bool
	Cause        string
}

// LetBack lets a sidelined peer take requests again before its time, since a person says
// so. It comes to its full share as one whose trial went well.
func (s *Sideline) LetBack(p *Peer, now time.Duration) Change {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !p.IsOut() {
		return Same
	}
	p.times = 0
	s.letBack(p, now)
	return Back
}

// State tells how the peer stands; false: it is not sidelined.
func (s *Sideline) State(p *Peer) (PeerState, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return PeerState{p.since, p.until, p.times, p.trial, p.cause}, p.IsOut()
}
