// Package lease shares a limit out among proxies. The service has a Dealer for each limit,
// which deals out tokens for half a second at a time; every proxy has a Holder, which spends
// them. No token exists twice, so together the proxies never let more through than the limit
// says. Time is passed in; nothing here reads a clock or starts anything.
package lease

import (
	"encoding/hex"
	"errors"
	"maps"
	"math"
	"slices"
	"time"
)

// Time is for how long tokens are dealt out at a time.
const Time = 500 * time.Millisecond

const (
	// isAway is after how long without a word a proxy's tokens count as spent.
	isAway = 4 * Time
	isGone = time.Minute // after how long it is not counted any more
	// aheadFrom is the rate from which tokens are dealt out before they are needed. Below it
	// one that lies with one proxy would be missed by another.
	aheadFrom = 20.0 // a second
	// maxPots bounds the keys of one limit. The one that was used longest ago goes first.
	maxPots = 100_000
	refill  = 100 * time.Millisecond // how long a level of water is good for
)

// Key is what tells visitors apart, as a number that says nothing about them.
type Key [16]byte

// MarshalText writes it in hexadecimal.
func (k Key) MarshalText() ([]byte, error) { return hex.AppendEncode(nil, k[:]), nil }

// UnmarshalText reads it.
func (k *Key) UnmarshalText(text []byte) error {
	if len(text) != 2*len(k) {
		return errors.New("a key has 32 hexadecimal digits")
	}
	_, err := hex.Decode(k[:], text)
	return err
}

// Ask is what a proxy says of one key.
type Ask struct {
	Key    Key     `json:"key"`
	Held   int     `json:"held,omitempty"`   // tokens that it keeps
	Back   int     `json:"back,omitempty"`   // that it gives back
	Want   int     `json:"want,omitempty"`   // that it could use besides
	Now    int     `json:"now,omitempty"`    // of those, how many requests wait for one
	Demand float64 `json:"demand,omitempty"` // requests a second lately, with those that were refused
	IsOld  bool    `json:"isOld,omitempty"`  // it has had tokens of the key before
}

// Grant is what it gets.
type Grant struct {
	Tokens int           `json:"tokens,omitempty"`
	Left   int           `json:"left,omitempty"`  // tokens that are there besides
	After  time.Duration `json:"after,omitempty"` // when there will be another; 0: there is one
	Share  float64       `json:"share,omitempty"` // tokens a second to go on with when nobody deals any more
}

// Dealer deals one limit out. It is not safe for concurrent use.
type Dealer struct {
	rate float64 // tokens a second
	full float64 // that a pot holds
	pots map[Key]*pot
	ages []Key                    // of pots, about in the order in which they were made
	by   map[string]time.Duration // when each proxy was last heard of
}

// pot is the tokens of one key.
type pot struct {
	level   float64
	at      time.Duration
	holders map[string]*holder
	out     int           // tokens that they have
	water   float64       // what a holder may have a second: see fill
	spare   float64       // what all may have besides, each
	filled  time.Duration // when that was
}

// holder is a proxy that spends tokens of a pot.
type holder struct {
	out    int // tokens that it has
	demand float64
	credit float64       // of tokens that are due to it
	at     time.Duration // when it was last heard of
}

// due is how many tokens are due to a holder now: its part of what came, as far as it did
// not take them, and not more than it needs in the time of a lease.
func (h *holder) due(water float64, now time.Duration) float64 {
	part := min(h.demand, water)
	return min(h.credit+(now-h.at).Seconds()*part, part*Time.Seconds())
}

// NewDealer makes a dealer of count tokens in per. A pot holds burst, or what comes in the
// time of two leases if that is more.
func NewDealer(count int, per time.Duration, burst int) *Dealer {
	rate := float64(count) / per.Seconds()
	return &Dealer{rate: rate, full: max(float64(burst), 2*rate*Time.Seconds()), pots: map[Key]*pot{}, by: map[string]time.Duration{}}
}

// Proxies is how many proxies have asked in the last minute.
func (d *Dealer) Proxies() int { return len(d.by) }

// Pots is how many keys are known.
func (d *Dealer) Pots() int { return len(d.pots) }

// Deal takes what a proxy says, and answers each ask, in order. now never goes back.
func (d *Dealer) Deal(proxy string, now time.Duration, asks []Ask) []Grant {
	d.by[proxy] = now
	out := make([]Grant, 0, len(asks))
	for i := range asks {
		out = append(out, d.deal(proxy, now, &asks[i]))
	}
	return out
}

