package engine

import (
	"math"
	"sync/atomic"
	"time"

	"nightjar/core/guard"
	"nightjar/core/hash"
	"nightjar/core/rules"
)

// pool is the instances of a version, or of a whole service.
type pool struct {
	version *version // nil: instances of all versions
	peers   []*peer
	turn    *atomic.Uint64 // outlives the table
	how     balance
	key     *rules.Key
	sites   [][]*peer // in the order of failover; nil: all alike
	below   float64   // usable share of a site under which requests spill over
	leaves  float64   // part of their shares that all of the instances give away; see peer
}

// balance is a kind of rules.Balance.
type balance uint8

const (
	inTurn balance = iota
	leastBusy
	random
	byHash
)

var balances = map[string]balance{"in-turn": inTurn, "least-busy": leastBusy, "random": random, "hash": byHash}

// peer is an instance with what this caller knows of it.
type peer struct {
	*guard.Peer
	*Instance
	of   *version
	seed uint64
	// leaves is the part of its share that it gives away, since its site is drained, 0 to 1.
	leaves float64
}

// hear takes over what the service says of the health of an instance. What this
// proxy checks by itself, of instances outside the mesh, is left alone.
func (c *peer) hear(in *Instance) {
	if !c.Outside || c.of.rules.Health == nil {
		c.Sick.Store(in.Down)
	}
	c.Peer.Doubted.Store(in.Doubted)
}

// pick chooses an instance, not the one that a request was at last unless there
// is no other. trial tells that the request decides whether a sidelined
// instance comes back; see guard.Sideline.Tried. Without an instance that can
// be used it returns nil.
func (p *pool) pick(v View, last *guard.Peer, now time.Duration) (got *peer, trial bool) {
	if len(p.peers) == 0 {
		return nil, false
	}
	turn := p.turn.Add(1) - 1
	if p.how == inTurn && p.sites == nil {
		if got := p.peers[turn%uint64(len(p.peers))]; got.Clear() && got.Peer != last {
			return got, false
		}
	}
	list, troubled := p.peers, false
	if p.sites != nil {
		list, troubled = p.site(turn, now)
	}
	if got := p.first(list, v, turn); !troubled && got != nil && got.Peer != last && got.Clear() {
		return got, false
	}
	for _, c := range p.peers {
		c.of.endDrills(now)
		switch {
		case c.Peer == last:
		case c.IsOut() && c.of.side.Try(c.Peer, now):
			return c, true
		case c.TryReach(true, now):
			return c, false
		}
	}
	got = p.weighed(list, v, turn, last, now)
	if got != nil && got.Peer == last && p.sites != nil { // better at another site than the same once more
		got = p.weighed(p.peers, v, turn, last, now)
	}
	if got == nil {
		got = p.drained(turn, last, now)
	}
	if got == nil {
		got = p.lastResort(turn)
	}
	return got, false
}

// lastResort is an instance that could not be reached when it was last tried:
// where there is no other, a request tries it once more rather than being refused.
// nil: there is none.
func (p *pool) lastResort(turn uint64) *peer {
	for i := range p.peers {
		if c := p.peers[(turn+uint64(i))%uint64(len(p.peers))]; c.IsOnlyUnreachable() {
			return c
		}
	}
	return nil
}

// hasOther tells whether an instance beside c takes requests.
func (p *pool) hasOther(c *guard.Peer, now time.Duration) bool {
	for _, other := range p.peers {
		if other.Peer != c && other.Weight(now) > 0 {
			return true
		}
	}
	return false
}

// first is the choice when all instances take their full share.
func (p *pool) first(list []*peer, v View, turn uint64) *peer {
	n := uint64(len(list))
	switch {
	case n == 1 || p.how == inTurn:
		return list[turn%n]
	case p.how == random:
		return list[draw(turn, 0)%n]
	case p.how == leastBusy:
		// The less busy of two at random is far better than one at random (M.
		// Mitzenmacher, "The Power of Two Choices in Randomized Load Balancing",
		// IEEE Transactions on Parallel and Distributed Systems 12, 2001).
		i, j := two(turn, n)
		a, b := list[i], list[j]
		if !a.Clear() || !b.Clear() {
			return nil
		}
		if b.Busy() < a.Busy() {
			return b
		}
		return a
	}
	value, ok := keyValue(p.key, v)
	if !ok {
		return list[turn%n]
	}
	// The instance with the highest number wins, so that one which comes or
	// goes moves no other's visitors (D. Thaler and C. Ravishankar, "Using
	// Name-Based Mappings to Increase Hit Rates", IEEE/ACM Transactions on
	// Networking 6, 1998).
	h := visitorHash(value)
	best, most := list[0], uint64(0)
	for _, c := range list {
		if x := hash.Mix(h ^ c.seed); x >= most {
			best, most = c, x
		}
	}
	return best
}

