package proxy

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// bearer carries the bytes of one request and decides nothing. There are two:
// general, over net/http, for every protocol; and plain, by a codec of our own,
// for what most requests are. Whoever wants a third has TestConformance to pass.
type bearer interface {
	engine.View
	// version is the HTTP version of the request, 1 or 2.
	version() int
	// remote is the address of the caller, local the one that it called.
	remote() string
	local() string
	// try sends the request once. It keeps the answer, if there is one, until
	// the next try or pass.
	try(to call) engine.Outcome
	// wait waits for d, or until wake is called; false: the caller left meanwhile.
	wait(d time.Duration) bool
	// wake ends a wait that is under way, or else the next one.
	wake() func()
	// left tells whether the caller is gone.
	left() bool
	// pass sends the kept answer on. fault tells that an answer of status 200
	// means a failure of the workload (gRPC).
	pass(p passing) (fault bool, err error)
	// say sends an answer of the proxy's own.
	say(status int, h http.Header, body []byte)
	// moved is how many bytes of bodies went by: of the request, and of answers
	// to the caller.
	moved() (sent, received uint64)
}

// call is where one try goes.
type call struct {
	by       *carrier
	to       *engine.Instance
	path     string // percent-encoded
	host     string // empty: as it came
	left     time.Duration
	deadline time.Duration
	edits    [2]*rules.HeaderEdits // of the gateway's route and the service's
	mirror   *engine.Instance      // gets a copy; nil: nobody does
	grpc     bool                  // the instance speaks HTTP/2
	again    bool                  // the request may have to be sent once more
	traced   bool                  // trace goes on in place of what came
	untraced bool                  // what came goes no further
	trace    traceparent
}

// passing is what is done to an answer on its way to the caller.
type passing struct {
	edits [2]*rules.HeaderEdits
	extra []rules.Field // fields that this proxy adds
}

// carrier asks the engine what to do with each request, lets a bearer do it,
// and counts what came of it.
type carrier struct {
	name          string
	caller        string // service that calls; a gateway's own name
	callerValue   []string
	callerVersion string
	gateway       string // set at a gateway
	service       string // that every request is for; empty: the host names it
	site          string
	epoch         time.Time
	force         *atomic.Pointer[inForce]
	recorder      *recorder
	mirrors       *mirrors
	requests      *requestLog
	feed          *feed
	spans         *spans
}

// inForce is what a proxy follows now.
type inForce struct {
	table    *engine.Table
	revision uint
	known    bool // false until the first snapshot
}

// handler is what requests of a listener go to: a carrier, or an inbound.
type handler interface {
	// carry sees one request through. False: the connection must be cut, since
	// the answer broke off or nobody waits for it.
	carry(b bearer, x *engine.Exchange, s *shard) bool
}

func (c *carrier) now() time.Duration { return time.Since(c.epoch) }

func (c *carrier) carry(b bearer, x *engine.Exchange, s *shard) bool {
	begun := c.now()
	force := c.force.Load()
	entry := engine.Entry{Gateway: c.gateway, Service: c.service, Wake: b.wake()}
	ask := b.Header(wire.HeaderAsk) != nil
	if c.gateway == "" {
		entry.Limit = timeLeft(b)
	} else if ask {
		ask = sameMachine(b.remote(), b.local())
	}
	trace := c.trace(b, true)
	done := func(class engine.Class, reason engine.Reason, status int, detail string) {
		r := result{class: class, reason: reason, detail: detail, status: status, took: c.now() - begun}
		r.sent, r.received = b.moved()
		c.over(s, &trace, b, x, force.revision, begun, &r)
	}
	broken := false
	defer func() { x.End(broken, c.now()) }()
	var step engine.Step
	if force.known {
		step = x.Begin(force.table, entry, b, begun)
	} else {
		*x = engine.Exchange{}
		step = engine.Refuse(engine.NoInstance, "this proxy has had no rules from the service yet")
	}
	now := begun
	for {
		switch step.Kind {
		case engine.Attempt:
			if why := misfit(x.Protocol(), b.version()); why != "" {
				step = engine.Refuse(engine.BadRequest, why)
				continue
			}
			o := b.try(call{by: c, to: step.Instance, path: x.Path(), host: x.SendHost(), left: step.Deadline - now, deadline: step.Deadline,
				edits: edits(x), mirror: x.Mirror(), grpc: x.Protocol() == "grpc", again: x.MayRetry()}.with(&trace, x.Tries()-1))
			if o.Status == 0 && b.left() {
				done(engine.Abandoned, "", 0, "")
				return false
			}
			now = c.now()
			step = x.Next(o, now)
		case engine.Wait:
			if !b.wait(step.Deadline - now) {
				done(engine.Abandoned, "", 0, "")
				return false
			}
			now = c.now()
			step = x.Next(engine.Outcome{}, now)
		case engine.Answer:
			h, body := c.answer(x, step.Status)
			c.ask(h, ask, x, nil, force.revision)
			b.say(step.Status, h, body)
			done(engine.Classify("", step.Status), "", step.Status, "")
			return true
		case engine.Reply:
			h := http.Header{}
			c.ask(h, ask, x, x.Instance(), force.revision)
			c.refuse(b, h, x, step)
			done(engine.Classify(step.Reason, step.Status), step.Reason, step.Status, step.Detail)
			return true
		case engine.Done:
			p := passing{edits: edits(x), extra: limitFields(x)}
			if ask {
				p.extra = append(p.extra, rules.Field{Name: wire.HeaderAnswered, Value: c.answered(x, x.Instance(), force.revision)})
			}
			fault, err := b.pass(p)
			switch {
			case err == nil && fault:
				broken = true
				done(engine.Failed, "", step.Status, "")
			case err == nil:
				done(engine.Classify("", step.Status), "", step.Status, "")
			case b.left():
				done(engine.Abandoned, "", 0, "")
			default:
				broken = true
				done(engine.Failed, engine.Reset, step.Status, "the answer broke off: "+err.Error())
			}
			return err == nil
		}
	}
}

