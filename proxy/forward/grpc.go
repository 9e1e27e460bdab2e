package forward

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
	grpcDenied        = 7
	grpcExhausted     = 8
	grpcUnimplemented = 12
	grpcInternal      = 13
	grpcUnavailable   = 14
	grpcDataLoss      = 15
	grpcUnauthentic   = 16
)

// IsGRPC tells whether a request is one of gRPC, by its protocol and content type.
func IsGRPC(v engine.View, isHTTP2 bool) bool {
	if !isHTTP2 {
		return false
	}
	return SaysGRPC(v.Header("Content-Type"))
}

// SaysGRPC tells whether a content type, with its values as they came, is that of
// gRPC.
func SaysGRPC(contentType []string) bool {
	return len(contentType) > 0 && strings.HasPrefix(contentType[0], "application/grpc")
}

// grpcFaults are the statuses that are the server's fault, with the status of
// HTTP that means the same. A method that there is not (UNIMPLEMENTED) is the
// caller's, as a path that there is not is in HTTP.
var grpcFaults = map[int]int{
	grpcUnknown:     500,
	grpcDeadline:    504,
	grpcInternal:    500,
	grpcUnavailable: 503,
	grpcDataLoss:    500,
}

// GRPCMeans is what a status of gRPC stands for in HTTP; 0: no fault of the
// server's, or no status.
func GRPCMeans(status string) int {
	if status == "" {
		return 0
	}
	code, err := strconv.Atoi(status)
	if err != nil {
		return 0
	}
	return grpcFaults[code]
}

// GRPCFailed tells whether an answer that has gone by whole names a status that
// is the server's fault, as a 5xx is in HTTP. Without a status it broke off.
func GRPCFailed(status string, httpStatus int) bool {
	code, err := strconv.Atoi(status)
	if err != nil {
		return status != "" || httpStatus == http.StatusOK
	}
	return grpcFaults[code] > 0
}

// grpcHeader is the header of a refusal of gRPC: status 200 without a body, and
// the status of gRPC that means the same (gRPC over HTTP/2, "Responses").
func (r *Refusal) grpcHeader(h http.Header) {
	code := grpcUnknown
	switch r.Reason {
	case engine.TimedOut:
		code = grpcDeadline
	case engine.Denied:
		code = grpcDenied
	case engine.Unauthenticated:
		code = grpcUnauthentic
	case engine.Shortage, engine.Limited:
		code = grpcExhausted
	case engine.NoRoute:
		code = grpcUnimplemented
	case engine.BadRequest, engine.TooLarge:
		code = grpcInternal
	case engine.Unreachable,
		engine.Reset,
		engine.TLS,
		engine.NoInstance,
		engine.Draining,
		engine.Fault,
		engine.BreakerOpen,
		engine.Overflow:
		code = grpcUnavailable
	}
	h["Content-Type"] = []string{"application/grpc"}
	h["Grpc-Status"] = []string{strconv.Itoa(code)}
	var msg strings.Builder
	for _, c := range []byte(string(r.Reason) + ": " + r.Detail) {
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
	units := map[byte]time.Duration{'H': time.Hour, 'M': time.Minute, 'S': time.Second,
		'm': time.Millisecond, 'u': time.Microsecond, 'n': time.Nanosecond}
	unit := units[v[len(v)-1]]
	if unit > 0 && n > uint64(MaxTimeLeft/unit) {
		return MaxTimeLeft
	}
	return time.Duration(n) * unit
}
