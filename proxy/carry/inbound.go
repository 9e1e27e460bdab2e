package carry

import (
	"cmp"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/forward"
	"nightjar/proxy/observe"
	"nightjar/wire"
)

// Inbound hands requests from other proxies to the workload beside it.
type Inbound struct {
	Source
	Self engine.Instance  // what others call
	App  *engine.Instance // the workload
	// Identity is how callers prove who they are; nil: whoever comes is believed.
	Identity *Identity
	// Table has the access rules; nil, or nil in it: everybody may call everything.
	Table *atomic.Pointer[engine.Table]
	Port  int // of the workload
	// Watched is told of a request that access rules would have denied, and that is let in
	// since they only watch; nil: nobody is.
	Watched func(from engine.Party, v engine.Verdict)
	// IsHTTP2 tells whether the workload speaks HTTP/2 alone.
	IsHTTP2 func() bool

	lost    atomic.Pointer[string] // why the workload cannot be reached; nil: it can, as far as is known
	isKnown atomic.Bool            // it was reached, or could not be
}

// Lost is why the workload cannot be reached; empty: it can, as far as is known.
func (in *Inbound) Lost() string {
	if why := in.lost.Load(); why != nil {
		return *why
	}
	return ""
}

// IsKnown tells whether the workload was called yet.
func (in *Inbound) IsKnown() bool { return in.isKnown.Load() }

// Tried tells what became of a connection to the workload.
func (in *Inbound) Tried(err error) {
	if err == nil {
		in.reached()
		return
	}
	in.miss(outcomeOf(err))
}

func (in *Inbound) reached() {
	if in.lost.Load() != nil {
		in.lost.Store(nil)
	}
	if !in.isKnown.Load() {
		in.isKnown.Store(true)
	}
}

// miss notes an attempt without an answer.
func (in *Inbound) miss(o engine.Outcome) {
	if o.Reason != engine.Unreachable {
		return
	}
	why := in.App.Address + " " + o.Detail
	in.lost.Store(&why)
	in.isKnown.Store(true)
}

func (in *Inbound) source() *Source { return &in.Source }

// served is one request on its way to the workload.
type served struct {
	in     *Inbound
	b      bearer
	shard  *observe.Shard
	began  time.Duration
	trace  observe.Trace
	limit  time.Duration // that the caller still waits
	status int           // of the answer that is passed on
	caller string        // who has proved to call; empty: nobody
	isCopy bool
	denied engine.Verdict // of the access rules, when they denied it
}

// admit asks the access rules whether a caller may come in. A nil view is a connection of
// TCP.
func (in *Inbound) admit(peer *member, b engine.View) engine.Verdict {
	if in.Table == nil {
		return engine.Verdict{}
	}
	from := engine.Party{}
	if peer != nil {
		from = peer.party
	}
	v := in.Table.Load().Admit(from, in.Self.Service, in.Port, b)
	if v.Watched && in.Watched != nil {
		in.Watched(from, v)
	}
	return v
}

// requiresIdentity tells whether callers must prove who they are.
func (in *Inbound) requiresIdentity() bool {
	return in.Identity != nil && in.Identity.Mode() == rules.IdentityRequired
}

func (in *Inbound) course(b bearer, _ *engine.Exchange, shard *observe.Shard, at *room) course {
	if at.served == nil {
		at.served = new(served)
	}
	*at.served = served{
		in:    in,
		b:     b,
		shard: shard,
		began: in.now(),
	}
	b.outside().begin(b)
	return at.served
}

func (q *served) begin() progress {
	in, b := q.in, q.b
	peer := b.member()
	switch {
	case peer != nil:
		q.caller, q.isCopy = peer.Name.Name, b.Header(wire.HeaderMirror) != nil
	case in.Identity == nil:
		if v := b.Header(wire.HeaderCaller); len(v) > 0 {
			q.caller = v[0]
		}
		q.isCopy = b.Header(wire.HeaderMirror) != nil
	case in.requiresIdentity():
		return q.turnAway(in.Identity.Handshakes.NoIdentity)
	}
	if why := engine.Unfit(b); why != "" {
		return q.refuse(engine.Outcome{Reason: engine.BadRequest}, why)
	}
	if v := in.admit(peer, b); v.Denied {
		if peer == nil {
			return q.turnAway(in.Identity.notLetIn)
		}
		q.denied = v
		return q.refuse(engine.Outcome{Reason: engine.Denied}, v.Why(peer.party, in.Self.Service))
	}
	if peer == nil {
		in.Identity.letIn(b.came().Remote)
	}
	q.trace = in.Observe.Trace(b.Header(observe.HeaderTraceparent), false)
	limit := forward.TimeLeft(b, b.isHTTP2())
	if limit > 0 && limit < engine.LeastLimit {
		return q.refuse(engine.Outcome{Reason: engine.BadRequest}, "the caller waits for "+limit.String()+" only")
	}
	if limit == 0 { // a caller that came without a proxy sets its own
		limit = forward.MaxTimeLeft
	}
	a := b.attempt()
	a.Hop, a.To, a.Came, a.TimeLeft = &in.Hop, in.App, b.came(), limit
	a.Host, a.Edits, a.mirror, a.mayRepeat = "", forward.Edits{}, nil, false
	a.Caller, a.IsCopy = q.caller, q.isCopy
	a.path, a.began, a.deadline = b.Path(), q.began, q.began+limit
	a.isHTTP2 = in.IsHTTP2 != nil && in.IsHTTP2()
	a.setTrace(&q.trace, 0)
	q.limit = limit
	o, isThere := b.send()
	if !isThere {
		return underway
	}
	return q.sent(o)
}

