package engine

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"nightjar/core/rules"
)

// Kind says what the driver has to do next.
type Kind uint8

// The kinds of steps. A request is over after Reply and Done.
const (
	Attempt Kind = iota // send the request to Instance and wait until Deadline at most
	Reply               // answer by yourself: Status, Reason and Detail
	Done                // pass the instance's answer on
)

// Step is what the engine asks of its driver.
type Step struct {
	Kind     Kind
	Instance *Instance     // of an Attempt
	Deadline time.Duration // of an Attempt: the latest time for the answer's headers
	Status   int           // of a Reply
	Reason   Reason        // of a Reply
	Detail   string        // of a Reply: what happened, for a person
}

// Outcome is what came of an Attempt: the Status of an answer, or a Reason why
// there is none.
type Outcome struct {
	Status int    // of the answer; 0 without one
	Reason Reason // Unreachable, Reset or TimedOut; empty with an answer
	Detail string // what went wrong, for a person
}

// Entry is where a request comes into the mesh. With Gateway set it came to
// that gateway; otherwise a workload's proxy took it and the host names the
// service.
type Entry struct {
	Gateway string
	// Limit is the longest that the caller will wait; 0: it did not say.
	Limit time.Duration
}

// Exchange is the life of one request: a small state machine. Begin it, carry
// out each step, and report the outcome with Next until a step is final. An
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
}

// Begin decides where the request goes. now is the time since an epoch of the
// driver's choice; every time of the exchange counts from the same epoch.
func (x *Exchange) Begin(t *Table, entry Entry, v View, now time.Duration) Step {
	*x = Exchange{entry: entry, path: v.Path()}
	if why := unfit(v); why != "" {
		return refuse(BadRequest, why)
	}
	var to target
	if entry.Gateway != "" {
		g := t.gateways[entry.Gateway]
		if g == nil {
			return refuse(NoRoute, "the rules in force declare no gateway "+entry.Gateway)
		}
		if !g.serves(v.Host()) {
			return refuse(NoRoute, fmt.Sprintf("gateway %s serves no host %s", entry.Gateway, v.Host()))
		}
		rt, cond := g.ladder.match(v, x.path)
		if rt == nil {
			return refuse(NoRoute, fmt.Sprintf("no route of gateway %s takes %s %s", entry.Gateway, v.Method(), x.path))
		}
		x.gate = rt
		x.rewrite(rt, cond)
		to = rt.targets[rt.split.draw()]
	} else {
		name := ServiceName(v.Host())
		s := t.services[name]
		if s == nil {
			return refuse(NoRoute, fmt.Sprintf("the mesh has no service %q", name))
		}
		to = target{service: s}
	}
	if to.version == "" {
		s := to.service
		x.service = s
		if s.ladder == nil {
			x.route = s.plain
			to.pool = s.all
		} else {
			rt, cond := s.ladder.match(v, x.path)
			if rt == nil {
				return refuse(NoRoute, fmt.Sprintf("no route of service %s takes %s %s", s.name, v.Method(), x.path))
			}
			x.route = rt
			x.rewrite(rt, cond)
			to = rt.targets[rt.split.draw()]
		}
	}
	x.service, x.version = to.service, to.version
	x.setDeadline(now)
	if x.instance = to.pool.pick(); x.instance == nil {
		return refuse(NoInstance, fmt.Sprintf("%s has no instance", describe(to)))
	}
	x.version = x.instance.Version
	x.tries++
	return Step{Kind: Attempt, Instance: x.instance, Deadline: x.deadline}
}

