package engine

import (
	"crypto/sha256"
	"encoding/hex"
)

// Instance is one running copy of a version, as the registry knows it.
type Instance struct {
	ID      string `json:"id"`
	Service string `json:"service"`
	Version string `json:"version"`
	Site    string `json:"site,omitempty"`
	Address string `json:"address"` // host:port that takes its requests
	Outside bool   `json:"outside,omitempty"`
	Secure  bool   `json:"secure,omitempty"` // it is spoken to by TLS
	Member  bool   `json:"member,omitempty"` // a proxy stands beside it that takes mutual TLS
	// Doubted: the service lost sight of it and of most of its version at once,
	// so it is called on.
	Doubted bool `json:"doubted,omitempty"`
	// Down: the proxy beside it says that its health checks fail.
	Down bool `json:"down,omitempty"`

	way `json:"-"`
	// Key tells its connections from those to others. Compile sets it; empty: the address.
	Key string `json:"-"`
}

// way is how an instance is called. Compile sets it.
type way struct {
	Mutual bool   // by mutual TLS, as the rules say for its service
	Via    string // host:port of the crossing of its site; empty: at its own address
	IsFar  bool   // it is at another site than the caller
}

// CrossingName is the name by which a crossing knows an instance, in the server name of TLS
// (RFC 6066, section 3). It shows nobody on the way which instance that is.
func CrossingName(instance string) string {
	sum := sha256.Sum256([]byte(instance))
	return hex.EncodeToString(sum[:16]) + ".instance"
}

// isSame tells whether two are the same instance at the same place; their health
// may differ.
func (in *Instance) isSame(other *Instance) bool {
	a, b := *in, *other
	a.Down, a.Doubted, b.Down, b.Doubted = false, false, false, false
	a.way, b.way, a.Key, b.Key = way{}, way{}, "", ""
	return a == b
}

// with is a copy that is called in a way.
func (in *Instance) with(w way) *Instance {
	own := *in
	own.way = w
	switch {
	case w.Via != "": // at two sites there may be the same addresses
		own.Key = own.Service + "~" + CrossingName(own.ID) + "~" + w.Via
	case w.Mutual:
		own.Key = own.Service + "~" + own.Address
	case own.Secure:
		own.Key = own.Service + "~https://" + own.Address // each service has its own certificates
	default:
		own.Key = own.Address
	}
	return &own
}
