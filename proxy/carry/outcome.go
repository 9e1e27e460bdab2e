package carry

import (
	"crypto/tls"
	"errors"
	"net"
	"net/http"
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
	var noProof unproven
	switch {
	case errors.Is(err, errDeadline):
		return engine.Outcome{Reason: engine.TimedOut}
	case errors.Is(err, errSlowBody):
		return engine.Outcome{
			Reason:  engine.BadRequest,
			Means:   http.StatusRequestTimeout,
			Error:   "http_request_error",
			IsSpent: true,
			Detail:  err.Error(),
		}
	case errors.Is(err, errTooLarge):
		return engine.Outcome{
			Reason:  engine.TooLarge,
			Means:   http.StatusRequestEntityTooLarge,
			IsSpent: true,
			Detail:  err.Error(),
		}
	case isShortage(err):
		return engine.Outcome{
			Reason: engine.Shortage,
			Detail: "this proxy cannot open another connection: " + err.Error(),
		}
	case errors.Is(err, errDraining):
		return engine.Outcome{Reason: engine.Draining, Detail: "the proxy in front of it ended before the answer came"}
	case errors.As(err, &noProof):
		return engine.Outcome{Reason: engine.TLS, Error: "tls_certificate_error", Detail: err.Error()}
	case isRefusedThere(err):
		return engine.Outcome{
			Reason: engine.TLS,
			Error:  "tls_alert_received",
			Detail: "its proxy did not take this proxy's certificate: " + err.Error(),
		}
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
	case errors.Is(err, syscall.ETIMEDOUT): // see farSilence
		return engine.Outcome{
			Reason: engine.Unreachable,
			Error:  "connection_timeout",
			Detail: "the network to it is silent: " + err.Error(),
		}
	case errors.Is(err, errStalled):
		return engine.Outcome{Reason: engine.Reset, Error: "connection_write_timeout", Detail: err.Error()}
	}
	return engine.Outcome{Reason: engine.Reset, Detail: "the connection broke before an answer: " + err.Error()}
}

// isClosedThere tells whether a connection failed since its other end closed it.
func isClosedThere(err error) bool {
	return errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET)
}

// isShortage tells whether this machine or process lacks a descriptor, a port or
// memory for a connection, which passes and is nobody else's fault.
func isShortage(err error) bool {
	for _, short := range []error{
		syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRNOTAVAIL,
	} {
		if errors.Is(err, short) {
			return true
		}
	}
	return false
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

// saidByProxy is the outcome of an attempt whose answer came from the proxy beside
// the instance, for the reason that it names, in place of the workload's.
func saidByProxy(reason string, o engine.Outcome) engine.Outcome {
	o.Reason = engine.Reason(strings.Clone(reason))
	if _, isKnown := o.Reason.Number(); !isKnown {
		o.Reason, o.Detail = engine.Reset, "its proxy answered for a reason that this program does not know"
		return o
	}
	switch o.Detail = "its proxy could not reach the workload"; o.Reason {
	case engine.Unreachable: // so nothing was sent to the workload
		o.IsUnsent, o.IsByProxy = !o.IsSpent, true
	case engine.BadRequest, engine.TooLarge:
		o.Means, o.Detail = o.Status, "its proxy could not carry what the caller sent"
	case engine.Denied:
		o.Means, o.Detail = http.StatusForbidden, "its proxy does not let this caller in"
	case engine.Shortage:
		o.Detail = "its proxy has no means left to carry it"
	}
	return o
}
