package carry

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"net/http"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/edge"
	"nightjar/proxy/forward"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// Source is whose requests a proxy carries.
type Source struct {
	Proxy   string // name of the proxy
	Hop     forward.Hop
	Site    string
	Epoch   time.Time // from which all times of requests count
	Observe *observe.Observer
	Party   engine.Party // who calls, for the access rules
}

func (s *Source) now() time.Duration { return time.Since(s.Epoch) }

// Router asks the engine what to do with each request that a workload or an
// outsider makes, and lets a bearer do it.
type Router struct {
	Source
	Gateway string // set at a gateway
	Service string // that every request is for; empty: the host names it
	// Key is what the service's own calls show at a gateway; nil, or empty from it:
	// there are none.
	Key func() string
	// Undeclared is told of a request to a host that nothing declares, whose name is good during
	// the call; nil: nobody is.
	Undeclared func(host string)
	// Table is what the proxy follows now; nil until the first rules have come.
	Table *atomic.Pointer[engine.Table]
	// Edge is what a gateway asks of outsiders; nil elsewhere, and nil from it until the
	// first rules have come.
	Edge    *atomic.Pointer[edge.Edge]
	mirrors *mirrors
}

// NewRouter makes a router whose mirrors send by the transports.
func NewRouter(r Router, t *Transports) *Router {
	r.mirrors = newMirrors(t)
	return &r
}

// For is a router of the same requests to one service, whatever their host says.
func (r *Router) For(service string) *Router {
	own := *r
	own.Service = service
	return &own
}

// Close ends the copies that are under way, and waits for them.
func (r *Router) Close() { r.mirrors.end() }

func (r *Router) source() *Source { return &r.Source }

// carried is one request on its way through a Router.
type carried struct {
	router   *Router
	b        bearer
	x        *engine.Exchange
	shard    *observe.Shard
	began    time.Duration
	now      time.Duration // when something was last waited for
	revision uint
	trace    observe.Trace
	isAsked  bool   // the answer is to say who gave it
	id       string // by which an outsider names the request when it is refused; empty: it is no outsider's
	status   int    // of the answer that is passed on
	ending   engine.Ending
}

func (r *Router) course(b bearer, x *engine.Exchange, shard *observe.Shard, in *room) course {
	if in.carried == nil {
		in.carried = new(carried)
	}
	*in.carried = carried{
		router: r,
		b:      b,
		x:      x,
		shard:  shard,
		began:  r.now(),
	}
	b.outside().begin(b)
	return in.carried
}

// edgeLimits are what outsiders may take up of a handler.
func edgeLimits(h Handler) (l rules.EdgeLimits) {
	if r, is := h.(*Router); is {
		if e := r.edge(); e != nil {
			l = e.Limits
		}
	}
	return l
}

// edge is what the gateway asks of outsiders; nil: there is none.
func (r *Router) edge() *edge.Edge {
	if r.Edge == nil {
		return nil
	}
	return r.Edge.Load()
}

func (c *carried) begin() progress {
	r := c.router
	c.now = c.began
	c.trace = r.Observe.Trace(c.b.Header(observe.HeaderTraceparent), true)
	c.isAsked = r.isAsked(c.b.Header(wire.HeaderAsk))
	// The edge is ready before the table that goes with it, so it is looked at after that.
	table := r.Table.Load()
	c.b.outside().edge = r.edge()
	if why := c.tooMuch(); why != nil {
		*c.x = engine.Exchange{}
		return c.refuse(*why)
	}
	return c.follow(c.enter(table))
}

// tooMuch refuses what is over the limits of the edge; nil: nothing is.
func (c *carried) tooMuch() *engine.Step {
	e := c.b.outside().edge
	if e == nil {
		return nil
	}
	if most, length := e.Limits.Body, c.b.length(); most > 0 && length > most {
		s := engine.Refuse(engine.TooLarge, fmt.Sprintf("the body has %d bytes, and this gateway takes %d", length, most))
		s.Status = http.StatusRequestEntityTooLarge
		return &s
	}
	if most := e.Limits.Headers; most > 0 {
		size := 0
		for _, f := range c.b.came().Fields.List {
			size += len(f.Name) + len(f.Value)
		}
		if size > most {
			s := engine.Refuse(engine.TooLarge, fmt.Sprintf("the header has %d bytes, and this gateway takes %d", size, most))
			return &s
		}
	}
	return nil
}