func (q *served) sent(o engine.Outcome) progress {
	in, b, limit := q.in, q.b, q.limit
	switch {
	case o.Reason == "":
		in.reached()
		return q.sendAnswer(o.Status)
	case b.ended() == errCallerLeft && b.isBodySlow(): // the body did not come, and whoever called gave up
		q.over(engine.CallerFault, engine.BadRequest, 0, errSlowBody.Error())
		return severed
	case b.ended() == errCallerLeft && in.now()-q.began > limit-limit/10: // it left since its time ran out
		q.over(engine.Failed, engine.TimedOut, 0, "no answer in the caller's time")
		return severed
	case b.ended() == errCallerLeft:
		q.over(engine.Abandoned, "", 0, "")
		return severed
	}
	in.miss(o)
	return q.refuse(o, strings.TrimSuffix("workload "+in.App.Address+": "+o.Detail, ": "))
}

// refused tells the observer of a request that could not be read.
func (in *Inbound) refused(b bearer, _ *engine.Exchange, shard *observe.Shard, why *forward.Refusal) {
	q := served{in: in, b: b, shard: shard, began: in.now()}
	q.over(engine.CallerFault, why.Reason, why.Status, why.Detail)
}

func (in *Inbound) outsider() string { return "" }

func (in *Inbound) leadsToHTTP2(string) bool { return in.IsHTTP2 != nil && in.IsHTTP2() }

// over tells the observer that the request is over.
func (q *served) over(class engine.Class, reason engine.Reason, status int, detail string) {
	r := observe.Request{View: q.b, Began: q.began}
	r.Class, r.Reason, r.Status, r.Detail, r.Took = class, reason, status, detail, q.in.now()-q.began
	r.Sent, r.Received = q.b.bytes()
	q.in.Observe.Served(q.shard, &q.in.Self, q.caller, q.isCopy, &r, &q.trace)
}

// turnAway refuses a caller that did not prove who it is, and tells it nothing of the
// inside but an id. note keeps that with the reason.
func (q *served) turnAway(note func(from, request string)) progress {
	h := http.Header{}
	refusal := forward.Refusal{
		Status:  engine.Denied.Status(),
		Reason:  engine.Denied,
		Request: newRequestID(),
	}
	note(q.b.came().Remote, refusal.Request)
	status, body := refusal.Message(q.b, q.b.isHTTP2(), h)
	q.b.reply(status, h, body)
	q.over(turnedAway, engine.Denied, refusal.Status, "it did not prove who it is")
	return completed
}

// refuse answers for a workload that did not. The caller's proxy is told why.
func (q *served) refuse(o engine.Outcome, detail string) progress {
	h := http.Header{wire.HeaderReason: {string(o.Reason)}}
	if o.IsUnsent {
		h[wire.HeaderUnsent] = []string{"1"}
	}
	refusal := forward.Refusal{
		Status: cmp.Or(o.Means, o.Reason.Status()),
		Reason: o.Reason,
		Error:  o.Error,
		Detail: detail,
		Proxy:  q.in.Proxy,
	}
	if rule := q.denied.Rule; rule != nil {
		refusal.Rule = fmt.Sprintf("access rule %s, %s", rule.Name, q.denied.At)
	}
	status, body := refusal.Message(q.b, q.b.isHTTP2(), h)
	q.b.reply(status, h, body)
	class := engine.Classify(o.Reason, refusal.Status)
	if o.Reason == engine.Denied {
		class = turnedAway
	}
	q.over(class, o.Reason, refusal.Status, detail)
	return completed
}

// turnedAway is what a request is to the workload whose caller may not call: it has no part
// in that.
const turnedAway = engine.CallerFault

// sendAnswer passes the workload's answer on.
func (q *served) sendAnswer(status int) progress {
	q.status = status
	failed, err, isOver := q.b.sendAnswer(forward.Answer{IsInside: true})
	if !isOver {
		return underway
	}
	return q.answered(failed, err)
}

// waited is not reached: there is nothing to wait for before a workload.
func (q *served) waited(error) progress { return underway }

func (q *served) abort() {}

func (q *served) answered(failed bool, err error) progress {
	status := q.status
	bodyErr := q.b.bodyError()
	switch {
	case err == nil && failed:
		q.over(engine.Failed, "", status, "")
	case err == nil:
		q.over(engine.Classify("", status), "", status, "")
	case q.b.ended() == errCallerLeft:
		q.over(engine.Abandoned, "", 0, "")
	case bodyErr != nil:
		q.over(engine.CallerFault, engine.BadRequest, status, unreadable+bodyErr.Error())
	case q.b.ended() == errDraining:
		q.over(engine.Refused, engine.Draining, status, "this proxy ended before the answer did")
	default:
		q.over(engine.Failed, engine.Reset, status, "the answer broke off: "+err.Error())
	}
	if err != nil {
		return severed
	}
	return completed
}
