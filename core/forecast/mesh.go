// Package forecast computes what requests would come to, in place of sending
// them: a discrete-event simulation in which every decision is made by the
// engine's own code, on a clock that jumps from event to event.
package forecast

import (
	"net/netip"
	"time"

	"nightjar/core/engine"
	"nightjar/core/hash"
)

// Mesh is what is simulated, besides the rules: who answers and how, who calls,
// and how often.
type Mesh struct {
	Instances []engine.Instance
	Proxies   []Proxy              // of callers that are no instance: gateways, and Nightjar itself
	Behaviour map[string]Behaviour // of SERVICE/VERSION; of one that is missing the zero value
	Streams   []Stream
	Drills    []engine.Drill // for the whole time; Until is not looked at
}

// Proxy is one proxy that requests come into the mesh by.
type Proxy struct {
	ID      string
	Caller  string // as rules and figures know it
	Gateway bool   // it is the gateway Caller
	Node    bool   // it is that of the service itself
	Site    string
}

// Behaviour is how the workload of a version behaves.
type Behaviour struct {
	Own    Times         // time that it takes by itself, before it calls others; nil: none
	Hop    time.Duration // that a request to it takes besides, in proxies and on the way
	Errors float64       // share of requests that it answers with 500 by itself
	AtOnce int           // requests that it works on at once, the others wait; 0: any number
	Calls  []Call        // one after the other, after its own time
}

// Call is a call that a workload makes for its own requests.
type Call struct {
	To     string
	PerOne float64 // calls for each request: 0.2 is one in five requests, 2 two for each
	Needed bool    // without success it answers 502
	Kinds  []Kind
}

// Kind is a request with how often it is one of many.
type Kind struct {
	Weight float64
	*Request
}

// Request is what the rules look at.
type Request struct {
	Method string // GET when empty
	Host   string // empty: the called service
	Path   string
	Query  string
	Fields map[string][]string // by canonical name; in place of EachOwn in a value every request has another one
	// Address is that of the caller; invalid: every request has another one.
	Address netip.Addr
	Claims  map[string][]string // of the token that it shows a gateway
}

// EachOwn stands for a value that differs from request to request.
const EachOwn = "\x00each its own"

// Stream is requests that come into the mesh.
type Stream struct {
	Name    string
	Caller  string // proxies of this name take them in turn
	To      string // called service; empty at a gateway, where the Host of the request counts
	Kinds   []Kind
	Next    func() (due time.Duration, ok bool) // times of arrival, rising; they begin at about 0
	PassOn  bool                                // calls further on carry the fields of their request, not their own
	Counted time.Duration                       // requests due before it warm the mesh up, and do not count
}

// Times draws times from a distribution.
type Times func(*Draw) time.Duration

// Draw is a sequence of random numbers that belongs to one request, so that it
// meets the same luck whatever the rules say (S. Vigna's splitmix64).
type Draw uint64

// Uniform is a number from 0 to below 1.
func (d *Draw) Uniform() float64 {
	*d += hash.Gamma
	return float64(hash.Finish(uint64(*d))>>11) / (1 << 53)
}

// child is the sequence of something that belongs to this one.
func (d Draw) child(n uint64) Draw { return Draw(hash.Finish(uint64(d) ^ (n+1)*0xd1342543de82ef95)) }