// follow carries out one step of the engine after the other, until it has to be waited
// for one.
func (c *carried) follow(step engine.Step) progress {
	for {
		switch step.Kind {
		case engine.Attempt:
			o, isThere := c.send(step)
			switch {
			case !isThere:
				return underway
			case o.Status == 0 && c.b.ended() == errCallerLeft:
				return c.abandoned()
			}
			c.now = c.router.now()
			step = c.x.Next(o, c.now)
		case engine.Wait:
			why, isOver := c.b.wait(step.Deadline - c.now)
			switch {
			case !isOver:
				return underway
			case why != nil:
				return c.givenUp(why)
			}
			c.now = c.router.now()
			step = c.x.Next(engine.Outcome{}, c.now)
		case engine.Answer:
			return c.answer(step.Status)
		case engine.Reply:
			return c.refuse(step)
		case engine.Done:
			return c.sendAnswer(step.Status)
		}
	}
}

func (c *carried) sent(o engine.Outcome) progress {
	if o.Status == 0 && c.b.ended() == errCallerLeft {
		return c.abandoned()
	}
	c.now = c.router.now()
	return c.follow(c.x.Next(o, c.now))
}

func (c *carried) waited(why error) progress {
	if why != nil {
		return c.givenUp(why)
	}
	c.now = c.router.now()
	return c.follow(c.x.Next(engine.Outcome{}, c.now))
}

func (c *carried) abort() { c.x.End(engine.Left, c.router.now()) }

// givenUp ends a request that waited.
func (c *carried) givenUp(why error) progress {
	c.ending = engine.Left
	switch why {
	case errDraining:
	case errTooLarge:
		s := engine.Refuse(engine.TooLarge, why.Error())
		s.Status = http.StatusRequestEntityTooLarge
		return c.refuse(s)
	default:
		return c.abandoned()
	}
	return c.refuse(engine.Refuse(engine.Draining, "this proxy ends, and the request was still waiting"))
}

// enter asks the engine where the request goes.
func (c *carried) enter(table *engine.Table) engine.Step {
	r := c.router
	if table == nil {
		*c.x = engine.Exchange{}
		return engine.Refuse(engine.NoInstance, "this proxy has had no rules from the service yet")
	}
	c.revision = table.Revision()
	entry := engine.Entry{Gateway: r.Gateway, Service: r.Service, From: r.Party, Wake: c.b.wake()}
	if r.Gateway == "" {
		entry.Limit = forward.TimeLeft(c.b, c.b.isHTTP2())
	}
	return c.x.Begin(table, entry, c.b, c.began)
}

// send carries one attempt out.
func (c *carried) send(step engine.Step) (o engine.Outcome, isThere bool) {
	if why := c.misfit(); why != "" {
		return engine.Outcome{Reason: engine.BadRequest, Detail: why, IsSpent: true}, true
	}
	r, x, a := c.router, c.x, c.b.attempt()
	a.Hop, a.To, a.Came = &r.Hop, step.Instance, c.b.came()
	c.b.outside().tell(&a.Came)
	a.Host, a.Edits, a.TimeLeft = x.SendHost(), forward.EditsOf(x), step.Deadline-c.now
	a.path, a.began, a.deadline = x.Path(), c.now, step.Deadline
	a.mirror, a.mirrors = x.Mirror(), r.mirrors
	a.isHTTP2, a.mayRepeat = rules.SpeaksHTTP2(x.Protocol()), x.MayRetry()
	a.setTrace(&c.trace, x.Steps()-1)
	return c.b.send()
}

