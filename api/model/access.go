package model

import "time"

// AccessMatrix is who may call whom, who did, and who was refused.
type AccessMatrix struct {
	Revision   uint         `json:"revision"`   // whose access rules these are
	HasRules   bool         `json:"hasRules"`   // there is a section access
	Default    string       `json:"default"`    // allow or deny: what holds where no access rule decides
	IsWatching bool         `json:"isWatching"` // what would be refused is let in, and counted
	Days       int          `json:"days"`       // that the counts cover
	Links      []AccessLink `json:"links"`      // that rules or requests speak of, by service and caller
	// who called services with identity optional without one, and would be refused with required;
	// by service, those that called last first
	Unproven []UnprovenCaller `json:"unproven"`
}

// UnprovenCaller is an address from which requests came without an identity.
type UnprovenCaller struct {
	Service  string    `json:"service"`
	Address  string    `json:"address"`  // IP address; "other": those beyond a hundred a day
	Requests uint64    `json:"requests"` // or TCP connections
	LastUsed time.Time `json:"lastUsed"`
}

// AccessLink is a caller and a service.
type AccessLink struct {
	// NAME or gateway/NAME; empty: callers that did not prove who they are
	From  string `json:"from"`
	To    string `json:"to"`
	State string `json:"state"` // allowed, partly (some requests are) or denied
	// access rules about the link, in order, up to the one that decides all that is left
	Rules []string `json:"rules"`
	// that the service wants of callers: required, optional or none; absent: it is outside the mesh
	Identity    string    `json:"identity,omitempty"`
	Used        uint64    `json:"used"`                 // requests that were let in
	LastUsed    time.Time `json:"lastUsed,omitzero"`    // absent: never
	Refused     uint64    `json:"refused"`              // requests that were refused
	LastRefused time.Time `json:"lastRefused,omitzero"` // absent: never
	Watched     uint64    `json:"watched"`              // requests that would have been refused
}

// AccessSuggestion is access rules for what was used.
type AccessSuggestion struct {
	Days     int    `json:"days"`     // that it looks back
	Links    int    `json:"links"`    // that it allows
	Requests uint64 `json:"requests"` // of these links
	File     File   `json:"file"`
}
