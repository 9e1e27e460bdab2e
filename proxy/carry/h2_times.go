package carry

import (
	"time"

	"nightjar/core/rules"
	"nightjar/proxy/h2"
)

func (f *h2Request) wait(d time.Duration) (why error, isOver bool) {
	f.dropAttempt()
	f.doing = doingWait
	f.setDue(f.now() + d)
	return nil, false
}

// woken goes on with a request that waited. The caller has kept it.
func (f *h2Request) woken() {
	var b h2.Batch
	f.lock(&b)
	if f.doing == doingWait {
		f.doing = doingNothing
		f.went(f.course.waited(nil))
	}
	f.unlock()
	b.Flush()
	f.release()
}

// setDue has the request looked at when a time comes.
func (f *h2Request) setDue(at time.Duration) {
	if rate := f.caller.l.rate(); rate > 0 && !f.gotEnd {
		at = min(at, f.rateFrom+rules.RateOver)
	}
	f.due = at
	f.caller.schedule(at)
}

// look looks at the request since a time came, and tells when it is to be looked at next;
// 0: never.
func (d *h2Down) look(b *h2.Batch) time.Duration {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	now := f.now()
	if f.due == 0 || now < f.due {
		return f.due
	}
	f.due = 0
	if f.isBelowRate(now) {
		f.bodyErr = errSlowBody
		f.slowBody()
		return f.due
	}
	switch f.doing {
	case doingWait:
		f.doing = doingNothing
		f.went(f.course.waited(nil))
	case doingConnect, doingAsk:
		if now < f.open.to.deadline {
			f.setDue(f.open.to.deadline)
			break
		}
		f.late()
	case doingAnswer:
		if f.HoldsPlace() && f.down.Pending() > 0 { // nobody takes its answer: it keeps nobody busy but itself
			f.FreePlace()
		} else {
			f.watchPlace(now)
		}
	}
	return f.due
}

// watchPlace has a request looked at that has a place among those under way while its
// answer goes by, or whose body has to come at a rate.
func (f *h2Request) watchPlace(now time.Duration) {
	if f.HoldsPlace() {
		f.setDue(max(f.Deadline(), now+placeGrace))
	} else if f.caller.l.rate() > 0 && !f.gotEnd {
		f.setDue(now + rules.RateOver)
	}
}

// late ends an attempt whose time is over.
func (f *h2Request) late() {
	isUnsent := f.doing == doingConnect
	isSlow := f.isBodySlow()
	f.doing = doingNothing
	f.dropAttempt()
	if isSlow {
		f.bodyErr = errSlowBody
		o := outcomeOf(errSlowBody)
		f.went(f.course.sent(o))
		return
	}
	o := outcomeOf(errDeadline)
	o.IsUnsent, o.IsSpent = isUnsent && !f.isLost, f.isLost || f.sentInterim
	f.went(f.course.sent(o))
}

// slowBody ends a request whose body comes too slowly.
func (f *h2Request) slowBody() {
	switch f.doing {
	case doingConnect, doingAsk:
		f.doing = doingNothing
		f.dropAttempt()
		f.went(f.course.sent(outcomeOf(errSlowBody)))
	case doingAnswer:
		f.went(f.course.answered(false, errSlowBody))
	}
}

// isBodySlow tells whether most of the attempt's time so far went by in waiting for the
// caller's body.
func (f *h2Request) isBodySlow() bool {
	if f.gotEnd {
		return false
	}
	now := f.now()
	awaited := f.awaited
	if f.up == nil || !f.up.isOpen || f.up.Pending() == 0 {
		awaited += now - max(f.lastCame, f.open.to.began)
	}
	return float64(awaited) >= slowShare*float64(now-f.open.to.began)
}

// isBelowRate tells whether too little of the body came since it was last looked at.
func (f *h2Request) isBelowRate(now time.Duration) bool {
	rate := f.caller.l.rate()
	if rate == 0 || f.gotEnd || f.doing == doingOver || now-f.rateFrom < rules.RateOver {
		return false
	}
	came, took := f.read-f.rateRead, now-f.rateFrom
	f.rateRead, f.rateFrom = f.read, now
	return float64(came) < rate*took.Seconds() && (f.up == nil || !f.up.isOpen || f.up.Pending() == 0)
}

// lateShare is the share of an attempt's time after which an instance that gives it up says
// that the time is over: it has heard of the deadline, and its clock is another.
const lateShare = 0.9

// isLate tells whether the time of the attempt is about over.
func (f *h2Request) isLate() bool {
	to := &f.open.to
	return float64(f.now()-to.began) >= lateShare*float64(to.deadline-to.began)
}
