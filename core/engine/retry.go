package engine

import (
	"slices"
	"strconv"
	"time"

	"nightjar/core/hash"
	"nightjar/core/rules"
)

// outcomes are the outcomes of tries that a list in the rules names. A try
// without an answer also counts as the status that the caller would get for it.
type outcomes struct {
	reasons  []Reason
	classes  [6]bool // 5: 5xx
	statuses []int
}

func newOutcomes(list []string) *outcomes {
	o := &outcomes{}
	for _, word := range list {
		n, err := strconv.Atoi(word)
		switch {
		case err == nil:
			o.statuses = append(o.statuses, n)
		case len(word) == 3 && word[1:] == "xx":
			o.classes[word[0]-'0'] = true
		default:
			o.reasons = append(o.reasons, Reason(word))
		}
	}
	return o
}

func (o *outcomes) hold(out *Outcome) bool {
	reason := out.Reason
	if reason == TLS { // no connection, for one reason or another
		reason = Unreachable
	}
	status := out.status()
	return reason != "" && slices.Contains(o.reasons, reason) || o.classes[status/100%6] ||
		slices.Contains(o.statuses, status)
}

// status is the status that the rules look at.
func (o *Outcome) status() int {
	switch {
	case o.Means > 0:
		return o.Means
	case o.Status > 0:
		return o.Status
	}
	return o.Reason.Status()
}

// failed tells whether the try failed, in the sense of the success rate.
func (o *Outcome) failed() bool { return o.Reason != "" || o.status() >= 500 }

// cause is the outcome in a word or a number.
func (o *Outcome) cause() string {
	if o.Reason != "" {
		return string(o.Reason)
	}
	return strconv.Itoa(o.status())
}

// retry is a compiled rules.Retry.
type retry struct {
	*rules.Retry
	on *outcomes
}

func newRetry(r *rules.Retry) *retry {
	if r == nil || r.Times == 0 {
		return nil
	}
	return &retry{r, newOutcomes(r.On)}
}

// leastLeft is how much of a request's time has to be left for one more try.
const leastLeft = 10 * time.Millisecond

// Idempotent tells whether requests of the method may be sent twice (RFC 9110,
// section 9.2.2).
func Idempotent(method string) bool {
	switch method {
	case "GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE":
		return true
	}
	return false
}

// mayRepeat decides whether the request is sent once more after an attempt that
// ended with o, and how long it waits before. The wait grows, and lies anywhere
// between nothing and its bound, so that callers who failed together do not come
// back together.
func (x *Exchange) mayRepeat(o *Outcome, now time.Duration) (wait time.Duration, ok bool) {
	r := x.retry
	if o.IsSpent || x.attempts > r.Times || !(o.IsUnsent || x.isRepeatable()) || !r.on.hold(o) {
		return 0, false
	}
	most := r.WaitMax
	if shift := x.attempts - 1; r.WaitMin<<shift < most {
		most = r.WaitMin << shift
	}
	wait = time.Duration(hash.Fraction(hash.Mix(x.memory.draws.Add(1)^uint64(now))) * float64(most))
	return wait, now+wait+leastLeft <= x.deadline && x.service.budget.Retry(r.Budget, now)
}

// isRepeatable tells whether the request may reach an instance twice.
func (x *Exchange) isRepeatable() bool { return x.retry.AnyVerb || Idempotent(x.view.Method()) }

// MayRetry tells whether the request may have to be sent once more after the
// attempt that is under way, so that its body has to be kept.
func (x *Exchange) MayRetry() bool {
	return x.retry != nil && x.attempts <= x.retry.Times && x.isRepeatable()
}

// sendAgain sends the request once more, if the guard of its version permits it:
// no retry waits in a line. Otherwise the outcome of the last attempt stands.
func (x *Exchange) sendAgain(now time.Duration) Step {
	v := x.pool.version
	if v.breaker != nil {
		if _, refused := v.breaker.Refuses(now); refused {
			return x.conclude(x.last)
		}
	}
	if !x.takePlace(v) {
		return x.conclude(x.last)
	}
	before := x.attempts
	if step := x.attempt(nil, false, now); step.Kind != Reply || x.attempts > before {
		return step
	}
	return x.conclude(x.last) // there was no permission to send, or nowhere to send it
}
