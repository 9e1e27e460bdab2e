package standin

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/store"
)

const (
	maxMedianMS    = 60_000
	maxConcurrency = 4096
	maxCalls       = 8
)

// Group is the stand-ins of a mesh, as people see and change them.
type Group struct {
	all     []*StandIn
	journal *journal.Journal
}

// List is how they behave now.
func (g *Group) List() []model.StandIn {
	out := make([]model.StandIn, 0, len(g.all))
	for _, s := range g.all {
		out = append(out, s.view())
	}
	return out
}

func (s *StandIn) view() model.StandIn {
	p := s.Profile()
	out := model.StandIn{
		Instance:    s.Instance,
		Service:     s.Service,
		Version:     s.Version,
		Site:        s.Site,
		MedianMS:    float64(p.Median) / float64(time.Millisecond),
		Spread:      p.Spread,
		Errors:      p.Errors,
		Concurrency: p.AtOnce,
		Calls:       []string{},
		Requires:    []string{},
		IsChanged: p.Median != s.sample.Median || p.Errors != s.sample.Errors ||
			p.AtOnce != max(s.sample.AtOnce, usualConcurrency) && p.AtOnce != s.sample.AtOnce ||
			!slices.Equal(p.Calls, s.sample.Calls),
	}
	for _, c := range p.Calls {
		out.Calls = append(out.Calls, c.Service)
		if c.Needed {
			out.Requires = append(out.Requires, c.Service)
		}
	}
	return out
}

// Change changes an instance, or all of SERVICE~VERSION (or SERVICE/VERSION), and
// returns all stand-ins.
func (g *Group) Change(ctx context.Context, which string, c model.StandInChange) ([]model.StandIn, error) {
	if err := g.check(&c); err != nil {
		return nil, err
	}
	which = strings.Replace(which, "~", "/", 1)
	var chosen []*StandIn
	var names []string
	for _, s := range g.all {
		target := s.Service + "/" + s.Version
		names = append(names, target)
		if s.Instance == which || target == which {
			chosen = append(chosen, s)
		}
	}
	if len(chosen) == 0 {
		return nil, problem.Invalid(
			"there is no stand-in %s: name an instance, or %s",
			which,
			rules.OneOf(which, slices.Compact(names)),
		)
	}
	for _, s := range chosen {
		if err := s.callsRequired(&c); err != nil {
			return nil, err
		}
	}
	for _, s := range chosen {
		s.change(&c)
		g.journal.Add(
			ctx,
			store.Activity{
				At:       time.Now().UTC(),
				Kind:     "standin-set",
				Service:  s.Service,
				Version:  s.Version,
				Instance: s.Instance,
				Detail:   inWords(&c),
			},
		)
	}
	return g.List(), nil
}

// check tells what is wrong with a change by itself.
func (g *Group) check(c *model.StandInChange) error {
	isWithin := func(v *float64, low, high float64) bool { return v == nil || *v >= low && *v <= high }
	switch {
	case !isWithin(c.MedianMS, 0, maxMedianMS) || !isWithin(c.SlowerMS, 0, maxMedianMS):
		return problem.Invalid("a service time must be from 0 to 60 s")
	case !isWithin(c.Errors, 0, 1):
		return problem.Invalid("errors: a share must be from 0%% to 100%%")
	case c.Concurrency != nil && (*c.Concurrency < 1 || *c.Concurrency > maxConcurrency):
		return problem.Invalid("concurrency must be from 1 to %d", maxConcurrency)
	case c.Calls != nil && len(*c.Calls) > maxCalls:
		return problem.Invalid("calls: a stand-in makes at most %d calls", maxCalls)
	}
	var services []string
	for _, s := range g.all {
		services = append(services, s.Service)
	}
	for _, name := range slices.Concat(value(c.Calls), value(c.Requires)) {
		if !slices.Contains(services, name) {
			slices.Sort(services)
			return problem.Invalid(
				"the sample has no service %s to call: name %s",
				name,
				rules.OneOf(name, slices.Compact(services)),
			)
		}
	}
	return nil
}

// callsRequired tells whether the stand-in calls what it is to require.
func (s *StandIn) callsRequired(c *model.StandInChange) error {
	calls := s.view().Calls
	if c.Calls != nil {
		calls = *c.Calls
	}
	for _, name := range value(c.Requires) {
		if !slices.Contains(calls, name) {
			return problem.Invalid(
				"%s does not call %s, so it cannot require it: add %s to its calls",
				s.Instance,
				name,
				name,
			)
		}
	}
	return nil
}

func value(list *[]string) []string {
	if list == nil {
		return nil
	}
	return *list
}

// change changes how the stand-in behaves.
func (s *StandIn) change(c *model.StandInChange) {
	s.changing.Lock()
	defer s.changing.Unlock()
	p := s.Profile()
	if c.Reset {
		p = s.sample
	}
	if c.MedianMS != nil {
		p.Median = milliseconds(*c.MedianMS)
	}
	if c.SlowerMS != nil {
		p.Median = s.sample.Median + milliseconds(*c.SlowerMS)
	}
	if c.Errors != nil {
		p.Errors = *c.Errors
	}
	if c.Concurrency != nil {
		p.AtOnce = *c.Concurrency
	}
	if c.Calls != nil {
		p.Calls = s.calls(*c.Calls)
	}
	if c.Requires != nil {
		p.Calls = slices.Clone(p.Calls)
		for i := range p.Calls {
			p.Calls[i].Needed = slices.Contains(*c.Requires, p.Calls[i].Service)
		}
	}
	s.Set(p)
}

func milliseconds(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// calls are calls to services: as the sample makes them, or of the path / where it
// makes none.
func (s *StandIn) calls(services []string) (out []Call) {
	for _, name := range services {
		i := slices.IndexFunc(s.sample.Calls, func(c Call) bool { return c.Service == name })
		if i < 0 {
			out = append(out, Call{Service: name, Path: "/"})
		} else {
			out = append(out, s.sample.Calls[i])
		}
	}
	return out
}

// inWords is what a change does.
func inWords(c *model.StandInChange) string {
	var out []string
	if c.Reset {
		out = append(out, "as the sample says")
	}
	if c.MedianMS != nil {
		out = append(out, "median "+milliseconds(*c.MedianMS).String())
	}
	if c.SlowerMS != nil {
		out = append(out, "slower by "+milliseconds(*c.SlowerMS).String())
	}
	if c.Errors != nil {
		out = append(out, fmt.Sprintf("%.4g%% errors", 100**c.Errors))
	}
	if c.Concurrency != nil {
		out = append(out, fmt.Sprintf("concurrency %d", *c.Concurrency))
	}
	if c.Calls != nil {
		out = append(out, "calls "+strings.Join(*c.Calls, ", "))
	}
	if c.Requires != nil {
		out = append(out, "requires "+strings.Join(*c.Requires, ", "))
	}
	if len(out) == 0 {
		return "no change"
	}
	return strings.Join(out, ", ")
}
