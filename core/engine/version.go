package engine

import (
	"cmp"
	"fmt"
	"slices"
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
	v := &version{service: s.name, name: name, memory: b.t.memory, rules: &s.settings, counts: defaultCounts}
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
	c.of = v
	for len(v.before) > 0 && v.before[0].ID < in.ID {
		v.before = v.before[1:]
	}
	if len(v.before) > 0 && v.before[0].ID == in.ID && v.before[0].Address == in.Address {
		p := v.before[0]
		c.Peer, c.seed, c.Instance = p.Peer, p.seed, p.Instance
		if !in.isSame(p.Instance) {
			c.Instance = in.clone()
		}
		return
	}
	c.Instance = in.clone()
	c.Peer, c.seed = new(guard.Peer), hash.Text(0, in.ID)
	if m := b.t.memory; m.knows && b.opt.Now-m.begun >= guard.Ramp &&
		len(b.opt.Previous.services[v.service].known()) > 0 {
		c.Begin(b.opt.Now)
	}
}

func (s *service) known() []*peer {
	if s == nil {
		return nil
	}
	return s.all.peers
}

// settle makes the machines follow the new table. Nothing can fail any more.
func (b *builder) settle() {
	now := b.opt.Now
	for _, s := range b.t.services {
		if m := b.t.memory; len(s.all.peers) > 0 && !m.knows {
			m.knows, m.begun = true, now
		}
		for _, p := range s.versions {
			v := p.version
			set := v.rules
			v.before = nil
			switch {
			case set.Breaker == nil:
				v.breaker = nil
			case v.breaker == nil:
				v.breaker = guard.NewBreaker(set.Breaker, now)
			default:
				v.breaker.Set(set.Breaker)
			}
			switch {
			case set.Queue == nil:
				v.queue = nil
			case v.queue == nil:
				v.queue = guard.NewQueue(set.Queue)
			default:
				v.queue.Set(set.Queue)
			}
			if set.Sideline != nil || v.side.On() {
				peers := make([]*guard.Peer, len(v.peers))
				for i, c := range v.peers {
					peers[i] = c.Peer
				}
				v.side.Set(set.Sideline, peers, now)
			}
			v.judge(now)
			v.shut(now)
		}
		if s.guarded() {
			b.t.guarded = append(b.t.guarded, s)
		}
	}
	slices.SortFunc(b.t.guarded, func(a, b *service) int { return cmp.Compare(a.name, b.name) })
}

// guarded tells whether there is anything about the service of which Status
// could tell.
func (s *service) guarded() bool {
	set := &s.settings
	if s.retry != nil || set.Breaker != nil || set.Queue != nil || set.Sideline != nil || set.Health != nil ||
		set.Failover != nil {
		return true
	}
	for _, p := range s.versions {
		if len(p.version.downs) > 0 {
			return true
		}
	}
	return s.ladder != nil &&
		slices.ContainsFunc(s.ladder.routes, func(rt *Route) bool { return rt.retry != nil || rt.limit != nil })
}

// judge decides whether the health checks of the instances are believed: when
// more than half are unhealthy at once, it is more likely that the checks are.
func (v *version) judge(now time.Duration) {
	v.memory.judging.Lock()
	defer v.memory.judging.Unlock()
	unhealthy, checked := 0, false
	for _, c := range v.peers {
		checked = checked || c.Sick.Load()
		if c.Sick.Load() || c.Peer.Doubted.Load() {
			unhealthy++
		}
	}
	mistrusts := checked && !v.trusts && 2*unhealthy > len(v.peers)
	if v.mistrusts.Swap(mistrusts) != mistrusts && !v.unused(now) {
		kind, detail := "trusted", "health checks are believed again"
		if mistrusts {
			kind, detail = "mistrusted", fmt.Sprintf(
				"%d of %d instances are unhealthy at once: health checks are not believed, and all are called",
				unhealthy,
				len(v.peers),
			)
		}
		v.tell(now, kind, "", detail)
	}
	for _, c := range v.peers {
		down := c.Sick.Load() && !mistrusts
		if down == c.IsDown() {
			continue
		}
		c.SetDown(down, now)
		if c.Outside { // of the others their own proxies tell
			kind, detail := "up", "its health checks go well again"
			if down {
				kind, detail = "down", "its health checks fail"
			}
			v.tell(now, kind, c.ID, detail)
		}
	}
}

// unusedAfter is after what time without a request nothing is told of a version
// any more, unless something is the matter with it here.
const unusedAfter = time.Minute

// unused tells whether no request went to the version for a while.
func (v *version) unused(now time.Duration) bool {
	u := v.used.Load()
	return u == 0 || now-time.Duration(u) > unusedAfter
}

// SetHealth takes over news of instances whose health alone changed: Down and
// Doubted. The cost is that of their versions, whatever the size of the table.
// False: at least one of them is new or has moved, so that another table has to
// be compiled; then nothing changed.
func (t *Table) SetHealth(news []Instance, now time.Duration) bool {
	peers := make([]*peer, len(news))
	for i := range news {
		v := t.version(news[i].Service, news[i].Version)
		if v == nil {
			return false
		}
		at, found := slices.BinarySearchFunc(
			v.peers,
			news[i].ID,
			func(c *peer, id string) int { return cmp.Compare(c.ID, id) },
		)
		if !found || !news[i].isSame(v.peers[at].Instance) {
			return false
		}
		peers[i] = v.peers[at]
	}
	for i, c := range peers {
		c.hear(&news[i])
	}
	for i, c := range peers {
		if i == 0 || peers[i-1].of != c.of {
			c.of.judge(now)
		}
	}
	return true
}

// Checked tells what the health checks of an instance outside the mesh say, for
// which every caller checks by itself.
func (t *Table) Checked(in *Instance, down bool, now time.Duration) {
	v := t.version(in.Service, in.Version)
	if v == nil {
		return
	}
	for _, c := range v.peers {
		if c.ID == in.ID {
			c.Sick.Store(down)
		}
	}
	v.judge(now)
}

// called is what a version is called in messages.
func (v *version) called() string { return v.service + "/" + v.name }

// lack says why no instance of the pool can be used.
func (p *pool) lack(what string) string {
	if len(p.peers) == 0 {
		return what + " has no instance"
	}
	var out, down, shut int
	for _, c := range p.peers {
		switch {
		case c.IsShut():
			shut++
		case c.IsDown():
			down++
		case c.IsOut():
			out++
		}
	}
	var why []string
	for _, w := range []struct {
		n    int
		what string
	}{{shut, "taken down by a drill"}, {down, "unhealthy by health checks"}, {out, "sidelined"}} {
		if w.n > 0 {
			why = append(why, fmt.Sprintf("%d %s", w.n, w.what))
		}
	}
	return fmt.Sprintf("%s has no instance that can be used: %s", what, strings.Join(why, ", "))
}
