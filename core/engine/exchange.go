package engine

import (
	"fmt"
	"time"

	"nightjar/core/guard"
	"nightjar/core/lease"
	"nightjar/core/rules"
)

// Kind says what the driver has to do next.
type Kind uint8

// The kinds of steps. A request is over after Reply, Answer and Done.
const (
	Attempt Kind = iota // send the request to Instance and wait until Deadline at most
	Wait                // wait until Deadline, or until Entry.Wake is called, then call Next with an empty Outcome
	Reply               // refuse by yourself: Status, Reason and Detail
	Answer              // answer as the rules say: see Exchange.Answer
	Done                // pass the instance's answer on
)

// Step is what the engine asks of its driver.
type Step struct {
	Kind     Kind
	Instance *Instance     // of an Attempt
	Deadline time.Duration // of an Attempt: the latest time for the answer's headers; of a Wait: its end
	Status   int           // of a Reply or an Answer; of a Done, the instance's
	Reason   Reason        // of a Reply
	Detail   string        // of a Reply: what happened, for a person
	After    time.Duration // of a Reply: when to come again; 0: not known
}

// Outcome is how an Attempt ended: the Status of an answer, or a Reason why there
// is none.
type Outcome struct {
	Status int    // of the answer; 0 without one
	Means  int    // status that the answer stands for, where its own says nothing (gRPC); 0: its own
	Reason Reason // why there is no answer; empty with one
	Error  string // type of the error by RFC 9209, section 2.3; empty: that of the Reason
	Detail string // what went wrong, for a person

	IsSpent   bool // the request cannot be sent again, or some of an answer has gone to the caller
	IsUnsent  bool // not a byte of the request was sent: there was no connection
	IsByProxy bool // with Unreachable: the proxy beside the workload says so, which itself was reached
	IsOpen    bool // whether the answer means success shows only at its end (gRPC): End tells
}

// Entry is where a request comes into the mesh. With Gateway set it came to
// that gateway; otherwise a workload's proxy took it and the host names the
// service.
type Entry struct {
	Gateway string
	// Service, when set, is the called service, whatever the host says.
	Service string
	// From is who calls, for the access rules.
	From Party
	// Limit is the longest that the caller will wait; 0: it did not say. Below
	// LeastLimit the request is refused, since nobody could answer it in time.
	Limit time.Duration
	// Wake is called, from anywhere and possibly before Begin or Next returns,
	// when a Wait may be over early. Without it no request waits in a line.
	Wake func()
}

// LeastLimit is the shortest time that a caller may leave for an answer.
const LeastLimit = time.Millisecond

// state is what an Exchange waits for. These are all changes from one to another;
// every one of them happens in Begin, Next or End.
//
//	begun      → asking | delayed | queued | sent | held | over
//	asking     → asking | delayed | queued | sent | held | over   the service has answered, or did not in time
//	delayed    → queued | sent | held | over           the fault's delay is over
//	queued     → sent | held | over                    a place came free, or none did in time
//	held       → sent | backingOff | over              the drill's delay is over
//	sent       → backingOff | sent | queued | over     the outcome is there
//	backingOff → sent | held | over                    the wait before a retry is over
//	any        → over                                  End: the caller left, or the answer has gone by
type state uint8

const (
	stateOver       state = iota // it has not begun, or its last step is out
	stateAsking                  // it waits for a token of a limit of the whole mesh, before its walk goes on
	stateDelayed                 // a fault holds it back, before anything else
	stateQueued                  // it waits for a place among the requests to its version
	stateHeld                    // a drill holds an attempt back
	stateSent                    // the driver carries out an attempt
	stateBackingOff              // it waits before it is sent again
)

// verdict is what the last attempt says of its instance.
type verdict uint8

const (
	verdictNone verdict = iota // there was no attempt, or it says nothing
	verdictOpen                // its outcome is not known yet
	verdictGood                // it counts against nobody
	verdictBad                 // it was counted against the instance
)

