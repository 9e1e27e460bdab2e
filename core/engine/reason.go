package engine

// Reason names why the mesh itself answered a request. The empty reason means
// that the application answered.
type Reason string

// The reasons.
const (
	Unreachable Reason = "unreachable"  // no connection to the instance
	Reset       Reason = "reset"        // the connection broke before an answer
	TimedOut    Reason = "timeout"      // the time for the request ran out
	NoInstance  Reason = "no-instance"  // the chosen target has no usable instance
	NoRoute     Reason = "no-route"     // no service, gateway or route takes the request
	BadRequest  Reason = "bad-request"  // the request cannot be understood safely
	Limited     Reason = "limited"      // over the limit of a route
	Fault       Reason = "fault"        // harmed on purpose
	TLS         Reason = "tls"          // no secure connection to the instance
	TooLarge    Reason = "too-large"    // more than a hop takes in
	Draining    Reason = "draining"     // the proxy ends before the answer came
	BreakerOpen Reason = "breaker-open" // too many requests to the version failed just now
	Overflow    Reason = "overflow"     // too many requests to the version are under way
	Shortage    Reason = "shortage"     // the proxy has no descriptor, port or memory left
	Denied      Reason = "denied"       // the caller may not call this, or did not prove who it is

	Unauthenticated Reason = "unauthenticated" // an outsider showed no good token
)

// Reasons are all of them. Their order is that of their numbers, which are kept
// on disk: new ones come last, and there is room for sixteen.
var Reasons = [...]Reason{
	Unreachable,
	Reset,
	TimedOut,
	NoInstance,
	NoRoute,
	BadRequest,
	Limited,
	Fault,
	TLS,
	TooLarge,
	Draining,
	BreakerOpen,
	Overflow,
	Shortage,
	Denied,
	Unauthenticated,
}

// Number is the place of a reason among Reasons; false: it is none of them.
func (r Reason) Number() (int, bool) {
	for i, known := range Reasons {
		if known == r {
			return i, true
		}
	}
	return 0, false
}

// Status is the HTTP status of a refusal for the reason.
func (r Reason) Status() int {
	switch r {
	case Unreachable, Reset, TLS:
		return 502
	case Limited:
		return 429
	case TimedOut:
		return 504
	case NoInstance, Draining, BreakerOpen, Overflow, Fault, Shortage:
		return 503
	case TooLarge:
		return 431
	case NoRoute:
		return 404
	case BadRequest:
		return 400
	case Denied:
		return 403
	case Unauthenticated:
		return 401
	}
	return 500
}

// ErrorType is the reason in the words of RFC 9209, section 2.3, where nothing
// more is known.
func (r Reason) ErrorType() string {
	switch r {
	case Unreachable:
		return "destination_unavailable"
	case Reset:
		return "connection_terminated"
	case TimedOut:
		return "http_response_timeout"
	case NoInstance, BreakerOpen:
		return "destination_unavailable"
	case Overflow, Shortage:
		return "connection_limit_reached"
	case NoRoute:
		return "destination_not_found"
	case BadRequest, TooLarge:
		return "http_request_error"
	case Draining:
		return "connection_terminated"
	case Limited, Denied, Unauthenticated:
		return "http_request_denied"
	case TLS:
		return "tls_protocol_error"
	}
	return "proxy_internal_error"
}

// Class is what a request came to, in the sense of the success rate.
type Class uint8

// The classes. The last two are the caller's doing: they are not in the success
// rate.
const (
	OK          Class = iota // an answer below 500
	Failed                   // 5xx from the application, unreachable, reset, timeout, shortage
	Refused                  // answered by the mesh on purpose
	Abandoned                // the caller left
	CallerFault              // what the caller sent could not be carried, or showed no good token
)

// NumClasses is how many classes there are.
const NumClasses = 5

// Counts tells whether requests of the class are in the success rate.
func (c Class) Counts() bool { return c < Abandoned }

// String is the class in a word.
func (c Class) String() string {
	return [...]string{"ok", "failed", "refused", "abandoned", "caller-fault"}[c]
}

// Classify tells what a request came to from its reason and status.
func Classify(reason Reason, status int) Class {
	switch reason {
	case "":
		if status < 500 {
			return OK
		}
		return Failed
	case Unreachable, Reset, TimedOut, TLS, Shortage:
		return Failed
	case BadRequest, TooLarge, Unauthenticated:
		return CallerFault
	}
	return Refused
}
