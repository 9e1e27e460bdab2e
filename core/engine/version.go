package engine

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/guard"
	"nightjar/core/hash"
	"nightjar/core/rules"
)

// memory is what outlives all tables of one driver.
type memory struct {
	begun time.Duration // when the first instances came
	knows bool          // they have come
	draws atomic.Uint64 // of waits before retries
	log   eventLog

	judging sync.Mutex // one look at the health of a version's instances at a time

	lost unreachables
}

// version is one version of a service as a caller sees it. The machines
// outlive the table.
type version struct {
	service, name string
	peers         []*peer
	before        []*peer        // in the previous table, by ID; what is left of them while this one is compiled
	breaker       *guard.Breaker // nil: none
	queue         *guard.Queue   // nil: none
	counts        *outcomes      // against an instance
	trusts        bool           // whatever health checks say
	drills        []*drill       // that fail or delay
	downs         []*drill       // that take instances down
	memory        *memory
	rules         *rules.Settings
	*lasting
}

// lasting is what a version has in every table.
type lasting struct {
	side      guard.Sideline
	mistrusts atomic.Bool
	spills    atomic.Bool  // to other sites, when that was last looked at
	used      atomic.Int64 // when a request last went there, to the second
}

// defaultCounts is what counts against an instance where nothing else is said.
var defaultCounts = newOutcomes([]string{"5xx", "unreachable", "reset", "timeout"})

func (b *builder) remember() {
	b.t.memory = &memory{}
	if b.opt.Previous != nil {
		b.t.memory = b.opt.Previous.memory
	}
}

// state is a version with the machines that the previous table had for it.
func (b *builder) state(s *service, name string) *version {
	v := &version{
		service: s.name,
		name:    name,
		memory:  b.t.memory,
		rules:   &s.settings,
		counts:  defaultCounts,
	}
	if old := b.opt.Previous.version(s.name, name); old != nil {
		v.breaker, v.queue, v.lasting, v.before = old.breaker, old.queue, old.lasting, old.peers
	} else {
		v.lasting = new(lasting)
	}
	if r := s.settings.Sideline; r != nil {
		v.counts, v.trusts = newOutcomes(r.Counts), r.Most == rules.Whole
	}
	return v
}

func (t *Table) version(service, name string) *version {
	if t == nil || t.services[service] == nil || t.services[service].versions[name] == nil {
		return nil
	}
	return t.services[service].versions[name].version
}

func (b *builder) budget(service string) *guard.Budget {
	if b.opt.Previous != nil && b.opt.Previous.services[service] != nil {
		return b.opt.Previous.services[service].budget
	}
	return new(guard.Budget)
}

// peer is an instance with what was known of it before. Instances come in the
// order of their IDs, as those of the table before did. One that comes when
// others have been known for a while ramps up to its share.
func (b *builder) peer(c *peer, v *version, in *Instance) {
	c.of, c.leaves = v, b.opt.Leaves[in.Site]
	for len(v.before) > 0 && v.before[0].ID < in.ID {
		v.before = v.before[1:]
	}
	if len(v.before) > 0 && v.before[0].ID == in.ID && v.before[0].Address == in.Address {
		p := v.before[0]
		c.Peer, c.seed, c.Instance = p.Peer, p.seed, p.Instance
		if w := b.way(in); !in.isSame(p.Instance) || p.way != w {
			c.Instance = in.with(w)
		}
		return
	}
	c.Instance = in.with(b.way(in))
	c.Peer, c.seed = new(guard.Peer), hash.Text(0, in.ID)
	if m := b.t.memory; m.knows && b.opt.Now-m.begun >= guard.Ramp &&
		len(b.opt.Previous.services[v.service].known()) > 0 {
		c.Begin(b.opt.Now)
	}
}

// way is how an instance is called. Through a crossing it is by mutual TLS in any case, by
// whose beginning the crossing tells the instances apart.
func (b *builder) way(in *Instance) way {
	w := way{IsFar: in.Site != "" && b.opt.Site != "" && in.Site != b.opt.Site}
	if in.Member && in.Site != b.opt.Site {
		w.Via = b.crossings[in.Site]
		w.IsFar = w.IsFar || w.Via != ""
	}
	w.Mutual = in.Member && (w.Via != "" || b.t.services[in.Service].settings.IdentityMode() != rules.IdentityNone)
	return w
}

func (s *service) known() []*peer {
	if s == nil {
		return nil
	}
	return s.all.peers
}

// called is what a version is called in messages.
func (v *version) called() string { return v.service + "/" + v.name }

// whyNone says why no instance of the pool can be used.
func (p *pool) whyNone(what string) string {
	if len(p.peers) == 0 {
		return what + " has no instance"
	}
	var out, down, shut, lost int
	for _, c := range p.peers {
		switch {
		case c.IsShut():
			shut++
		case c.IsDown():
			down++
		case c.IsUnreachable():
			lost++
		case c.IsOut():
			out++
		}
	}
	var why []string
	for _, w := range []struct {
		n    int
		what string
	}{
		{shut, "taken down by a drill"},
		{down, "unhealthy by health checks"},
		{lost, "unreachable"},
		{out, "sidelined"},
	} {
		if w.n > 0 {
			why = append(why, fmt.Sprintf("%d %s", w.n, w.what))
		}
	}
	return fmt.Sprintf("%s has no instance that can be used: %s", what, strings.Join(why, ", "))
}
