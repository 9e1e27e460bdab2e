// Package rules is Nightjar's rule language: its model, reading rule files
// with positions, checking them, and telling two rule sets apart.
//
// The package does no I/O. Files come in as text and leave as text.
package rules

import (
	"fmt"
	"time"
)

// File is one rule file as it was given.
type File struct {
	Name string `json:"name" doc:"path as the author gave it; positions refer to it"`
	Text string `json:"text" doc:"the whole file, YAML or JSON"`
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

// Rules is everything that a set of rule files says, in the order of the files.
type Rules struct {
	Services []*Service `json:"services,omitempty"`
	Gateways []*Gateway `json:"gateways,omitempty"`
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

// Gateway returns the gateway of that name, or nil.
func (r *Rules) Gateway(name string) *Gateway {
	for _, g := range r.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Service is one entry of the section `services`.
type Service struct {
	Name      string            `json:"name"`
	Owner     string            `json:"owner,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
	Versions  []string          `json:"versions,omitempty"`  // every version that rules may name
	Instances []Instance        `json:"instances,omitempty"` // of a service outside the mesh
	Timeout   *Timeout          `json:"timeout,omitempty"`   // for routes that set none
	Routes    []*Route          `json:"routes,omitempty"`    // none: plain balancing over all instances
	At        Origin            `json:"at"`
}

// HasVersion tells whether the service declares the version.
func (s *Service) HasVersion(v string) bool {
	for _, have := range s.Versions {
		if have == v {
			return true
		}
	}
	return false
}

// Instance is a declared instance of a service outside the mesh.
type Instance struct {
	URL     string `json:"url"` // http://host:port
	Version string `json:"version"`
	At      Origin `json:"at"`
}

// Gateway is one entry of the section `gateways`: an edge of the mesh.
type Gateway struct {
	Name   string   `json:"name"`
	Listen string   `json:"listen"` // host:port; an empty host means every address
	Hosts  []string `json:"hosts,omitempty"`
	Routes []*Route `json:"routes,omitempty"`
	At     Origin   `json:"at"`
}

// Route is one rung of a service's or gateway's ladder. The first route whose
// When holds takes the request.
type Route struct {
	Name    string            `json:"name"`
	Labels  map[string]string `json:"labels,omitempty"`
	When    []Condition       `json:"when,omitempty"` // any of them; none: always
	Send    []Target          `json:"send"`
	SendAt  Origin            `json:"sendAt"`
	Rewrite *Rewrite          `json:"rewrite,omitempty"`
	Timeout *Timeout          `json:"timeout,omitempty"`
	At      Origin            `json:"at"`
}

// Target is where a route sends, with its weight. Version is empty when a
// gateway hands the request on to the service's own routes.
type Target struct {
	Service string  `json:"service"`
	Version string  `json:"version,omitempty"`
	Weight  Percent `json:"weight"`
	At      Origin  `json:"at"`
}

// String is the target in the words of the language: service/version.
func (t Target) String() string {
	if t.Version == "" {
		return t.Service
	}
	return t.Service + "/" + t.Version
}

// Short is the target as an author inside the service home would write it.
func (t Target) Short(home string) string {
	if t.Service == home && t.Version != "" {
		return t.Version
	}
	return t.String()
}

// Condition holds when all of its entries hold.
type Condition struct {
	Path    string   `json:"path,omitempty"` // /a/b, /a/* or /a/**
	Methods []string `json:"methods,omitempty"`
	Headers []Test   `json:"headers,omitempty"`
	Cookies []Test   `json:"cookies,omitempty"`
	At      Origin   `json:"at"`
}

// Test is one check of a named value, such as a header.
type Test struct {
	Name   string   `json:"name"`
	Op     Op       `json:"op"`
	Values []string `json:"values,omitempty"`
	Not    bool     `json:"not,omitempty"`
}

// Op is how a Test compares.
type Op string

// The comparisons of a Test. Present and Absent take no values, In takes
// several, the rest take one.
const (
	Is       Op = "is"
	In       Op = "in"
	Prefix   Op = "prefix"
	Suffix   Op = "suffix"
	Contains Op = "contains"
	Regex    Op = "regex" // RE2, the whole value
	Present  Op = "present"
	Absent   Op = "absent"
)

// Rewrite changes the request on its way to the target.
type Rewrite struct {
	Path string `json:"path,omitempty"` // with a final /** the remainder matched by the route's ** is kept
	Host string `json:"host,omitempty"`
	At   Origin `json:"at"`
}

// Timeout covers a request from its first byte in to the last header out, all
// tries and waits included.
type Timeout struct {
	Value time.Duration `json:"value"`
	At    Origin        `json:"at"`
}

// DefaultTimeout holds where neither the route nor the service sets one.
const DefaultTimeout = 15 * time.Second
