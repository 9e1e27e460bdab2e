// Package wire is what proxies and the service say to each other: registration
// under a lease, the stream of snapshots with its acknowledgements, and
// telemetry. All of it is JSON over HTTP below Prefix.
package wire

import (
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
)

// Prefix of the paths: PUT and DELETE {id}, GET {id}/snapshots (a stream of
// lines), POST {id}/acks, POST {id}/telemetry.
const Prefix = "/mesh/v1/proxies/"

// Headers that proxies add to requests and answers inside the mesh.
const (
	HeaderCaller   = "Nightjar-Caller"    // the calling service
	HeaderTimeLeft = "Nightjar-Time-Left" // milliseconds that the caller will still wait
	HeaderReason   = "Nightjar-Reason"    // on an inbound proxy's own answer: its reason
	HeaderAsk      = "Nightjar-Ask"       // with value "route" the answer says who gave it
	HeaderMirror   = "Nightjar-Mirror"    // with value "1" the request is a copy, and nobody waits for the answer
	HeaderAnswered = "Nightjar-Answered"  // service/version;instance="…";route="…"
)

// Registration is what a proxy says of itself. It holds for one lease.
type Registration struct {
	ID       string            `json:"id" doc:"unique name of the proxy and of the instance beside it"`
	Nonce    string            `json:"nonce" doc:"tells two processes with one ID apart"`
	Service  string            `json:"service,omitempty" doc:"service of the workload; empty at a gateway"`
	Version  string            `json:"version,omitempty" doc:"version of the workload"`
	Site     string            `json:"site,omitempty" doc:"place where it runs"`
	Gateway  string            `json:"gateway,omitempty" doc:"gateway that this proxy serves"`
	Inbound  string            `json:"inbound,omitempty" doc:"host:port where others call the workload; empty: it takes no calls"`
	Outbound string            `json:"outbound,omitempty" doc:"host:port where the workload calls others"`
	Ports    map[string]string `json:"ports,omitempty" doc:"host:port where the workload calls one service, by its name"`
	Program  string            `json:"program" doc:"version of the proxy program"`
	PID      int               `json:"pid"`
	Started  time.Time         `json:"started"`
	// Takes is the nonce of the process whose work this one takes over.
	Takes string `json:"takes,omitempty"`
	Vitals
}

// Vitals is how a proxy is doing.
type Vitals struct {
	Down        string `json:"down,omitempty" doc:"why the workload's health checks fail; empty: they do not"`
	Connections int    `json:"connections" doc:"open connections of callers"`
	Memory      uint64 `json:"memory" doc:"resident bytes of the process"`
}

// Lease is the answer to a Registration.
type Lease struct {
	Seconds int `json:"seconds"` // renew well before
}

// Snapshot is one line of the stream: what changed since the line before, or
// everything. A line without a sequence is a sign of life.
type Snapshot struct {
	Sequence uint64 `json:"sequence,omitempty"` // to be acknowledged
	Revision uint   `json:"revision,omitempty"` // in force with this line; 0: the rules did not change
	Whole    bool   `json:"whole,omitempty"`    // it is everything; what was known before is forgotten

	Services      []*rules.Service  `json:"services,omitempty"` // new or changed
	GoneServices  []string          `json:"goneServices,omitempty"`
	Rest          *rules.Rules      `json:"rest,omitempty"`      // all of the rules but services, when any of it changed
	Instances     []engine.Instance `json:"instances,omitempty"` // new or changed
	GoneInstances []string          `json:"goneInstances,omitempty"`

	// Calls, with a whole snapshot, are the services that the proxy's workload
	// is declared to call; it is told of these alone. Absent: of all.
	Calls []string `json:"calls,omitzero"`
	// Drills are all that run, when any came or went; absent: as before.
	Drills []Drill `json:"drills,omitzero"`
	// Settled is false while the service has not run long enough for every
	// proxy to have come back: instances may be missing then, and a proxy keeps
	// those that it knew.
	Settled bool `json:"settled,omitempty"`
}

// Drill is a drill with its end, which a proxy keeps to by itself.
type Drill struct {
	engine.Drill
	Ends  time.Time `json:"ends"`
	ForMS int64     `json:"forMS"` // whatever the clock says, it ends so long after it was first heard of
}

// Ack tells that a snapshot is in force in a proxy, or why it cannot be.
type Ack struct {
	Sequence uint64 `json:"sequence"`
	Revision uint   `json:"revision"`
	Error    string `json:"error,omitempty"`
}

// Delta is what a proxy counted since its last Delta.
type Delta struct {
	Nonce         string   `json:"nonce"`
	Sequence      uint64   `json:"sequence"` // rises by one; a Delta that comes twice counts once
	Caller        string   `json:"caller"`   // service or gateway whose requests these are
	CallerVersion string   `json:"callerVersion,omitempty"`
	AgoMS         int64    `json:"agoMS,omitempty"` // how long ago it was counted
	Series        []Series `json:"series"`

	Status []engine.Status `json:"status,omitzero"` // of the guards now; absent: as before
	Events []engine.Event  `json:"events,omitempty"`
}

// Series is the count of requests with one set of names.
type Series struct {
	Revision  uint              `json:"revision,omitempty"` // that the requests followed
	Gate      string            `json:"gate,omitempty"`     // route of the gateway
	Service   string            `json:"service,omitempty"`
	Version   string            `json:"version,omitempty"`
	Instance  string            `json:"instance,omitempty"`
	Route     string            `json:"route,omitempty"`   // empty: plain balancing, or none
	RouteOf   string            `json:"routeOf,omitempty"` // service whose route it is
	OK        uint64            `json:"ok,omitempty"`
	Failed    uint64            `json:"failed,omitempty"`
	Refused   uint64            `json:"refused,omitempty"`
	Abandoned uint64            `json:"abandoned,omitempty"`
	Tries     uint64            `json:"tries,omitempty"`
	FirstOK   uint64            `json:"firstOK,omitempty"` // requests whose first try went well
	Status    map[string]uint64 `json:"status,omitempty"`  // 2xx, 3xx, …
	Reasons   map[string]uint64 `json:"reasons,omitempty"` // why the mesh answered
	Latency   [][2]uint32       `json:"latency,omitempty"` // bucket of core/stats and count, of counted requests
}
