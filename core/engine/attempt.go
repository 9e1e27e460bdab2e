package engine

import (
	"fmt"
	"time"

	"nightjar/core/guard"
)

// enter asks the guard of the version for permission to send.
func (x *Exchange) enter(now time.Duration) Step {
	if x.retry != nil && x.steps == 0 {
		x.service.budget.Request(now)
	}
	var p *peer
	isTrial := false
	v := x.pool.version
	if v == nil { // plain balancing: the instance decides the version
		if p, isTrial = x.pool.pick(x.view, nil, now); p == nil {
			return x.final(Refuse(NoInstance, x.pool.whyNone(describe(x.to))))
		}
		v = p.of
		x.version, x.pool = v.name, x.service.versions[v.name]
	}
	if u := v.used.Load(); u == 0 || now-time.Duration(u) > time.Second {
		v.used.Store(int64(now) + 1)
	}
	giveBack := func() {
		if isTrial {
			v.side.Tried(p.Peer, false, false, "", now)
		}
	}
	if v.breaker != nil {
		if wait, refused := v.breaker.Refuses(now); refused {
			giveBack()
			return x.final(x.breakerOpen(v, wait, now))
		}
	}
	if v.queue != nil {
		ticket := &x.ticket
		if x.entry.Wake == nil {
			ticket = nil
		}
		switch v.queue.Enter(ticket, x.entry.Wake) {
		case guard.Full:
			giveBack()
			s := v.queue.State()
			return x.final(
				Refuse(Overflow, fmt.Sprintf("%d of %d requests of this proxy to %s are in flight, and %d of %d wait",
					s.InFlight, s.InFlightMax, v.called(), s.Waiting, s.WaitingMax)),
			)
		case guard.Waits:
			giveBack()
			x.queue = v.queue
			x.beginSegment(SegmentQueue, nil, now)
			return x.waits(stateQueued, min(now+v.rules.Queue.WaitAtMost, x.deadline))
		}
		x.queue = v.queue
	}
	return x.attempt(p, isTrial, now)
}

// dequeued goes on after the wait for a place: with one, or without.
func (x *Exchange) dequeued(now time.Duration) Step {
	if x.ticket.Called() || !x.queue.Leave(&x.ticket) {
		return x.attempt(nil, false, now)
	}
	s, v := x.queue.State(), x.pool.version
	x.queue = nil
	if now >= x.deadline {
		return x.final(
			Refuse(
				TimedOut,
				fmt.Sprintf("the timeout of %s expired while the request waited in the queue of %d requests to %s",
					x.timeout, s.InFlightMax, v.called()),
			),
		)
	}
	return x.final(Refuse(Overflow, fmt.Sprintf("none of the %d requests in flight to %s ended within %s",
		s.InFlightMax, v.called(), v.rules.Queue.WaitAtMost)))
}

// takePlace takes a place in the queue of a version without waiting for one.
func (x *Exchange) takePlace(v *version) bool {
	if v.queue == nil || v.queue.Enter(nil, nil) == guard.Enters {
		x.queue = v.queue
		return true
	}
	return false
}

// breakerOpen is the refusal of an open breaker.
func (x *Exchange) breakerOpen(v *version, wait, now time.Duration) Step {
	b := v.breaker.State(now)
	what := "failed"
	if b.Failed < b.Slow {
		b.Failed, what = b.Slow, "were slow"
	}
	s := Refuse(BreakerOpen, fmt.Sprintf("the breaker of %s opened %s ago: %d of %d requests of this proxy %s",
		v.called(), (now-b.Since).Round(time.Millisecond), b.Failed, b.Seen, what))
	if s.After = wait; wait == 0 {
		s.Detail = fmt.Sprintf(
			"the breaker of %s lets %d requests through as probes, and they are in flight",
			v.called(),
			v.rules.Breaker.Probes,
		)
		s.After = time.Second
	}
	return s
}

// attempt begins an attempt, at p if it is known already.
func (x *Exchange) attempt(p *peer, isTrial bool, now time.Duration) Step {
	v := x.pool.version
	if b := v.breaker; b != nil {
		permit, wait, ok, change := b.Allow(now)
		if !ok {
			x.releaseSlot()
			return x.final(x.breakerOpen(v, wait, now))
		}
		v.note(change, nil, now)
		x.breaker, x.permit = b, permit
	}
	if p == nil {
		var last *guard.Peer
		if x.peer != nil {
			last = x.peer.Peer
		}
		if p, isTrial = x.pool.pick(x.view, last, now); p == nil {
			x.cancelAttempt(now)
			x.releaseSlot()
			return x.final(Refuse(NoInstance, x.pool.whyNone(describe(x.to))))
		}
	}
	x.peer, x.isTrial, x.instance, x.version = p, isTrial, p.Instance, v.name
	if x.pool.how == leastBusy {
		x.isBusy = true
		p.Take()
	}
	if x.steps == 0 {
		x.copyTo(x.gate, now)
		x.copyTo(x.route, now)
	}
	x.attempts++
	x.steps++
	x.began, x.limit, x.verdict = now, x.deadline, verdictOpen
	x.beginSegment(SegmentAttempt, p.Instance, now)
	if x.retry != nil && x.retry.Each > 0 {
		x.limit = min(x.limit, now+x.retry.Each)
	}
	if len(v.drills) > 0 {
		delay, by := v.inject(x, now)
		x.harm = by
		if delay > 0 {
			return x.waits(stateHeld, min(now+delay, x.limit))
		}
		if by != nil {
			o := by.outcome()
			return x.ended(&o, now)
		}
	}
	return x.sent()
}

