package engine

import (
	"fmt"
	"time"

	"nightjar/core/guard"
)

// phase is what an Exchange waits for.
type phase uint8

const (
	atWork   phase = iota // nothing: a try is under way, or none yet
	delays                // a fault's delay
	queues                // a place
	backsOff              // the time before a retry
	drills                // a drill's delay
)

// stage is how far the last try has come.
type stage uint8

const (
	none     stage = iota // there was none
	underWay              // nothing came yet
	good                  // an answer that counts against nobody
	bad                   // anything else
)

// guarding is the part of an Exchange that has to do with guards and retries.
type guarding struct {
	to     *target
	pool   *pool // that instances come from
	retry  *retry
	phase  phase
	stage  stage
	until  time.Duration // end of the wait
	goes   bool          // there is a target, after a fault's delay
	began  time.Duration // of the last try
	limit  time.Duration // deadline of the last try
	last   Outcome
	missed bool // the first try failed
	harmed *drill

	queue   *guard.Queue // in which it has a place, or waits for one
	ticket  guard.Ticket
	breaker *guard.Breaker // that gave the permit
	permit  guard.Permit
	peer    *peer // of the try that is under way, or whose answer is passed on
	trial   bool  // the try decides for a sidelined instance
	counted bool  // the peer is busy with it
}

// enter asks the guard of the version for leave to send.
func (x *Exchange) enter(now time.Duration) Step {
	if x.retry != nil {
		x.service.budget.Request(now)
	}
	var p *peer
	trial := false
	v := x.pool.version
	if v == nil { // plain balancing: the instance decides the version
		if p, trial = x.pool.pick(x.view, nil, now); p == nil {
			return Refuse(NoInstance, x.pool.lack(describe(x.to)))
		}
		v = p.of
		x.version, x.pool = v.name, x.service.versions[v.name]
	}
	if u := v.used.Load(); u == 0 || now-time.Duration(u) > time.Second {
		v.used.Store(int64(now) + 1)
	}
	undo := func(s Step) Step {
		if trial {
			v.side.Tried(p.Peer, false, false, "", now)
		}
		return s
	}
	if v.breaker != nil {
		if wait, refused := v.breaker.Refuses(now); refused {
			return undo(x.broken(v, wait, now))
		}
	}
	if v.queue != nil {
		ticket := &x.ticket
		if x.entry.Wake == nil {
			ticket = nil
		}
		switch v.queue.Enter(ticket, x.entry.Wake) {
		case guard.Full:
			s := v.queue.State()
			return undo(Refuse(Overflow, fmt.Sprintf("%d of %d requests of this proxy to %s are under way, and %d of %d wait", s.InFlight, s.InFlightMax, v.called(), s.Waiting, s.WaitingMax)))
		case guard.Waits:
			x.queue, x.phase = v.queue, queues
			x.until = min(now+v.rules.Queue.WaitAtMost, x.deadline)
			x.embark(Queued, nil, now)
			return undo(Step{Kind: Wait, Deadline: x.until})
		}
		x.queue = v.queue
	}
	return x.attempt(p, trial, now)
}

// takePlace takes a place in the queue of a version without waiting for one.
func (x *Exchange) takePlace(v *version) bool {
	if v.queue == nil || v.queue.Enter(nil, nil) == guard.Enters {
		x.queue = v.queue
		return true
	}
	return false
}

// broken is the refusal of an open breaker.
func (x *Exchange) broken(v *version, wait, now time.Duration) Step {
	b := v.breaker.State(now)
	what := "failed"
	if b.Failed < b.Slow {
		b.Failed, what = b.Slow, "were slow"
	}
	s := Refuse(BreakerOpen, fmt.Sprintf("the breaker of %s opened %s ago: %d of %d requests of this proxy %s", v.called(), (now-b.Since).Round(time.Millisecond), b.Failed, b.Seen, what))
	if s.After = wait; wait == 0 {
		s.Detail = fmt.Sprintf("the breaker of %s lets %d requests through to see how they fare, and they are on their way", v.called(), v.rules.Breaker.Probes)
		s.After = time.Second
	}
	return s
}

