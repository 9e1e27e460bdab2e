package rules

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Change is one difference between two rule sets.
type Change struct {
	Path   string `json:"path"`             // place in the rules; routes stand by name
	Before string `json:"before,omitempty"` // value before; empty when added
	After  string `json:"after,omitempty"`  // value after; empty when removed
	At     Origin `json:"at"`               // where the new value stands, or stood when removed
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
	out := leaves{}
	for _, s := range rs.Sites {
		out.put("sites."+s.Name, "declared", s.At)
		out.put("sites."+s.Name+".crossing", s.Crossing, s.At)
	}
	for _, t := range rs.Teams {
		p := "teams." + t.Name
		out.put(p, "declared", t.At)
		out.put(p+".bundles", strings.Join(t.Bundles, ", "), t.BundlesAt)
		out.put(p+".services", strings.Join(t.Services, ", "), t.ServicesAt)
		out.put(p+".offers", strings.Join(t.Offers, ", "), t.OffersAt)
		out.put(p+".uses", strings.Join(t.Uses, ", "), t.UsesAt)
		for i := range t.Gateways {
			out.put(p+".gateways."+t.Gateways[i].Gateway, t.Gateways[i].String(), t.Gateways[i].At)
		}
	}
	for _, s := range rs.Services {
		p := "services." + s.Name
		out.put(p, "declared", s.At)
		out.put(p+".owner", s.Owner, s.At)
		out.put(p+".labels", s.Labels.String(), s.At)
		out.put(p+".protocol", s.Protocol, s.At)
		if s.TLS != nil {
			out.put(p+".tls", s.TLS.String(), s.TLS.Origin)
		}
		out.put(p+".versions", strings.Join(s.Versions, ", "), s.At)
		if s.Calls != nil {
			out.put(p+".calls", cmp.Or(strings.Join(s.Calls, ", "), "nobody"), s.CallsAt)
		}
		for _, in := range s.Instances {
			text := "version " + in.Version
			if in.Site != "" {
				text += ", site " + in.Site
			}
			out.put(p+".instances["+in.URL+"]", text, in.At)
		}
		out.settings(p, &s.Settings)
		out.routes(p, s.Name, s.Routes, s.At)
	}
	for _, g := range rs.Gateways {
		out.gateway(g)
	}
	for _, y := range rs.Policies {
		p := "policies." + y.Name
		out.put(p, "declared", y.At)
		out.put(p+".for", y.For.String(), y.At)
		out.settings(p, &y.Settings)
	}
	if d := rs.Defaults; d != nil {
		out.put("defaults", "declared", d.At)
		out.settings("defaults", &d.Settings)
	}
	out.access(rs.Access)
	for _, r := range rs.Releases {
		out.release(r)
	}
	for _, t := range rs.Trials {
		p := "trials." + t.Name
		out.put(p, "declared", t.At)
		out.put(p+".for", t.For.String(), t.At)
		out.put(p+".warm-up", t.WarmUp.String(), t.At)
		out.loads(p, t.Load)
		if d := t.Drill; d != nil {
			d := *d
			at := d.At
			d.At = Origin{}
			out.put(p+".drill", fmt.Sprintf("%+v", d), at)
		}
		out.expect(p, t.Expect)
	}
	return out
}

type leaves map[string]leaf

func (l leaves) gateway(g *Gateway) {
	p := "gateways." + g.Name
	l.put(p, "declared", g.At)
	l.put(p+".listen", g.Listen, g.At)
	l.put(p+".hosts", strings.Join(g.Hosts, ", "), g.At)
	if g.LeastRate > 0 {
		l.put(p+".least-rate", fmt.Sprintf("%g/s", g.LeastRate), g.At)
	}
	for _, e := range g.Edge() {
		l.put(p+"."+e.Name, e.Value, e.Origin)
	}
	for i, c := range g.TLS {
		l.put(fmt.Sprintf("%s.tls[%d]", p, i), c.Cert+", "+c.Key, c.At)
	}
	l.routes(p, "", g.Routes, g.At)
}

func (l leaves) put(path, text string, at Origin) {
	if text != "" {
		l[path] = leaf{text, at}
	}
}

func (l leaves) settings(path string, s *Settings) {
	for _, set := range s.All() {
		l.put(path+"."+set.Name, set.String(), set.Where())
	}
}

