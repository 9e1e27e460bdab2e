// Package rules is Nightjar's rule language: its model, reading rule files
// with positions, checking them, formatting them, and telling two rule sets
// apart.
//
// The package does no I/O. Files come in as text and leave as text.
package rules

import (
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"
)

// File is one rule file as it was given.
type File struct {
	Name string `json:"name"` // path as the author gave it; positions refer to it
	Text string `json:"text"` // the whole file, YAML or JSON
}

// Origin is the place where something was written. Line and Col count from 1;
// Col counts characters. The zero Origin means "built in".
type Origin struct {
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
	Col  int    `json:"col,omitempty"`
}

func (o Origin) String() string {
	if o.File == "" {
		return "built in"
	}
	return fmt.Sprintf("%s:%d:%d", o.File, o.Line, o.Col)
}

// Where is the place itself. What is written in a rule file embeds its Origin
// and has the method by that.
func (o Origin) Where() Origin { return o }

// Rules is everything that a set of rule files says, in the order of the files.
type Rules struct {
	Sites    []Site     `json:"sites,omitempty"`
	Teams    []*Team    `json:"teams,omitempty"`
	Services []*Service `json:"services,omitempty"`
	Gateways []*Gateway `json:"gateways,omitempty"`
	Policies []*Policy  `json:"policies,omitempty"`
	Defaults *Defaults  `json:"defaults,omitempty"`
	Access   *Access    `json:"access,omitempty"`
	Releases []*Release `json:"releases,omitempty"`
	Trials   []*Trial   `json:"trials,omitempty"`

	again []*Service // that were declared before
}