// attempt begins a try, at p if it is known already.
func (x *Exchange) attempt(p *peer, trial bool, now time.Duration) Step {
	v := x.pool.version
	if b := v.breaker; b != nil {
		permit, wait, ok, change := b.Allow(now)
		if !ok {
			x.leave()
			return x.broken(v, wait, now)
		}
		v.note(change, nil, now)
		x.breaker, x.permit = b, permit
	}
	if p == nil {
		var last *guard.Peer
		if x.peer != nil {
			last = x.peer.Peer
		}
		if p, trial = x.pool.pick(x.view, last, now); p == nil {
			x.letGo()
			x.leave()
			return Refuse(NoInstance, x.pool.lack(describe(x.to)))
		}
	}
	x.peer, x.trial, x.instance, x.version = p, trial, p.Instance, v.name
	if x.pool.how == leastBusy {
		x.counted = true
		p.Take()
	}
	if x.tries == 0 {
		x.copyTo(x.gate, now)
		x.copyTo(x.route, now)
	}
	x.tries++
	x.began, x.phase, x.limit, x.stage = now, atWork, x.deadline, underWay
	x.embark(Tried, p.Instance, now)
	if x.retry != nil && x.retry.Each > 0 {
		x.limit = min(x.limit, now+x.retry.Each)
	}
	if len(v.drills) > 0 {
		delay, by := v.harm(x, now)
		if x.harmed = by; delay > 0 {
			x.phase, x.until = drills, min(now+delay, x.limit)
			return Step{Kind: Wait, Deadline: x.until}
		}
		if by != nil {
			return x.after(by.outcome(), now)
		}
	}
	return Step{Kind: Attempt, Instance: p.Instance, Deadline: x.limit}
}

func (d *drill) outcome() Outcome {
	return Outcome{Reason: Fault, Means: d.Status, Detail: fmt.Sprintf("drill %s lets %s%% of the requests fail", d.ID, d.Fail)}
}

// Next takes the outcome of the last Attempt, or goes on after a Wait.
func (x *Exchange) Next(o Outcome, now time.Duration) Step {
	switch x.phase {
	case delays:
		if now < x.until {
			return Step{Kind: Wait, Deadline: x.until}
		}
		x.phase = atWork
		x.arrive(&o, now)
		if x.goes {
			return x.enter(now)
		}
		return x.pending
	case queues:
		switch {
		case x.ticket.Called():
		case now < x.until:
			return Step{Kind: Wait, Deadline: x.until}
		case x.queue.Leave(&x.ticket):
			s := x.queue.State()
			x.queue, x.phase = nil, atWork
			x.arrive(&o, now)
			if now >= x.deadline {
				return Refuse(TimedOut, fmt.Sprintf("all of the %s went by in waiting for a place among the %d requests to %s", x.timeout, s.InFlightMax, x.pool.version.called()))
			}
			return Refuse(Overflow, fmt.Sprintf("no place among the %d requests to %s came free in %s", s.InFlightMax, x.pool.version.called(), x.pool.version.rules.Queue.WaitAtMost))
		}
		x.phase = atWork
		x.arrive(&o, now)
		return x.attempt(nil, false, now)
	case backsOff:
		if now < x.until {
			return Step{Kind: Wait, Deadline: x.until}
		}
		x.phase = atWork
		x.arrive(&o, now)
		return x.retried(now)
	case drills:
		if now < x.until {
			return Step{Kind: Wait, Deadline: x.until}
		}
		x.phase = atWork
		switch {
		case now >= x.limit:
			return x.after(Outcome{Reason: TimedOut, Detail: "; a drill makes it late"}, now)
		case x.harmed != nil:
			return x.after(x.harmed.outcome(), now)
		}
		return Step{Kind: Attempt, Instance: x.instance, Deadline: x.limit}
	}
	return x.after(o, now)
}

