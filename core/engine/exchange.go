package engine

import (
	"fmt"
	"time"

	"nightjar/core/guard"
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
	After    time.Duration // of a Reply: when to come again; 0: nobody knows
}

// Outcome is what came of an Attempt: the Status of an answer, or a Reason why
// there is none.
type Outcome struct {
	Status int    // of the answer; 0 without one
	Means  int    // status that the answer stands for, where its own says nothing (gRPC); 0: its own
	Reason Reason // Unreachable, Reset, TimedOut or TLS; empty with an answer
	Detail string // what went wrong, for a person
	Spent  bool   // the request cannot be sent again, or some of an answer has gone to the caller
}

// Entry is where a request comes into the mesh. With Gateway set it came to
// that gateway; otherwise a workload's proxy took it and the host names the
// service.
type Entry struct {
	Gateway string
	// Service, when set, is the called service, whatever the host says.
	Service string
	// Limit is the longest that the caller will wait; 0: it did not say.
	Limit time.Duration
	// Wake is called, from anywhere and possibly before Begin or Next returns,
	// when a Wait may be over early. Without it no request waits in a line.
	Wake func()
}

// Exchange is the life of one request: a small state machine. Begin it, carry
// out each step, report the outcome with Next until a step is final, and call
// End when the request is over, also when it was given up at any step. An
// Exchange may be used again by calling Begin; it is not safe for concurrent use.
type Exchange struct {
	entry    Entry
	gate     *Route // the gateway's route, if any
	route    *Route // the service's route, nil when the gateway's names a version
	service  *service
	version  string
	instance *Instance
	path     string // where the request goes, after rewriting
	host     string // host to send; empty: as it came
	deadline time.Duration
	timeout  time.Duration
	tries    int
	memory   *memory
	view     View // as the routes of the service see the request
	guarding

	delay    time.Duration // faults on purpose, before anything else
	pending  Step          // after the wait
	reply    *rules.Reply
	redirect string
	mirror   *Instance
	limited  *Route // whose limit was closest to being used up
	taken    guard.Taken
	edited   edited // the view of a service's routes, when the gateway's changed it
	key      []byte // of a limit; kept for its room
	trail    []Stretch
}

// Begin decides where the request goes. now is the time since an epoch of the
// driver's choice; every time of the exchange counts from the same epoch.
func (x *Exchange) Begin(t *Table, entry Entry, v View, now time.Duration) Step {
	key, trail := x.key[:0], x.trail[:0]
	*x = Exchange{}
	x.entry, x.path, x.key, x.trail, x.memory = entry, v.Path(), key, trail, t.memory
	goes := x.begin(t, v, now)
	if x.delay > 0 {
		return x.delayed(goes, now)
	}
	if goes {
		return x.enter(now)
	}
	return x.pending
}

// begin decides where the request goes, up to its target. False: nowhere, and
// the last step is pending.
func (x *Exchange) begin(t *Table, v View, now time.Duration) (goes bool) {
	x.view = v
	if why := unfit(v); why != "" {
		return x.ends(Refuse(BadRequest, why))
	}
	var by *Route
	var to *target
	if x.entry.Gateway != "" {
		g := t.gateways[x.entry.Gateway]
		if g == nil {
			return x.ends(Refuse(NoRoute, "the rules in force declare no gateway "+x.entry.Gateway))
		}
		if !hostIn(g.rule.Hosts, v.Host()) {
			return x.ends(Refuse(NoRoute, fmt.Sprintf("gateway %s serves no host %s", x.entry.Gateway, v.Host())))
		}
		rt, cond := g.ladder.match(v, x.path)
		if rt == nil {
			return x.ends(Refuse(NoRoute, fmt.Sprintf("no route of gateway %s takes %s %s", x.entry.Gateway, v.Method(), x.path)))
		}
		x.gate = rt
		if x.act(rt, cond, v, now) {
			return false
		}
		by, to = rt, rt.choose(v)
		if rt.request != nil {
			x.edited = edited{v, rt.request}
			v = &x.edited
			x.view = v
		}
	}
	if to == nil || to.version == "" {
		var s *service
		if to != nil {
			s = to.service
		} else {
			name := x.entry.Service
			if name != "" {
				x.host = name // the caller could not write one
			} else {
				name = ServiceName(v.Host())
			}
			if s = t.services[name]; s == nil {
				return x.ends(t.unknown(name))
			}
		}
		x.service = s
		if s.ladder == nil {
			x.route = s.plain
			return x.send(&s.whole, s.plain, now)
		}
		rt, cond := s.ladder.match(v, x.path)
		if rt == nil {
			return x.ends(Refuse(NoRoute, fmt.Sprintf("no route of service %s takes %s %s", s.name, v.Method(), x.path)))
		}
		x.route = rt
		if x.act(rt, cond, v, now) {
			return false
		}
		by, to = rt, rt.choose(v)
	}
	return x.send(to, by, now)
}

// ends makes a step the last one.
func (x *Exchange) ends(s Step) (goes bool) {
	x.pending = s
	return false
}