// over counts a request that is over, and shows it to everybody who wants to
// see it. s may be nil.
func (c *carrier) over(s *shard, t *tracing, b engine.View, x *engine.Exchange, revision uint, begun time.Duration, r *result) {
	if s != nil {
		s.called(x, revision, r)
	}
	c.requests.note(c, t, b, x, revision, r)
	c.offer(t, b, x, revision, begun, r)
	if t.sampled {
		c.keep(t, b, x, begun, r)
	}
}

// with sets the trace context that goes on with a try, the first of which is 0.
func (to call) with(t *tracing, try int) call {
	if to.untraced = t.invalid; t.on {
		to.traced, to.trace = true, t.field(try)
	}
	return to
}

// misfit tells why a request cannot be carried to a service of a protocol.
func misfit(protocol string, version int) string {
	switch {
	case protocol == "grpc" && version != 2:
		return "the service speaks gRPC: call it by HTTP/2"
	case protocol == "tcp":
		return "the service speaks TCP, not HTTP: give its proxy a port for it (--port) and connect there"
	}
	return ""
}

func (c *carrier) ask(h http.Header, asked bool, x *engine.Exchange, in *engine.Instance, revision uint) {
	if asked {
		h[wire.HeaderAnswered] = []string{c.answered(x, in, revision)}
	}
}

// answered is the value of wire.HeaderAnswered: which version, instance and
// route a request came to. The names that rules allow need no quoting.
func (c *carrier) answered(x *engine.Exchange, in *engine.Instance, revision uint) string {
	id := ""
	if in != nil {
		id = in.ID
	}
	route, gate := x.Route()
	if x.Service() == "" && gate != nil { // a gateway's route answered
		return fmt.Sprintf("%s/; revision=%d; gate=%q", gate.Of(), revision, gate.Name())
	}
	v := fmt.Sprintf("%s/%s; instance=%q; revision=%d", x.Service(), x.Version(), id, revision)
	if route != nil {
		v += fmt.Sprintf("; route=%q", route.Name())
	}
	if gate != nil {
		v += fmt.Sprintf("; gate=%q", gate.Name())
	}
	if x.Tries() != 1 {
		v += fmt.Sprintf("; tries=%d", x.Tries())
	}
	if x.FirstFailed() {
		v += "; first=failed"
	}
	return v
}

// answer is what a route answers by itself.
func (c *carrier) answer(x *engine.Exchange, status int) (http.Header, []byte) {
	h := http.Header{}
	reply, redirect := x.Answer()
	body := ""
	if reply != nil {
		if body = reply.Body; body != "" {
			h["Content-Type"] = []string{"text/plain; charset=utf-8"}
		}
		edit(h, &rules.Edits{Set: reply.Headers})
	} else {
		h["Location"] = []string{redirect}
	}
	editAnswer(h, edits(x))
	for _, f := range limitFields(x) {
		h[f.Name] = []string{f.Value}
	}
	return h, []byte(body)
}

// problem is the body of a refusal (RFC 9457).
type problem struct {
	Type   string        `json:"type"`
	Title  string        `json:"title"`
	Status int           `json:"status"`
	Detail string        `json:"detail"`
	Reason engine.Reason `json:"reason"`
	Proxy  string        `json:"proxy"`
	Rule   string        `json:"rule,omitempty"`
}