// Exchange is the life of one request: a small state machine. Begin it, carry
// out each step, report the outcome with Next until a step is final, and call
// End when the request is over, also when it was given up at any step. An
// Exchange may be used again by calling Begin; it is not safe for concurrent use.
type Exchange struct {
	walk
	state  state
	until  time.Duration // end of the wait that the state is
	memory *memory

	// Where the walk ended.
	to       *target
	pool     *pool // that instances come from
	version  string
	retry    *retry
	timeout  time.Duration // of the request; it ran out at deadline
	own      time.Duration // timeout by the rules, whatever the caller says
	deadline time.Duration
	delay    time.Duration // that faults ask for
	next     *Step         // after delay, when the request goes nowhere; nil: it has a target
	reply    *rules.Reply
	redirect string
	asking   *Route // that the request waits for a token of; nil: none
	askedBy  *condition
	again    *Route        // that it has waited at
	clock    time.Duration // now, during the walk
	limited  *Route        // whose limit was closest to being used up
	taken    guard.Taken
	picked   [1]choice // room for choose
	key      []byte    // of a limit; kept for its room

	// The attempts.
	attempts           int       // that may have reached an instance
	steps              int       // attempts with those that did not
	instance           *Instance // of the last attempt
	began              time.Duration
	limit              time.Duration // deadline of the last attempt
	last               *Outcome      // of the attempt before a back-off
	errorType          string        // of the last attempt: see ErrorType
	firstAttemptFailed bool
	verdict            verdict
	isOpen             bool // the breaker hears of the last attempt at the end of its answer
	mirror             *Instance
	harm               *drill // lets the attempt fail
	segments           []Segment

	// What is held of the guards, to be given back.
	queue   *guard.Queue // in which it has a place, or waits for one
	ticket  guard.Ticket
	breaker *guard.Breaker // that gave the permit
	permit  guard.Permit
	peer    *peer // of the last attempt
	isTrial bool  // the attempt decides for a sidelined instance
	isBusy  bool  // the peer counts it
}

// Begin decides where the request goes. now is the time since an epoch of the
// driver's choice; every time of the exchange counts from the same epoch.
func (x *Exchange) Begin(t *Table, entry Entry, v View, now time.Duration) Step {
	key, segments := x.key[:0], x.segments[:0]
	*x = Exchange{}
	x.key, x.segments, x.memory, x.began, x.clock = key, segments, t.memory, now, now
	x.walk.table, x.walk.entry, x.walk.view, x.walk.path = t, entry, v, v.Path()
	x.walk.run(x)
	return x.walked(now)
}

// walked goes on when the walk has come to its end, or to a limit that has to be asked for.
func (x *Exchange) walked(now time.Duration) Step {
	if x.asking != nil {
		return x.waits(stateAsking, now+lease.MaxWait)
	}
	entry := &x.entry
	if entry.Limit > 0 && entry.Limit < LeastLimit && x.next == nil {
		x.refuse(Refuse(BadRequest,
			fmt.Sprintf("the deadline of the caller, %s from now, is too short for a response", entry.Limit)))
	}
	if x.delay > 0 {
		return x.delayed(now)
	}
	return x.depart(now)
}

// Next takes the outcome of the last Attempt, or goes on after a Wait.
func (x *Exchange) Next(o Outcome, now time.Duration) Step {
	isWoken := x.state == stateQueued && x.ticket.Called() || x.state == stateAsking
	if x.state != stateSent && now < x.until && !isWoken {
		return Step{Kind: Wait, Deadline: x.until}
	}
	switch x.state {
	case stateAsking:
		rt, cond := x.asking, x.askedBy
		x.asking, x.askedBy, x.clock, x.again = nil, nil, now, rt
		x.walk.resume(x, rt, cond)
		return x.walked(now)
	case stateDelayed:
		x.endSegment(&o, now)
		return x.depart(now)
	case stateQueued:
		x.endSegment(&o, now)
		return x.dequeued(now)
	case stateHeld:
		return x.released(now)
	case stateBackingOff:
		x.endSegment(&o, now)
		return x.sendAgain(now)
	case stateSent:
		return x.ended(&o, now)
	}
	return Step{} // not reached by a driver that keeps to the steps
}

// final makes a step the last one.
func (x *Exchange) final(s Step) Step {
	x.state = stateOver
	return s
}

// waits makes the exchange wait until a time.
func (x *Exchange) waits(s state, until time.Duration) Step {
	x.state, x.until = s, until
	return Step{Kind: Wait, Deadline: until}
}

// The visitor of the walk: it takes from limits, draws from splits, and ends
// with a target or with the last step.

func (x *Exchange) refuse(s Step) { x.next = &s }