// after decides what comes after a try.
func (x *Exchange) after(o Outcome, now time.Duration) Step {
	x.reported(&o, now)
	x.arrive(&o, now)
	if x.tries == 1 {
		x.missed = o.failed()
	}
	if x.retry != nil {
		if step, yes := x.again(&o, now); yes {
			x.leave()
			x.last = o
			return step
		}
	}
	return x.over(&o)
}

// over is the last step of a request that was tried.
func (x *Exchange) over(o *Outcome) Step {
	if o.Reason == "" {
		return Step{Kind: Done, Status: o.Status}
	}
	x.leave()
	var s Step
	switch o.Reason {
	case TimedOut:
		limit := x.timeout
		if x.limit < x.deadline {
			limit = x.limit - x.began
		}
		s = Refuse(TimedOut, fmt.Sprintf("%s did not answer within %s%s", x.instance.ID, limit, o.Detail))
	case Fault:
		s = Refuse(Fault, o.Detail)
		s.Status = o.status()
	default:
		s = Refuse(o.Reason, fmt.Sprintf("%s: %s", x.instance.ID, o.Detail))
	}
	if x.tries > 1 {
		s.Detail += fmt.Sprintf(" (try %d)", x.tries)
	}
	return s
}

// reported tells the guards what came of a try.
func (x *Exchange) reported(o *Outcome, now time.Duration) {
	v := x.peer.of
	x.stage = good
	if o.Reason == Draining { // says nothing of the instance
		x.letGo()
		return
	}
	if x.breaker != nil {
		v.note(x.breaker.Done(x.permit, o.failed(), now-x.began, now), nil, now)
	}
	if v.counts.hold(o) {
		x.stage = bad
	}
	switch {
	case x.trial:
		x.trial = false
		v.note(v.side.Tried(x.peer.Peer, true, x.stage == good, o.cause(), now), x.instance, now)
	case x.stage == bad:
		v.note(v.side.Failed(x.peer.Peer, o.cause(), now), x.instance, now)
	}
	if o.failed() {
		x.breaker = nil // nothing can be taken back of it
	}
}

// letGo gives back what a try holds that comes to nothing.
func (x *Exchange) letGo() {
	if x.breaker != nil {
		x.breaker.Cancel(x.permit)
		x.breaker = nil
	}
	if x.trial {
		x.trial = false
		x.peer.of.side.Tried(x.peer.Peer, false, false, "", 0)
	}
}

// leave gives back the place among those under way.
func (x *Exchange) leave() {
	if x.queue != nil {
		x.queue.Exit()
		x.queue = nil
	}
	if x.counted {
		x.counted = false
		x.peer.Release()
	}
}

// End says that the request is over: its answer has gone to the caller, or the
// caller left. broken tells that the answer broke off, or turned out to name a
// failure of the workload at its end.
func (x *Exchange) End(broken bool, now time.Duration) {
	if x.phase == queues && x.queue.Leave(&x.ticket) {
		x.queue = nil
	}
	x.phase = atWork
	x.leave()
	switch {
	case x.stage == underWay:
		x.letGo()
	case x.stage == good && broken:
		v := x.peer.of
		if x.breaker != nil {
			v.note(x.breaker.Spoil(x.permit, now), nil, now)
		}
		if v.counts.hold(&Outcome{Reason: Reset}) {
			v.note(v.side.Failed(x.peer.Peer, string(Reset), now), x.instance, now)
		}
	case x.stage == good:
		x.peer.of.side.Good(x.peer.Peer)
	}
	x.stage, x.breaker, x.view, x.edited.View = none, nil, nil, nil
}

// FirstFailed tells whether the first try failed, whatever came of the others.
func (x *Exchange) FirstFailed() bool { return x.missed }
