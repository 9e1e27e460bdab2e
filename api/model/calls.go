package model

// RequestSpec is a request to explain or to send.
type RequestSpec struct {
	Method string `json:"method,omitempty"` // GET when absent
	// http://SERVICE/PATH, or http:// or https:// and the host of a gateway
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers,omitempty"` // also Host and Cookie
	Body    string            `json:"body,omitempty"`
	From    string            `json:"from,omitempty"` // calling service; absent: Nightjar itself
	// certificates in PEM that a gateway's must be below, with https; absent: those that the
	// machine of the service trusts
	CA string `json:"ca,omitempty"`
	// with https, take any certificate
	IsInsecure bool `json:"insecure,omitempty"`
	// of an explanation alone: address of an outsider who calls a gateway, and claims of the
	// good token that the request shows it
	Address string              `json:"address,omitempty"`
	Claims  map[string][]string `json:"claims,omitempty"`
}

// Explanation is which routes a request takes, and why.
type Explanation struct {
	Method string `json:"method"`
	URL    string `json:"url"`
	// where the request enters the mesh: gateway NAME or proxy of SERVICE
	Entry    string        `json:"entry"`
	Revision uint          `json:"revision"`
	Steps    []RoutingStep `json:"steps"`    // the routes of the gateway, then those of the service
	Odds     []Odds        `json:"odds"`     // where the request goes, and how likely
	Settings []Setting     `json:"settings"` // every setting that holds for it, with its origin
	// set when a route answers by itself, with a redirect or a fixed response
	Answer  *DirectResponse `json:"answer,omitempty"`
	Refusal *Refusal        `json:"refusal,omitempty"` // set when the mesh refuses the request
	// what the access rules say, of every service that the request can go to; absent: there are none
	Access []Admission `json:"access,omitempty"`
	Path   string      `json:"path"` // path that the instance gets
	// instances of these versions to which proxies of the caller get no connection now; their
	// requests go to others
	Unreachable []NoConnection `json:"unreachable,omitempty"`
}

// NoConnection is an instance to which a proxy gets no connection.
type NoConnection struct {
	Proxy    string `json:"proxy"`
	Version  string `json:"version"` // as service/version
	Instance string `json:"instance"`
	Cause    string `json:"cause"`
}

// Admission is what the access rules say of a request to a service.
type Admission struct {
	Service   string `json:"service"`
	Allowed   bool   `json:"allowed"`
	IsWatched bool   `json:"isWatched,omitempty"` // it would be refused, and that is only watched
	Rule      string `json:"rule,omitempty"`      // that decides; absent: the default does
	At        Origin `json:"at"`                  // where that was written
}

// RoutingStep is the routes of one service or gateway, in match order.
type RoutingStep struct {
	Kind string `json:"kind"` // gateway or service
	Name string `json:"name"`
	// the service has no routes: requests are balanced over all its instances
	IsBalanced bool         `json:"isBalanced,omitempty"`
	Routes     []RouteMatch `json:"routes"`
}

// The results of a RouteMatch.
const (
	RouteTaken      = "taken"
	RouteSkipped    = "skipped"
	RouteNotReached = "not reached"
)

// RouteMatch is one route, and whether it took the request.
type RouteMatch struct {
	Route  string `json:"route"`
	Result string `json:"result"` // taken, skipped (a condition does not hold) or not reached
	Why    string `json:"why"`    // the condition that decided: expected and found
	At     Origin `json:"at"`
}

// Odds is the probability that a request goes to one version, at one site where
// rules name it.
type Odds struct {
	Service   string  `json:"service"`
	Version   string  `json:"version"`
	Site      string  `json:"site,omitempty"` // when rules send to its instances at that site alone
	Share     float64 `json:"share"`          // 0 to 1
	Instances int     `json:"instances"`      // known now
}

// DirectResponse is what a route answers by itself.
type DirectResponse struct {
	Status   int    `json:"status"`
	Location string `json:"location,omitempty"` // of a redirect
	Body     string `json:"body,omitempty"`     // of a fixed response
}

// Refusal is a response made by the mesh itself.
type Refusal struct {
	Status int    `json:"status"`
	Reason string `json:"reason"`
	Detail string `json:"detail"`
}

// CallRequest asks for a request to be sent a number of times.
type CallRequest struct {
	RequestSpec
	Count       int     `json:"count,omitempty"`       // requests to send; 1 when 0, at most 100000
	Rate        float64 `json:"rate,omitempty"`        // requests per second; 0: as fast as they are answered
	Concurrency int     `json:"concurrency,omitempty"` // requests at once; 8 when 0, at most 256
}

// CallResult is the results so far of the requests of a CallRequest.
type CallResult struct {
	Planned   int            `json:"planned"`   // requests to send
	Done      int            `json:"done"`      // requests with an outcome
	IsFinal   bool           `json:"isFinal"`   // true in the last line
	Versions  []VersionCount `json:"versions"`  // responses by version, with the share that the rules intend
	Instances map[string]int `json:"instances"` // responses by instance
	// responses by route, as PARENT/ROUTE; PARENT/ alone: balanced without a route
	Routes  map[string]int `json:"routes"`
	Status  map[string]int `json:"status"`  // responses by status; none: no response
	Reasons map[string]int `json:"reasons"` // responses of the mesh itself, by reason
	// requests without success: 500 and above, refused, without a response, or answered by
	// something that is not the mesh
	Failed    int            `json:"failed"`
	Success   float64        `json:"success"`
	Low       float64        `json:"low"` // 95% interval of success (Wilson)
	High      float64        `json:"high"`
	P50MS     float64        `json:"p50MS"`
	P95MS     float64        `json:"p95MS"`
	P99MS     float64        `json:"p99MS"`
	Seconds   float64        `json:"seconds"`
	Revisions map[string]int `json:"revisions"` // responses by the revision that the proxy followed
	// one response: the first without success, if there is one
	Sample      *Response    `json:"sample,omitempty"`
	Explanation *Explanation `json:"explanation,omitempty"` // in the first and the last line
	Error       string       `json:"error,omitempty"`       // why no request could be sent
}

// The verdicts of a VersionCount.
const (
	ShareAsExpected = "as expected"
	ShareDiffers    = "differs"          // the interval does not hold the expected share
	ShareTooFew     = "too few requests" // under 30
)

// VersionCount is the responses of one version.
type VersionCount struct {
	Service  string  `json:"service"`
	Version  string  `json:"version"`
	Count    int     `json:"count"`
	Share    float64 `json:"share"` // of all outcomes
	Low      float64 `json:"low"`   // 95% interval of the share (Wilson)
	High     float64 `json:"high"`
	Expected float64 `json:"expected"` // share that the rules intend
	// as expected, differs (the interval does not hold the expected share) or too few requests
	Verdict string `json:"verdict"`
}

// Response is one response.
type Response struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"` // the first 16 KiB
}