// act does what a route does before a target is chosen: limit, harm on
// purpose, answer, rewrite. over means that the request ends there.
func (x *Exchange) act(rt *Route, cond *condition, v View, now time.Duration) (over bool) {
	if rt.limit != nil && !x.allowed(rt, v, now) {
		l := rt.settings.Limit
		s := Refuse(Limited, fmt.Sprintf("route %s lets %s through, and the next is due in %s", rt.Name(), l, x.taken.Wait.Round(time.Millisecond)))
		s.After = x.taken.Wait
		return !x.ends(s)
	}
	for i, split := range rt.faults {
		if split.draw() != 0 {
			continue
		}
		f := &rt.rule.Faults[i]
		x.delay += f.Delay
		if f.Status > 0 {
			return !x.ends(Step{Kind: Reply, Status: f.Status, Reason: Fault, Detail: fmt.Sprintf("route %s harms %s%% of its requests on purpose", rt.Name(), f.Share)})
		}
	}
	switch {
	case rt.rule.Reply != nil:
		x.reply = rt.rule.Reply
		return !x.ends(Step{Kind: Answer, Status: x.reply.Status})
	case rt.rule.Redirect != nil:
		x.redirect = location(rt.rule.Redirect, v, x.path, cond)
		return !x.ends(Step{Kind: Answer, Status: rt.rule.Redirect.Status})
	}
	x.rewrite(rt, cond)
	return false
}

// allowed takes a token from the limit of a route.
func (x *Exchange) allowed(rt *Route, v View, now time.Duration) bool {
	x.key = x.key[:0]
	for i := range rt.settings.Limit.Keys {
		value, _ := keyValue(&rt.settings.Limit.Keys[i], v)
		x.key = append(append(x.key, value...), 0)
	}
	taken := rt.limit.Take(x.key, now)
	if x.limited == nil || !taken.OK || taken.Left < x.taken.Left {
		x.limited, x.taken = rt, taken
	}
	return taken.OK
}

// choose draws a target, or finds the one that the visitor keeps.
func (r *Route) choose(v View) *target {
	if st := r.rule.Stick; st != nil {
		if value, ok := keyValue(&st.By, v); ok {
			return &r.targets[r.stuck(value)]
		}
	}
	return &r.targets[r.split.draw()]
}

// instead is where a request goes when no instance of to can be used.
func (r *Route) instead(to *target, now time.Duration) *target {
	if r.otherwise != nil && to.pool.empty(now) {
		return r.otherwise
	}
	return to
}

// send settles on a target.
func (x *Exchange) send(to *target, by *Route, now time.Duration) (goes bool) {
	to = by.instead(to, now)
	x.service, x.version, x.pool, x.to = to.service, to.version, to.pool, to
	x.setDeadline(now)
	x.retry = x.service.retry
	for _, rt := range [...]*Route{x.gate, x.route} {
		if rt != nil && rt.retry != nil {
			x.retry = rt.retry
		}
	}
	return true
}

// copyTo picks who gets a copy of the request, when the route mirrors this one
// and no route before it does.
func (x *Exchange) copyTo(rt *Route, now time.Duration) {
	if rt != nil && rt.mirror != nil && x.mirror == nil && rt.copies.draw() == 0 {
		if p, trial := rt.mirror.pool.pick(x.view, nil, now); p != nil {
			x.mirror = p.Instance
			if trial { // a copy decides nothing
				p.of.side.Tried(p.Peer, false, false, "", now)
			}
		}
	}
}

// delayed puts the wait that routes ask for before what comes next.
func (x *Exchange) delayed(goes bool, now time.Duration) Step {
	if !goes {
		x.setDeadline(now)
	}
	until := now + x.delay
	if until >= x.deadline {
		until, goes = x.deadline, x.ends(Refuse(TimedOut, fmt.Sprintf("a delay of %s on purpose took all of the %s", x.delay, x.timeout)))
	}
	x.phase, x.goes, x.until = delays, goes, until
	x.embark(Delayed, nil, now)
	return Step{Kind: Wait, Deadline: until}
}

// setDeadline takes the shortest of what the routes say and what the caller
// waits for.
func (x *Exchange) setDeadline(now time.Duration) {
	x.timeout = limit(x.service, x.route, x.gate).Value
	if l := x.entry.Limit; l > 0 && l < x.timeout {
		x.timeout = l
	}
	x.deadline = now + x.timeout
}

// limit is the shortest timeout that one of the routes has, the service's own
// in place of its route's, or else the built-in one.
func limit(s *service, route, gate *Route) (out rules.Timeout) {
	out.Value = rules.DefaultTimeout
	var own *rules.Timeout
	if s != nil {
		own = s.settings.Timeout
	}
	if route != nil && route.settings.Timeout != nil {
		own = route.settings.Timeout
	}
	if own != nil {
		out = *own
	}
	if gate != nil && gate.settings.Timeout != nil && (gate.settings.Timeout.Value < out.Value || own == nil || route == nil) {
		out = *gate.settings.Timeout
	}
	return out
}

// rewrite changes where the request goes, as the route that took it says.
func (x *Exchange) rewrite(rt *Route, cond *condition) {
	rw := rt.rule.Rewrite
	if rw == nil {
		return
	}
	if rw.Host != "" {
		x.host = rw.Host
	}
	if rw.Path != "" {
		x.path = rewritten(rw.Path, x.path, cond)
	}
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

// Protocol is what the called service speaks: http, grpc or tcp.
func (x *Exchange) Protocol() string { return x.service.protocol() }

// Version is the chosen version, even when it has no instance.
func (x *Exchange) Version() string { return x.version }

// Route is the service's route and the gateway's that took the request; either
// may be nil.
func (x *Exchange) Route() (service, gateway *Route) { return x.route, x.gate }

// Tries is how often the request was sent.
func (x *Exchange) Tries() int { return x.tries }

// Instance is the instance that the request was last sent to; nil: none yet.
func (x *Exchange) Instance() *Instance { return x.instance }

// Mirror is the instance that gets a copy of the request; nil: none does, or it
// has got one with an earlier try.
func (x *Exchange) Mirror() *Instance {
	if x.tries > 1 {
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