// setTrace sets the trace context that goes on with an attempt, the first of
// which is 0.
func (a *attempt) setTrace(t *observe.Trace, number int) {
	a.Trace.Drops = t.Invalid
	if a.Trace.IsOwn = t.Own; t.Own {
		a.Trace.Own = t.Field(number)
	}
}

// misfit tells why a request cannot be carried to a service of its protocol.
func (c *carried) misfit() string {
	switch protocol := c.x.Protocol(); {
	case protocol == "grpc" && !c.b.isHTTP2():
		return "the service speaks gRPC: call it by HTTP/2"
	case protocol == "tcp":
		return "the service speaks TCP, not HTTP: give its proxy a port for it (--port) and connect there"
	}
	return ""
}

// refused tells the observer of a request that could not be read.
func (r *Router) refused(b bearer, x *engine.Exchange, shard *observe.Shard, why *forward.Refusal) {
	*x = engine.Exchange{}
	c := carried{
		router: r,
		b:      b,
		x:      x,
		shard:  shard,
		began:  r.now(),
	}
	if t := r.Table.Load(); t != nil {
		c.revision = t.Revision()
	}
	c.id = why.Request
	c.over(engine.CallerFault, why.Reason, why.Status, why.Detail)
}

// over tells the observer that the request is over, and the engine.
func (c *carried) over(class engine.Class, reason engine.Reason, status int, detail string) {
	c.now = c.router.now()
	q := observe.Request{View: c.b, Exchange: c.x, Revision: c.revision, Began: c.began}
	q.Class, q.Reason, q.Status, q.Detail, q.Took = class, reason, status, detail, c.now-c.began
	q.Sent, q.Received = c.b.bytes()
	q.ID = c.id
	c.router.Observe.Over(c.shard, &q, &c.trace)
	c.x.End(c.ending, c.now)
}

func (c *carried) abandoned() progress {
	c.ending = engine.Left
	c.over(engine.Abandoned, "", 0, "")
	return severed
}

// answer sends what a route answers by itself.
func (c *carried) answer(status int) progress {
	h := http.Header{}
	reply, redirect := c.x.Answer()
	var body []byte
	if reply != nil {
		if body = []byte(reply.Body); len(body) > 0 {
			h["Content-Type"] = []string{"text/plain; charset=utf-8"}
		}
		for _, f := range reply.Headers {
			h.Del(f.Name)
		}
		for _, f := range reply.Headers {
			h[f.Name] = append(h[f.Name], f.Value)
		}
	} else {
		h["Location"] = []string{redirect}
	}
	a := forward.Answer{Edits: forward.EditsOf(c.x), Extra: forward.LimitFields(c.x)}
	h = a.Own(h)
	c.sayWho(h, nil)
	c.b.reply(status, h, body)
	c.over(engine.Classify("", status), "", status, "")
	return completed
}

// refuse answers in the mesh's own name.
func (c *carried) refuse(s engine.Step) progress {
	h := http.Header{}
	c.sayWho(h, c.x.Instance())
	for _, f := range forward.LimitFields(c.x) {
		h[f.Name] = []string{f.Value}
	}
	refusal := forward.Refusal{
		Status: s.Status,
		Reason: s.Reason,
		Error:  c.x.ErrorType(),
		Detail: s.Detail,
		After:  s.After,
		Proxy:  c.router.Proxy,
	}
	if s.Reason != engine.Denied { // whose detail names the access rule
		refusal.Rule = forward.RuleOf(c.x)
	}
	if r := c.router; s.Reason == engine.NoRoute && r.Gateway == "" && c.x.Service() == "" && r.Undeclared != nil {
		r.Undeclared(c.b.Host())
	}
	if s.Reason == engine.Unauthenticated && s.Status == http.StatusUnauthorized {
		challenge := "Bearer"
		if c.b.Proof().State == engine.ProofBad {
			challenge += ` error="invalid_token"`
		}
		h["Www-Authenticate"] = []string{challenge}
	}
	if r := c.router; r.Gateway != "" && !c.isAsked {
		c.id = newRequestID()
		if e := r.edge(); e == nil || !e.IsOpen {
			refusal.Request = c.id
		}
	}
	status, body := refusal.Message(c.b, c.b.isHTTP2(), h)
	c.b.reply(status, h, body)
	c.over(engine.Classify(s.Reason, s.Status), s.Reason, s.Status, s.Detail)
	return completed
}

