// Package observe tells of the requests that a proxy carried: it counts them for
// telemetry, writes the request log, makes the records of the live feed and the
// spans of traces. Requests pay for what somebody wants to see and share no lock.
package observe

import (
	"time"

	"nightjar/core/engine"
)

// Observer is told of every request of one proxy. The parts that are nil are off.
type Observer struct {
	Proxy         string // name of the proxy
	Caller        string // service that calls, or the gateway; empty at an inbound proxy
	CallerVersion string
	Site          string // where it runs
	IsGateway     bool
	Epoch         time.Time // from which all times of requests count
	// Identities are the SPIFFE IDs of this proxy and of a service that it calls by mutual TLS;
	// nil: none is known.
	Identities func(service string) (own, called string)

	Log   *RequestLog
	Feed  *Feed
	Spans *Spans
}

// Request is a request that is over, and what it came to.
type Request struct {
	View     engine.View
	Exchange *engine.Exchange
	Revision uint
	Began    time.Duration // since Observer.Epoch
	ID       string        // by which an outsider names it; empty: none does
	Result
}

// Result is what a request came to.
type Result struct {
	Class    engine.Class
	Reason   engine.Reason
	Detail   string // of the reason, for a person
	Status   int    // 0: there was no answer
	Took     time.Duration
	Sent     uint64 // bytes of the request's body
	Received uint64 // bytes of the answer's body that reached the caller
}

// Over counts a request in its connection's shard and shows it to everybody who
// wants to see it. s may be nil: nothing is counted then. The trace is a parameter
// of its own so that it can stay on the caller's stack.
func (o *Observer) Over(s *Shard, r *Request, t *Trace) {
	if s != nil {
		s.Called(r.Exchange, r.Revision, &r.Result)
	}
	o.Log.write(o, r, t)
	o.offer(r, t)
	if t.Sampled {
		o.keepSpans(r, t)
	}
}

// Served counts a request to the workload beside an inbound proxy. caller is who
// called, by what its proxy says; isCopy marks the copies of a mirror.
func (o *Observer) Served(s *Shard, self *engine.Instance, caller string, isCopy bool, r *Request, t *Trace) {
	if s != nil {
		s.Served(caller, isCopy, &r.Result)
	}
	if t.Sampled {
		o.keepServed(self, caller, r, t)
	}
}
