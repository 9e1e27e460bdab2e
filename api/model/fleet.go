package model

import "time"

// Fleet is the proxies.
type Fleet struct {
	Revision uint      `json:"revision"` // revision in force
	Since    time.Time `json:"since"`    // when it was committed
	Proxies  []Proxy   `json:"proxies"`  // by id
	// the newest upgrade; absent: there was none
	Upgrade *Upgrade `json:"upgrade,omitempty"`
	// proxies that do not run the program of the newest upgrade, which is completed
	OutOfStep []string `json:"outOfStep,omitempty"`
}

// The states of a proxy.
const (
	ProxyCurrent      = "current"      // connected, with the newest revision in force
	ProxyBehind       = "behind"       // connected, with an older revision
	ProxyRejecting    = "rejecting"    // connected, and cannot apply the newest revision: see Rejection
	ProxyDisconnected = "disconnected" // its stream broke, and its lease still holds
	ProxyUnconfirmed  = "unconfirmed"  // its lease expired together with most of its version; it still gets requests
)

// Proxy is one proxy as the service knows it.
type Proxy struct {
	ID      string `json:"id"`                // unique name of the proxy and of the instance beside it
	Service string `json:"service,omitempty"` // service of the workload; absent at a gateway
	Version string `json:"version,omitempty"` // version of the workload
	Site    string `json:"site,omitempty"`    // place where it runs
	Gateway string `json:"gateway,omitempty"` // gateway that it serves
	// site to whose instances it carries what comes from others
	Crossing string   `json:"crossing,omitempty"`
	Listens  string   `json:"listens,omitempty"` // host:port where a crossing takes connections
	Carried  *Carried `json:"carried,omitempty"` // by a crossing
	// host:port where others call the workload; absent: it takes no requests
	Inbound  string `json:"inbound,omitempty"`
	Outbound string `json:"outbound,omitempty"` // host:port where the workload calls others
	// host:port where the workload calls one service, by its name
	Ports   map[string]string `json:"ports,omitempty"`
	Program string            `json:"programVersion"` // version of the proxy program
	// SHA-256 of the program's file, in hexadecimal digits; absent: not known
	Build   string    `json:"build,omitempty"`
	PID     int       `json:"pid"`
	Started time.Time `json:"started"`
	Mesh    string    `json:"mesh,omitempty"` // id of the mesh that it follows

	Unhealthy   string         `json:"unhealthy,omitempty"` // why the health checks of its workload fail
	Connections int            `json:"connections"`         // open connections of callers
	MemoryBytes uint64         `json:"memoryBytes"`         // resident memory of the process
	Problems    []ProxyProblem `json:"problems,omitempty"`  // what is wrong with it now

	Certificate *Certificate `json:"certificate,omitempty"` // by which it came

	State       string `json:"state"`       // current, behind, rejecting, disconnected or unconfirmed
	IsConnected bool   `json:"isConnected"` // it holds a stream of snapshots
	Revision    uint   `json:"revision"`    // revision in force there
	IsBehind    bool   `json:"isBehind"`    // its revision is not the newest
	// time from the newest commit until it was in force there; while behind, until now; 0 when the
	// proxy came later
	LagMS     float64   `json:"lagMS"`
	Rejection string    `json:"rejection,omitempty"` // why it cannot apply the newest snapshot
	LastSeen  time.Time `json:"lastSeen"`            // last sign of life
}

// Carried is what a crossing has carried since it began.
type Carried struct {
	Connections uint64 `json:"connections"` // that reached their instance
	Unknown     uint64 `json:"unknown"`     // that named no instance of the site, or spoke no TLS
	Unreachable uint64 `json:"unreachable"` // whose instance took no connection
	BytesIn     uint64 `json:"bytesIn"`     // from other sites to instances
	BytesOut    uint64 `json:"bytesOut"`    // from instances to other sites
}

// ProxyProblem is something that is wrong with a proxy now.
type ProxyProblem struct {
	Proxy   string `json:"proxy"`
	Gateway string `json:"gateway,omitempty"` // gateway that the proxy serves
	Kind    string `json:"kind"`              // workload, listener, certificate, connections, identity or rejecting
	Detail  string `json:"detail"`
}

// AdoptRequest names proxies that are to follow this mesh, whatever mesh they
// followed before.
type AdoptRequest struct {
	// by id; absent: all that follow another mesh or reject the rules of this one
	Proxies []string `json:"proxies,omitempty"`
}

// LetBackResult is the proxies that were told.
type LetBackResult struct {
	Proxies int `json:"proxies"` // that had sidelined the instance
}

// AdoptResult is the proxies that were told to follow this mesh.
type AdoptResult struct {
	Proxies []string `json:"proxies"`
}