// sendAnswer passes the instance's answer on.
func (c *carried) sendAnswer(status int) progress {
	c.status = status
	a := forward.Answer{Edits: forward.EditsOf(c.x), Extra: forward.LimitFields(c.x)}
	if c.isAsked {
		a.Extra = append(a.Extra, rules.Field{Name: wire.HeaderAnswered, Value: c.who(c.x.Instance())})
	}
	failed, err, isOver := c.b.sendAnswer(a)
	if !isOver {
		return underway
	}
	return c.answered(failed, err)
}

func (c *carried) answered(failed bool, err error) progress {
	status, bodyErr := c.status, c.b.bodyError()
	switch {
	case err == nil && failed:
		c.ending = engine.Broken
		c.over(engine.Failed, "", status, "")
	case err == nil:
		c.over(engine.Classify("", status), "", status, "")
	case c.b.ended() == errCallerLeft:
		c.ending = engine.Left
		c.over(engine.Abandoned, "", 0, "")
	case bodyErr != nil:
		c.ending = engine.Left
		c.over(engine.CallerFault, engine.BadRequest, status, unreadable+bodyErr.Error())
	case c.b.ended() == errDraining:
		c.ending = engine.Left
		c.over(engine.Refused, engine.Draining, status, "this proxy ended before the answer did")
	default:
		c.ending = engine.Broken
		c.over(engine.Failed, engine.Reset, status, "the answer broke off: "+err.Error())
	}
	if err != nil {
		return severed
	}
	return completed
}

// sayWho adds who answered, for a caller that asked.
func (c *carried) sayWho(h http.Header, in *engine.Instance) {
	if c.isAsked {
		h[wire.HeaderAnswered] = []string{c.who(in)}
	}
}

// who is the value of wire.HeaderAnswered: which version, instance and route a
// request came to. The names that rules allow need no quoting.
func (c *carried) who(in *engine.Instance) string {
	id := ""
	if in != nil {
		id = in.ID
	}
	x := c.x
	route, gate := x.Route()
	if x.Service() == "" && gate != nil { // a gateway's route answered
		return fmt.Sprintf("%s/; revision=%d; gate=%q", gate.Of(), c.revision, gate.Name())
	}
	v := fmt.Sprintf("%s/%s; instance=%q; revision=%d", x.Service(), x.Version(), id, c.revision)
	if route != nil {
		v += fmt.Sprintf("; route=%q", route.Name())
	}
	if gate != nil {
		v += fmt.Sprintf("; gate=%q", gate.Name())
	}
	if x.Attempts() != 1 {
		v += fmt.Sprintf("; attempts=%d", x.Attempts())
	}
	if x.FirstFailed() {
		v += "; first=failed"
	}
	return v
}

// isAsked tells whether the answer is to say who gave it. Where outsiders come, only
// the service's own calls may ask.
func (r *Router) isAsked(came []string) bool {
	if came == nil || r.Gateway == "" {
		return came != nil
	}
	key := ""
	if r.Key != nil {
		key = r.Key()
	}
	return key != "" && subtle.ConstantTimeCompare([]byte(came[0]), []byte(key)) == 1
}

// newRequestID is a name for a request that nobody can guess.
func newRequestID() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// outsider is the id for a refusal of a request that could not be read; empty: its
// caller is none.
func (r *Router) outsider() string {
	if r.Gateway == "" {
		return ""
	}
	return newRequestID()
}

func (r *Router) leadsToHTTP2(host string) bool {
	return r.Table.Load().LeadsToHTTP2(r.Gateway, r.Service, host)
}
