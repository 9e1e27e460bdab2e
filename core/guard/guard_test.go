package guard

import (
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/rules"
)

// TestRamp: an instance that comes to its share does so evenly, and then is
// like any other.
func TestRamp(t *testing.T) {
	p := new(Peer)
	p.Begin(time.Hour)
	for _, c := range []struct {
		after time.Duration
		want  string
	}{{0, "0.05"}, {Ramp / 4, "0.25"}, {Ramp / 2, "0.50"}, {Ramp, "1.00"}} {
		if got := fmt.Sprintf("%.2f", p.Weight(time.Hour+c.after)); got != c.want {
			t.Errorf("after %v: %s, want %s", c.after, got, c.want)
		}
	}
	if !p.Clear() {
		t.Error("it still ramps")
	}
	for _, set := range []func(bool, time.Duration){p.SetDown, p.SetShut} {
		if set(true, 0); p.Weight(0) != 0 {
			t.Error("it is taken away and has a weight")
		}
		if set(false, 2*time.Hour); p.Weight(2*time.Hour) != 0.05 {
			t.Error("it is back at once")
		}
		set(false, 3*time.Hour) // says nothing new
		if p.Weight(2*time.Hour+Ramp) != 1 {
			t.Error("a repeated word began the ramp anew")
		}
	}
}

// TestBreakerTakesAnotherRule: fewer probes than went out already leave nobody
// waiting for the rest.
func TestBreakerTakesAnotherRule(t *testing.T) {
	r := rules.Breaker{Errors: 50_000, Over: time.Second, Least: 1, OpenFor: time.Second, Probes: 5}
	b := NewBreaker(&r, 0)
	p, _, _, _ := b.Allow(0)
	b.Done(p, true, 0, 0)
	for range 3 {
		p, _, _, _ = b.Allow(time.Second)
		b.Done(p, false, 0, time.Second)
	}
	fewer := r
	fewer.Probes = 2
	b.Set(&fewer)
	for i := range 2 {
		p, _, ok, _ := b.Allow(2 * time.Second)
		if c := b.Done(p, false, 0, 2*time.Second); !ok || (c == Reclosed) != (i == 1) {
			t.Errorf("probe %d: let through %t, change %v", i, ok, c)
		}
	}
}

func BenchmarkBreaker(b *testing.B) {
	r := &rules.Breaker{Errors: 50_000, Over: 10 * time.Second, Least: 20, OpenFor: time.Second, Probes: 3}
	for _, c := range []struct {
		name string
		bad  int // one in so many fails
	}{{"well", 0}, {"one-in-ten-fails", 10}} {
		b.Run(c.name, func(b *testing.B) {
			m := NewBreaker(r, 0)
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				now := time.Duration(i) * time.Microsecond
				p, _, _, _ := m.Allow(now)
				m.Done(p, c.bad > 0 && i%c.bad == 0, 0, now)
			}
		})
	}
}

func BenchmarkQueue(b *testing.B) {
	q := NewQueue(&rules.Queue{InFlight: 100, Waiting: 10})
	b.ReportAllocs()
	for b.Loop() {
		q.Enter(nil, nil)
		q.Exit()
	}
}

func BenchmarkSideline(b *testing.B) {
	var s Sideline
	peers := []*Peer{new(Peer), new(Peer)}
	s.Set(&rules.Sideline{After: 3, For: time.Second, Most: 50_000}, peers, 0)
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		if now := time.Duration(i) * time.Millisecond; i%4 == 0 {
			s.Good(peers[0])
		} else if s.Failed(peers[0], "503", now) == Same && peers[0].IsOut() && s.Try(peers[0], now) {
			s.Tried(peers[0], true, i%3 > 0, "503", now)
		}
	}
}

func BenchmarkBudget(b *testing.B) {
	var m Budget
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		now := time.Duration(i) * time.Microsecond
		if m.Request(now); i%10 == 0 {
			m.Retry(20_000, now)
		}
	}
}

// TestQueueTogether: many at once never have more places than there are, those
// that wait are all called up, and none is lost.
func TestQueueTogether(t *testing.T) {
	q := NewQueue(&rules.Queue{InFlight: 3, Waiting: 20})
	var in, most atomic.Int32
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			woken := make(chan struct{}, 1)
			var t Ticket
			for i := range 3000 {
				switch q.Enter(&t, func() { woken <- struct{}{} }) {
				case Full:
					continue
				case Waits:
					if i%5 == 0 && q.Leave(&t) {
						continue
					}
					<-woken
				}
				if n := in.Add(1); n > most.Load() {
					most.Store(n)
				}
				runtime.Gosched()
				in.Add(-1)
				q.Exit()
			}
		})
	}
	all.Wait()
	if s := q.State(); s.InFlight != 0 || s.Waiting != 0 || most.Load() > 3 || most.Load() < 2 {
		t.Errorf("%+v is left, %d were in at once", s, most.Load())
	}
}

// TestMemory: a thousand breakers and ten thousand keys of a limit stay small.
func TestMemory(t *testing.T) {
	measure := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before := measure()
	breakers := make([]*Breaker, 1000)
	for i := range breakers {
		breakers[i] = NewBreaker(&rules.Breaker{Errors: 50_000, Over: time.Second, Least: 1, OpenFor: time.Second, Probes: 1}, 0)
		p, _, _, _ := breakers[i].Allow(0)
		breakers[i].Done(p, true, 0, 0)
	}
	l := NewLimit(1, time.Hour, 1, true)
	for i := range 10_000 {
		l.Take(fmt.Appendf(nil, "terminal-%d of the south quay", i), 0)
	}
	used := measure() - before
	if runtime.KeepAlive(breakers); l.Keys() != 10_000 || used > 20<<20 {
		t.Errorf("%d keys and %d breakers take %d KiB", l.Keys(), len(breakers), used>>10)
	}
	t.Logf("%d KiB", used>>10)
}
