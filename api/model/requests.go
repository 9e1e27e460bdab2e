package model

import "time"

// The outcomes of a request.
const (
	OutcomeOK          = "ok"
	OutcomeFailed      = "failed"
	OutcomeRefused     = "refused"
	OutcomeAbandoned   = "abandoned"
	OutcomeCallerFault = "caller-fault"
	OutcomeNotOK       = "not-ok" // of a filter: any but ok
)

// Outcomes are the outcomes by which a filter selects.
var Outcomes = []string{OutcomeOK, OutcomeFailed, OutcomeRefused, OutcomeAbandoned, OutcomeCallerFault, OutcomeNotOK}

// RequestFilter selects requests. Each field that is set must match; the zero
// value selects all.
type RequestFilter struct {
	From       string // calling service or gateway
	To         string // called service
	Version    string // version that got the request
	Instance   string // instance that answered, or got the last attempt
	Route      string // route of the service or of the gateway
	Method     string
	Path       string // prefix of the path
	Status     string // a status such as 503, or a class such as 5xx
	Reason     string // why it failed or was refused
	Outcome    string // ok, failed, refused, abandoned, caller-fault or not-ok
	Header     string // NAME that is present, or NAME=VALUE
	Attempts   int    // at least this many attempts
	Request    string // id on a gateway's refusal
	Site       string // of the caller or of the instance
	SlowerThan int64  // milliseconds
}

// RequestRecord is one request that is over, as its caller's proxy saw it.
type RequestRecord struct {
	At            time.Time `json:"at"` // when it reached the proxy
	Proxy         string    `json:"proxy"`
	Caller        string    `json:"caller"`
	CallerVersion string    `json:"callerVersion,omitempty"`
	CallerSite    string    `json:"callerSite,omitempty"`
	Service       string    `json:"service,omitempty"` // called service; absent when no route took the request
	Version       string    `json:"version,omitempty"`
	Instance      string    `json:"instance,omitempty"` // that answered, or got the last attempt
	Site          string    `json:"site,omitempty"`     // of the instance
	Route         string    `json:"route,omitempty"`
	GatewayRoute  string    `json:"gatewayRoute,omitempty"`
	RouteAt       string    `json:"routeAt,omitempty"` // file and line of the route that decided
	Revision      uint      `json:"revision"`
	Method        string    `json:"method,omitempty"`
	Host          string    `json:"host,omitempty"`
	Path          string    `json:"path,omitempty"`   // as received, without the query
	Status        int       `json:"status,omitempty"` // that the caller got; absent when it left, and for TCP
	Outcome       string    `json:"outcome"`          // ok, failed, refused, abandoned or caller-fault
	Reason        string    `json:"reason,omitempty"` // why it failed or was refused
	Detail        string    `json:"detail,omitempty"` // of the reason
	ID            string    `json:"id,omitempty"`     // on a gateway's refusal: the id that its caller got
	DurationMS    float64   `json:"durationMS"`       // until the last byte of the response was sent to the caller
	RequestBytes  uint64    `json:"requestBytes"`     // of the request's body
	ResponseBytes uint64    `json:"responseBytes"`    // of the response's body that reached the caller
	Transport     string    `json:"transport"`        // to the instance: plain, tls or mutual-tls
	// of both ends; absent without mutual TLS
	Identities *LinkIdentities `json:"identities,omitempty"`
	Trace      string          `json:"trace,omitempty"`    // trace id
	IsTraced   bool            `json:"isTraced,omitempty"` // the trace was kept
	Segments   []Segment       `json:"segments,omitempty"` // its attempts, and the waits between them, in order
}

// The kinds of a Segment.
const (
	SegmentAttempt = "attempt"
	SegmentQueue   = "queue"
	SegmentBackoff = "backoff"
	SegmentDelay   = "delay"
)

// Segment is a part of a request's time.
type Segment struct {
	Kind       string  `json:"kind"`               // attempt, queue, backoff or delay
	Instance   string  `json:"instance,omitempty"` // of an attempt
	StartMS    float64 `json:"startMS"`            // since the request was received
	DurationMS float64 `json:"durationMS"`         // of an attempt: until the head of its response
	Status     int     `json:"status,omitempty"`
	Reason     string  `json:"reason,omitempty"`
}

// FeedLine is one line of the live feed of requests. A line without a request
// comes every second.
type FeedLine struct {
	Request *RequestRecord `json:"request,omitempty"`
	// requests that match and were left out because there was no room for them, since the last
	// such line
	Dropped uint64 `json:"dropped,omitempty"`
}

// RecentFailures is requests that did not succeed.
type RecentFailures struct {
	Requests []RequestRecord `json:"requests"` // newest first; each proxy reports about eight per second
}