// sent hands an attempt to the driver.
func (x *Exchange) sent() Step {
	x.state = stateSent
	return Step{Kind: Attempt, Instance: x.instance, Deadline: x.limit}
}

// copyTo picks who gets a copy of the request, when the route mirrors this one
// and no route before it does.
func (x *Exchange) copyTo(rt *Route, now time.Duration) {
	if rt != nil && rt.mirror != nil && x.mirror == nil && rt.copies.draw() == 0 {
		if p, isTrial := rt.mirror.pool.pick(x.view, nil, now); p != nil {
			x.mirror = p.Instance
			if isTrial { // a copy decides nothing
				p.of.side.Tried(p.Peer, false, false, "", now)
			}
		}
	}
}

func (d *drill) outcome() Outcome {
	return Outcome{
		Reason: Fault,
		Means:  d.Status,
		Detail: fmt.Sprintf("drill %s makes %s%% of the requests fail", d.ID, d.Fail),
	}
}

// released goes on after a drill's delay.
func (x *Exchange) released(now time.Duration) Step {
	switch {
	case now >= x.limit:
		return x.ended(&Outcome{Reason: TimedOut, Detail: "; a drill delays it"}, now)
	case x.harm != nil:
		o := x.harm.outcome()
		return x.ended(&o, now)
	}
	return x.sent()
}

// ended decides what comes after an attempt.
func (x *Exchange) ended(o *Outcome, now time.Duration) Step {
	x.noteReach(o, now)
	if x.mayGoElsewhere(o, now) {
		return x.goElsewhere(o, now)
	}
	x.judge(o, now)
	x.endSegment(o, now)
	if x.attempts == 1 {
		x.firstAttemptFailed = o.failed()
	}
	if x.retry != nil {
		if wait, ok := x.mayRepeat(o, now); ok {
			x.releaseSlot()
			kept := *o
			x.last = &kept
			x.beginSegment(SegmentBackOff, nil, now)
			return x.waits(stateBackingOff, now+wait)
		}
	}
	return x.conclude(o)
}

// conclude is the last step of a request that was sent.
func (x *Exchange) conclude(o *Outcome) Step {
	if o.Reason == "" {
		return x.final(Step{Kind: Done, Status: o.Status})
	}
	x.releaseSlot()
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
	case BadRequest, TooLarge, Shortage:
		s = Refuse(o.Reason, o.Detail)
		if o.Means > 0 {
			s.Status = o.Means
		}
	default:
		s = Refuse(o.Reason, fmt.Sprintf("%s: %s", x.instance.ID, o.Detail))
	}
	x.errorType = o.Error
	if x.attempts > 1 {
		s.Detail += fmt.Sprintf(" (attempt %d)", x.attempts)
	}
	return x.final(s)
}

// saysNothing tells whether an outcome says nothing of the instance: this proxy
// ended the attempt or lacks the means for it, or what the caller sent could not
// be sent on.
func (o *Outcome) saysNothing() bool {
	switch o.Reason {
	case Draining, BadRequest, TooLarge, Shortage, Denied:
		return true
	}
	return false
}

// judge tells the guards how an attempt went.
func (x *Exchange) judge(o *Outcome, now time.Duration) {
	v := x.peer.of
	if o.saysNothing() {
		x.verdict = verdictNone
		x.cancelAttempt(now)
		return
	}
	if o.Reason == TimedOut && x.isCallersLimit() && now-x.began < x.overdueAfter() {
		x.verdict = verdictNone // the caller's patience ended, which says nothing yet
		x.cancelAttempt(now)
		return
	}
	x.verdict = verdictGood
	if v.counts.hold(o) {
		x.verdict = verdictBad
	}
	if x.isOpen = o.IsOpen && !o.failed(); x.isOpen {
		return // End tells
	}
	x.tellBreaker(o.failed(), now)
	x.tellSideline(o, now)
}

// tellBreaker gives the permit back with how the attempt went.
func (x *Exchange) tellBreaker(failed bool, now time.Duration) {
	if x.breaker == nil {
		return
	}
	x.peer.of.note(x.breaker.Done(x.permit, failed, now-x.began, now), nil, now)
	if failed {
		x.breaker = nil // nothing can be taken back of it
	}
}

