// Package lease shares a limit out among proxies. The service has a Dealer for each limit,
// which deals out tokens for half a second at a time; every proxy has a Holder, which spends
// them. No token exists twice, so together the proxies let no more through than the limit says,
// as long as somebody deals. Time is passed in; nothing here reads a clock or starts anything.
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
	// maxBuckets bounds the keys of one limit. Those that are as good as new go first, and then
	// those that were made first.
	maxBuckets = 100_000
	refill     = 100 * time.Millisecond // how long fair shares are good for
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
	rate    float64 // tokens a second
	full    float64 // that a bucket holds
	buckets map[Key]*bucket
	ages    []Key                    // of buckets, about in the order in which they were made
	by      map[string]time.Duration // when each proxy was last heard of
}

// bucket holds the tokens of one key.
type bucket struct {
	level   float64
	at      time.Duration
	holders map[string]*holder
	out     int           // tokens that they have
	fair    float64       // what a holder may have a second at most: see divide
	spare   float64       // what all may have besides, each
	divided time.Duration // when that was found
}

// holder is a proxy that spends tokens of a bucket.
type holder struct {
	out    int // tokens that it has
	demand float64
	credit float64       // of tokens that are due to it
	at     time.Duration // when it was last heard of
}

// due is how many tokens are due to a holder now: its part of what came, as far as it did
// not take them, and not more than it needs in the time of a lease.
func (h *holder) due(fair float64, now time.Duration) float64 {
	part := min(h.demand, fair)
	return min(h.credit+(now-h.at).Seconds()*part, part*Time.Seconds())
}

// NewDealer makes a dealer of count tokens in per. A bucket holds burst, or what comes in the
// time of two leases if that is more.
func NewDealer(count int, per time.Duration, burst int) *Dealer {
	rate := float64(count) / per.Seconds()
	return &Dealer{rate: rate, full: max(float64(burst), 2*rate*Time.Seconds()), buckets: map[Key]*bucket{}, by: map[string]time.Duration{}}
}

// Proxies is how many proxies have asked in the last minute.
func (d *Dealer) Proxies() int { return len(d.by) }

// Buckets is how many keys are known.
func (d *Dealer) Buckets() int { return len(d.buckets) }

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
	b := d.bucket(a, now)
	// Those with the proxies count: no more come together than a bucket holds.
	b.level = max(b.level, min(d.full-float64(b.out), b.level+(now-b.at).Seconds()*d.rate))
	b.at = now
	h := b.holders[proxy]
	if h == nil {
		h = &holder{at: now}
		b.holders[proxy] = h
		b.divided = -refill
	}
	// What it says that it has was dealt to it, or it does not count.
	held := min(max(a.Held, 0), h.out)
	back := min(max(a.Back, 0), h.out-held)
	b.level = min(d.full, b.level+float64(back))
	b.out += held - h.out
	h.out, h.credit, h.at, h.demand = held, h.due(b.fair, now)+float64(back), now, 0
	if a.Demand > 0 { // and a number
		h.demand = min(a.Demand, 1e9)
	}
	d.divide(b, now)
	g := Grant{Share: min(h.demand, b.fair) + b.spare}
	g.Tokens = d.grant(b, h, a, now)
	h.credit = max(0, h.credit-float64(g.Tokens))
	b.level -= float64(g.Tokens)
	kept := max(0, g.Tokens-max(a.Now, 0)) // the others are spent when this is heard
	h.out += kept
	b.out += kept
	if g.Left = int(b.level); g.Left == 0 {
		g.After = time.Duration(math.Ceil((1 - b.level) / d.rate * float64(time.Second)))
	}
	return g
}

// grant is how many tokens a proxy gets: one for each request that waits, and from a rate on
// what it will need, as far as the others are not to go short.
func (d *Dealer) grant(b *bucket, h *holder, a *Ask, now time.Duration) int {
	there := int(b.level)
	if there == 0 || a.Want <= 0 {
		return 0
	}
	if d.rate < aheadFrom { // too few to be divided
		return min(max(a.Now, 0), a.Want, there)
	}
	due := 0.0 // to the others
	for _, o := range b.holders {
		if o != h {
			due += o.due(b.fair, now)
		}
	}
	return min(a.Want, there, max(int(h.credit), int(b.level-due), 0))
}

// bucket is that of an ask.
func (d *Dealer) bucket(a *Ask, now time.Duration) *bucket {
	b := d.buckets[a.Key]
	if b != nil {
		return b
	}
	if len(d.buckets) >= maxBuckets {
		d.forget(now)
	}
	b = &bucket{level: d.full, at: now, holders: map[string]*holder{}, divided: -refill}
	if a.IsOld { // the bucket was lost: nobody knows how much was in it
		b.level = 0
	}
	d.buckets[a.Key] = b
	d.ages = append(d.ages, a.Key)
	return b
}

// forget drops buckets to make room: those that are as good as new, and else the oldest.
func (d *Dealer) forget(now time.Duration) {
	d.Sweep(now)
	for len(d.buckets) >= maxBuckets*9/10 && len(d.ages) > 0 {
		delete(d.buckets, d.ages[0])
		d.ages = d.ages[1:]
	}
}

// Sweep forgets proxies that were not heard of for long, whose tokens count as spent, and
// buckets that are full and with nobody, which are as good as new. Call it now and then.
func (d *Dealer) Sweep(now time.Duration) {
	maps.DeleteFunc(d.by, func(_ string, at time.Duration) bool { return now-at > isGone })
	for key, b := range d.buckets {
		d.leave(b, now)
		if len(b.holders) == 0 && b.level+(now-b.at).Seconds()*d.rate >= d.full {
			delete(d.buckets, key)
		}
	}
	d.ages = slices.DeleteFunc(d.ages, func(k Key) bool { return d.buckets[k] == nil })
}

// leave forgets the holders that are away.
func (d *Dealer) leave(b *bucket, now time.Duration) {
	maps.DeleteFunc(b.holders, func(_ string, h *holder) bool {
		if now-h.at <= isAway {
			return false
		}
		b.out -= h.out
		return true
	})
}

// divide finds the fair share by max-min fairness: whoever wants less gets it all, and the
// others get as much each. What nobody wants is divided among all (D. Bertsekas and R. Gallager,
// "Data Networks", 1992, section 6.5.2).
func (d *Dealer) divide(b *bucket, now time.Duration) {
	if now-b.divided < refill {
		return
	}
	b.divided = now
	d.leave(b, now)
	demands := make([]float64, 0, len(b.holders))
	for _, h := range b.holders {
		demands = append(demands, h.demand)
	}
	slices.Sort(demands)
	left := d.rate
	for i, want := range demands {
		if each := left / float64(len(demands)-i); want > each {
			b.fair, b.spare = each, 0
			return
		}
		left -= want
	}
	b.fair, b.spare = math.Inf(1), left/float64(max(len(demands), 1))
}