func (l leaves) routes(path, home string, routes []*Route, at Origin) {
	var order []string
	for _, rt := range routes {
		order = append(order, rt.Name)
		p := path + ".routes[" + rt.Name + "]"
		l.put(p+".labels", rt.Labels.String(), rt.At)
		l.put(p+".when", describeAll(rt.When, "; or "), rt.At)
		l.put(p+".send", SendText(rt.Send, home), rt.SendAt)
		for _, a := range rt.Actions(home) {
			l.put(p+"."+a.Name, a.Value, a.Origin)
		}
		l.settings(p, &rt.Settings)
	}
	l.put(path+".routes", strings.Join(order, ", "), at)
}

func (l leaves) access(a *Access) {
	if a == nil {
		return
	}
	l.put("access", "declared", a.At)
	l.put("access.default", modeOf(a.Watch)+a.Default, a.At)
	var order []string
	for _, r := range a.Rules {
		order = append(order, r.Name)
		l.put("access.rules["+r.Name+"]", modeOf(r.Watch)+r.Describe(), r.At)
	}
	l.put("access.rules", strings.Join(order, ", "), a.At)
}

func (l leaves) release(r *Release) {
	p := "releases." + r.Name
	l.put(p, "declared", r.At)
	l.put(p+".service", r.Service, r.At)
	l.put(p+".route", r.Route, r.At)
	l.put(p+".from", r.From, r.At)
	l.put(p+".to", r.To, r.At)
	if r.FirstTo != nil {
		l.put(p+".first-to", r.FirstTo.Describe(), r.FirstTo.At)
	}
	l.put(p+".stages", fmt.Sprint(r.Stages), r.At)
	l.put(p+".each", r.Each.String(), r.At)
	if len(r.HoldAt) > 0 {
		l.put(p+".hold-at", fmt.Sprint(r.HoldAt), r.At)
	}
	j := r.Judge
	l.put(
		p+".judge",
		fmt.Sprintf("least %d, every %s, misses %d, patience %s", j.Least, j.Every, j.Misses, j.Patience),
		r.At,
	)
	l.expect(p+".judge", j.Expect)
	l.loads(p, r.Load)
	if r.Dark > 0 {
		l.put(p+".dark", r.Dark.String()+"%", r.At)
	}
	if r.Watch > 0 {
		l.put(p+".watch", r.Watch.String(), r.At)
	}
	for _, to := range r.Notify {
		how := "structured"
		if to.Binary {
			how = "binary"
		}
		if to.Gate {
			how += ", gate"
		}
		l.put(p+".notify["+to.URL+"]", how, to.At)
	}
	l.put(p+".on-success", r.OnSuccess, r.At)
}

func (l leaves) expect(path string, list []Expectation) {
	for _, e := range list {
		l.put(path+".expect["+e.Text+"]", "declared", e.At)
	}
}

func (l leaves) loads(path string, list []Load) {
	for i, x := range list {
		text := fmt.Sprintf("%s %s%s at %s", x.Method, x.To, x.Path, x.Rate)
		if len(x.Steps) > 0 {
			text = fmt.Sprintf("%s %s%s at %v one after the other", x.Method, x.To, x.Path, x.Steps)
		}
		if x.From != "" {
			text += " from " + x.From
		}
		if x.Random {
			text += " at random"
		}
		if s := x.Spike; s != nil {
			text += fmt.Sprintf(", %s after %s for %s", s.Rate, s.After, s.For)
		}
		if len(x.Headers)+len(x.Cookies) > 0 {
			text += fmt.Sprintf(" with %v", slices.Concat(x.Headers, x.Cookies))
		}
		for _, s := range x.Shares {
			text += fmt.Sprintf(", %s%% with %v", s.Of, slices.Concat(s.Headers, s.Cookies))
		}
		if x.Body != "" {
			text += fmt.Sprintf(", body %q", x.Body)
		}
		l.put(fmt.Sprintf("%s.load[%d]", path, i), text, x.At)
	}
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

// Condense leaves out what stands below something that was added or removed as
// a whole, such as a service: the one change says it all.
func Condense(changes []Change) []Change {
	var out []Change
	whole := map[string]bool{}
	for _, c := range changes { // sorted by path, so that the whole comes before its parts
		part := false
		for i, r := range c.Path {
			part = part || r == '.' && whole[c.Path[:i]]
		}
		if part {
			continue
		}
		if c.Before == "declared" || c.After == "declared" {
			whole[c.Path] = true
		}
		out = append(out, c)
	}
	return out
}

// modeOf begins what is watched only.
func modeOf(watch bool) string {
	if watch {
		return "watch: "
	}
	return ""
}
