package engine

import (
	"time"

	"nightjar/core/guard"
	"nightjar/core/hash"
)

// Clear tells whether the instance takes its full share of requests.
func (c *peer) Clear() bool { return c.leaves == 0 && c.Peer.Clear() }

// Weight is the part of its share that the instance takes now; 0: it takes none.
func (c *peer) Weight(now time.Duration) float64 { return (1 - c.leaves) * c.Peer.Weight(now) }

// noteLeaves notes what part of its share each instance of a pool gives away, since its site is
// drained; what all of them give away is given to where a route sends otherwise.
func (p *pool) noteLeaves() {
	p.leaves = 0
	for i, c := range p.peers {
		if i == 0 || c.leaves < p.leaves {
			p.leaves = c.leaves
		}
	}
}

// givesAway decides whether a request goes to where its route sends otherwise, since all
// instances of the pool are at sites that are drained. It does so for the part that they
// give away.
func (p *pool) givesAway(to *pool) bool {
	return p.mayGive(to) && hash.Fraction(draw(p.turn.Add(1)-1, 4)) < p.leaves
}

func (p *pool) mayGive(to *pool) bool { return p.leaves > 0 && to != nil && to.leaves < p.leaves }

// staying is the part of their shares that the instances of a site keep, 0 to 1.
func staying(group []*peer) float64 {
	sum := 0.0
	for _, c := range group {
		sum += 1 - c.leaves
	}
	return sum / float64(len(group))
}

// drained is an instance whose site is drained, where there is no other: requests are not
// refused for that. nil: there is none.
func (p *pool) drained(turn uint64, last *guard.Peer, now time.Duration) *peer {
	var same *peer
	for i := range p.peers {
		c := p.peers[(turn+uint64(i))%uint64(len(p.peers))]
		switch {
		case c.leaves == 0 || c.Peer.Weight(now) == 0:
		case c.Peer == last:
			same = c
		default:
			return c
		}
	}
	return same
}
