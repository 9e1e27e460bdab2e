package model

import "time"

// DrillRequest asks for a drill: failures that are injected for a limited time.
type DrillRequest struct {
	Service  string `json:"service,omitempty"`  // called service whose requests fail; absent only with a site
	Version  string `json:"version,omitempty"`  // absent: all
	Site     string `json:"site,omitempty"`     // only instances at that site; absent: everywhere
	Instance string `json:"instance,omitempty"` // only this instance
	Fail     string `json:"fail,omitempty"`     // share of the attempts that fail, such as 30%
	Status   int    `json:"status,omitempty"`   // status of failed attempts; 503 when absent
	Delay    string `json:"delay,omitempty"`    // added before every attempt, such as 2s
	Down     bool   `json:"down,omitempty"`     // take the instances down: they get no requests
	// a condition of the rule language; only requests that match it are affected
	When string `json:"when,omitempty"`
	For  string `json:"for"` // how long, at most 1h
}

// Drill is a drill that is running or has run.
type Drill struct {
	ID        string     `json:"id"`
	Service   string     `json:"service,omitempty"`
	Version   string     `json:"version,omitempty"`
	Site      string     `json:"site,omitempty"`
	Instance  string     `json:"instance,omitempty"`
	Target    string     `json:"target"`         // what it affects, in words: berths/v1 at north-quay
	What      string     `json:"what"`           // what it does, in words: 30% of the attempts fail with 503
	When      string     `json:"when,omitempty"` // which requests it affects; absent: all
	By        string     `json:"by"`
	Began     time.Time  `json:"began"`
	Ends      time.Time  `json:"ends"`              // when it ends by itself, in every proxy
	Stopped   *time.Time `json:"stopped,omitempty"` // when somebody stopped it before
	IsRunning bool       `json:"isRunning"`
}

// DrillList is drills, newest first.
type DrillList struct {
	Drills []Drill `json:"drills"`
}
