package model

import "time"

// GuardState is the state of a service's guards in one calling proxy.
type GuardState struct {
	Proxy  string    `json:"proxy"`
	Caller string    `json:"caller"` // calling service or gateway
	At     time.Time `json:"at"`     // when the proxy reported it
	GuardStatus
}

// GuardStatus is the state of the guards of one called service.
type GuardStatus struct {
	Service  string          `json:"service"`
	Versions []VersionGuards `json:"versions,omitempty"` // versions with something to report, by name
	Retries  *RetryBudget    `json:"retries,omitempty"`  // absent where nothing is retried
	Limits   []LimitStatus   `json:"limits,omitempty"`   // of its routes
}

// VersionGuards is the state of the guards of one version.
type VersionGuards struct {
	Version     string              `json:"version"`
	Breaker     *BreakerStatus      `json:"breaker,omitempty"`
	Queue       *QueueStatus        `json:"queue,omitempty"`
	Sidelined   []SidelinedInstance `json:"sidelined,omitempty"`
	Unhealthy   []string            `json:"unhealthy,omitempty"`   // instances whose health checks fail
	DrilledDown []string            `json:"drilledDown,omitempty"` // instances that a drill takes down
	// instances to which this proxy gets no connection
	Unreachable []UnreachableInstance `json:"unreachable,omitempty"`
	// more than half of the instances are unhealthy at once, so all get requests
	IgnoresHealth bool         `json:"ignoresHealth,omitempty"`
	Sites         []SiteStatus `json:"sites,omitempty"` // in the order of failover
}

// The states of a circuit breaker.
const (
	BreakerClosed  = "closed"
	BreakerOpen    = "open"
	BreakerProbing = "probing"
)

// BreakerStatus is the state of a circuit breaker.
type BreakerStatus struct {
	State     string `json:"state"`               // closed, open or probing
	SinceMS   int64  `json:"sinceMS"`             // how long it has been in this state
	ProbeInMS int64  `json:"probeInMS,omitempty"` // while open: time until it lets probes through
	Requests  uint64 `json:"requests"`            // in its window; while open or probing, those that opened it
	Failed    uint64 `json:"failed"`
	Slow      uint64 `json:"slow"`
}

// QueueStatus is the requests in flight and in the queue.
type QueueStatus struct {
	InFlight      int `json:"inFlight"`
	InFlightLimit int `json:"inFlightLimit"`
	Waiting       int `json:"waiting"`
	WaitingLimit  int `json:"waitingLimit"`
}

// SidelinedInstance is an instance that is taken out of its pool for a while.
type SidelinedInstance struct {
	Instance   string `json:"instance"`
	Cause      string `json:"cause"`              // the last failure: a status or a reason
	LeftMS     int64  `json:"leftMS"`             // time until a request tries it again; 0: the next one does
	DurationMS int64  `json:"durationMS"`         // how long it is sidelined in all, this time
	InARow     int    `json:"inARow"`             // how many times in a row it was sidelined
	IsProbed   bool   `json:"isProbed,omitempty"` // a request is trying it now
}

// UnreachableInstance is an instance to which a proxy gets no connection.
type UnreachableInstance struct {
	Instance  string `json:"instance"`
	Cause     string `json:"cause"`     // why the last attempt to connect failed
	SinceMS   int64  `json:"sinceMS"`   // time since it could last be reached
	RetryInMS int64  `json:"retryInMS"` // time until the next attempt to connect
}

// SiteStatus is one site in the order of failover.
type SiteStatus struct {
	Site   string  `json:"site"`
	Usable float64 `json:"usable"` // share of its instances that take requests
	Share  float64 `json:"share"`  // share of the requests that goes there now
}

// RetryBudget is what is left of the budget for retries.
type RetryBudget struct {
	Requests uint64 `json:"requests"` // in the last 10 s
	Retries  uint64 `json:"retries"`  // of these
	// retries that may be sent now, by the budget of the service or else of its first route that
	// retries
	Left int `json:"left"`
}

// LimitStatus is the state of the rate limit of a route.
type LimitStatus struct {
	Route   string `json:"route"`
	Keys    int    `json:"keys"`    // values that it counts now
	MaxKeys int    `json:"maxKeys"` // values that it can count
	// of a limit of the whole mesh, what this proxy has of it
	Shared *LimitShare `json:"shared,omitempty"`
}

// LimitShare is what a proxy has of a limit of the whole mesh.
type LimitShare struct {
	Tokens int     `json:"tokens"` // that it holds
	PerS   float64 `json:"perS"`   // requests a second by its share, of all keys together
	// the service deals tokens out; otherwise the proxy goes on by its share alone
	IsDealt bool `json:"isDealt"`
}
