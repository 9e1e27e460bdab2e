package lease

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// mesh is proxies that share a limit, with simulated time.
type mesh struct {
	t       *testing.T
	random  *rand.Rand
	dealer  *Dealer // nil: it is away
	holders []*Holder
	next    []time.Duration // when each tells the dealer
	now     time.Duration
	asked   []float64 // in each second
	let     []float64
	by      [3]float64 // of the first proxies
	waiting []int      // requests of each proxy that wait for a token
	since   []time.Duration
	late    int // requests that waited
}

const tick = 5 * time.Millisecond

func newMesh(t *testing.T, proxies, count int, per time.Duration, burst int) *mesh {
	m := &mesh{t: t, random: rand.New(rand.NewPCG(7, 8)), dealer: NewDealer(count, per, burst)}
	for i := range proxies {
		m.add(i, count, per)
	}
	return m
}

func (m *mesh) add(i, count int, per time.Duration) {
	m.holders = append(m.holders, NewHolder(fmt.Sprint("proxy", i), count, per, uint64(i), func() {}))
	m.waiting, m.since = append(m.waiting, 0), append(m.since, 0)
	m.next = append(m.next, m.now+time.Duration(m.random.Float64()*float64(Time)))
}

// exchange is what proxy i and the dealer say to each other.
func (m *mesh) exchange(i int, isUrgent bool) {
	h := m.holders[i]
	r, _ := h.Collect(m.now, isUrgent)
	if len(r.Asks) == 0 {
		return
	}
	if m.dealer == nil {
		r.Failed(m.now)
		return
	}
	r.Settle(m.dealer.Deal(h.ID, m.now, r.Asks), len(m.holders), m.now)
}

// run lets time pass: rate are the requests a second of proxy i.
func (m *mesh) run(d time.Duration, rate func(i int) float64) {
	for end := m.now + d; m.now < end; m.now += tick {
		second := int(m.now / time.Second)
		for len(m.asked) <= second {
			m.asked, m.let = append(m.asked, 0), append(m.let, 0)
		}
		for i, h := range m.holders {
			if m.now >= m.next[i] {
				m.next[i] += Time
				m.exchange(i, false)
			}
			// An exchange takes a tick, and who comes meanwhile may take what it brings.
			since, waited := m.since[i], m.waiting[i]
			if waited > 0 {
				m.exchange(i, true)
			}
			m.waiting[i], m.since[i] = 0, m.now
			for range m.poisson(rate(i) * tick.Seconds()) {
				m.asked[second]++
				taken, waits := h.Take([]byte("all"), m.now, func() {}, 0)
				if waits {
					m.waiting[i]++
				} else if taken.OK {
					m.pass(i)
				}
			}
			for range waited {
				if taken, _ := h.Take([]byte("all"), m.now, nil, max(since, 1)); taken.OK {
					m.pass(i)
				}
			}
			m.late += waited
		}
		if m.dealer != nil && m.now%(10*time.Second) == 0 {
			m.dealer.Sweep(m.now)
		}
	}
}

func (m *mesh) pass(i int) {
	m.let[int(m.now/time.Second)]++
	if i < len(m.by) {
		m.by[i]++
	}
}

func (m *mesh) poisson(mean float64) (n int) {
	for l, p := math.Exp(-mean), m.random.Float64(); p > l; n++ {
		p *= m.random.Float64()
	}
	return n
}

// holds checks what went through in seconds from to to: rate at most, and 90% of it, or of
// what was asked for.
func (m *mesh) holds(name string, from, to int, rate, most float64) {
	m.t.Helper()
	asked, let := 0.0, 0.0
	for s := from; s < to; s++ {
		asked += m.asked[s]
		let += m.let[s]
	}
	limit := rate * float64(to-from)
	m.t.Logf("%s: %.0f of %.0f asked went through, the limit is %.0f (%.1f%%)", name, let, asked, limit, 100*let/limit)
	if let > most*limit || let < 0.9*min(limit, asked) {
		m.t.Errorf("%s: %.1f%% of the limit went through", name, 100*let/limit)
	}
}

