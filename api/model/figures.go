package model

// Figures are the measurements of one group of requests over a window.
type Figures struct {
	Requests uint64  `json:"requests"` // ok, failed and refused
	RPS      float64 `json:"rps"`      // requests per second
	// answered below 500; of gRPC, with a status that is not the server's fault
	OK      uint64 `json:"ok"`
	Failed  uint64 `json:"failed"`  // 5xx of the workload, unreachable, reset or timeout
	Refused uint64 `json:"refused"` // answered by the mesh itself, with a reason
	// whose caller left; not counted as requests
	Abandoned uint64 `json:"abandoned,omitempty"`
	// whose caller sent something that cannot be forwarded, such as a body that broke off; not
	// counted as requests
	CallerFault uint64   `json:"callerFault,omitempty"`
	Success     *float64 `json:"success"`    // ok of all requests; null without requests
	SuccessLow  float64  `json:"successLow"` // 95% interval (Wilson)
	SuccessHigh float64  `json:"successHigh"`
	// success of first attempts; retries add the rest
	FirstAttempt *float64 `json:"firstAttempt"`
	// times that a request was sent to an instance
	Attempts           uint64   `json:"attempts,omitempty"`
	AttemptsPerRequest *float64 `json:"attemptsPerRequest"` // above 1 by retries, below 1 by refusals
	P50MS              float64  `json:"p50MS"`              // latency, within 1%
	P95MS              float64  `json:"p95MS"`
	P99MS              float64  `json:"p99MS"`
	RequestBytes       uint64   `json:"requestBytes,omitempty"` // of the bodies of requests
	// of the bodies of responses that reached the caller
	ResponseBytes   uint64            `json:"responseBytes,omitempty"`
	OpenConnections int64             `json:"openConnections,omitempty"` // TCP connections that are open now
	Status          map[string]uint64 `json:"status,omitempty"`          // responses by class, such as 2xx
	Reasons         map[string]uint64 `json:"reasons,omitempty"`         // failures and refusals by reason
	// what the workloads answered, as the proxies beside them saw it; absent where there is no
	// such proxy
	Workload *WorkloadFigures `json:"workload,omitempty"`
}

// WorkloadFigures are the same requests as the workloads saw them: each attempt
// by itself, without what the mesh added or saved.
type WorkloadFigures struct {
	Requests uint64   `json:"requests"` // that reached the workload: each attempt counts
	RPS      float64  `json:"rps"`
	Success  *float64 `json:"success"` // null without requests
	P50MS    float64  `json:"p50MS"`
	P95MS    float64  `json:"p95MS"`
	P99MS    float64  `json:"p99MS"`
	Mirrored uint64   `json:"mirrored,omitempty"` // copies by a mirror; not counted as requests
}

// TimelineQuery selects the requests of a Timeline. A name that is empty selects
// all.
type TimelineQuery struct {
	From, To, Step int64 // seconds since 1970, and seconds; Step 0: about a hundred points
	Caller         string
	Service        string
	Version        string
	Instance       string
	Parent, Route  string // a route of a service or a gateway
	Site           string // at which requests were made, or answered
}

// Timeline is the figures of a group of requests over time.
type Timeline struct {
	From   int64   `json:"from"` // seconds since 1970
	To     int64   `json:"to"`
	Step   int64   `json:"step"`   // seconds that each point covers
	Points []Point `json:"points"` // in order of time, with those that have no requests
	Marks  []Mark  `json:"marks"`  // revisions and drills meanwhile
}

// ServicesOverTime is the success of every service over time.
type ServicesOverTime struct {
	From     int64             `json:"from"` // seconds since 1970
	To       int64             `json:"to"`
	Step     int64             `json:"step"`     // seconds that each value covers
	Services []ServiceOverTime `json:"services"` // that had requests, by name
}

// ServiceOverTime is the success of a service over time.
type ServiceOverTime struct {
	Service string     `json:"service"`
	Success []*float64 `json:"success"` // 0 to 1, in order of time; null: no requests
}

// Point is the figures of one step of a Timeline.
type Point struct {
	// start, in seconds since 1970; of a trial, in seconds since its start
	At               int64    `json:"at"`
	OK               uint64   `json:"ok"`
	Failed           uint64   `json:"failed"`
	Refused          uint64   `json:"refused"`
	Success          *float64 `json:"success"`
	P50MS            float64  `json:"p50MS"`
	P95MS            float64  `json:"p95MS"`
	P99MS            float64  `json:"p99MS"`
	WorkloadOK       uint64   `json:"workloadOK"` // as the workloads answered
	WorkloadRequests uint64   `json:"workloadRequests"`
}

// The kinds of a Mark.
const (
	MarkRevision = "revision"
	MarkRelease  = "release"
	MarkDrill    = "drill"
)

// Mark is a moment at which somebody changed something.
type Mark struct {
	At   int64  `json:"at"`             // seconds since 1970
	Ends int64  `json:"ends,omitempty"` // of a drill
	Kind string `json:"kind"`           // revision, release (a revision made by a release) or drill
	Name string `json:"name"`           // number of the revision, or id of the drill
	Step string `json:"step,omitempty"` // of a release: the stage, done or back
	Text string `json:"text"`
	By   string `json:"by"`
}
