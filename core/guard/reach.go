package guard

import (
	"sync"
	"time"
)

// How long a caller waits before it tries an instance again to which no
// connection came about: twice as long after each failure.
const (
	firstReachWait = 100 * time.Millisecond
	longestReach   = 5 * time.Second
)

// A driver that tries connections beside requests (see Peer.TryReach) comes first;
// a request is used for it only when none was tried for so long.
const reachGrace = time.Second

// reach is whether connections to an instance come about, as one caller sees it.
type reach struct {
	mu        sync.Mutex // guards what follows
	since     time.Duration
	due       time.Duration // when it is to be tried again
	wait      time.Duration
	trying    bool // since someone claimed it
	cause     string
	isByProxy bool // a connection alone says nothing: see Peer.Unreachable
}

// Unreachable says that no connection to the peer came about: it takes no
// requests until one does. isByProxy tells that connecting alone proves nothing,
// since it is the proxy beside the instance that cannot reach it; requests try it
// again then.
func (p *Peer) Unreachable(cause string, isByProxy bool, now time.Duration) Change {
	r := &p.reach
	r.mu.Lock()
	defer r.mu.Unlock()
	isNews := !p.IsUnreachable()
	switch {
	case isNews:
		r.since, r.wait = now, firstReachWait
		p.flags.Or(isUnreachable)
	case !r.trying: // a request that was under way when the others found out
		return Same
	default:
		r.wait = min(2*r.wait, longestReach)
	}
	r.cause, r.isByProxy, r.trying, r.due = cause, isByProxy, false, now+r.wait
	if isNews {
		return Lost
	}
	return Same
}

// Reached says that a connection to the peer came about.
func (p *Peer) Reached(now time.Duration) Change {
	if !p.IsUnreachable() {
		return Same
	}
	r := &p.reach
	r.mu.Lock()
	defer r.mu.Unlock()
	if !p.IsUnreachable() {
		return Same
	}
	r.trying = false
	p.set(isUnreachable, false, now)
	return Found
}

// IsUnreachable tells whether no connection to the peer came about when it was
// last tried.
func (p *Peer) IsUnreachable() bool { return p.flags.Load()&isUnreachable != 0 }

// TryReach claims the next attempt to reach the peer, when its time has come and
// no other has it. Whoever gets it reports by Unreachable or Reached. byRequest
// tells that a request is to be sent; otherwise a connection is only opened.
func (p *Peer) TryReach(byRequest bool, now time.Duration) bool {
	if !p.IsUnreachable() {
		return false
	}
	r := &p.reach
	r.mu.Lock()
	defer r.mu.Unlock()
	due := r.due
	switch {
	case byRequest && !p.IsOnlyUnreachable(), !byRequest && r.isByProxy:
		return false
	case byRequest && !r.isByProxy:
		due += reachGrace
	}
	if !p.IsUnreachable() || now < due {
		return false
	}
	r.trying, r.due = true, now+longestReach // should nobody report
	return true
}

// ReachState is how a peer stands that cannot be reached.
type ReachState struct {
	Since time.Duration
	Next  time.Duration // when it is tried again
	Cause string
}

// Reach tells how the peer stands; false: it can be reached.
func (p *Peer) Reach() (ReachState, bool) {
	if !p.IsUnreachable() {
		return ReachState{}, false
	}
	p.reach.mu.Lock()
	defer p.reach.mu.Unlock()
	return ReachState{p.reach.since, p.reach.due, p.reach.cause}, p.IsUnreachable()
}

// IsOnlyUnreachable tells whether the peer would take requests if it could be reached.
func (p *Peer) IsOnlyUnreachable() bool {
	return p.flags.Load()&(isUnreachable|isOut|isDown|isShut) == isUnreachable
}
