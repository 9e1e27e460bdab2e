package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Condition holds when all of its entries hold. An empty one always holds.
type Condition struct {
	// Path is such as /a/b, with * for one segment, and a final ** for everything below.
	Path      string   `json:"path,omitempty"`
	PathRegex string   `json:"pathRegex,omitempty"`
	Methods   []string `json:"methods,omitempty"`
	Hosts     []string `json:"hosts,omitempty"` // exact or *.suffix
	From      []string `json:"from,omitempty"`  // calling services
	Sites     []string `json:"sites,omitempty"` // sites of the caller
	// Addresses are networks of the caller: see engine.View.
	Addresses []netip.Prefix `json:"addresses,omitempty"`
	// Claims are those of the token that the request showed a gateway.
	Claims  []Test      `json:"claims,omitempty"`
	Headers []Test      `json:"headers,omitempty"`
	Query   []Test      `json:"query,omitempty"`
	Cookies []Test      `json:"cookies,omitempty"`
	Any     []Condition `json:"any,omitempty"` // one of them holds
	All     []Condition `json:"all,omitempty"` // every one holds
	Not     []Condition `json:"not,omitempty"` // none of them holds
	At      Origin      `json:"at"`

	broken bool // part of it could not be read
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

func (c Condition) asksForClaims() bool {
	return len(c.Claims) > 0 || slices.ContainsFunc(c.Any, Condition.asksForClaims) ||
		slices.ContainsFunc(c.All, Condition.asksForClaims) || slices.ContainsFunc(c.Not, Condition.asksForClaims)
}

// Describe writes the condition in one line, as it is read aloud.
func (c Condition) Describe() string {
	return strings.Join(c.Entries(), ", ")
}

// Entries writes each entry of the condition in words, in the order in which
// they are looked at.
func (c Condition) Entries() []string {
	var parts []string
	list := func(word string, values []string) {
		if len(values) > 0 {
			parts = append(parts, word+" "+strings.Join(values, "|"))
		}
	}
	if c.Path != "" {
		parts = append(parts, "path "+c.Path)
	}
	if c.PathRegex != "" {
		parts = append(parts, fmt.Sprintf("path regex %q", c.PathRegex))
	}
	list("method", c.Methods)
	list("host", c.Hosts)
	list("from", c.From)
	list("site", c.Sites)
	var networks []string
	for _, a := range c.Addresses {
		networks = append(networks, networkText(a))
	}
	list("address", networks)
	for _, g := range []struct {
		word  string
		tests []Test
	}{{"claim", c.Claims}, {"header", c.Headers}, {"query", c.Query}, {"cookie", c.Cookies}} {
		for _, t := range g.tests {
			if g.word == "header" {
				t.Name = strings.ToLower(t.Name)
			}
			parts = append(parts, g.word+" "+t.Describe())
		}
	}
	for _, g := range []struct {
		word string
		of   []Condition
		sep  string
	}{{"any of", c.Any, "; or "}, {"all of", c.All, "; and "}, {"not", c.Not, "; or "}} {
		if len(g.of) > 0 {
			parts = append(parts, g.word+" ("+describeAll(g.of, g.sep)+")")
		}
	}
	return parts
}

// networkText is a network, or its only address.
func networkText(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

func describeAll(list []Condition, sep string) string {
	var parts []string
	for _, c := range list {
		parts = append(parts, c.Describe())
	}
	return strings.Join(parts, sep)
}

// Describe writes the test in words: x-crew is "yes".
func (t Test) Describe() string {
	name, op := t.Name, string(t.Op)
	if t.Not {
		op = "not " + op
	}
	switch len(t.Values) {
	case 0:
		return name + " " + op
	case 1:
		return fmt.Sprintf("%s %s %q", name, op, t.Values[0])
	}
	var values []string
	for _, v := range t.Values {
		values = append(values, fmt.Sprintf("%q", v))
	}
	return name + " " + op + " " + strings.Join(values, ", ")
}

// Holds compares one value; a Regex is the driver's to compile and try.
func (t *Test) Holds(value string) bool {
	switch t.Op {
	case Is:
		return value == t.Values[0]
	case In:
		for _, v := range t.Values {
			if v == value {
				return true
			}
		}
	case Prefix:
		return strings.HasPrefix(value, t.Values[0])
	case Suffix:
		return strings.HasSuffix(value, t.Values[0])
	case Contains:
		return strings.Contains(value, t.Values[0])
	case Present:
		return true
	}
	return false
}
