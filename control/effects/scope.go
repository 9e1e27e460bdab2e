package effects

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/telemetry"
)

// taking is which rows of an effect a series counts in.
type taking int

const (
	nowhere taking = iota
	inParts        // those of its service, routes and versions, and not the mesh and its caller
	wholly
)

// takes decides where a series that followed a revision counts.
type takes func(n *telemetry.Names, revision uint) taking

// scope is what the effect of a revision is about. Other revisions may have come in its
// windows that touched other services: the rows of those hold what came before, or after,
// theirs, and the rows of the mesh and of callers leave those services out on both sides.
type scope struct {
	number uint // of the revision; 0: of a moment
	since  func(name string) revisions.Touch
	until  func(name string) revisions.Touch
	others map[string]bool // services and gateways that other revisions touched in the windows

	isDeclared func(service string) bool
}

// maxOthers bounds the notes about other revisions.
const maxOthers = 5

// scope finds the scope of an effect, and notes other revisions in its windows.
func (e *Effects) scope(r *record, rs *rules.Rules) *scope {
	s := &scope{number: r.Revision, others: map[string]bool{}}
	if r.Revision == 0 {
		return s
	}
	declared := map[string]bool{}
	if rs != nil {
		for _, one := range rs.Services {
			declared[one.Name] = true
		}
	}
	s.isDeclared = func(name string) bool { return declared[name] || strings.HasPrefix(name, rules.GatewayName("")) }
	s.since, s.until = e.Touches.Since(r.Revision-1, s.isDeclared), e.Touches.Until(r.Revision, s.isDeclared)
	own := e.Touches.Of(r.Revision)
	for _, t := range e.Touches.Between(time.Unix(r.Before.From, 0), time.Unix(r.After.To, 0)) {
		if t.Number == r.Revision || t.Has(own) {
			continue
		}
		for _, name := range t.Names {
			s.others[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(s.others))
	for _, name := range names[:min(len(names), maxOthers)] {
		r.note("%s", s.noteOf(name, r))
	}
	if n := len(names) - maxOthers; n > 0 {
		r.note("The same is true of %s.", strings.Join(names[maxOthers:min(len(names), 10*maxOthers)], ", "))
	}
	return s
}

// noteOf says what other revisions in the windows mean for the rows of a service.
func (s *scope) noteOf(name string, r *record) string {
	before, after := s.since(name), s.until(name)
	var by []string
	if before.Number > 0 && before.At.Unix() >= r.Before.From {
		by = append(by, fmt.Sprintf("revision %d before", before.Number))
	}
	if after.Number > 0 && after.At.Unix() <= r.After.To {
		by = append(by, fmt.Sprintf("revision %d after", after.Number))
	}
	return fmt.Sprintf(
		"Other revisions changed %s in the windows (%s): its rows hold what came between them, and the rows of the "+
			"mesh and of callers leave it out.",
		name,
		strings.Join(by, ", "),
	)
}

// each calls do with the services and gateways on the way of a series.
func each(n *telemetry.Names, do func(name string)) {
	do(n.Service)
	if n.RouteOf != "" && n.RouteOf != n.Service {
		do(n.RouteOf)
	}
	if n.Gate != "" {
		do(rules.GatewayName(n.Caller))
	}
}

// before takes what followed the same as the revision before.
func (s *scope) before(n *telemetry.Names, revision uint) taking {
	if s.number == 0 {
		return wholly
	}
	isTaken := revision < s.number
	each(n, func(name string) { isTaken = isTaken && revision >= s.since(name).Number })
	return s.rows(n, isTaken)
}

// after takes what followed the revision, or a later one that changed nothing for it.
func (s *scope) after(n *telemetry.Names, revision uint) taking {
	if s.number == 0 {
		return wholly
	}
	isTaken := revision >= s.number
	each(n, func(name string) {
		end := s.until(name).Number
		isTaken = isTaken && (end == 0 || revision < end)
	})
	return s.rows(n, isTaken)
}

func (s *scope) rows(n *telemetry.Names, isTaken bool) taking {
	if !isTaken {
		return nowhere
	}
	isOther := false
	each(n, func(name string) {
		isOther = isOther || s.others[name] || s.others[rules.Undeclared] && !s.isDeclared(name)
	})
	if isOther {
		return inParts
	}
	return wholly
}

// seconds is how long the services and ladders were counted that other revisions touched
// in the windows.
func (s *scope) seconds(r *record) (before, after map[string]float64) {
	before, after = map[string]float64{}, map[string]float64{}
	for name := range s.others {
		from, to := r.Before.From, r.After.To
		if t := s.since(name); t.Number > 0 {
			from = min(max(from, t.At.Unix()), r.Before.To)
		}
		if t := s.until(name); t.Number > 0 {
			to = max(min(to, t.At.Unix()), r.After.From)
		}
		ladder := strings.TrimPrefix(name, rules.GatewayName(""))
		before[ladder], after[ladder] = float64(r.Before.To-from), float64(to-r.After.From)
	}
	return before, after
}
