package lease

import (
	"crypto/sha256"
	"encoding/binary"
	"sync"
	"sync/atomic"
	"time"

	"nightjar/core/guard"
	"nightjar/core/hash"
)

const (
	// MaxWait is how long a request waits for a token at most: a service that takes longer to
	// answer counts as away.
	MaxWait = 250 * time.Millisecond
	// silence is for how long after a dealer did not answer tokens come by the share, without
	// asking first.
	silence = 3 * Time

	usualTime   = 8.0  // seconds
	demandLeast = 0.02 // requests a second, of whoever asks at all

	maxKeys    = guard.MaxKeys
	maxWaiting = 4096 // requests that wait for tokens of one limit; others go by the share
	maxAsks    = 2000 // in one exchange
	parts      = 16
)

// Holder is the part of a limit that one proxy has. It is safe for concurrent use; requests
// with different keys rarely meet at a lock.
type Holder struct {
	ID string // of the limit

	rate    float64
	seed    uint64
	parts   [parts]part
	waiting atomic.Int32
	isHeard atomic.Bool  // a dealer has answered
	lost    atomic.Int64 // when one did not; 0: the last time it did
	among   atomic.Int32 // proxies that the rate is divided by when nothing better is known
	signal  func()       // has tokens asked for soon; nil: nobody does
}

// part is some of the keys, in the order of their use.
type part struct {
	mu    sync.Mutex
	keys  map[string]*entry
	front entry    // next is the most recently used, prev the least
	waits []*entry // for whose requests nothing has been asked yet
}

// entry is what a proxy has of one key.
type entry struct {
	key        string
	sum        Key
	stock      int
	debt       int           // tokens that were spent before they were dealt
	seen       int           // requests since tokens were last asked for
	since      time.Duration // when that was
	demand     float64       // requests a second lately
	usual      float64       // and over a longer time
	times      int           // that these were measured
	waiters    []func()      // for whom nothing has been asked yet
	isAsked    bool          // it is in the round that is being collected
	isOld      bool
	left       int           // tokens that the dealer had besides
	settled    time.Duration // when the dealer last answered
	dry        time.Duration // until when there are none
	share      float64
	level      float64 // of tokens that came by the share
	leveled    time.Duration
	prev, next *entry
}

// NewHolder makes a proxy's part of a limit of count tokens in per. signal is called, with
// locks held, when a request waits for a token; nil: nobody deals, and the rate is the
// proxy's alone. seed tells proxies apart.
func NewHolder(id string, count int, per time.Duration, seed uint64, signal func()) *Holder {
	h := &Holder{ID: id, rate: float64(count) / per.Seconds(), seed: seed, signal: signal}
	for i := range h.parts {
		p := &h.parts[i]
		p.keys = map[string]*entry{}
		p.front.prev, p.front.next = &p.front, &p.front
	}
	return h
}

func (h *Holder) part(key []byte) *part { return &h.parts[hash.Bytes(key)%parts] }

// Take asks for a token of the key. With waits it is not decided yet: wake is called when it
// can be. Then, or after MaxWait, it is to be asked again, with since as the time when it was
// asked first; 0: this is the first time.
func (h *Holder) Take(key []byte, now time.Duration, wake func(), since time.Duration) (t guard.Taken, waits bool) {
	p := h.part(key)
	p.mu.Lock()
	defer p.mu.Unlock()
	w := p.entry(key, now)
	if since == 0 {
		w.seen++
	}
	if w.stock > 0 {
		w.stock--
		return guard.Taken{OK: true, Left: w.stock + w.left}, false
	}
	if !h.isDealt(now) {
		return w.byShare(h, now), false
	}
	if now < w.dry {
		return guard.Taken{Wait: w.dry - now}, false
	}
	if since > 0 && w.settled >= since { // others have taken what there was
		return guard.Taken{Wait: Time / 50}, false
	}
	if since > 0 || wake == nil || h.waiting.Load() >= maxWaiting {
		if t = w.byShare(h, now); t.OK { // and the next token that is dealt pays for it
			w.debt++
		}
		return t, false
	}
	if h.waiting.Add(1); len(w.waiters) == 0 {
		p.waits = append(p.waits, w)
	}
	w.waiters = append(w.waiters, wake)
	h.signal()
	return guard.Taken{}, true
}

// isDealt tells whether somebody deals tokens out.
func (h *Holder) isDealt(now time.Duration) bool {
	lost := time.Duration(h.lost.Load())
	return h.signal != nil && (lost == 0 || now-lost > silence)
}

// byShare takes a token that came by the share of the proxy.
func (w *entry) byShare(h *Holder, now time.Duration) guard.Taken {
	share := w.share
	if !w.isOld {
		share = h.rate / float64(max(h.among.Load(), 1))
	}
	full := max(2, share*Time.Seconds()) // with less, those would be lost that come while nobody asks
	w.level = min(full, w.level+(now-w.leveled).Seconds()*share)
	w.leveled = now
	if w.level >= 1 {
		w.level--
		return guard.Taken{OK: true, Left: int(w.level)}
	}
	if share == 0 {
		return guard.Taken{Wait: Time}
	}
	return guard.Taken{Wait: time.Duration((1 - w.level) / share * float64(time.Second))}
}