// tellSideline counts a bad attempt against its instance, and any attempt that
// was the trial of a sidelined one.
func (x *Exchange) tellSideline(o *Outcome, now time.Duration) {
	v := x.peer.of
	switch {
	case x.isTrial:
		x.isTrial = false
		v.note(v.side.Tried(x.peer.Peer, true, x.verdict == verdictGood, o.cause(), now), x.instance, now)
	case x.verdict == verdictBad:
		v.note(v.side.Failed(x.peer.Peer, o.cause(), now), x.instance, now)
	}
}

// cancelAttempt gives back what an attempt holds that says nothing of its
// instance.
func (x *Exchange) cancelAttempt(now time.Duration) {
	if x.breaker != nil {
		x.breaker.Cancel(x.permit)
		x.breaker = nil
	}
	if x.isTrial {
		x.isTrial = false
		x.peer.of.side.Tried(x.peer.Peer, false, false, "", now)
	}
}

// HoldsPlace tells whether the request has a place among those under way to its
// version, and Deadline when its time for an answer's head runs out.
func (x *Exchange) HoldsPlace() bool { return x.queue != nil }

// Deadline is when the time of the request runs out.
func (x *Exchange) Deadline() time.Duration { return x.deadline }

// FreePlace gives the place back of a request whose caller does not take its answer:
// it keeps nobody busy but itself.
func (x *Exchange) FreePlace() { x.releaseSlot() }

// releaseSlot gives back the place among the requests to the version, and the
// count of those at the instance.
func (x *Exchange) releaseSlot() {
	if x.queue != nil {
		x.queue.Exit()
		x.queue = nil
	}
	if x.isBusy {
		x.isBusy = false
		x.peer.Release()
	}
}

// Ending is how a request ended, beyond what its last step says.
type Ending uint8

// The endings.
const (
	Finished Ending = iota // its answer has gone to the caller
	Broken                 // the instance broke the answer off, or said at its end that it failed
	Left                   // the caller left, or the proxy gave the request up, before the answer had gone by
)

// AbandonShare is the share of its time after which an attempt that the caller
// gives up counts as one that timed out. A workload that hangs looks like this
// from here, when its callers wait for less than the mesh does; what is given up
// earlier says nothing of the workload.
const AbandonShare = 0.5

// ownPatience is how long an attempt has to have taken, whatever the rules say, so
// that it counts when the caller set its end: a shorter time says more of the caller.
const ownPatience = time.Second

// isCallersLimit tells whether the time of the request is what its caller said, and
// not what the rules do.
func (x *Exchange) isCallersLimit() bool { return x.timeout < x.own }

// overdueAfter is after what time an attempt that does not come to its end counts
// against the workload.
func (x *Exchange) overdueAfter() time.Duration {
	share := func(d time.Duration) time.Duration { return time.Duration(AbandonShare * float64(d)) }
	if !x.isCallersLimit() {
		return share(x.limit - x.began)
	}
	own := x.own
	if x.retry != nil && x.retry.Each > 0 {
		own = min(own, x.retry.Each)
	}
	return min(share(own), max(share(x.limit-x.began), ownPatience))
}

// isOverdue tells whether an attempt without an answer took so long that its
// being given up counts against the workload: AbandonShare of its time, or what
// the breaker calls slow.
func (x *Exchange) isOverdue(now time.Duration) bool {
	took := now - x.began
	if took >= x.overdueAfter() {
		return true
	}
	b := x.peer.of.rules.Breaker
	return b != nil && b.Slow > 0 && took > b.SlowOver
}

// End says that the request is over, and how. It gives back what the request
// still holds.
func (x *Exchange) End(how Ending, now time.Duration) {
	if x.state == stateQueued && x.queue.Leave(&x.ticket) {
		x.queue = nil
	}
	x.releaseSlot()
	switch {
	case x.verdict == verdictOpen && how == Left && x.state == stateSent && x.isOverdue(now):
		x.judge(&Outcome{Reason: TimedOut}, now)
	case x.verdict == verdictOpen:
		x.cancelAttempt(now)
	case x.verdict != verdictGood:
	case x.isOpen && how == Left: // it was answering, and nobody waited for the end
		x.cancelAttempt(now)
	case x.isOpen:
		if how == Broken && x.peer.of.counts.hold(&Outcome{Reason: Reset}) {
			x.verdict = verdictBad
		}
		x.tellBreaker(how == Broken, now)
		x.tellSideline(&Outcome{Reason: Reset}, now)
	case how == Broken:
		v := x.peer.of
		if x.breaker != nil {
			v.note(x.breaker.Spoil(x.permit, now), nil, now)
		}
		if v.counts.hold(&Outcome{Reason: Reset}) {
			v.note(v.side.Failed(x.peer.Peer, string(Reset), now), x.instance, now)
		}
	}
	if x.verdict == verdictGood && how != Broken {
		x.peer.of.side.Good(x.peer.Peer)
	}
	x.state, x.verdict, x.breaker, x.view, x.edited.View = stateOver, verdictNone, nil, nil, nil
}