// take does what a route does before a target is chosen: limit, faults, answer.
func (x *Exchange) take(rt *Route, cond *condition) (over bool) {
	if !rt.acts {
		return false
	}
	isAllowed, waits := x.allowed(rt)
	switch {
	case waits:
		x.asking, x.askedBy = rt, cond
		return true
	case !isAllowed:
		l := rt.settings.Limit
		s := Refuse(
			Limited,
			fmt.Sprintf(
				"route %s lets %s through, and the next is due in %s",
				rt.Name(),
				l,
				x.taken.Wait.Round(time.Millisecond),
			),
		)
		s.After = x.taken.Wait
		x.refuse(s)
		return true
	}
	for i, split := range rt.faults {
		if split.draw() != 0 {
			continue
		}
		f := &rt.rule.Faults[i]
		x.delay += f.Delay
		if f.Status > 0 {
			x.refuse(Step{Kind: Reply, Status: f.Status, Reason: Fault,
				Detail: fmt.Sprintf("route %s injects failures into %s%% of its requests", rt.Name(), f.Share)})
			return true
		}
	}
	switch {
	case rt.rule.Reply != nil:
		x.reply = rt.rule.Reply
		x.refuse(Step{Kind: Answer, Status: x.reply.Status})
		return true
	case rt.rule.Redirect != nil:
		x.redirect = location(rt.rule.Redirect, x.view, x.path, cond)
		x.refuse(Step{Kind: Answer, Status: rt.rule.Redirect.Status})
		return true
	}
	return false
}

// allowed takes a token from the limit of a route. With waits it is not known yet: the
// service is asked for one.
func (x *Exchange) allowed(rt *Route) (is, waits bool) {
	if rt.limit == nil && rt.shared == nil {
		return true, false
	}
	x.key = x.key[:0]
	for i := range rt.settings.Limit.Keys {
		x.key = append(appendKey(x.key, &rt.settings.Limit.Keys[i], x.view), 0)
	}
	var taken guard.Taken
	if rt.limit != nil {
		taken = rt.limit.Take(x.key, x.began)
	} else if taken, waits = rt.shared.Take(x.key, x.clock, x.entry.Wake, x.askedSince(rt)); waits {
		return false, true
	}
	if x.limited == nil || !taken.OK || taken.Left < x.taken.Left {
		x.limited, x.taken = rt, taken
	}
	return taken.OK, false
}

// askedSince is when a request began to wait for a token of a route's limit; 0: it has not.
func (x *Exchange) askedSince(rt *Route) time.Duration {
	if x.again != rt {
		return 0
	}
	return max(x.until-lease.MaxWait, 1)
}

// choose draws a target, or finds the one that the visitor keeps.
func (x *Exchange) choose(rt *Route) []choice {
	var to *target
	if rt.rule.Stick != nil {
		to = rt.kept(x.view)
	}
	if to == nil {
		to = &rt.targets[rt.split.draw()]
	}
	x.picked[0] = choice{to, 1}
	return x.picked[:]
}

// kept is the target that the visitor keeps; nil: the split decides.
func (r *Route) kept(v View) *target {
	if st := r.rule.Stick; st != nil {
		if value, ok := keyValue(&st.By, v); ok {
			return &r.targets[r.stuck(value)]
		}
	}
	return nil
}

// orOtherwise is where a request goes when no instance of to can be used, or when they give
// it away.
func (r *Route) orOtherwise(to *target, now time.Duration) *target {
	if r.otherwise != nil && (to.pool.empty(now) || to.pool.givesAway(r.otherwise.pool)) {
		return r.otherwise
	}
	return to
}

func (x *Exchange) send(to *target, by *Route, _ float64) {
	to = by.orOtherwise(to, x.began)
	x.service = to.service
	if a := x.table.access; a != nil {
		d := a.strictly(x.entry.From, to.service.name, 0, x.view, x.path)
		if d.Denied { // which says nothing of the version
			x.refuse(Refuse(Denied, d.Why(x.entry.From, to.service.name)))
			return
		}
	}
	x.version, x.pool, x.to = to.version, to.pool, to
	x.retry = x.service.retry
	if x.gate != nil && x.gate.retry != nil {
		x.retry = x.gate.retry
	}
	if x.route != nil && x.route.retry != nil {
		x.retry = x.route.retry
	}
}

