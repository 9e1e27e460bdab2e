package control

import (
	"crypto/rand"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"sync"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// maxGone bounds what is remembered of services and instances that went. A
// proxy that missed more than that is sent everything anew.
const maxGone = 4096

// ledger notes at which snapshot each part of what proxies are told changed
// last, so that a proxy can be told only what it lacks.
type ledger struct {
	sequence uint64 // of the newest snapshot
	rulesSeq uint64 // snapshot at which any of the rules last changed
	peersSeq uint64 // snapshot at which any of the instances last changed
	services map[string]noted[*rules.Service]
	rest     noted[*rules.Rules] // all but the services, as far as proxies need it
	peers    map[string]noted[engine.Instance]
	drills   noted[[]wire.Drill]
	watches  noted[[]wire.Watch]
	traced   float64 // share of the requests that are traced
	key      string  // that the service's own calls show
	mesh     string  // its id
	gone     []gone
	horizon  uint64 // newest snapshot of which something gone was forgotten
	settled  uint64 // snapshot since which the registry is complete; 0: not yet
	scopes   map[scopeKey]*scope
	news     map[newsKey]*News // of the newest snapshot; for proxies that lack the same
}

type noted[T any] struct {
	value T
	seq   uint64
}

// gone is a service or an instance that is no more.
type gone struct {
	service, instance string
	of                string // service of the instance
	seq               uint64
}

// scopeKey is a kind of proxy: all proxies of one kind are told the same.
type scopeKey struct{ service, gateway string }

// scope is what a kind of proxy is told of.
type scope struct {
	known    bool            // false: of everything
	services map[string]bool // with those that their routes lead to
	calls    []string        // what its service is declared to call
	seq      uint64          // snapshot since which it is so
	of       uint64          // rulesSeq that it was worked out from
}

type newsKey struct {
	scopeKey
	seen uint64
}

// News is what a proxy lacks.
type News struct {
	Sequence uint64
	Rules    bool // the rules in force changed
	Urgent   bool // it is not to wait for more
	Nothing  bool // what changed does not concern the proxy

	snap wire.Snapshot
	once sync.Once
	line []byte
}

// Line is the news as one line of JSON.
func (n *News) Line() []byte {
	n.once.Do(func() {
		n.line, _ = json.Marshal(n.snap)
		n.line = append(n.line, '\n')
	})
	return n.line
}

func newLedger() ledger {
	return ledger{key: rand.Text(), services: map[string]noted[*rules.Service]{}, peers: map[string]noted[engine.Instance]{}, scopes: map[scopeKey]*scope{}, news: map[newsKey]*News{}}
}

// next begins a new snapshot.
func (l *ledger) next() {
	l.sequence++
	clear(l.news)
}

func (l *ledger) forget(g gone) {
	g.seq = l.sequence
	l.gone = append(l.gone, g)
	if over := len(l.gone) - maxGone; over > 0 {
		l.horizon = l.gone[over-1].seq
		l.gone = slices.Delete(l.gone, 0, over)
	}
}

// noteRules takes new rules into the snapshot that was begun.
func (l *ledger) noteRules(rs *rules.Rules) {
	l.rulesSeq = l.sequence
	now := make(map[string]bool, len(rs.Services))
	for _, s := range rs.Services {
		now[s.Name] = true
		if old, ok := l.services[s.Name]; !ok || !reflect.DeepEqual(old.value, s) {
			l.services[s.Name] = noted[*rules.Service]{s, l.sequence}
		}
	}
	for name := range l.services {
		if !now[name] {
			delete(l.services, name)
			l.forget(gone{service: name})
		}
	}
	rest := &rules.Rules{Sites: rs.Sites, Gateways: rs.Gateways, Policies: rs.Policies, Defaults: rs.Defaults, Access: rs.Access}
	if l.rest.value == nil || !reflect.DeepEqual(l.rest.value, rest) {
		l.rest = noted[*rules.Rules]{rest, l.sequence}
	}
}

// noteDrills takes the drills that run into the next snapshot.
func (l *ledger) noteDrills(list []wire.Drill) {
	l.drills = noted[[]wire.Drill]{list, l.sequence + 1}
}

// noteWatches takes the watches into the next snapshot.
func (l *ledger) noteWatches(list []wire.Watch) {
	l.watches = noted[[]wire.Watch]{list, l.sequence + 1}
}

// notePeers takes the instances into the snapshot that was begun.
func (l *ledger) notePeers(instances []engine.Instance) {
	l.peersSeq = l.sequence
	now := make(map[string]bool, len(instances))
	for _, in := range instances {
		now[in.ID] = true
		if old, ok := l.peers[in.ID]; !ok || old.value != in {
			l.peers[in.ID] = noted[engine.Instance]{in, l.sequence}
		}
	}
	for id, old := range l.peers {
		if !now[id] {
			delete(l.peers, id)
			l.forget(gone{instance: id, of: old.value.Service})
		}
	}
}

// scope is what the proxies of a kind are told of by the rules in force. A
// service that does not say whom it calls may call anybody.
func (l *ledger) scope(k scopeKey) *scope {
	s := l.scopes[k]
	if s != nil && s.of == l.rulesSeq {
		return s
	}
	now := &scope{of: l.rulesSeq, seq: l.rulesSeq}
	var from []rules.Target
	own := l.services[k.service].value
	switch {
	case k.gateway != "":
		now.known = true
		for _, g := range l.rest.value.Gateways {
			if g.Name == k.gateway {
				from = leadsTo(g.Routes)
			}
		}
	case own != nil && own.Calls != nil:
		now.known, now.calls = true, own.Calls
		for _, name := range own.Calls {
			from = append(from, rules.Target{Service: name})
		}
		from = append(from, rules.Target{Service: own.Name})
	}
	if now.known {
		now.services = map[string]bool{}
		for len(from) > 0 {
			name := from[0].Service
			from = from[1:]
			if s := l.services[name].value; !now.services[name] && s != nil {
				from = append(from, leadsTo(s.Routes)...)
			}
			now.services[name] = true
		}
	}
	if s != nil && s.known == now.known && maps.Equal(s.services, now.services) && slices.Equal(s.calls, now.calls) {
		now.seq = s.seq
	}
	l.scopes[k] = now
	return now
}

// leadsTo are all targets that routes name.
func leadsTo(routes []*rules.Route) (out []rules.Target) {
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

// since is what a proxy that has seen everything up to the snapshot seen lacks.
func (l *ledger) since(k scopeKey, seen uint64, revision uint) *News {
	if old := l.news[newsKey{k, seen}]; old != nil {
		return old
	}
	sc := l.scope(k)
	tells := func(service string) bool { return !sc.known || sc.services[service] }
	n := &News{Sequence: l.sequence, Rules: l.rulesSeq > seen}
	s := &n.snap
	s.Sequence, s.Settled = l.sequence, l.settled > 0
	if s.Whole = seen == 0 || seen < l.horizon || seen < sc.seq; s.Whole {
		seen, n.Rules = 0, true
		if sc.known && k.gateway == "" {
			s.Calls = sc.calls
		}
	}
	if n.Rules {
		s.Revision = revision
	}
	for _, name := range slices.Sorted(maps.Keys(l.services)) {
		if p := l.services[name]; p.seq > seen && tells(name) {
			s.Services = append(s.Services, p.value)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(l.peers)) {
		if p := l.peers[id]; p.seq > seen && tells(p.value.Service) {
			s.Instances = append(s.Instances, p.value)
		}
	}
	if l.rest.seq > seen {
		rest := *l.rest.value
		if sc.known {
			rest.Gateways = slices.DeleteFunc(slices.Clone(rest.Gateways), func(g *rules.Gateway) bool { return g.Name != k.gateway })
		}
		s.Rest = &rest
	}
	if l.drills.seq > seen {
		s.Drills = l.drills.value
	}
	if l.watches.seq > seen {
		s.Watches = l.watches.value
	}
	if s.Whole {
		s.Traced, s.Key, s.Mesh = &l.traced, l.key, l.mesh
	}
	n.Urgent = n.Rules || s.Drills != nil || s.Watches != nil
	if !s.Whole {
		for _, g := range l.gone {
			switch {
			case g.seq <= seen:
			case g.service != "" && l.services[g.service].value == nil && tells(g.service):
				s.GoneServices = append(s.GoneServices, g.service)
			case g.instance != "" && l.peers[g.instance].seq == 0 && tells(g.of):
				s.GoneInstances = append(s.GoneInstances, g.instance)
			}
		}
		n.Nothing = !n.Urgent && len(s.Instances)+len(s.GoneInstances) == 0 && l.settled <= seen
	}
	l.news[newsKey{k, seen}] = n
	if s.Whole {
		l.news[newsKey{k, 0}] = n
	}
	return n
}

// News is what the proxy of that ID lacks when it has seen everything up to the
// snapshot seen; nil: nothing. The channel closes at the next snapshot.
func (c *Control) News(id string, seen uint64) (*News, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ledger.sequence <= seen {
		return nil, c.changed
	}
	var k scopeKey
	if m := c.members[id]; m != nil {
		k = scopeKey{m.Service, m.Gateway}
	}
	return c.ledger.since(k, seen, c.force.Revision.Number), c.changed
}
