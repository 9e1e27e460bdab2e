package fleet

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"sort"
	"strings"
	"sync"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// maxRemovals bounds the removed services and instances that are remembered. A
// proxy that missed more gets everything anew.
const maxRemovals = 4096

// ledger records at which snapshot each part of what proxies know changed last,
// so that each proxy gets only what it lacks. Snapshots are numbered from 1; 0 is
// before all of them. Fleet.mu guards it.
type ledger struct {
	sequence      uint64 // of the newest snapshot
	rulesAt       uint64 // snapshot at which any of the rules last changed
	instancesAt   uint64 // snapshot at which any of the instances last changed
	completeSince uint64 // snapshot since which every proxy had time to come back; 0: not yet

	all       *rules.Rules // in force
	services  map[string]stamped[*rules.Service]
	rest      stamped[*rules.Rules] // the rules but services, as far as proxies need them
	instances map[string]stamped[engine.Instance]
	changes   []change // of instances, the oldest first; some have changed again since
	drills    stamped[[]wire.Drill]
	drains    stamped[[]wire.Drain]
	watches   stamped[[]wire.Watch]
	letBack   []stamped[wire.LetBack] // the newest
	traced    float64                 // see Config
	key       string                  // see Fleet.key
	mesh      string                  // see Config

	removals  []removal
	forgotten uint64 // newest snapshot with a removal that is not remembered any more

	scopes  map[audience]*scope
	updates map[updateKey]*Update // to the newest snapshot, shared by proxies that lack the same
}

// stamped is a value with the snapshot at which it changed last.
type stamped[T any] struct {
	value T
	at    uint64
}

// change is an instance that came or changed.
type change struct {
	id string
	at uint64
}

// removal is a service or an instance that was removed.
type removal struct {
	service, instance string // one of them
	instanceOf, site  string // service and site of the instance
	at                uint64
}

// audience is a kind of proxy: all proxies of one kind get the same. All empty: a
// proxy that may call every service. A crossing, named by its site, knows the instances
// there, and no rules.
type audience struct{ service, gateway, crossing string }

// scope is what an audience gets to know.
type scope struct {
	isLimited bool            // false: everything
	site      string          // instances of this site alone, whatever their service; empty: of any
	services  map[string]bool // with those that their routes lead to
	calls     []string        // services that its own is declared to call
	at        uint64          // snapshot since which the scope is as it is
	rulesAt   uint64          // rulesAt when it was computed
}

type updateKey struct {
	audience
	seen uint64
}

// Update is what a proxy lacks.
type Update struct {
	Sequence uint64 // of the newest snapshot
	HasRules bool   // the rules in force changed
	IsUrgent bool   // it must not wait for more changes
	IsEmpty  bool   // nothing that changed concerns the proxy

	snapshot wire.Snapshot
	once     sync.Once
	line     []byte
}

// Line is the update as one line of JSON.
func (u *Update) Line() []byte {
	u.once.Do(func() {
		u.line, _ = json.Marshal(u.snapshot)
		u.line = append(u.line, '\n')
	})
	return u.line
}

func newLedger() ledger {
	return ledger{
		all:       &rules.Rules{},
		services:  map[string]stamped[*rules.Service]{},
		instances: map[string]stamped[engine.Instance]{},
		scopes:    map[audience]*scope{},
		updates:   map[updateKey]*Update{},
	}
}

// next begins a new snapshot.
func (l *ledger) next() {
	l.sequence++
	clear(l.updates)
}

func (l *ledger) noteRemoval(r removal) {
	r.at = l.sequence
	l.removals = append(l.removals, r)
	if over := len(l.removals) - maxRemovals; over > 0 {
		l.forgotten = l.removals[over-1].at
		l.removals = slices.Delete(l.removals, 0, over)
	}
}

// noteRules takes new rules into the snapshot that was begun.
func (l *ledger) noteRules(rs *rules.Rules) {
	l.all, l.rulesAt = rs, l.sequence
	now := make(map[string]bool, len(rs.Services))
	for _, s := range rs.Services {
		now[s.Name] = true
		if old, ok := l.services[s.Name]; !ok || !reflect.DeepEqual(old.value, s) {
			l.services[s.Name] = stamped[*rules.Service]{s, l.sequence}
		}
	}
	for name := range l.services {
		if !now[name] {
			delete(l.services, name)
			l.noteRemoval(removal{service: name})
		}
	}
	rest := &rules.Rules{
		Sites:    rs.Sites,
		Gateways: rs.Gateways,
		Policies: rs.Policies,
		Defaults: rs.Defaults,
		Access:   rs.Access.Resolved(rs.Services),
	}
	if l.rest.value == nil || !reflect.DeepEqual(l.rest.value, rest) {
		l.rest = stamped[*rules.Rules]{rest, l.sequence}
	}
}

