package model

import "time"

// ActivityEntry is something that a person did or a proxy reported.
type ActivityEntry struct {
	Number   uint      `json:"number"`
	At       time.Time `json:"at"`
	Who      string    `json:"who"` // a person, or the proxy that reported it
	Kind     string    `json:"kind"`
	Service  string    `json:"service,omitempty"`
	Version  string    `json:"version,omitempty"`
	Instance string    `json:"instance,omitempty"`
	Detail   string    `json:"detail"`
	Revision uint      `json:"revision,omitempty"` // that was published by it
}

// What the entries of an ActivityFilter are about.
const (
	AboutRules   = "rules"   // and releases
	AboutDrills  = "drills"  // and trials
	AboutProxies = "proxies" // and the authority
	AboutGuards  = "guards"  // and health
)

// ActivityFilter chooses entries of the activity log. Empty fields choose all.
type ActivityFilter struct {
	Service string // what concerns this service
	Who     string // part of who it was
	About   string
	Before  uint // only entries below this number
	Limit   int  // 1 to 200
}

// ActivityPage is one page of the activity log.
type ActivityPage struct {
	Activity []ActivityEntry `json:"activity"`
	Next     uint            `json:"next,omitempty"` // pass as before for the next page; absent on the last
}
