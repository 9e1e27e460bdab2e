package model

import "time"

// Sites are the sites, and the requests between them.
type Sites struct {
	End     int64         `json:"end"`     // end of the window, in seconds since 1970
	Window  int64         `json:"window"`  // length of the window in seconds
	Sites   []Site        `json:"sites"`   // by name
	Traffic []SiteTraffic `json:"traffic"` // that reached an instance, by the names of both sites
}

// Site is a place where instances run.
type Site struct {
	Name       string `json:"name"`
	IsDeclared bool   `json:"isDeclared"`
	// host:port where others reach its instances; absent: each at its own address
	Crossing  string         `json:"crossing,omitempty"`
	Crossings []SiteCrossing `json:"crossings"` // proxies that carry what comes from other sites
	Proxies   int            `json:"proxies"`
	Away      int            `json:"away"` // of these, proxies that do not follow the service now
	Instances int            `json:"instances"`
	Services  []string       `json:"services"` // with instances there
	Gateways  []string       `json:"gateways"` // that are served there
	Problem   string         `json:"problem,omitempty"`
	Drain     *Drain         `json:"drain,omitempty"` // its instances give their requests away
	Figures   Figures        `json:"figures"`         // of the requests that its instances got
}

// Drain is that the instances of a site give their requests away, or take them back.
type Drain struct {
	Site        string    `json:"site"`
	By          string    `json:"by"`
	Began       time.Time `json:"began"`
	Ends        time.Time `json:"ends"`
	Leaves      float64   `json:"leaves"` // part of their shares that they give away now, 0 to 1
	IsReturning bool      `json:"isReturning"`
	Stays       []string  `json:"stays"` // what is not moved, in words
}

// DrainRequest says how fast a site is drained, or takes its requests back.
type DrainRequest struct {
	Over string `json:"over,omitempty"` // such as 2m; absent: at once
}

// SiteCrossing is one proxy of a crossing.
type SiteCrossing struct {
	Proxy       string  `json:"proxy"`
	Listens     string  `json:"listens"` // host:port
	IsConnected bool    `json:"isConnected"`
	Connections int     `json:"connections"` // open now
	Carried     Carried `json:"carried"`     // since it began
}

// SiteTraffic is the requests from one site to another, or inside one. An empty name is that
// of proxies at no site.
type SiteTraffic struct {
	From    string  `json:"from"`
	To      string  `json:"to"`
	Figures Figures `json:"figures"`
}
