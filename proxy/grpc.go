package proxy

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"nightjar/core/engine"
)

// The statuses of gRPC that a hop has to know (gRPC, "Status codes and their
// use in gRPC").
const (
	grpcUnknown       = 2
	grpcDeadline      = 4
	grpcExhausted     = 8
	grpcUnimplemented = 12
	grpcInternal      = 13
	grpcUnavailable   = 14
	grpcDataLoss      = 15
)

// isGRPC tells whether a request is one of gRPC, by its content type.
func isGRPC(b bearer) bool {
	if b.version() != 2 {
		return false
	}
	v := b.Header("Content-Type")
	return len(v) > 0 && strings.HasPrefix(v[0], "application/grpc")
}

// grpcFault tells whether an answer that has been read whole names a status
// that is the server's fault, as a 5xx is in HTTP.
func grpcFault(answer *http.Response) bool {
	v := answer.Trailer.Get("Grpc-Status")
	if v == "" {
		v = answer.Header.Get("Grpc-Status")
	}
	code, err := strconv.Atoi(v)
	if err != nil {
		return v != "" || answer.StatusCode == http.StatusOK // a stream without a status broke off
	}
	return grpcMeanings[code] > 0
}

// grpcMeanings are the statuses that are the server's fault, with the status of
// HTTP that means the same.
var grpcMeanings = map[int]int{grpcUnknown: 500, grpcDeadline: 504, grpcUnimplemented: 501, grpcInternal: 500, grpcUnavailable: 503, grpcDataLoss: 500}

// grpcMeans is what a status of gRPC stands for in HTTP; 0: no fault of the server's.
func grpcMeans(status string) int {
	code, err := strconv.Atoi(status)
	if err != nil {
		return 0
	}
	return grpcMeanings[code]
}

// grpcRefusal makes a refusal one of gRPC: status 200 without a body, and the
// status of gRPC that means the same (gRPC over HTTP/2, "Responses").
func grpcRefusal(h http.Header, p problem) {
	code := grpcUnknown
	switch p.Reason {
	case engine.TimedOut:
		code = grpcDeadline
	case engine.Limited:
		code = grpcExhausted
	case engine.NoRoute:
		code = grpcUnimplemented
	case engine.BadRequest, engine.TooLarge:
		code = grpcInternal
	case engine.Unreachable, engine.Reset, engine.TLS, engine.NoInstance, engine.Draining, engine.Fault, engine.BreakerOpen, engine.Overflow:
		code = grpcUnavailable
	}
	h["Content-Type"] = []string{"application/grpc"}
	h["Grpc-Status"] = []string{strconv.Itoa(code)}
	var msg strings.Builder
	for _, c := range []byte(string(p.Reason) + ": " + p.Detail) {
		if c < ' ' || c > '~' || c == '%' {
			fmt.Fprintf(&msg, "%%%02X", c)
		} else {
			msg.WriteByte(c)
		}
	}
	h["Grpc-Message"] = []string{msg.String()}
}

// grpcTimeout reads the field grpc-timeout; 0: it cannot be read.
func grpcTimeout(v string) time.Duration {
	if len(v) < 2 || len(v) > 9 {
		return 0
	}
	n, err := strconv.ParseUint(v[:len(v)-1], 10, 32)
	if err != nil {
		return 0
	}
	units := map[byte]time.Duration{'H': time.Hour, 'M': time.Minute, 'S': time.Second, 'm': time.Millisecond, 'u': time.Microsecond, 'n': time.Nanosecond}
	unit := units[v[len(v)-1]]
	if unit > 0 && n > uint64(endless/unit) {
		return endless
	}
	return time.Duration(n) * unit
}