func (d *Dealer) deal(proxy string, now time.Duration, a *Ask) Grant {
	p := d.pot(a, now)
	// Those with the proxies count: no more come together than a pot holds.
	p.level = max(p.level, min(d.full-float64(p.out), p.level+(now-p.at).Seconds()*d.rate))
	p.at = now
	h := p.holders[proxy]
	if h == nil {
		h = &holder{at: now}
		p.holders[proxy] = h
		p.filled = -refill
	}
	// What it says that it has was dealt to it, or it does not count.
	held := min(max(a.Held, 0), h.out)
	back := min(max(a.Back, 0), h.out-held)
	p.level = min(d.full, p.level+float64(back))
	p.out += held - h.out
	h.out, h.credit, h.at, h.demand = held, h.due(p.water, now)+float64(back), now, 0
	if a.Demand > 0 { // and a number
		h.demand = min(a.Demand, 1e9)
	}
	d.fill(p, now)
	g := Grant{Share: min(h.demand, p.water) + p.spare}
	g.Tokens = d.grant(p, h, a, now)
	h.credit = max(0, h.credit-float64(g.Tokens))
	p.level -= float64(g.Tokens)
	kept := max(0, g.Tokens-max(a.Now, 0)) // the others are spent when this is heard
	h.out += kept
	p.out += kept
	if g.Left = int(p.level); g.Left == 0 {
		g.After = time.Duration(math.Ceil((1 - p.level) / d.rate * float64(time.Second)))
	}
	return g
}

// grant is how many tokens a proxy gets: one for each request that waits, and from a rate on
// what it will need, as far as the others are not to go short.
func (d *Dealer) grant(p *pot, h *holder, a *Ask, now time.Duration) int {
	there := int(p.level)
	if there == 0 || a.Want <= 0 {
		return 0
	}
	if d.rate < aheadFrom { // too few to be divided
		return min(max(a.Now, 0), a.Want, there)
	}
	due := 0.0 // to the others
	for _, o := range p.holders {
		if o != h {
			due += o.due(p.water, now)
		}
	}
	return min(a.Want, there, max(int(h.credit), int(p.level-due), 0))
}

// pot is that of an ask.
func (d *Dealer) pot(a *Ask, now time.Duration) *pot {
	p := d.pots[a.Key]
	if p != nil {
		return p
	}
	if len(d.pots) >= maxPots {
		d.forget(now)
	}
	p = &pot{level: d.full, at: now, holders: map[string]*holder{}, filled: -refill}
	if a.IsOld { // the pot was lost: nobody knows how much was in it
		p.level = 0
	}
	d.pots[a.Key] = p
	d.ages = append(d.ages, a.Key)
	return p
}

// forget drops pots to make room: those that are as good as new, and else the oldest.
func (d *Dealer) forget(now time.Duration) {
	d.Sweep(now)
	for len(d.pots) >= maxPots*9/10 && len(d.ages) > 0 {
		delete(d.pots, d.ages[0])
		d.ages = d.ages[1:]
	}
}

// Sweep forgets proxies that were not heard of for long, whose tokens count as spent, and
// pots that are full and with nobody, which are as good as new. Call it now and then.
func (d *Dealer) Sweep(now time.Duration) {
	maps.DeleteFunc(d.by, func(_ string, at time.Duration) bool { return now-at > isGone })
	for key, p := range d.pots {
		d.leave(p, now)
		if len(p.holders) == 0 && p.level+(now-p.at).Seconds()*d.rate >= d.full {
			delete(d.pots, key)
		}
	}
	d.ages = slices.DeleteFunc(d.ages, func(k Key) bool { return d.pots[k] == nil })
}

// leave forgets the holders that are away.
func (d *Dealer) leave(p *pot, now time.Duration) {
	maps.DeleteFunc(p.holders, func(_ string, h *holder) bool {
		if now-h.at <= isAway {
			return false
		}
		p.out -= h.out
		return true
	})
}

// fill finds how high water stands that is poured into the demands of all holders: whoever
// wants less than that gets it all, and the others get as much each. What nobody wants is
// divided among all.
func (d *Dealer) fill(p *pot, now time.Duration) {
	if now-p.filled < refill {
		return
	}
	p.filled = now
	d.leave(p, now)
	demands := make([]float64, 0, len(p.holders))
	for _, h := range p.holders {
		demands = append(demands, h.demand)
	}
	slices.Sort(demands)
	left := d.rate
	for i, want := range demands {
		if each := left / float64(len(demands)-i); want > each {
			p.water, p.spare = each, 0
			return
		}
		left -= want
	}
	p.water, p.spare = math.Inf(1), left/float64(max(len(demands), 1))
}
