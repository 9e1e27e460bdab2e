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
		one := control.Standin{Instance: s.Instance, Service: s.Service, Version: s.Version, Site: s.Site, MedianMS: float64(p.Median) / float64(time.Millisecond),
			Spread: p.Spread, Errors: p.Errors, AtOnce: p.AtOnce, Calls: []string{},
			Changed: p.Median != s.sample.Median || p.Errors != s.sample.Errors || p.AtOnce != max(s.sample.AtOnce, 64) && p.AtOnce != s.sample.AtOnce}
		for _, c := range p.Calls {
			one.Calls = append(one.Calls, c.Service)
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
	s.Set(p)
}