// Next takes the outcome of the last Attempt.
func (x *Exchange) Next(o Outcome, now time.Duration) Step {
	switch {
	case o.Reason == "":
		return Step{Kind: Done}
	case o.Reason == TimedOut:
		return refuse(TimedOut, fmt.Sprintf("%s did not answer within %s", x.instance.ID, x.timeout))
	}
	return refuse(o.Reason, fmt.Sprintf("%s: %s", x.instance.ID, o.Detail))
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

// limit is the shortest timeout that one of the routes has, or else that of
// the called service, or the built-in one.
func limit(s *service, routes ...*Route) (out rules.Timeout) {
	out.Value = rules.DefaultTimeout
	if t := s.timeout(); t != nil {
		out = *t
	}
	set := false
	for _, rt := range routes {
		if rt != nil && rt.timeout != nil && (!set || rt.timeout.Value < out.Value) {
			out, set = *rt.timeout, true
		}
	}
	return out
}

// rewrite changes where the request goes, as the route that took it says.
func (x *Exchange) rewrite(rt *Route, cond *condition) {
	rw := rt.rule.Rewrite
	if rw == nil {
		return
	}
	x.host = cmp.Or(rw.Host, x.host)
	switch base, keep := strings.CutSuffix(rw.Path, "/**"); {
	case rw.Path == "":
	case !keep:
		x.path = rw.Path
	case cond != nil && cond.prefix >= 0:
		if x.path = base + remainder(x.path, cond.rule.Path); x.path == "" {
			x.path = "/"
		}
	}
}

// remainder is what of path stands under pattern, which ends in /**. It is
// found by counting segments, since path may be percent-encoded.
func remainder(path, pattern string) string {
	for range strings.Count(pattern, "/") - 1 {
		i := strings.IndexByte(path[1:], '/')
		if i < 0 {
			return ""
		}
		path = path[1+i:]
	}
	return path
}

func refuse(r Reason, detail string) Step {
	return Step{Kind: Reply, Status: r.Status(), Reason: r, Detail: detail}
}

func describe(t target) string {
	if t.version == "" {
		return "service " + t.service.name
	}
	return t.service.name + "/" + t.version
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

// Version is the chosen version, even when it has no instance.
func (x *Exchange) Version() string { return x.version }

// Route is the service's route and the gateway's that took the request; either
// may be nil.
func (x *Exchange) Route() (service, gateway *Route) { return x.route, x.gate }

// Tries is how often the request was sent.
func (x *Exchange) Tries() int { return x.tries }

// ServiceName is the service that a host means: without port, without the
// suffix .internal, in small letters.
func ServiceName(host string) string {
	return strings.TrimSuffix(bareHost(host), ".internal")
}

// bareHost is a host without port, case and final dot.
func bareHost(host string) string {
	if i := strings.LastIndexByte(host, ':'); i >= 0 && !strings.HasSuffix(host, "]") {
		host = host[:i]
	}
	return strings.TrimSuffix(strings.ToLower(host), ".")
}

func (g *gateway) serves(host string) bool {
	h := bareHost(host)
	for _, want := range g.rule.Hosts {
		if want == "*" || want == h {
			return true
		}
		if suffix, ok := strings.CutPrefix(want, "*"); ok && len(h) > len(suffix) && strings.HasSuffix(h, suffix) {
			return true
		}
	}
	return false
}

// unfit tells why a request cannot be carried, whatever the rules; empty: it can.
func unfit(v View) string {
	switch {
	case v.Method() == "CONNECT":
		return "the mesh carries requests and opens no tunnels: call the service by http://"
	case dotted(v.Path()):
		return "the path has a segment . or .. in it: send the path that is meant"
	}
	return ""
}

// dotted tells whether a path has a segment that means "here" or "one up",
// encoded or not. Such a path could be read in two ways.
func dotted(path string) bool {
	if !strings.Contains(path, "/.") && strings.IndexByte(path, '%') < 0 {
		return false
	}
	for seg := range strings.SplitSeq(path, "/") {
		if d := decoded(seg); d == "." || d == ".." || strings.HasPrefix(d, "../") || strings.Contains(d, "/../") || strings.HasSuffix(d, "/..") {
			return true
		}
	}
	return false
}