// siteOf is the site of an instance, registered, just gone or declared; empty: it is at none.
func (l *ledger) siteOf(service, instance string) string {
	if instance == "" {
		return ""
	}
	if in, isThere := l.instances[instance]; isThere {
		return in.value.Site
	}
	for i := len(l.removals) - 1; i >= max(0, len(l.removals)-64); i-- {
		if l.removals[i].instance == instance {
			return l.removals[i].site
		}
	}
	s := l.services[service].value
	if s == nil {
		return ""
	}
	for _, in := range s.Instances {
		if address, _ := in.Address(); service+"@"+address == instance {
			return in.Site
		}
	}
	return ""
}

// noteDrills takes the running drills into the next snapshot.
func (l *ledger) noteDrills(list []wire.Drill) {
	l.drills = stamped[[]wire.Drill]{append([]wire.Drill{}, list...), l.sequence + 1}
}

// noteDrains takes the sites that are drained into the next snapshot.
func (l *ledger) noteDrains(list []wire.Drain) {
	l.drains = stamped[[]wire.Drain]{append([]wire.Drain{}, list...), l.sequence + 1}
}

// noteWatches takes the watches into the next snapshot.
func (l *ledger) noteWatches(list []wire.Watch) {
	l.watches = stamped[[]wire.Watch]{append([]wire.Watch{}, list...), l.sequence + 1}
}

// maxLetBack bounds the instances of LetBack that are remembered.
const maxLetBack = 64

// noteLetBack takes a sidelined instance that is to come back into the next snapshot.
func (l *ledger) noteLetBack(b wire.LetBack) {
	l.letBack = append(l.letBack, stamped[wire.LetBack]{b, l.sequence + 1})
	l.letBack = l.letBack[max(0, len(l.letBack)-maxLetBack):]
}

// noteInstances takes the instances into the snapshot that was begun.
func (l *ledger) noteInstances(list []engine.Instance) {
	l.instancesAt = l.sequence
	now := make(map[string]bool, len(list))
	for _, in := range list {
		now[in.ID] = true
		if old, ok := l.instances[in.ID]; !ok || old.value != in {
			l.instances[in.ID] = stamped[engine.Instance]{in, l.sequence}
			l.changes = append(l.changes, change{in.ID, l.sequence})
		}
	}
	if len(l.changes) > 2*len(l.instances)+1000 {
		l.changes = slices.DeleteFunc(l.changes, func(c change) bool { return l.instances[c.id].at != c.at })
	}
	for id, old := range l.instances {
		if !now[id] {
			delete(l.instances, id)
			l.noteRemoval(removal{instance: id, instanceOf: old.value.Service, site: old.value.Site})
		}
	}
}

// scope is what an audience gets to know under the rules in force. A service that
// does not declare whom it calls may call every service.
func (l *ledger) scope(k audience) *scope {
	s := l.scopes[k]
	if s != nil && s.rulesAt == l.rulesAt {
		return s
	}
	now := &scope{rulesAt: l.rulesAt, at: l.rulesAt}
	var from []rules.Target
	own := l.services[k.service].value
	var calls []string
	isLimited := false
	if own != nil {
		calls, isLimited = own.MayCall()
	}
	switch {
	case k.crossing != "":
		now.isLimited, now.site = true, k.crossing
	case k.gateway != "":
		now.isLimited = true
		for _, g := range l.rest.value.Gateways {
			if g.Name == k.gateway {
				from = targetsOf(g.Routes)
			}
		}
	case isLimited:
		now.isLimited, now.calls = true, append([]string{}, calls...) // there even if it is empty
		for _, name := range now.calls {
			from = append(from, rules.Target{Service: name})
		}
		from = append(from, rules.Target{Service: own.Name})
	}
	if now.isLimited {
		now.services = map[string]bool{}
		for len(from) > 0 {
			name := from[0].Service
			from = from[1:]
			if s := l.services[name].value; !now.services[name] && s != nil {
				from = append(from, targetsOf(s.Routes)...)
			}
			now.services[name] = true
		}
	}
	if s != nil && s.isLimited == now.isLimited && maps.Equal(s.services, now.services) &&
		slices.Equal(s.calls, now.calls) {
		now.at = s.at
	}
	l.scopes[k] = now
	return now
}

// targetsOf are all targets that routes name.
func targetsOf(routes []*rules.Route) (out []rules.Target) {
	for _, rt := range routes {
		out = append(out, rt.Send...)
		if rt.Otherwise != nil {
			out = append(out, *rt.Otherwise)
		}
		if rt.Mirror != nil {
			out = append(out, rt.Mirror.To)
		}
	}
	return out
}

