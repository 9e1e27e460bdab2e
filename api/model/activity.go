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
}

// ActivityPage is one page of the activity log.
type ActivityPage struct {
	Activity []ActivityEntry `json:"activity"`
	Next     uint            `json:"next,omitempty"` // pass as before for the next page; absent on the last
}