// TestThousandProxies: whatever the demand and its place, together they let through 90 to 102%
// of the limit.
func TestThousandProxies(t *testing.T) {
	m := newMesh(t, 1000, 100, time.Second, 100)
	hot := func(first, n int, all float64) func(int) float64 {
		return func(i int) float64 {
			if i >= first && i < first+n {
				return all / float64(n)
			}
			return 0
		}
	}
	m.run(3*time.Second, hot(0, 1000, 300)) // the burst goes
	m.run(10*time.Second, hot(0, 1000, 300))
	m.holds("three times too many, everywhere", 3, 13, 100, 1.02)
	m.run(10*time.Second, hot(0, 1000, 95))
	m.holds("a little less than the limit, everywhere", 14, 23, 100, 1.02)
	for i := range 10 {
		m.run(2*time.Second, hot(100*i, 3, 500))
	}
	m.holds("three busy ones that change", 24, 43, 100, 1.02)
	// Two with more than their part, among many with little.
	m.run(20*time.Second, func(i int) float64 {
		if i < 2 {
			return 200
		}
		return 0.05
	})
	m.holds("two busy ones among many", 44, 63, 100, 1.02)
	// Half of them go with what they hold, and others come.
	for i := range 500 {
		m.holders[i] = NewHolder(fmt.Sprint("new", i), 100, time.Second, uint64(i+5000), func() {})
	}
	m.run(15*time.Second, hot(0, 1000, 300))
	m.holds("half of them anew", 64, 78, 100, 1.02)
	if n := len(m.dealer.buckets); n != 1 {
		t.Errorf("%d buckets", n)
	}
	// The service is away: each goes on with its last share, and asks nobody.
	m.dealer = nil
	late := m.late
	m.run(20*time.Second, hot(0, 1000, 300))
	m.holds("without a service", 80, 98, 100, 1.02)
	if m.late-late > 2000 {
		t.Errorf("%d requests waited for a service that is away", m.late-late)
	}
	// It is back, and has forgotten everything.
	m.dealer = NewDealer(100, time.Second, 100)
	m.run(15*time.Second, hot(0, 1000, 300))
	m.holds("with a service that began anew", 98, 113, 100, 1.02)
}

// TestSharesOfAFew: who asks for little gets it, and the others divide the rest evenly.
func TestSharesOfAFew(t *testing.T) {
	m := newMesh(t, 3, 100, time.Second, 100)
	demand := func(i int) float64 { return []float64{10, 400, 90}[i] }
	m.run(5*time.Second, demand)
	m.by = [3]float64{}
	m.run(60*time.Second, demand)
	for i, want := range []float64{10, 45, 45} {
		if got := m.by[i] / 60; got < 0.88*want || got > 1.12*want {
			t.Errorf("proxy %d lets %.1f requests a second through, want %.0f", i, got, want)
		}
	}
}

// TestHammered: two proxies with many times what is allowed let through that, and no more.
func TestHammered(t *testing.T) {
	m := newMesh(t, 2, 200, time.Second, 200)
	m.run(13*time.Second, func(int) float64 { return 8000 })
	m.holds("forty times too many each", 3, 13, 200, 1.02)
}

// TestAnsweredIsAnswered: a request whose token somebody else took after the answer does not go
// by the share besides.
func TestAnsweredIsAnswered(t *testing.T) {
	h := NewHolder("x", 200, time.Second, 1, func() {})
	key, now := []byte("all"), time.Second
	if _, waits := h.Take(key, now, func() {}, 0); !waits {
		t.Fatal("there is a token already")
	}
	r, _ := h.Collect(now, true)
	r.Settle([]Grant{{Tokens: 1, Left: 5, Share: 100}}, 2, now)
	now += 50 * time.Millisecond
	if taken, waits := h.Take(key, now, func() {}, 0); waits || !taken.OK {
		t.Fatal(taken, waits)
	}
	if taken, waits := h.Take(key, now, nil, time.Second); waits || taken.OK || taken.Wait <= 0 {
		t.Error(taken, waits)
	}
}

// TestSlowService: tokens that were spent before the service answered are paid for by those that
// it deals then.
func TestSlowService(t *testing.T) {
	h, d := NewHolder("x", 100, time.Second, 1, func() {}), NewDealer(100, time.Second, 100)
	key, ok := []byte("all"), 0
	now := time.Second
	for range 40 { // each answer comes after the requests have given up waiting for it
		began := now
		for range 50 {
			h.Take(key, began, func() {}, 0)
		}
		r, _ := h.Collect(began, true)
		grants := d.Deal("p", began, r.Asks)
		now += MaxWait
		for range 50 {
			if taken, _ := h.Take(key, now, nil, began); taken.OK {
				ok++
			}
		}
		r.Settle(grants, 1, now)
	}
	if most := 100 + 100*(now-time.Second).Seconds(); float64(ok) > 1.02*most || float64(ok) < 0.5*most {
		t.Errorf("%d went through, want up to %.0f", ok, most)
	}
}

