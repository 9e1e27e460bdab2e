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
	Site     string    `json:"site,omitempty"` // of the instance, or else of the proxy that reported it
	Detail   string    `json:"detail"`
	Revision uint      `json:"revision,omitempty"` // that was published by it
	// IP address that a person acted from; absent: the service's machine, or a proxy
	Address    string `json:"address,omitempty"`
	Credential string `json:"credential,omitempty"` // what proved who it was: local, token ID or session ID
	Result     string `json:"result,omitempty"`     // done, refused or failed; absent: a report
	Before     string `json:"before,omitempty"`     // what there was, in a few words
	After      string `json:"after,omitempty"`      // what there is now
	// hash of the entry before, and of this one with it (SHA-256); absent: from before entries
	// were chained
	Prior string `json:"prior,omitempty"`
	Hash  string `json:"hash,omitempty"`
}

// ActivityChain is whether each entry of the activity log follows the one before it.
type ActivityChain struct {
	IsWhole   bool   `json:"isWhole"`
	Fault     string `json:"fault,omitempty"` // what is wrong with the first entry that does not fit
	First     uint   `json:"first"`           // number of the oldest entry that was checked
	Last      uint   `json:"last"`            // number of the newest
	Head      string `json:"head"`            // its hash: keep it elsewhere to prove later that nothing was replaced
	Unchained int    `json:"unchained"`       // entries from before entries were chained
}

// What the entries of an ActivityFilter are about.
const (
	AboutRules   = "rules"   // and releases
	AboutDrills  = "drills"  // and trials
	AboutProxies = "proxies" // and the authority
	AboutPeople  = "people"  // who signed in, and what was refused
	AboutGuards  = "guards"  // and health
)

// ActivityFilter chooses entries of the activity log. Empty fields choose all.
type ActivityFilter struct {
	Service string // what concerns this service
	Site    string // what happened at this site
	Who     string // part of who it was
	What    string // beginning of what it was
	About   string
	Since   time.Time // only entries from then on
	Before  uint      // only entries below this number
	After   uint      // only entries above this number
	Limit   int       // 1 to 200
}

// ActivityPage is one page of the activity log.
type ActivityPage struct {
	Activity []ActivityEntry `json:"activity"`
	Next     uint            `json:"next,omitempty"` // pass as before for the next page; absent on the last
}
