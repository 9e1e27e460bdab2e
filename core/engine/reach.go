package engine

import (
	"maps"
	"slices"
	"sync"
	"time"

	"nightjar/core/guard"
)

// slowConnect is how long a connection has to have been waited for, in an attempt
// whose time ran out meanwhile, so that the instance counts as unreachable.
const slowConnect = 250 * time.Millisecond

// unreachables are the services of which an instance cannot be reached.
type unreachables struct {
	mu    sync.Mutex
	names map[string]bool
}

func (u *unreachables) add(service string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.names == nil {
		u.names = map[string]bool{}
	}
	u.names[service] = true
}

// services are those of the table with an instance that cannot be reached, by name.
func (u *unreachables) services(t *Table) (out []*service) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(u.names)) {
		s := t.services[name]
		if s == nil || !slices.ContainsFunc(s.all.peers, func(c *peer) bool { return c.IsUnreachable() }) {
			delete(u.names, name)
			continue
		}
		out = append(out, s)
	}
	return out
}

// noteReach notes what an outcome says of the way to the instance. What a caller
// sees itself beats whatever the service and its health checks say.
func (x *Exchange) noteReach(o *Outcome, now time.Duration) {
	switch c := x.peer; {
	case o.isLost(now - x.began):
		c.of.lose(c, o, now)
	case o.Status > 0 && o.Reason == "" && c.IsUnreachable():
		c.of.note(c.Reached(now), c.Instance, now)
	}
}

// isLost tells whether an attempt failed since no connection came about.
func (o *Outcome) isLost(took time.Duration) bool {
	return o.Reason == Unreachable || o.Reason == TimedOut && o.IsUnsent && took >= slowConnect
}

func (v *version) lose(c *peer, o *Outcome, now time.Duration) {
	cause := o.Detail
	if cause == "" {
		cause = "no connection in time"
	}
	change := c.Unreachable(cause, o.IsByProxy, now)
	v.memory.lost.add(v.service)
	v.note(change, c.Instance, now)
}

// mayGoElsewhere tells whether an attempt for which no connection came about is
// repeated at another instance. Nothing was sent, so that is no retry.
func (x *Exchange) mayGoElsewhere(o *Outcome, now time.Duration) bool {
	if !o.isLost(now-x.began) || !o.IsUnsent || o.IsSpent || now+leastLeft > x.deadline {
		return false
	}
	return x.pool.hasOther(x.peer.Peer, now) || x.fallback(now) != nil
}

// fallback is the target to go to instead of one without an instance; nil: none.
func (x *Exchange) fallback(now time.Duration) *target {
	by := x.route
	if by == nil {
		by = x.gate
	}
	if by == nil || by.otherwise == nil || x.to == by.otherwise || by.otherwise.pool.empty(now) {
		return nil
	}
	return by.otherwise
}

// goElsewhere sends the request to another instance, or to where its route sends
// it otherwise.
func (x *Exchange) goElsewhere(o *Outcome, now time.Duration) Step {
	v := x.peer.of
	x.verdict = verdictNone
	if v.counts.hold(o) {
		x.verdict = verdictBad
		x.tellSideline(o, now)
	}
	x.cancelAttempt(now)
	x.endSegment(o, now)
	x.attempts--
	if x.isBusy {
		x.isBusy = false
		x.peer.Release()
	}
	if x.pool.hasOther(x.peer.Peer, now) {
		return x.attempt(nil, false, now)
	}
	x.releaseSlot()
	to := x.fallback(now)
	x.service, x.version, x.pool, x.to, x.peer = to.service, to.version, to.pool, to, nil
	return x.enter(now)
}

// Unreached are the instances that are to be tried again now, by opening a
// connection, most of them at most; the driver reports each by Reached. Of versions
// that nobody called for a minute none is: the next request tries those.
func (t *Table) Unreached(now time.Duration, most int) (out []*Instance) {
	for _, s := range t.memory.lost.services(t) {
		for _, c := range s.all.peers {
			if len(out) < most && !c.of.unused(now) && c.TryReach(false, now) {
				out = append(out, c.Instance)
			}
		}
	}
	return out
}

// Reached tells what became of a connection to one of Unreached.
func (t *Table) Reached(in *Instance, err error, now time.Duration) {
	v := t.version(in.Service, in.Version)
	if v == nil {
		return
	}
	for _, c := range v.peers {
		switch {
		case c.ID != in.ID:
		case err != nil:
			c.Unreachable("cannot be reached: "+err.Error(), false, now)
		default:
			v.note(c.Reached(now), c.Instance, now)
		}
	}
}

// noteReached tells of an instance that was lost or found.
func (v *version) noteReached(c guard.Change, in *Instance, now time.Duration) {
	if c == guard.Found {
		v.tell(now, "reachable", in.ID, "it can be reached again")
		return
	}
	for _, p := range v.peers {
		if s, is := p.Reach(); is && p.ID == in.ID {
			v.tell(now, "unreachable", in.ID, s.Cause+"; it gets requests again when a connection succeeds")
		}
	}
}