func (s *scope) holds(service string) bool { return !s.isLimited || s.services[service] }

// knows tells whether the audience gets to know an instance.
func (s *scope) knows(service, site string) bool {
	if s.site != "" {
		return site == s.site
	}
	return s.holds(service)
}

// view is what an audience knows of the mesh.
func (l *ledger) view(k audience, instances []engine.Instance) View {
	v := View{Rules: *l.all, Instances: instances, Sequence: l.sequence}
	s := l.scope(k)
	if s.isLimited {
		v.Rules.Services = slices.DeleteFunc(
			slices.Clone(v.Rules.Services),
			func(one *rules.Service) bool { return !s.holds(one.Name) },
		)
		v.Instances = slices.DeleteFunc(v.Instances, func(in engine.Instance) bool { return !s.knows(in.Service, in.Site) })
	}
	if k.gateway == "" {
		v.Calls = s.calls
	}
	return v
}

// since is what a proxy lacks that has seen everything up to the snapshot seen.
func (l *ledger) since(k audience, seen uint64, revision uint) *Update {
	if old := l.updates[updateKey{k, seen}]; old != nil {
		return old
	}
	sc := l.scope(k)
	u := &Update{Sequence: l.sequence, HasRules: l.rulesAt > seen}
	s := &u.snapshot
	s.Sequence, s.Settled = l.sequence, l.completeSince > 0
	if s.Whole = seen == 0 || seen < l.forgotten || seen < sc.at; s.Whole {
		seen, u.HasRules = 0, true
		if sc.isLimited && k.gateway == "" {
			s.Calls = sc.calls
		}
		s.Traced, s.Key, s.Mesh = &l.traced, l.key, l.mesh
	}
	if u.HasRules {
		s.Revision = revision
	}
	l.addChanged(s, sc, k, seen)
	for _, b := range l.letBack { // a proxy that begins anew has sidelined nobody
		if b.at > seen && !s.Whole && sc.holds(b.value.Service) {
			s.LetBack = append(s.LetBack, b.value)
		}
	}
	u.IsUrgent = u.HasRules || s.Drills != nil || s.Drains != nil || s.Watches != nil || s.LetBack != nil
	if !s.Whole {
		l.addRemoved(s, sc, seen)
		u.IsEmpty = !u.IsUrgent && len(s.Instances)+len(s.GoneInstances) == 0 && l.completeSince <= seen
	}
	l.updates[updateKey{k, seen}] = u
	if s.Whole {
		l.updates[updateKey{k, 0}] = u
	}
	return u
}

// addChanged adds what is new or changed since a snapshot.
func (l *ledger) addChanged(s *wire.Snapshot, sc *scope, k audience, seen uint64) {
	if l.rulesAt > seen {
		for _, name := range slices.Sorted(maps.Keys(l.services)) {
			if v := l.services[name]; v.at > seen && sc.holds(name) {
				s.Services = append(s.Services, v.value)
			}
		}
	}
	first := sort.Search(len(l.changes), func(i int) bool { return l.changes[i].at > seen })
	for _, c := range l.changes[first:] {
		if v := l.instances[c.id]; v.at == c.at && sc.knows(v.value.Service, v.value.Site) {
			s.Instances = append(s.Instances, v.value)
		}
	}
	slices.SortFunc(s.Instances, func(a, b engine.Instance) int { return strings.Compare(a.ID, b.ID) })
	if l.rest.at > seen {
		rest := *l.rest.value
		if k.crossing != "" {
			rest = rules.Rules{Sites: rest.Sites}
		}
		if sc.isLimited {
			rest.Gateways = slices.DeleteFunc(
				slices.Clone(rest.Gateways),
				func(g *rules.Gateway) bool { return g.Name != k.gateway },
			)
		}
		s.Rest = &rest
	}
	if l.drills.at > seen {
		s.Drills = l.drills.value
	}
	if l.drains.at > seen && k.crossing == "" {
		s.Drains = l.drains.value
	}
	if l.watches.at > seen {
		s.Watches = l.watches.value
	}
}

// addRemoved adds what was removed since a snapshot.
func (l *ledger) addRemoved(s *wire.Snapshot, sc *scope, seen uint64) {
	for _, r := range l.removals {
		switch {
		case r.at <= seen:
		case r.service != "" && l.services[r.service].value == nil && sc.holds(r.service):
			s.GoneServices = append(s.GoneServices, r.service)
		case r.instance != "" && l.instances[r.instance].at == 0 && sc.knows(r.instanceOf, r.site):
			s.GoneInstances = append(s.GoneInstances, r.instance)
		}
	}
}
