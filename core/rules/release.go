package rules

import (
	"strconv"
	"time"
)

// Release is one entry of the section `releases`: moving a service from one
// version to another in judged stages.
type Release struct {
	Name    string `json:"name"`
	Service string `json:"service"`
	Route   string `json:"route,omitempty"` // empty: every route that sends to From
	From    string `json:"from"`
	To      string `json:"to"`
	// Dark is the share of the requests of which To gets copies, before it answers anybody.
	Dark      Percent       `json:"dark,omitempty"`
	FirstTo   *Condition    `json:"firstTo,omitempty"` // a cohort before any weight
	Stages    []Percent     `json:"stages"`
	Each      time.Duration `json:"each"`            // how long a stage lasts
	Watch     time.Duration `json:"watch,omitempty"` // how long To is judged after the last stage
	HoldAt    []Percent     `json:"holdAt,omitempty"`
	Judge     Judge         `json:"judge"`
	Load      []Load        `json:"load,omitempty"` // only while shifting
	Notify    []Receiver    `json:"notify,omitempty"`
	OnSuccess string        `json:"onSuccess,omitempty"` // make-default or leave
	At        Origin        `json:"at"`
}

// Receiver is told what a release does, by CloudEvents over HTTP.
type Receiver struct {
	URL    string `json:"url"`
	Binary bool   `json:"binary,omitempty"` // the event's attributes in headers; else the whole event is the body
	Gate   bool   `json:"gate,omitempty"`   // is asked before every stage too: without its 2xx the release holds
	At     Origin `json:"at"`
}

// AgainstFrom is what a judge expects by success-against-from: by how much the
// success of the new version is above that of the old one.
const AgainstFrom = "success-against-from"

// Judge says what a stage has to show before the next one.
type Judge struct {
	Expect   []Expectation `json:"expect"` // success-against-from >= -1% when nothing is said
	Least    int           `json:"least"`  // requests; fewer are no judgement
	Every    time.Duration `json:"every"`
	Misses   int           `json:"misses"`   // failed judgements in a row that are borne
	Patience time.Duration `json:"patience"` // how long to wait for enough requests
}

// Trial is one entry of the section `trials`: a bounded load with
// expectations.
type Trial struct {
	Name   string        `json:"name"`
	Load   []Load        `json:"load"`
	For    time.Duration `json:"for"`
	WarmUp time.Duration `json:"warmUp,omitempty"`
	Drill  *Drill        `json:"drill,omitempty"`
	Expect []Expectation `json:"expect,omitempty"`
	At     Origin        `json:"at"`
}

// Load is a stream of requests.
type Load struct {
	From    string  `json:"from,omitempty"` // calling service, whose proxy takes them; empty: Nightjar's own
	To      string  `json:"to"`             // service or gateway
	Method  string  `json:"method"`
	Path    string  `json:"path"`
	Headers []Field `json:"headers,omitempty"`
	Cookies []Field `json:"cookies,omitempty"`
	Body    string  `json:"body,omitempty"`
	Rate    Rate    `json:"rate"`            // zero with Steps
	Steps   []Rate  `json:"steps,omitempty"` // one after the other, each for an equal part of the time
	Spike   *Spike  `json:"spike,omitempty"`
	// Random: requests arrive as from many independent callers; else evenly spaced.
	Random bool        `json:"random,omitempty"`
	Shares []LoadShare `json:"shares,omitempty"` // parts of the requests that differ; the rest is as above
	At     Origin      `json:"at"`
}

// Rate is a number of requests in a time.
type Rate struct {
	Count float64       `json:"count"`
	Per   time.Duration `json:"per"`
}

// PerSecond is the rate in requests a second.
func (r Rate) PerSecond() float64 {
	if r.Per <= 0 {
		return 0
	}
	return r.Count / r.Per.Seconds()
}

func (r Rate) String() string {
	return strconv.FormatFloat(r.Count, 'g', -1, 64) + "/" + unitName(r.Per)
}

// Spike is another rate for a while.
type Spike struct {
	Rate  Rate          `json:"rate"`
	After time.Duration `json:"after"` // since the begin of what is measured
	For   time.Duration `json:"for"`
}

// LoadShare gives some of the requests headers and cookies of their own, besides
// those of all.
type LoadShare struct {
	Headers []Field `json:"headers,omitempty"`
	Cookies []Field `json:"cookies,omitempty"`
	Of      Percent `json:"of"`
}

// Drill is a failure made on purpose while a trial runs.
type Drill struct {
	Service string        `json:"service"`
	Version string        `json:"version,omitempty"`
	Site    string        `json:"site,omitempty"`
	Fail    Percent       `json:"fail,omitempty"`
	Delay   time.Duration `json:"delay,omitempty"`
	Down    bool          `json:"down,omitempty"`
	At      Origin        `json:"at"`
}
