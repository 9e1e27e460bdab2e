package rules

import "time"

// Release is one entry of the section `releases`: moving a service from one
// version to another in judged stages.
type Release struct {
	Name      string        `json:"name"`
	Service   string        `json:"service"`
	Route     string        `json:"route,omitempty"` // empty: every route that sends to From
	From      string        `json:"from"`
	To        string        `json:"to"`
	FirstTo   *Condition    `json:"firstTo,omitempty"` // a cohort before any weight
	Stages    []Percent     `json:"stages"`
	Each      time.Duration `json:"each"`
	HoldAt    []Percent     `json:"holdAt,omitempty"`
	Judge     Judge         `json:"judge"`
	Load      []Load        `json:"load,omitempty"` // only while shifting
	Notify    []string      `json:"notify,omitempty"`
	OnSuccess string        `json:"onSuccess,omitempty"` // make-default or leave
	At        Origin        `json:"at"`
}

// Judge says what a stage has to show before the next one.
type Judge struct {
	Expect   []Expectation `json:"expect,omitempty"`
	Least    int           `json:"least"` // requests; fewer are no judgement
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

// Load is a steady stream of requests.
type Load struct {
	To      string        `json:"to"` // service
	Method  string        `json:"method"`
	Path    string        `json:"path"`
	Headers []Field       `json:"headers,omitempty"`
	Body    string        `json:"body,omitempty"`
	Count   float64       `json:"count"` // requests in Per
	Per     time.Duration `json:"per"`
	Share   *LoadShare    `json:"share,omitempty"`
	At      Origin        `json:"at"`
}

// LoadShare gives some of the requests headers of their own.
type LoadShare struct {
	Headers []Field `json:"headers"`
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