// TestBurst: after a pause no more comes at once than a bucket holds, wherever tokens lay.
func TestBurst(t *testing.T) {
	m := newMesh(t, 4, 200, time.Second, 200)
	busy, idle := func(int) float64 { return 2000 }, func(int) float64 { return 0 }
	m.run(5*time.Second, busy)
	m.run(3*time.Second, idle)
	m.run(2*time.Second, busy)
	if let := m.let[8] + m.let[9]; let > 200+2*200*1.02 {
		t.Errorf("%.0f in two seconds after a pause", let)
	}
}

// TestSixAMinute: of a small limit not one token lies where it is not needed.
func TestSixAMinute(t *testing.T) {
	for seed := range uint64(200) {
		m := newMesh(t, 2, 6, time.Minute, 6)
		m.random = rand.New(rand.NewPCG(seed, 1))
		ok := 0
		for n := range 7 {
			i := m.random.IntN(2)
			taken, waits := m.holders[i].Take([]byte("gold"), m.now, func() {}, 0)
			if waits {
				m.exchange(i, true)
				taken, _ = m.holders[i].Take([]byte("gold"), m.now, nil, max(m.now, 1))
			}
			if taken.OK {
				ok++
			} else if n < 6 || taken.Wait < 9*time.Second || taken.Wait > 10*time.Second {
				t.Fatalf("seed %d: request %d was refused, for %s", seed, n, taken.Wait)
			}
			m.now += time.Duration(m.random.IntN(100)) * time.Millisecond
			if m.random.IntN(3) == 0 {
				m.exchange(m.random.IntN(2), false)
			}
		}
		if ok != 6 {
			t.Fatalf("seed %d: %d went through", seed, ok)
		}
	}
}

// TestLies: a proxy that says it holds or gives back more than it got makes no tokens.
func TestLies(t *testing.T) {
	d := NewDealer(10, time.Second, 10)
	key := Key{1}
	got := 0
	for range 100 {
		for _, a := range []Ask{{Key: key, Held: 1 << 40, Back: 1 << 40, Want: 1 << 40, Now: 1 << 40, Demand: math.Inf(1)}, {Key: key, Held: -5, Back: -5, Want: 3, Now: 3, Demand: math.NaN()}} {
			g := d.Deal("liar", 0, []Ask{a})[0]
			if got += g.Tokens; g.Tokens < 0 {
				t.Fatal(g)
			}
		}
	}
	if got > 10 {
		t.Errorf("%d tokens of 10 were dealt out", got)
	}
}

// TestManyKeys: neither end keeps more than it may.
func TestManyKeys(t *testing.T) {
	m := newMesh(t, 1, 6, time.Minute, 6)
	for i := range maxBuckets + 5000 {
		key := fmt.Append(nil, i)
		if _, waits := m.holders[0].Take(key, m.now, func() {}, 0); !waits {
			t.Fatal(i)
		}
		m.exchange(0, true)
		if taken, _ := m.holders[0].Take(key, m.now, nil, max(m.now, 1)); !taken.OK {
			t.Fatal(i, taken)
		}
	}
	if s := m.holders[0].Status(m.now); s.Keys > maxKeys || m.dealer.Buckets() > maxBuckets {
		t.Errorf("%d keys, %d buckets", s.Keys, m.dealer.Buckets())
	}
}

// BenchmarkTake: a token that is there.
func BenchmarkTake(b *testing.B) {
	h := NewHolder("x", 1_000_000, time.Second, 1, func() {})
	d := NewDealer(1_000_000, time.Second, 1_000_000)
	key, now := []byte("all"), time.Duration(1)
	b.ReportAllocs()
	for b.Loop() {
		if taken, waits := h.Take(key, now, nil, 0); waits || !taken.OK {
			b.StopTimer()
			now += Time
			h.Take(key, now, func() {}, 0)
			r, _ := h.Collect(now, false)
			r.Settle(d.Deal("p", now, r.Asks), 1, now)
			b.StartTimer()
		}
	}
}