// weighed is the choice when some instances take less than their share.
func (p *pool) weighed(list []*peer, v View, turn uint64, last *guard.Peer, now time.Duration) *peer {
	total, lastWeight := 0.0, 0.0
	var same *peer
	for _, c := range list {
		if c.Peer == last {
			same, lastWeight = c, c.Weight(now)
		} else {
			total += c.Weight(now)
		}
	}
	if total == 0 {
		if lastWeight > 0 {
			return same
		}
		return nil
	}
	weight := func(c *peer) float64 {
		if c.Peer == last {
			return 0
		}
		return c.Weight(now)
	}
	at := func(place float64) *peer { // the weights laid side by side, and who lies at that place
		var got *peer
		for _, c := range list {
			if w := weight(c); w > 0 {
				if got = c; place < w {
					break
				}
				place -= w
			}
		}
		return got
	}
	// Who is drawn as if all were alike takes the request with a chance of its
	// weight; the others are for the rest.
	n := uint64(len(list))
	drawn := func(i, k uint64) *peer {
		x := draw(turn, k)
		if c := list[i]; hash.Fraction(x) < weight(c) {
			return c
		}
		return at(hash.Fraction(hash.Mix(x)) * total)
	}
	switch p.how {
	case inTurn:
		return drawn(turn%n, 2)
	case leastBusy:
		if n == 1 {
			break
		}
		i, j := two(turn, n)
		a, b := drawn(i, 2), drawn(j, 3)
		if a == nil || b != nil && b.Busy() < a.Busy() { // none: another request had it sidelined just now
			return b
		}
		return a
	case byHash:
		if value, ok := keyValue(p.key, v); ok {
			h := visitorHash(value)
			var best *peer
			least := math.Inf(1)
			for _, c := range list {
				// As first decides when all weights are 1: u rises with the number.
				if w := weight(c); w > 0 {
					if cost := -math.Log(hash.Fraction(hash.Mix(h^c.seed))) / w; cost < least {
						best, least = c, cost
					}
				}
			}
			return best
		}
	}
	return drawn(draw(turn, 0)%n, 2)
}

// two are two different places among n, at random.
func two(turn, n uint64) (i, j uint64) {
	i, j = draw(turn, 0)%n, draw(turn, 1)%(n-1)
	if j >= i {
		j++
	}
	return i, j
}

// site chooses the site of a request: the first in the order, and when too
// little of it can be used the next for what is missing, and so on. troubled
// tells that not all of the first can be used.
func (p *pool) site(turn uint64, now time.Duration) (list []*peer, troubled bool) {
	whole := true
	for _, c := range p.sites[0] {
		whole = whole && c.Clear()
	}
	if whole {
		return p.sites[0], false
	}
	var room [8]float64
	place := hash.Fraction(draw(turn, 2))
	for i, part := range p.shares(now, room[:0]) {
		if place < part {
			return p.sites[i], true
		}
		place -= part
	}
	return p.peers, true
}

// shares adds to out what part of the requests each site gets. Where nothing
// can be used, nobody gets any.
func (p *pool) shares(now time.Duration, out []float64) []float64 {
	left, total := 1.0, 0.0
	for _, group := range p.sites {
		part := left * min(1, usable(group, now)/p.below) * staying(group)
		out = append(out, part)
		left -= part
		total += part
	}
	for i := range out {
		if total > 0 {
			out[i] /= total
		}
	}
	return out
}

// versionShares is what part of the requests to a pool goes to each version by
// the instances that take them, 0 to 1. Without any, those that are known count.
func (p *pool) versionShares(now time.Duration) map[string]float64 {
	groups, parts := [][]*peer{p.peers}, []float64{1}
	if p.sites != nil {
		groups, parts = p.sites, p.shares(now, nil)
	}
	out := map[string]float64{}
	total := 0.0
	for i, group := range groups {
		sum := 0.0
		for _, c := range group {
			sum += c.Weight(now)
		}
		for _, c := range group {
			if w := c.Weight(now); w > 0 {
				out[c.Version] += parts[i] * w / sum
				total += parts[i] * w / sum
			}
		}
	}
	if total == 0 {
		for _, c := range p.peers {
			out[c.Version] += 1 / float64(len(p.peers))
		}
	}
	return out
}

// usable is the part of the instances that take requests, 0 to 1, whether or not their site
// is drained.
func usable(group []*peer, now time.Duration) float64 {
	sum := 0.0
	for _, c := range group {
		if !c.Clear() {
			c.of.endDrills(now)
		}
		sum += c.Peer.Weight(now)
	}
	return sum / float64(len(group))
}

// empty tells whether no instance can be used. Those of a site that is drained can.
func (p *pool) empty(now time.Duration) bool {
	for _, c := range p.peers {
		if c.Peer.Clear() {
			return false
		}
	}
	for _, c := range p.peers {
		c.of.endDrills(now)
		if c.Peer.Weight(now) > 0 {
			return false
		}
		if c.IsOut() && !c.IsUnreachable() {
			if s, out := c.of.side.State(c.Peer); out && !s.Trial && now >= s.Until && !c.IsDown() && !c.IsShut() {
				return false
			}
		}
	}
	return true
}

// draw is the k-th number that belongs to a turn.
func draw(turn uint64, k uint64) uint64 { return hash.Mix(turn*4 + k) }

// visitorHash is the number of a visitor's value.
func visitorHash(value string) uint64 {
	const seed = 0x6e69676874 // any fixed number
	return hash.Text(seed, value)
}
