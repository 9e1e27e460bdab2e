// Package model is what the API, its clients, the command line and the console
// say to each other: the bodies of requests and answers. It depends on nothing,
// so a client needs nothing else.
//
// Conventions: names end in their unit (MS: milliseconds, Bytes); shares and
// rates of success are 0 to 1; times are UTC; "seconds since 1970" are whole
// seconds; a field that is absent was not set. A page of a list is the newest
// first, and Next is passed as before to read the page after it.
package model

// MainBundle is the bundle that is meant where none is named.
const MainBundle = "main"

// Problem is every error of the API (RFC 9457).
type Problem struct {
	Type     string    `json:"type"`
	Title    string    `json:"title"`
	Status   int       `json:"status"`
	Detail   string    `json:"detail"`             // what happened, why, and what to do next
	Code     string    `json:"code"`               // stable name of the kind of error
	Findings []Finding `json:"findings,omitempty"` // mistakes and warnings, when rules were rejected
}
