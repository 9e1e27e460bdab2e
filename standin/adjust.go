package standin

import (
	"slices"
	"time"

	"nightjar/control"
)

// standins are those of a mesh.
type standins []*Standin

func (all standins) list() []control.Standin {
	out := make([]control.Standin, 0, len(all))
	for _, s := range all {
		p := s.Profile()
		one := control.Standin{
			Instance: s.Instance,
			Service:  s.Service,
			Version:  s.Version,
			Site:     s.Site,
			MedianMS: float64(p.Median) / float64(time.Millisecond),
			Spread:   p.Spread,
			Errors:   p.Errors,
			AtOnce:   p.AtOnce,
			Calls:    []string{},
			Needs:    []string{},
			Changed: p.Median != s.sample.Median || p.Errors != s.sample.Errors ||
				p.AtOnce != max(s.sample.AtOnce, 64) && p.AtOnce != s.sample.AtOnce ||
				!slices.Equal(p.Calls, s.sample.Calls),
		}
		for _, c := range p.Calls {
			one.Calls = append(one.Calls, c.Service)
			if c.Needed {
				one.Needs = append(one.Needs, c.Service)
			}
		}
		out = append(out, one)
	}
	return out
}

// set changes one, in the order in which changes come.
func (all standins) set(instance string, change control.StandinChange) {
	i := slices.IndexFunc(all, func(s *Standin) bool { return s.Instance == instance })
	if i < 0 {
		return
	}
	s := all[i]
	s.setting.Lock()
	defer s.setting.Unlock()
	p := s.Profile()
	if change.Reset {
		p = s.sample
	}
	ms := func(v float64) time.Duration { return time.Duration(v * float64(time.Millisecond)) }
	if change.MedianMS != nil {
		p.Median = ms(*change.MedianMS)
	}
	if change.SlowerMS != nil {
		p.Median = s.sample.Median + ms(*change.SlowerMS)
	}
	if change.Errors != nil {
		p.Errors = *change.Errors
	}
	if change.AtOnce != nil {
		p.AtOnce = *change.AtOnce
	}
	if change.Calls != nil {
		p.Calls = s.calls(*change.Calls)
	}
	if change.Needs != nil {
		p.Calls = slices.Clone(p.Calls)
		for i := range p.Calls {
			p.Calls[i].Needed = slices.Contains(*change.Needs, p.Calls[i].Service)
		}
	}
	s.Set(p)
}

// calls are those to the named services: as the sample makes them, or of the
// path / where it makes none.
func (s *Standin) calls(services []string) (out []Call) {
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
