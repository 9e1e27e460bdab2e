// Package release moves a service from one version to another in judged stages:
// what a release changes in the rules, how its stages are judged, and the state
// machine that goes from one to the next. Time and figures are passed in.
package release

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/core/rules"
)

// Kind is what a step of a release does.
type Kind string

// The kinds of steps, in the order in which they come.
const (
	Dark   Kind = "dark"   // To gets copies; nobody waits for its answers
	Cohort Kind = "cohort" // To answers a cohort
	Weight Kind = "weight" // To answers a share
	Watch  Kind = "watch"  // To has all that it will get, and is looked after
)

// Step is one step of a release.
type Step struct {
	Kind Kind   `json:"kind"` // dark, cohort, weight or watch
	Name string `json:"name"` // as people call it, such as 15%
	// that the new version gets, or of dark is copied, in thousandths of a percent
	Share rules.Percent `json:"share"`
	Each  time.Duration `json:"each"` // how long it is judged at least, in nanoseconds
	Hold  bool          `json:"hold"` // it waits for a person at its end
}

// Steps are what the release goes through.
func Steps(p *rules.Release) []Step {
	var out []Step
	if p.Dark > 0 {
		out = append(out, Step{Kind: Dark, Name: fmt.Sprintf("dark %s%%", p.Dark), Share: p.Dark, Each: p.Each})
	}
	if p.FirstTo != nil {
		out = append(out, Step{Kind: Cohort, Name: "cohort", Each: p.Each})
	}
	for _, s := range p.Stages {
		out = append(
			out,
			Step{
				Kind:  Weight,
				Name:  s.String() + "%",
				Share: s,
				Each:  p.Each,
				Hold:  slices.Contains(p.HoldAt, s),
			},
		)
	}
	if n := len(p.Stages); p.Watch > 0 && n > 0 {
		out = append(out, Step{Kind: Watch, Name: "watch", Share: p.Stages[n-1], Each: p.Watch})
	}
	return out
}

// planned is how many judgements the steps take when all goes well.
func planned(p *rules.Release) int {
	looks := func(t time.Duration) int { return int((t + p.Judge.Every - 1) / p.Judge.Every) }
	steps := len(p.Stages)
	if p.Dark > 0 {
		steps++
	}
	if p.FirstTo != nil {
		steps++
	}
	return max(1, steps*looks(p.Each)+looks(p.Watch))
}

// Place is a route that a release changes.
type Place struct {
	Ladder string `json:"ladder"` // service or gateway
	Route  string `json:"route"`
}

func (p Place) String() string { return p.Ladder + "/" + p.Route }

// Places are the routes that a release would change: the one that it names, or
// every one that sends to its version From. The error says why there is none.
func Places(rs *rules.Rules, p *rules.Release) ([]Place, error) {
	var out []Place
	look := func(ladder string, routes []*rules.Route) {
		for _, rt := range routes {
			if p.Route != "" && (ladder != p.Service || rt.Name != p.Route) {
				continue
			}
			if slices.ContainsFunc(
				rt.Send,
				func(t rules.Target) bool { return t.Service == p.Service && t.Version == p.From && t.Weight > 0 },
			) {
				out = append(out, Place{ladder, rt.Name})
			}
		}
	}
	for _, s := range rs.Services {
		look(s.Name, s.Routes)
	}
	for _, g := range rs.Gateways {
		look(g.Name, g.Routes)
	}
	switch {
	case len(out) > 0:
		return out, nil
	case p.Route != "":
		return nil, fmt.Errorf(
			"route %s of %s sends nothing to %s now: check its targets, or from",
			p.Route,
			p.Service,
			p.From,
		)
	}
	return nil, fmt.Errorf(
		"no route sends to %s of %s now: give the service a route such as {name: all, send: %s}, or check from",
		p.From,
		p.Service,
		p.From,
	)
}

// Overlay is what a release changes in the rules while it runs: a release begins
// with From alone, whatever To had before. The text of the rules stays as it is.
type Overlay struct {
	Release string           `json:"release"` // name
	Places  []Place          `json:"places"`
	Service string           `json:"service"`
	From    string           `json:"from"`
	To      string           `json:"to"`
	FirstTo *rules.Condition `json:"firstTo,omitempty"` // the cohort goes to To
	Share   rules.Percent    `json:"share"`             // of what went to From and To, for To
	Copies  rules.Percent    `json:"copies,omitempty"`  // share that To gets copies of
	At      rules.Origin     `json:"at"`                // of the release
}

// OverlayAt is what a release changes in a step; in the zero Step From has
// everything.
func OverlayAt(p *rules.Release, places []Place, s Step) Overlay {
	o := Overlay{
		Release: p.Name,
		Places:  places,
		Service: p.Service,
		From:    p.From,
		To:      p.To,
		At:      p.At,
	}
	switch s.Kind {
	case Dark:
		o.Copies = s.Share
	case Cohort:
		o.FirstTo = p.FirstTo
	case Weight, Watch:
		o.FirstTo, o.Share = p.FirstTo, s.Share
	}
	return o
}

