package model

import "time"

// TraceFilter selects traces. The zero value selects all.
type TraceFilter struct {
	Service    string // that took part
	Site       string // where a part of it took place
	Outcome    string // of the first request; not-ok is any but ok, of an attempt too
	Path       string // prefix of the first request's path
	SlowerThan time.Duration
}

// TraceList is traces, newest first.
type TraceList struct {
	Traces []TraceSummary `json:"traces"`
	Share  float64        `json:"share"` // share of the requests without a trace context that are traced
	Lost   uint64         `json:"lost"`  // spans without room since the service started
}

// TraceSummary is a trace in a list.
type TraceSummary struct {
	ID             string    `json:"id"`
	At             time.Time `json:"at"`                // start of its first span
	DurationMS     float64   `json:"durationMS"`        // from the start of its first span to the end of its last
	Caller         string    `json:"caller,omitempty"`  // of the first request
	Service        string    `json:"service,omitempty"` // that the first request called
	Method         string    `json:"method,omitempty"`
	Path           string    `json:"path,omitempty"`
	Status         int       `json:"status,omitempty"`  // that the first caller got
	Outcome        string    `json:"outcome,omitempty"` // of the first request
	Reason         string    `json:"reason,omitempty"`
	Services       []string  `json:"services"`       // that took part, in order of time
	Sites          []string  `json:"sites"`          // where it took place, in order of time
	Attempts       int       `json:"attempts"`       // in the whole trace
	FailedAttempts int       `json:"failedAttempts"` // in the whole trace
	SpanCount      int       `json:"spanCount"`
}

// Trace is one trace with its spans.
type Trace struct {
	TraceSummary
	Spans []TraceSpan `json:"spans"` // each parent before its children
}

// The kinds of a span, besides those of a Segment.
const (
	SpanRequest  = "request"  // at the caller's proxy
	SpanWorkload = "workload" // at the proxy beside the workload
)

// TraceSpan is one span of a trace, in its place.
type TraceSpan struct {
	Trace  string `json:"trace"` // 16 bytes in hexadecimal
	ID     string `json:"id"`    // 8 bytes in hexadecimal
	Parent string `json:"parent,omitempty"`
	// request (at the caller's proxy), attempt, queue, backoff, delay, or workload (at the proxy
	// beside it)
	Kind       string  `json:"kind"`
	Proxy      string  `json:"proxy"`
	Site       string  `json:"site,omitempty"`      // of the instance, of an attempt, and otherwise of the proxy
	IsGateway  bool    `json:"isGateway,omitempty"` // the proxy is a gateway
	Caller     string  `json:"caller,omitempty"`
	Service    string  `json:"service,omitempty"` // called service
	Version    string  `json:"version,omitempty"`
	Instance   string  `json:"instance,omitempty"`
	Route      string  `json:"route,omitempty"`
	Method     string  `json:"method,omitempty"`
	Path       string  `json:"path,omitempty"`
	Status     int     `json:"status,omitempty"`
	Outcome    string  `json:"outcome,omitempty"`
	Reason     string  `json:"reason,omitempty"`
	Detail     string  `json:"detail,omitempty"`
	Depth      int     `json:"depth"`   // 0: the first span, or one whose parent is not known here
	StartMS    float64 `json:"startMS"` // since the start of the trace
	DurationMS float64 `json:"durationMS"`
}
