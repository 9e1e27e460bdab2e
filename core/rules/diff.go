package rules

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
)

// Change is one difference between two rule sets.
type Change struct {
	Path   string `json:"path" doc:"place in the rules; routes stand by name"`
	Before string `json:"before,omitempty" doc:"value before; empty when added"`
	After  string `json:"after,omitempty" doc:"value after; empty when removed"`
	At     Origin `json:"at" doc:"where the new value stands, or stood when removed"`
}

// Kind is added, removed or changed.
func (c Change) Kind() string {
	switch {
	case c.Before == "":
		return "added"
	case c.After == "":
		return "removed"
	}
	return "changed"
}

// Diff lists what differs between two rule sets in meaning, sorted by path.
// Comments, layout, file names and the order of services do not count; the
// order of routes does.
func Diff(before, after *Rules) []Change {
	old, now := flatten(before), flatten(after)
	var out []Change
	for path, n := range now {
		if o, ok := old[path]; !ok || o.text != n.text {
			out = append(out, Change{Path: path, Before: o.text, After: n.text, At: n.at})
		}
	}
	for path, o := range old {
		if _, ok := now[path]; !ok {
			out = append(out, Change{Path: path, Before: o.text, At: o.at})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

type leaf struct {
	text string
	at   Origin
}

// flatten writes rules as path and value. No value is empty.
func flatten(rs *Rules) map[string]leaf {
	out := map[string]leaf{}
	put := func(path, text string, at Origin) {
		if text != "" {
			out[path] = leaf{text, at}
		}
	}
	for _, s := range rs.Services {
		p := "services." + s.Name
		put(p, "declared", s.At)
		put(p+".owner", s.Owner, s.At)
		put(p+".labels", pairsText(s.Labels), s.At)
		put(p+".versions", strings.Join(s.Versions, ", "), s.At)
		for _, in := range s.Instances {
			put(p+".instances["+in.URL+"]", "version "+in.Version, in.At)
		}
		putTimeout(put, p, s.Timeout)
		flattenRoutes(put, p, s.Name, s.Routes, s.At)
	}
	for _, g := range rs.Gateways {
		p := "gateways." + g.Name
		put(p, "declared", g.At)
		put(p+".listen", g.Listen, g.At)
		put(p+".hosts", strings.Join(g.Hosts, ", "), g.At)
		flattenRoutes(put, p, "", g.Routes, g.At)
	}
	return out
}

func putTimeout(put func(string, string, Origin), path string, t *Timeout) {
	if t != nil {
		put(path+".timeout", t.Value.String(), t.At)
	}
}

func flattenRoutes(put func(string, string, Origin), path, home string, routes []*Route, at Origin) {
	var order []string
	for _, rt := range routes {
		order = append(order, rt.Name)
		p := path + ".routes[" + rt.Name + "]"
		put(p+".labels", pairsText(rt.Labels), rt.At)
		var when []string
		for _, c := range rt.When {
			when = append(when, c.Describe())
		}
		put(p+".when", strings.Join(when, "; or "), rt.At)
		put(p+".send", SendText(rt.Send, home), rt.SendAt)
		if rw := rt.Rewrite; rw != nil {
			put(p+".rewrite.path", rw.Path, rw.At)
			put(p+".rewrite.host", rw.Host, rw.At)
		}
		putTimeout(put, p, rt.Timeout)
	}
	put(path+".routes", strings.Join(order, ", "), at)
}

// SendText writes targets with their weights as the author of home would:
// v1 85, v2 15; a single target stands alone.
func SendText(send []Target, home string) string {
	var parts []string
	for _, t := range send {
		if len(send) == 1 {
			return t.Short(home)
		}
		parts = append(parts, fmt.Sprintf("%s %s", t.Short(home), t.Weight))
	}
	return strings.Join(parts, ", ")
}

func pairsText(m map[string]string) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, k+"="+m[k])
	}
	return strings.Join(parts, ", ")
}

// Condense leaves out what stands below a service or gateway that was added or
// removed as a whole: the one change says it all.
func Condense(changes []Change) []Change {
	var out []Change
	whole := map[string]bool{}
	for _, c := range changes { // sorted by path, so that the whole comes before its parts
		if parts := strings.SplitN(c.Path, ".", 3); len(parts) == 3 && whole[parts[0]+"."+parts[1]] {
			continue
		}
		if c.Before == "declared" || c.After == "declared" {
			whole[c.Path] = true
		}
		out = append(out, c)
	}
	return out
}
