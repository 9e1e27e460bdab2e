package model

import "time"

// Fleet is the proxies.
type Fleet struct {
	Revision uint      `json:"revision" doc:"revision in force"`
	Since    time.Time `json:"since" doc:"when it was committed"`
	Proxies  []Proxy   `json:"proxies" doc:"by id"`
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
	ID       string            `json:"id" doc:"unique name of the proxy and of the instance beside it"`
	Service  string            `json:"service,omitempty" doc:"service of the workload; absent at a gateway"`
	Version  string            `json:"version,omitempty" doc:"version of the workload"`
	Site     string            `json:"site,omitempty" doc:"place where it runs"`
	Gateway  string            `json:"gateway,omitempty" doc:"gateway that it serves"`
	Inbound  string            `json:"inbound,omitempty" doc:"host:port where others call the workload; absent: it takes no requests"`
	Outbound string            `json:"outbound,omitempty" doc:"host:port where the workload calls others"`
	Ports    map[string]string `json:"ports,omitempty" doc:"host:port where the workload calls one service, by its name"`
	Program  string            `json:"programVersion" doc:"version of the proxy program"`
	PID      int               `json:"pid"`
	Started  time.Time         `json:"started"`
	Mesh     string            `json:"mesh,omitempty" doc:"id of the mesh that it follows"`

	Unhealthy   string         `json:"unhealthy,omitempty" doc:"why the health checks of its workload fail"`
	Connections int            `json:"connections" doc:"open connections of callers"`
	MemoryBytes uint64         `json:"memoryBytes" doc:"resident memory of the process"`
	Problems    []ProxyProblem `json:"problems,omitempty" doc:"what is wrong with it now"`

	State       string    `json:"state" doc:"current, behind, rejecting, disconnected or unconfirmed"`
	IsConnected bool      `json:"isConnected" doc:"it holds a stream of snapshots"`
	Revision    uint      `json:"revision" doc:"revision in force there"`
	IsBehind    bool      `json:"isBehind" doc:"its revision is not the newest"`
	LagMS       float64   `json:"lagMS" doc:"time from the newest commit until it was in force there; while behind, until now; 0 when the proxy came later"`
	Rejection   string    `json:"rejection,omitempty" doc:"why it cannot apply the newest snapshot"`
	LastSeen    time.Time `json:"lastSeen" doc:"last sign of life"`
}

// ProxyProblem is something that is wrong with a proxy now.
type ProxyProblem struct {
	Proxy   string `json:"proxy"`
	Gateway string `json:"gateway,omitempty" doc:"gateway that the proxy serves"`
	Kind    string `json:"kind" doc:"workload, listener, certificate, connections or rejecting"`
	Detail  string `json:"detail"`
}

// AdoptRequest names proxies that are to follow this mesh, whatever mesh they
// followed before.
type AdoptRequest struct {
	Proxies []string `json:"proxies,omitempty" doc:"by id; absent: all that follow another mesh or reject the rules of this one"`
}

// AdoptResult is the proxies that were told to follow this mesh.
type AdoptResult struct {
	Proxies []string `json:"proxies"`
}