// entry is that of a key, in the place of the least recently used if need be. The caller
// holds mu.
func (p *part) entry(key []byte, now time.Duration) *entry {
	w := p.keys[string(key)]
	if w == nil {
		if len(p.keys) >= maxKeys/parts {
			for old := p.front.prev; old != &p.front; old = old.prev {
				if len(old.waiters) == 0 {
					old.prev.next, old.next.prev = old.next, old.prev
					delete(p.keys, old.key)
					break
				}
			}
		}
		sum := sha256.Sum256(key)
		w = &entry{key: string(key), sum: Key(sum[:16]), since: now, level: 1, leveled: now}
		w.prev, w.next = w, w
		p.keys[w.key] = w
	}
	if p.front.next != w {
		w.prev.next, w.next.prev = w.next, w.prev
		w.prev, w.next = &p.front, p.front.next
		w.prev.next, w.next.prev = w, w
	}
	return w
}

// Round is one exchange with a dealer. Settle it, or say that it failed.
type Round struct {
	Asks    []Ask
	holder  *Holder
	entries []settling
}

// settling is an entry that something was asked for.
type settling struct {
	p       *part
	w       *entry
	waiters []func() // those who wait for it
}

// Collect is what to tell the dealer: all that is used, or with isUrgent only the keys that
// requests wait for. It has at most maxAsks; hasMore tells that there are others.
func (h *Holder) Collect(now time.Duration, isUrgent bool) (r *Round, hasMore bool) {
	r = &Round{holder: h}
	take := func(p *part, w *entry) {
		if len(r.Asks) >= maxAsks {
			hasMore = true
			return
		}
		w.isAsked = true
		r.entries = append(r.entries, settling{p, w, w.waiters})
		r.Asks = append(r.Asks, w.ask(now, isUrgent))
		w.waiters = nil
	}
	for i := range h.parts {
		p := &h.parts[i]
		begin := len(r.entries)
		p.mu.Lock()
		waits := p.waits
		p.waits = nil
		for _, w := range waits {
			if take(p, w); w.waiters != nil {
				p.waits = append(p.waits, w)
			}
		}
		for w := p.front.next; !isUrgent && w != &p.front; w = w.next {
			if !w.isAsked && (w.seen > 0 || w.stock > 0 || w.usual >= 2*demandLeast) {
				take(p, w)
			}
		}
		for _, one := range r.entries[begin:] {
			one.w.isAsked = false
		}
		p.mu.Unlock()
	}
	return r, hasMore
}

func (w *entry) ask(now time.Duration, isUrgent bool) Ask {
	if took := now - w.since; !isUrgent && took >= Time/2 {
		rate := float64(w.seen) / took.Seconds()
		w.times++
		w.demand = (w.demand + rate) / 2
		w.usual += (rate - w.usual) * min(1, max(took.Seconds()/usualTime, 1/float64(w.times)))
		w.seen, w.since = 0, now
	}
	demand := max(w.demand, float64(w.seen)/Time.Seconds())
	need := int(demand * Time.Seconds() * 1.25)
	a := Ask{Key: w.sum, Now: len(w.waiters) + w.debt, Demand: max(1.25*w.usual, demandLeast), IsOld: w.isOld}
	if !isUrgent {
		a.Back = max(0, w.stock-need)
		w.stock -= a.Back
	}
	a.Held = w.stock
	a.Want = max(0, need-w.stock) + a.Now
	return a
}

// Settle takes what a dealer has granted, in the order of what was asked, and wakes those who
// wait. among is how many proxies there are.
func (r *Round) Settle(grants []Grant, among int, now time.Duration) {
	h := r.holder
	h.isHeard.Store(true)
	h.lost.Store(0)
	h.among.Store(int32(among))
	for i := range r.entries[:min(len(r.entries), len(grants))] {
		one, g := &r.entries[i], &grants[i]
		w := one.w
		one.p.mu.Lock()
		paid := min(w.debt, max(g.Tokens, 0))
		w.debt -= paid
		w.stock += max(g.Tokens, 0) - paid
		w.left, w.share, w.isOld, w.settled = max(g.Left, 0), max(g.Share, 0), true, now
		// Proxies with little each do not all begin at once when they go on alone.
		w.level, w.leveled = hash.Fraction(hash.Mix(h.seed^binary.BigEndian.Uint64(w.sum[:]))), now
		if w.dry = 0; w.stock < len(one.waiters) || w.stock == 0 && g.After > 0 {
			w.dry = now + max(g.After, Time/50)
		}
		one.p.mu.Unlock()
	}
	r.wake()
}

// Failed says that the dealer did not answer. Those who wait go on by the share.
func (r *Round) Failed(now time.Duration) {
	r.holder.lost.Store(int64(max(now, 1)))
	r.wake()
}

func (r *Round) wake() {
	for i := range r.entries {
		for _, wake := range r.entries[i].waiters {
			r.holder.waiting.Add(-1)
			wake()
		}
	}
}

// Status is what the proxy has of the limit.
type Status struct {
	Keys    int     `json:"keys"`
	Tokens  int     `json:"tokens"`  // that it holds
	Share   float64 `json:"share"`   // of all keys together, tokens a second
	IsDealt bool    `json:"isDealt"` // the service deals them out; otherwise the proxy goes by its share
}

// Status tells what it has.
func (h *Holder) Status(now time.Duration) (s Status) {
	s.IsDealt = h.isDealt(now) && h.isHeard.Load()
	for i := range h.parts {
		p := &h.parts[i]
		p.mu.Lock()
		for _, w := range p.keys {
			s.Keys++
			s.Tokens += w.stock
			s.Share += w.share
		}
		p.mu.Unlock()
	}
	return s
}
