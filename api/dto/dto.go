// Package dto holds the bodies of the API that are not types of control
// itself. The server, the client and the OpenAPI document share them.
package dto

import (
	"time"

	"nightjar/control"
	"nightjar/core/rules"
	"nightjar/store"
)

// CheckIn asks for a check of the files of one bundle.
type CheckIn struct {
	Bundle string       `json:"bundle,omitempty" doc:"main when empty"`
	Files  []rules.File `json:"files" doc:"all files of the bundle"`
	By     string       `json:"by,omitempty" doc:"who checks"`
}

// PublishIn asks for a new revision in which the bundle has these files.
type PublishIn struct {
	Bundle  string       `json:"bundle,omitempty" doc:"main when empty"`
	Files   []rules.File `json:"files" doc:"all files of the bundle; none: the bundle goes"`
	Author  string       `json:"author,omitempty"`
	Message string       `json:"message,omitempty"`
	WaitMS  *int         `json:"waitMS,omitempty" doc:"how long to wait for the proxies; 5000 when absent, at most 60000"`
}

// RestoreIn asks for an earlier revision to be published again.
type RestoreIn struct {
	Author  string `json:"author,omitempty"`
	Message string `json:"message,omitempty"`
	WaitMS  *int   `json:"waitMS,omitempty" doc:"see publish"`
}

// SplitIn asks for new weights on one route.
type SplitIn struct {
	Route   string           `json:"route,omitempty" doc:"may be left out when only one route can be meant"`
	Weights []control.Weight `json:"weights"`
	Author  string           `json:"author,omitempty"`
	Message string           `json:"message,omitempty"`
	WaitMS  *int             `json:"waitMS,omitempty" doc:"see publish"`
}

// Revision is one published state.
type Revision struct {
	Number  uint          `json:"number"`
	Kind    string        `json:"kind" doc:"publish, split or restore"`
	Bundle  string        `json:"bundle" doc:"the bundle that it changed; empty: all"`
	Author  string        `json:"author"`
	Message string        `json:"message"`
	At      time.Time     `json:"at"`
	Bundles store.Bundles `json:"bundles,omitempty" doc:"files by bundle; not in lists"`
}

// Revisions is one page of revisions, newest first.
type Revisions struct {
	Revisions []Revision `json:"revisions"`
	Next      uint       `json:"next,omitempty" doc:"pass as before for the next page; absent on the last"`
}

// Fleet is the proxies.
type Fleet struct {
	Proxies []control.Member `json:"proxies"`
}

// Problem is every error of the API (RFC 9457).
type Problem struct {
	Type     string          `json:"type"`
	Title    string          `json:"title"`
	Status   int             `json:"status"`
	Detail   string          `json:"detail" doc:"what is wrong and what to do next"`
	Code     string          `json:"code" doc:"stable name of the kind of error"`
	Findings []rules.Finding `json:"findings,omitempty" doc:"when rules have mistakes"`
}

// FromRevision is the revision as the API shows it.
func FromRevision(r store.Revision) Revision {
	return Revision{r.Number, r.Kind, r.Bundle, r.Author, r.Message, r.At, r.Bundles}
}