// Apply makes the rules that hold with the overlays. rs does not change, and
// shares what does not differ.
func Apply(rs *rules.Rules, overlays []Overlay) *rules.Rules {
	if len(overlays) == 0 {
		return rs
	}
	out := *rs
	byLadder := map[string][]*Overlay{}
	for i := range overlays {
		o := &overlays[i]
		for _, p := range o.Places {
			if list := byLadder[p.Ladder]; len(list) == 0 || list[len(list)-1] != o {
				byLadder[p.Ladder] = append(list, o)
			}
		}
	}
	out.Services = slices.Clone(rs.Services)
	for i, s := range out.Services {
		if list := byLadder[s.Name]; list != nil {
			changed := *s
			changed.Routes = applied(s.Name, s.Routes, list)
			out.Services[i] = &changed
		}
	}
	out.Gateways = slices.Clone(rs.Gateways)
	for i, g := range out.Gateways {
		if list := byLadder[g.Name]; list != nil {
			changed := *g
			changed.Routes = applied(g.Name, g.Routes, list)
			out.Gateways[i] = &changed
		}
	}
	return &out
}

func applied(ladder string, routes []*rules.Route, list []*Overlay) []*rules.Route {
	out := make([]*rules.Route, 0, len(routes)+len(list))
	for _, rt := range routes {
		var cohorts []*rules.Route
		changed := rt
		for _, o := range list {
			if !slices.Contains(o.Places, Place{ladder, rt.Name}) {
				continue
			}
			now := *changed
			if o.FirstTo != nil {
				cohorts = append(cohorts, o.cohort(now))
			}
			now.Send = o.send(now.Send)
			if o.Copies > 0 {
				now.Mirror = &rules.Mirror{
					To:    rules.Target{Service: o.Service, Version: o.To, Weight: rules.Whole, At: o.At},
					Share: o.Copies,
					At:    o.At,
				}
			}
			changed = &now
		}
		out = append(append(out, cohorts...), changed)
	}
	return out
}

// CohortRoute is the name of the route that a release puts before another for
// its cohort.
func (o *Overlay) CohortRoute(route string) string {
	if len(o.Places) == 1 {
		return o.Release
	}
	return o.Release + "-" + route
}

// cohort is a copy of a route for the requests of the cohort.
func (o *Overlay) cohort(rt rules.Route) (out *rules.Route) {
	out = &rt
	out.Name, out.At = o.CohortRoute(rt.Name), o.At
	when := rt.When
	if out.When = nil; len(when) == 0 {
		out.When = []rules.Condition{*o.FirstTo}
	}
	for _, w := range when {
		out.When = append(out.When, rules.Condition{All: []rules.Condition{w, *o.FirstTo}, At: o.FirstTo.At})
	}
	whole := *o
	whole.Share = rules.Whole
	out.Send = slices.DeleteFunc(whole.send(rt.Send), func(t rules.Target) bool { return t.Weight == 0 })
	return out
}

// send is the targets with the weight of From and To shared anew between them,
// at every site by itself.
func (o *Overlay) send(list []rules.Target) []rules.Target {
	out := slices.Clone(list)
	for i := range out {
		f := &out[i]
		if f.Service != o.Service || f.Version != o.From {
			continue
		}
		at := slices.IndexFunc(
			out,
			func(t rules.Target) bool { return t.Service == o.Service && t.Version == o.To && t.Site == f.Site },
		)
		if at < 0 && o.Share == 0 {
			continue
		}
		if at < 0 {
			to := *f
			to.Version, to.Weight, to.At = o.To, 0, o.At
			at = len(out)
			out = append(out, to)
			f = &out[i]
		}
		pool := f.Weight + out[at].Weight
		share := (pool*o.Share + rules.Whole/2) / rules.Whole
		f.Weight, out[at].Weight = pool-share, share
	}
	return out
}

// Final is what a route's targets are once the release is over: with all, To
// has taken the place of From, and From is not named any more; else the weights
// stay as they are.
func (o *Overlay) Final(send []rules.Target, all bool) []rules.Target {
	out := o.send(send)
	if all {
		out = slices.DeleteFunc(
			out,
			func(t rules.Target) bool { return t.Weight == 0 && t.Service == o.Service && t.Version == o.From },
		)
	}
	return out
}

// Back is the overlay that leads everything from To back to From.
func (o Overlay) Back() Overlay {
	o.From, o.To, o.Share = o.To, o.From, rules.Whole
	return o
}

// Touched tells which of a release's routes a new rule set has changed, by the
// differences to the one before; empty: none. A version that it no longer
// declares counts too.
func Touched(changes []rules.Change, after *rules.Rules, o *Overlay) string {
	for _, p := range o.Places {
		for _, c := range changes {
			for _, section := range []string{"services.", "gateways."} {
				place := section + p.Ladder + ".routes[" + p.Route + "]"
				if rest, ok := strings.CutPrefix(c.Path, place); ok && (rest == "" || rest[0] == '.') {
					return "route " + p.Route + " of " + p.Ladder
				}
			}
		}
	}
	s := after.Service(o.Service)
	for _, v := range []string{o.From, o.To} {
		if s == nil || !s.HasVersion(v) {
			return "version " + v + " of " + o.Service
		}
	}
	return ""
}