// Service returns the service of that name, or nil.
func (r *Rules) Service(name string) *Service {
	for _, s := range r.Services {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Crossing is the host:port where others reach the instances of a site; empty: each at its
// own address.
func (r *Rules) Crossing(site string) string {
	for _, s := range r.Sites {
		if s.Name == site {
			return s.Crossing
		}
	}
	return ""
}

// Gateway returns the gateway of that name, or nil.
func (r *Rules) Gateway(name string) *Gateway {
	for _, g := range r.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Route returns the route of that name of a service or gateway, or nil.
func (r *Rules) Route(parent, name string) *Route {
	var routes []*Route
	if s := r.Service(parent); s != nil {
		routes = s.Routes
	} else if g := r.Gateway(parent); g != nil {
		routes = g.Routes
	}
	for _, rt := range routes {
		if rt.Name == name {
			return rt
		}
	}
	return nil
}

// everywhere calls do for every service, with a nil route, and for every route;
// the service of a gateway's route is nil.
func (r *Rules) everywhere(do func(s *Service, rt *Route)) {
	for _, s := range r.Services {
		do(s, nil)
		for _, rt := range s.Routes {
			do(s, rt)
		}
	}
	for _, g := range r.Gateways {
		for _, rt := range g.Routes {
			do(nil, rt)
		}
	}
}

// Site is one entry of the section `sites`: a place where instances run.
type Site struct {
	Name string `json:"name"`
	// Crossing is the host:port where others reach the instances of the site; empty: each at
	// its own address.
	Crossing string `json:"crossing,omitempty"`
	At       Origin `json:"at"`
}

// SiteDirect is the value of `reach` for a site without a crossing.
const SiteDirect = "direct"

// Labels are names with values that policies select by.
type Labels map[string]string

// String writes the labels in the order of their names: kind=read, tier=core.
func (l Labels) String() string {
	text := ""
	for i, k := range slices.Sorted(maps.Keys(l)) {
		if i > 0 {
			text += ", "
		}
		text += k + "=" + l[k]
	}
	return text
}

// SpeaksHTTP2 tells whether the workloads of a service of that protocol speak HTTP/2 alone.
func SpeaksHTTP2(protocol string) bool { return protocol == "http2" || protocol == "grpc" }

// Service is one entry of the section `services`.
type Service struct {
	Name      string     `json:"name"`
	Owner     string     `json:"owner,omitempty"`
	Labels    Labels     `json:"labels,omitempty"`
	Protocol  string     `json:"protocol,omitempty"`  // http when empty, http2, grpc or tcp: see SpeaksHTTP2
	Versions  []string   `json:"versions,omitempty"`  // every version that rules may name
	Instances []Instance `json:"instances,omitempty"` // of a service outside the mesh
	// TLS is how it is spoken to its instances outside the mesh; nil: as the machine trusts.
	TLS     *ServiceTLS `json:"tls,omitempty"`
	Calls   []string    `json:"calls,omitzero"` // services that it calls; nil: not said, so any
	CallsAt Origin      `json:"callsAt,omitzero"`
	Team    string      `json:"team,omitempty"`  // that it belongs to; empty: none
	Reach   []string    `json:"reach,omitempty"` // services that its team may send to
	Settings
	Routes []*Route `json:"routes,omitempty"` // none: plain balancing over all instances
	At     Origin   `json:"at"`
}

// HasVersion tells whether the service declares the version.
func (s *Service) HasVersion(v string) bool { return slices.Contains(s.Versions, v) }

// ServiceTLS names PEM files on the machines of the callers.
type ServiceTLS struct {
	Authority string `json:"authority,omitempty"` // below which the certificate of an instance has to be; empty: what the machine trusts
	Cert      string `json:"cert,omitempty"`      // chain that is shown to instances
	Key       string `json:"key,omitempty"`       // of Cert
	Name      string `json:"name,omitempty"`      // for which the certificate has to be; empty: the host of the address
	Origin
}

func (t *ServiceTLS) String() string {
	var parts []string
	for _, p := range [][2]string{{"authority", t.Authority}, {"cert", t.Cert}, {"name", t.Name}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	return strings.Join(parts, ", ")
}

// Instance is a declared instance of a service outside the mesh.
type Instance struct {
	URL     string `json:"url"` // http://host:port or https://host:port
	Version string `json:"version"`
	Site    string `json:"site,omitempty"`
	At      Origin `json:"at"`
}

// Address is the host:port of the instance, and whether it is spoken to by TLS.
func (in Instance) Address() (address string, secure bool) {
	address, secure = strings.CutPrefix(in.URL, "https://")
	address = strings.TrimPrefix(address, "http://")
	if _, _, err := net.SplitHostPort(address); err != nil {
		port := "80"
		if secure {
			port = "443"
		}
		address = net.JoinHostPort(strings.Trim(address, "[]"), port)
	}
	return address, secure
}

// Gateway is one entry of the section `gateways`: an edge of the mesh.
type Gateway struct {
	Name   string        `json:"name"`
	Listen string        `json:"listen"` // host:port; an empty host means every address
	TLS    []Certificate `json:"tls,omitempty"`
	Hosts  []string      `json:"hosts,omitempty"`
	Routes []*Route      `json:"routes,omitempty"`
	At     Origin        `json:"at"`
	// What it believes of outsiders, what they may take up, and what they have to show; nil: as built in.
	Trust        *Trust        `json:"trust,omitempty"`
	Limits       *EdgeLimits   `json:"limits,omitempty"`
	Authenticate *Authenticate `json:"authenticate,omitempty"`
	// Details is what refusals tell them: DetailsID when empty.
	Details   string `json:"details,omitempty"`
	DetailsAt Origin `json:"detailsAt,omitzero"`
	// LeastRate is how many bytes a second of a body an outsider has to send or take,
	// over RateOver; 0: any.
	LeastRate float64 `json:"leastRate,omitempty"`
}

// What refusals of a gateway tell their callers.
const (
	DetailsID   = "id"   // the reason, and an id by which those inside find the request
	DetailsFull = "full" // all that a member is told
)

// RateOver is the time over which Gateway.LeastRate is looked at.
const RateOver = 10 * time.Second

// Certificate names the two PEM files of a certificate chain and its key, on
// the machine where the gateway runs.
type Certificate struct {
	Cert string `json:"cert"`
	Key  string `json:"key"`
	At   Origin `json:"at"`
}

// Route is one rung of a service's or gateway's ladder. The first route whose
// When holds takes the request. Of Send, Redirect and Reply it has one.
type Route struct {
	Name      string       `json:"name"`
	Labels    Labels       `json:"labels,omitempty"`
	When      []Condition  `json:"when,omitempty"` // any of them; none: always
	Send      []Target     `json:"send,omitempty"`
	SendAt    Origin       `json:"sendAt,omitzero"`
	Otherwise *Target      `json:"otherwise,omitempty"` // when the chosen target has no usable instance
	Stick     *Stick       `json:"stick,omitempty"`
	Redirect  *Redirect    `json:"redirect,omitempty"`
	Reply     *Reply       `json:"reply,omitempty"`
	Rewrite   *Rewrite     `json:"rewrite,omitempty"`
	Headers   *HeaderEdits `json:"headers,omitempty"`
	Mirror    *Mirror      `json:"mirror,omitempty"`
	Faults    []Fault      `json:"faults,omitempty"`
	// Authenticate is in place of the gateway's; nil: that of the gateway.
	Authenticate *Authenticate `json:"authenticate,omitempty"`
	Team         string        `json:"team,omitempty"` // whose route of a gateway it is; empty: the platform's
	Settings
	At Origin `json:"at"`

	isPlace bool // it stands for the routes of Team, until they are joined
}

// Called is the route in words: route timetable.
func (rt *Route) Called() string { return "route " + rt.Name }

// Target is where a route sends, with its weight. Version is empty when a
// gateway hands the request on to the service's own routes.
type Target struct {
	Service string  `json:"service"`
	Version string  `json:"version,omitempty"`
	Site    string  `json:"site,omitempty"` // instances of this site alone
	Weight  Percent `json:"weight"`
	At      Origin  `json:"at"`
}

// String is the target in the words of the language: service/version@site.
func (t Target) String() string { return t.Short("") }

// Short is the target as an author inside the service home would write it.
func (t Target) Short(home string) string {
	text := t.Service
	switch {
	case t.Version == "":
	case t.Service == home:
		text = t.Version
	default:
		text += "/" + t.Version
	}
	if t.Site != "" {
		text += "@" + t.Site
	}
	return text
}

// Policy is one entry of the section `policies`: settings for every service
// and route that has all of its labels. A route has the labels of its service
// besides its own.
type Policy struct {
	Name string `json:"name"`
	For  Labels `json:"for"`
	Team string `json:"team,omitempty"` // whose services and routes alone it is for; empty: all
	Settings
	At Origin `json:"at"`
}

// Defaults is the section `defaults`: settings of the whole mesh.
type Defaults struct {
	Settings
	// Outside says what becomes of requests to hosts that nothing declares: deny, which is
	// built in, or empty.
	Outside string `json:"outside,omitempty"`
	At      Origin `json:"at"`
}