// refuse answers in the mesh's own name: the reason, what happened, and the
// rule that led there.
func (c *carrier) refuse(b bearer, h http.Header, x *engine.Exchange, s engine.Step) {
	p := problem{Status: s.Status, Detail: s.Detail, Reason: s.Reason, Proxy: c.name}
	route, gate := x.Route()
	for _, rt := range []*engine.Route{route, gate} {
		if rt != nil && rt.Name() != "" && p.Rule == "" {
			p.Rule = fmt.Sprintf("route %s of %s, %s", rt.Name(), rt.Of(), rt.At())
		}
	}
	for _, f := range limitFields(x) {
		h[f.Name] = []string{f.Value}
	}
	if s.After > 0 {
		h["Retry-After"] = []string{strconv.Itoa(wholeSeconds(s.After))}
	}
	p.say(b, h)
}

// say answers with the problem: by a gRPC status for callers that speak gRPC,
// as JSON for those that take it, as text for all others.
func (p problem) say(b bearer, h http.Header) {
	if isGRPC(b) {
		h["Proxy-Status"] = []string{p.proxyStatus()}
		grpcRefusal(h, p)
		b.say(http.StatusOK, h, nil)
		return
	}
	body := p.write(h, strings.Contains(strings.Join(b.Header("Accept"), ","), "json"))
	b.say(p.Status, h, body)
}

// write sets the fields of a refusal and returns its body.
func (p problem) write(h http.Header, asJSON bool) (body []byte) {
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	h["Proxy-Status"] = []string{p.proxyStatus()}
	if asJSON {
		h["Content-Type"] = []string{"application/problem+json"}
		body, _ = json.Marshal(p)
		return append(body, '\n')
	}
	h["Content-Type"] = []string{"text/plain; charset=utf-8"}
	h["X-Content-Type-Options"] = []string{"nosniff"}
	body = fmt.Appendf(nil, "%d %s: %s\n", p.Status, p.Reason, p.Detail)
	if p.Rule != "" {
		body = fmt.Appendf(body, "rule: %s\n", p.Rule)
	}
	return body
}

// proxyStatus is the field of RFC 9209.
func (p problem) proxyStatus() string {
	return quoted(p.Proxy) + "; error=" + p.Reason.ErrorType() + "; details=" + quoted(string(p.Reason)+": "+p.Detail)
}

// inbound hands requests from other proxies to the workload beside it.
type inbound struct {
	carrier
	self engine.Instance // what others call
	app  *engine.Instance
	grpc func() bool // whether the workload speaks HTTP/2 alone
}

// endless is the limit of a caller that came without a proxy: it sets its own.
const endless = 24 * time.Hour

func (in *inbound) carry(b bearer, _ *engine.Exchange, s *shard) bool {
	begun := in.now()
	trace := in.trace(b, false)
	caller := ""
	if v := b.Header(wire.HeaderCaller); len(v) > 0 {
		caller = v[0]
	}
	copied := b.Header(wire.HeaderMirror) != nil
	done := func(class engine.Class, reason engine.Reason, status int, detail string) {
		r := result{class: class, reason: reason, detail: detail, status: status, took: in.now() - begun}
		r.sent, r.received = b.moved()
		if s != nil {
			s.served(caller, copied, &r)
		}
		if trace.sampled {
			in.keepApp(&trace, b, caller, begun, &r)
		}
	}
	limit := timeLeft(b)
	if limit == 0 {
		limit = endless
	}
	o := b.try(call{by: &in.carrier, to: in.app, path: b.Path(), left: limit, deadline: begun + limit, grpc: in.grpc != nil && in.grpc()}.with(&trace, 0))
	if o.Reason != "" {
		if b.left() {
			if in.now()-begun > limit-limit/10 { // it left since its time ran out
				done(engine.Failed, engine.TimedOut, 0, "no answer in the caller's time")
			} else {
				done(engine.Abandoned, "", 0, "")
			}
			return false
		}
		h := http.Header{wire.HeaderReason: {string(o.Reason)}}
		problem{Status: o.Reason.Status(), Detail: "workload " + in.app.Address + ": " + o.Detail, Reason: o.Reason, Proxy: in.name}.say(b, h)
		done(engine.Classify(o.Reason, o.Reason.Status()), o.Reason, o.Reason.Status(), o.Detail)
		return true
	}
	fault, err := b.pass(passing{})
	switch {
	case err == nil && fault:
		done(engine.Failed, "", o.Status, "")
	case err == nil:
		done(engine.Classify("", o.Status), "", o.Status, "")
	case b.left():
		done(engine.Abandoned, "", 0, "")
	default:
		done(engine.Failed, engine.Reset, o.Status, "the answer broke off: "+err.Error())
	}
	return err == nil
}
