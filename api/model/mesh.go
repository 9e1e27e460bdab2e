package model

import "time"

// Mesh is all that runs, with the figures of one window.
type Mesh struct {
	At       time.Time     `json:"at"`
	End      int64         `json:"end"`      // end of the window, in seconds since 1970
	Window   int64         `json:"window"`   // length of the window in seconds
	Revision RevisionState `json:"revision"` // revision in force
	// files that were checked and differ from what is in force
	Unpublished []Unpublished `json:"unpublished"`
	Services    []Service     `json:"services"` // by name
	Gateways    []Gateway     `json:"gateways"` // by name
	Links       []Link        `json:"links"`    // who calls whom
	Sites       []string      `json:"sites"`    // that are declared, or where something runs; all of them in any case
	// of the rules in force, given the mesh as it is now; the first 50
	Warnings     []Finding        `json:"warnings"`
	WarningCount int              `json:"warningCount"`
	Drills       []Drill          `json:"drills"`   // running now
	Releases     []ReleaseSummary `json:"releases"` // running now
	Problems     []ProxyProblem   `json:"problems"` // of proxies, now
	// sets of names with requests in the last 15 minutes; at most 5000 are told apart
	Series int `json:"series"`
	// requests counted without names because there are too many names
	Other uint64 `json:"other"`
}

// RevisionState is the revision in force, and who has it.
type RevisionState struct {
	Number       uint      `json:"number"` // 0: nothing was published yet
	Kind         string    `json:"kind"`
	Author       string    `json:"author"`
	Message      string    `json:"message"`
	At           time.Time `json:"at"`
	Connected    int       `json:"connected"`    // proxies connected now
	Acknowledged int       `json:"acknowledged"` // of these, proxies that have the revision in force
	Behind       []string  `json:"behind"`       // connected proxies that do not have it in force
}

// Service is one service as it runs, and as the rules declare it.
type Service struct {
	Name       string            `json:"name"`
	Owner      string            `json:"owner,omitempty"`
	Team       string            `json:"team,omitempty"` // that it belongs to by the rules in force
	Labels     map[string]string `json:"labels,omitempty"`
	IsDeclared bool              `json:"isDeclared"`          // the rules in force name it
	IsOutside  bool              `json:"isOutside,omitempty"` // its instances are outside the mesh
	Timeout    string            `json:"timeout"`             // of routes that set none
	Figures    Figures           `json:"figures"`
	Versions   []Version         `json:"versions"`
	// in match order; empty: requests are balanced over all instances
	Routes []Route      `json:"routes"`
	Guards []GuardState `json:"guards"` // state of its guards in each calling proxy
}

// Version is one version of a service.
type Version struct {
	Name       string `json:"name"`
	IsDeclared bool   `json:"isDeclared"` // the rules in force name it
	// share of the service's requests that the rules intend, given the routes that they took
	Intended *float64 `json:"intended"`
	// share that it got, of requests that followed the revision in force; null without any
	Observed  *float64   `json:"observed"`
	Figures   Figures    `json:"figures"`
	Instances []Instance `json:"instances"`
}

// Instance is one running copy of a version.
type Instance struct {
	ID          string `json:"id"`
	Site        string `json:"site,omitempty"`
	Address     string `json:"address"`
	Unhealthy   string `json:"unhealthy,omitempty"`   // why the health checks of its workload fail
	Unreachable string `json:"unreachable,omitempty"` // why the proxy beside it cannot reach its workload
	// the service lost contact to it and to most of its version at once; it still gets requests
	IsUnconfirmed bool     `json:"isUnconfirmed,omitempty"`
	Share         *float64 `json:"share"` // of the version's requests
	Figures       Figures  `json:"figures"`
}

// Route is one route of a service or a gateway.
type Route struct {
	Name     string    `json:"name"`
	Team     string    `json:"team,omitempty"` // whose route of a gateway it is; absent: the platform's
	At       Origin    `json:"at"`
	When     []string  `json:"when"` // conditions in words; one must hold; empty: always
	Send     []Target  `json:"send"`
	Settings []Setting `json:"settings"` // its actions, and the settings that it has of its own or by a policy
	Timeout  string    `json:"timeout"`  // empty: that of the called service
	Share    *float64  `json:"share"`    // of all requests that these routes took
	Figures  Figures   `json:"figures"`
}

// Target is where a route sends requests.
type Target struct {
	Target   string   `json:"target"` // version, or service/version
	Service  string   `json:"service"`
	Version  string   `json:"version,omitempty"`
	Weight   string   `json:"weight"`   // percent
	Intended float64  `json:"intended"` // share, 0 to 1
	Observed *float64 `json:"observed"` // share, 0 to 1; null without requests
	Requests uint64   `json:"requests"`
}

// Gateway is an edge of the mesh.
type Gateway struct {
	Name      string       `json:"name"`
	Listen    string       `json:"listen"`
	Hosts     []string     `json:"hosts"`
	IsRunning bool         `json:"isRunning"` // a proxy serves it now
	Sites     []string     `json:"sites"`     // where proxies serve it now, by name
	Figures   Figures      `json:"figures"`
	Routes    []Route      `json:"routes"`
	Guards    []GuardState `json:"guards"`         // state of the limits of its routes in each proxy that serves it
	Edge      []Setting    `json:"edge,omitempty"` // what it asks of outsiders, beyond what is built in
}

// The transports of a Link.
const (
	PlainTransport  = "plain"
	TLSTransport    = "tls"        // the instance alone proves who it is
	MutualTransport = "mutual-tls" // both ends prove who they are
	MixedTransport  = "mixed"
)

// LinkIdentities is who the ends of a link prove to be.
type LinkIdentities struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Link is the requests of one caller to one service.
type Link struct {
	From      string `json:"from"`
	To        string `json:"to"`
	Transport string `json:"transport"` // plain, tls, mutual-tls or mixed
	// SPIFFE IDs that both ends prove, by mutual TLS
	Identities *LinkIdentities `json:"identities,omitempty"`
	Figures    Figures         `json:"figures"`
	Versions   []LinkVersion   `json:"versions"` // that its requests reached, by name
	// its requests by the sites of both ends; absent where neither end is at a site
	Sites []LinkSites `json:"sites,omitempty"`
}

// LinkVersion is the part of a link that one version of the called service got.
type LinkVersion struct {
	Version  string `json:"version"`
	Requests uint64 `json:"requests"`
	Bad      uint64 `json:"bad"` // failed or refused
}

// LinkSites is the part of a link from one site to one version at one site.
type LinkSites struct {
	From     string `json:"from"`    // site of the caller; empty: none
	To       string `json:"to"`      // site of the instance; empty: none, or no instance was reached
	Version  string `json:"version"` // empty: none was reached
	Requests uint64 `json:"requests"`
	Bad      uint64 `json:"bad"` // failed or refused
}
