package carry

import (
	"crypto/tls"
	"errors"
	"net"
	"strings"
	"syscall"

	"nightjar/core/engine"
)

// outcomeOf tells why there is no answer. The types of errors are those of RFC
// 9209, section 2.3.
func outcomeOf(err error) engine.Outcome {
	var op *net.OpError
	var untrusted *tls.CertificateVerificationError
	var noTLS tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case errors.Is(err, errDeadline):
		return engine.Outcome{Reason: engine.TimedOut}
	case errors.Is(err, errDraining):
		return engine.Outcome{Reason: engine.Draining, Detail: "the proxy in front of it ended before the answer came"}
	case errors.As(err, &untrusted):
		return engine.Outcome{
			Reason: engine.TLS,
			Error:  "tls_certificate_error",
			Detail: "no secure connection: " + err.Error(),
		}
	case errors.As(err, &alert):
		return engine.Outcome{
			Reason: engine.TLS,
			Error:  "tls_alert_received",
			Detail: "no secure connection: " + err.Error(),
		}
	case errors.As(err, &noTLS):
		return engine.Outcome{Reason: engine.TLS, Detail: "no secure connection: " + err.Error()}
	case errors.As(err, &op) && op.Op == "dial":
		return engine.Outcome{
			Reason: engine.Unreachable,
			Error:  dialError(err),
			Detail: "cannot be reached: " + err.Error(),
		}
	case errors.Is(err, errStalled):
		return engine.Outcome{Reason: engine.Reset, Error: "connection_write_timeout", Detail: err.Error()}
	}
	return engine.Outcome{Reason: engine.Reset, Detail: "the connection broke before an answer: " + err.Error()}
}

// dialError is the type of the error of a connection that could not be opened.
func dialError(err error) string {
	var dns *net.DNSError
	var slow net.Error
	switch {
	case errors.As(err, &dns) && dns.IsTimeout:
		return "dns_timeout"
	case errors.As(err, &dns):
		return "dns_error"
	case errors.As(err, &slow) && slow.Timeout(), errors.Is(err, syscall.ETIMEDOUT):
		return "connection_timeout"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection_refused"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "destination_ip_unroutable"
	}
	return "destination_unavailable"
}

// reasonFrom reads why the proxy beside an instance answered in its stead.
func reasonFrom(value string) (r engine.Reason, detail string) {
	r = engine.Reason(strings.Clone(value))
	if _, known := r.Number(); !known {
		return engine.Reset, "its proxy answered for a reason that this program does not know"
	}
	return r, "its proxy could not reach the workload"
}
