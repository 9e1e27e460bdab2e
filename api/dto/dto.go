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
	Bundle  string       `json:"bundle,omitempty" doc:"main when empty"`
	Files   []rules.File `json:"files" doc:"all files of the bundle"`
	By      string       `json:"by,omitempty" doc:"who checks"`
	Passing bool         `json:"passing,omitempty" doc:"do not remember the files as those last checked; for files that are being worked on"`
}

// Files is rule files alone.
type Files struct {
	Files []rules.File `json:"files"`
}

// DraftIn is the rule files that somebody is working on.
type DraftIn struct {
	By    string       `json:"by" doc:"whose draft it is"`
	Base  uint         `json:"base" doc:"revision that the work began from"`
	Files []rules.File `json:"files"`
}

// Draft is the rule files of a bundle that somebody is working on.
type Draft struct {
	Bundle  string       `json:"bundle"`
	By      string       `json:"by"`
	Base    uint         `json:"base" doc:"revision that the work began from"`
	Version uint         `json:"version" doc:"rises with every change; for If-Match"`
	At      time.Time    `json:"at"`
	Files   []rules.File `json:"files,omitempty" doc:"not in lists"`
}

// Drafts is all drafts.
type Drafts struct {
	Drafts []Draft `json:"drafts"`
}

// FromDraft is the draft as the API shows it.
func FromDraft(d store.Draft) Draft {
	return Draft{d.Bundle, d.By, d.Base, d.Version, d.At, d.Files}
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

// Take names proxies that are to follow this mesh, whatever they followed before.
type Take struct {
	Proxies []string `json:"proxies,omitempty" doc:"by name; absent: all that refuse to. In the answer: those that were told"`
}

// Fleet is the proxies.
type Fleet struct {
	Revision uint             `json:"revision" doc:"the newest, which all are to follow"`
	Since    time.Time        `json:"since" doc:"when it was committed"`
	Proxies  []control.Member `json:"proxies"`
}

// Drills is the drills that run or ran, newest first.
type Drills struct {
	Drills []control.Drill `json:"drills"`
}

// Activity is one page of what happened, newest first.
type Activity struct {
	Activity []store.Activity `json:"activity"`
	Next     uint             `json:"next,omitempty" doc:"pass as before for the next page; absent on the last"`
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

// Effects is a page of effects.
type Effects struct {
	Effects []control.EffectHead `json:"effects"`
	Next    uint                 `json:"next,omitempty" doc:"before, for the next page; absent on the last"`
}

// Trials is a page of trials.
type Trials struct {
	Trials []control.Trial `json:"trials"`
	Next   uint            `json:"next,omitempty" doc:"before, for the next page; absent on the last"`
}

// TrialNames are the trials that can be run by name.
type TrialNames struct {
	Names []string `json:"names"`
}

// NoticeKey is what receivers check signatures with.
type NoticeKey = control.NoticeKey

// ReleaseAct is who wants something of a release, and why.
type ReleaseAct struct {
	By  string `json:"by,omitempty"`
	Why string `json:"why,omitempty"`
}

// Standins are the simulated workloads of the sample mesh.
type Standins struct {
	Standins []control.Standin `json:"standins"`
}