// delayed puts the wait that faults ask for before what comes next.
func (x *Exchange) delayed(now time.Duration) Step {
	x.setDeadline(x.began)
	until := now + x.delay
	if until >= x.deadline {
		until = x.deadline
		x.refuse(Refuse(TimedOut, fmt.Sprintf("an injected delay of %s used up the timeout of %s", x.delay, x.timeout)))
	}
	x.beginSegment(SegmentDelay, nil, now)
	return x.waits(stateDelayed, until)
}

// depart goes where the walk ended.
func (x *Exchange) depart(now time.Duration) Step {
	if x.next != nil {
		return x.final(*x.next)
	}
	if x.delay == 0 {
		x.setDeadline(x.began)
	}
	return x.enter(now)
}

// setDeadline takes the shortest of what the routes say and what the caller
// waits for.
func (x *Exchange) setDeadline(now time.Duration) {
	x.own = limit(x.service, x.route, x.gate).Value
	x.timeout = x.own
	if l := x.entry.Limit; l > 0 && l < x.timeout {
		x.timeout = l
	}
	x.deadline = now + x.timeout
}

// builtInTimeout holds where no rule says anything.
var builtInTimeout = rules.Timeout{Value: rules.DefaultTimeout}

// limit is the shortest timeout that one of the routes has, the service's own
// in place of its route's, or else the built-in one.
func limit(s *service, route, gate *Route) (shortest *rules.Timeout) {
	var own *rules.Timeout
	if s != nil {
		own = s.settings.Timeout
	}
	if route != nil && route.settings.Timeout != nil {
		own = route.settings.Timeout
	}
	shortest = own
	if shortest == nil {
		shortest = &builtInTimeout
	}
	if gate != nil && gate.settings.Timeout != nil &&
		(gate.settings.Timeout.Value < shortest.Value || own == nil || route == nil) {
		shortest = gate.settings.Timeout
	}
	return shortest
}

// Refuse is the step that ends a request with a refusal.
func Refuse(r Reason, detail string) Step {
	return Step{Kind: Reply, Status: r.Status(), Reason: r, Detail: detail}
}

func describe(t *target) string {
	if t.version == "" {
		return "service " + t.service.name
	}
	name := t.service.name + "/" + t.version
	if t.site != "" {
		name += "@" + t.site
	}
	return name
}

// Path is the path to send, percent-encoded, after rewriting.
func (x *Exchange) Path() string { return x.path }

// SendHost is the host to send; empty: the one that the caller wrote.
func (x *Exchange) SendHost() string { return x.host }

// Service is the called service; empty when none was found.
func (x *Exchange) Service() string {
	if x.service == nil {
		return ""
	}
	return x.service.name
}

// Protocol is what the called service speaks: http, http2, grpc or tcp.
func (x *Exchange) Protocol() string { return x.service.protocol() }

// Version is the chosen version, even when it has no instance.
func (x *Exchange) Version() string { return x.version }

// Route is the service's route and the gateway's that took the request; either
// may be nil.
func (x *Exchange) Route() (service, gateway *Route) { return x.route, x.gate }

// ErrorType is the type by RFC 9209 of the error for which a Reply is made, where
// more is known than its Reason says; empty: that of the Reason.
func (x *Exchange) ErrorType() string { return x.errorType }

// Attempts is how often the request was sent. One that no connection came about
// for, and that went to another instance then, does not count.
func (x *Exchange) Attempts() int { return x.attempts }

// Steps is how many attempts the driver was asked for, of whatever kind.
func (x *Exchange) Steps() int { return x.steps }

// FirstFailed tells whether the first attempt failed, whatever the others did.
func (x *Exchange) FirstFailed() bool { return x.firstAttemptFailed }

// Instance is the instance that the request was last sent to; nil: none yet.
func (x *Exchange) Instance() *Instance { return x.instance }

// Mirror is the instance that gets a copy of the request; nil: none does, or it
// has got one with an earlier attempt.
func (x *Exchange) Mirror() *Instance {
	if x.steps > 1 {
		return nil
	}
	return x.mirror
}

// Answer is what to say on an Answer step: a fixed reply, or the place that a
// redirect leads to.
func (x *Exchange) Answer() (reply *rules.Reply, redirect string) { return x.reply, x.redirect }

// Limit tells of the limit that was closest to being used up: the route that
// has it, what it says, and what is left; a nil route: there was none.
func (x *Exchange) Limit() (of *Route, limit *rules.Limit, left guard.Taken) {
	return x.limited, x.limited.limiter(), x.taken
}
