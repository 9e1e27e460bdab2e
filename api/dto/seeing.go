package dto

import (
	"nightjar/traces"
	"nightjar/wire"
)

// FeedLine is one line of the stream of requests. One without a request comes
// every second.
type FeedLine struct {
	Request *wire.Record `json:"request,omitempty"`
	Dropped uint64       `json:"dropped,omitempty" doc:"more requests that the filter took since the last such line, for which there was no room on the way"`
}

// Trouble is requests that did not succeed.
type Trouble struct {
	Requests []wire.Record `json:"requests" doc:"newest first; each proxy tells of some eight a second"`
}

// Traces is a list of traces.
type Traces struct {
	Traces []traces.Summary `json:"traces" doc:"newest first"`
	Share  float64          `json:"share" doc:"of the requests without a trace context that are traced, 0 to 1"`
	Lost   uint64           `json:"lost" doc:"spans that there was no room for, since the service began"`
}
