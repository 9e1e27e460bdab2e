package telemetry

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"nightjar/core/stats"
	"nightjar/wire"
)

var noon = time.Unix(1_800_000_005, 0)

func delta(nonce string, seq, holds uint64, series ...wire.Series) *wire.Delta {
	return &wire.Delta{Nonce: nonce, Sequence: seq, Holds: holds, Caller: "kiosk", Series: series}
}

func ok(service string, n uint64) wire.Series {
	return wire.Series{Service: service, Counts: stats.Counts{OK: n, Latency: []stats.Bin{{Bucket: 7, N: n}}}}
}

func total(t *Store, from, to int64) (n uint64) {
	t.Sum(from, to, func(_ *Names, _ uint, c *stats.Counts) { n += c.Requests() })
	return n
}

// TestOnceAndInOrder: what comes twice counts once; what comes with a gap that
// the proxy could fill is asked for again; a gap that it cannot fill is passed over.
func TestOnceAndInOrder(t *testing.T) {
	s := New()
	for _, c := range []struct {
		seq, holds   uint64
		again, fresh bool
	}{{1, 1, false, true}, {1, 1, false, false}, {2, 1, false, true}, {5, 2, true, false}, {5, 4, true, false}, {3, 2, false, true}, {4, 2, false, true}, {5, 2, false, true}, {9, 9, false, true}, {8, 8, false, false}} {
		if kept, fresh := s.Count(delta("n", c.seq, c.holds, ok("s", 1)), noon); kept.Again != c.again || fresh != c.fresh {
			t.Errorf("delta %d of a proxy that has them from %d: again %v, fresh %v", c.seq, c.holds, kept.Again, fresh)
		}
	}
	if n := total(s, noon.Unix(), noon.Unix()+1); n != 6 {
		t.Errorf("%d requests, want 6", n)
	}
}

// TestNothingIsLostOnDisk: at whatever moment the service dies, what is on disk
// and what proxies hold make up all that was counted, each once.
func TestNothingIsLostOnDisk(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	type disk struct {
		known []Named
		slots []Slot
		seen  map[string]Seen
	}
	for round := range 60 {
		d := disk{seen: map[string]Seen{}}
		s, now := New(), noon
		var held []*wire.Delta // by the proxy, which does as a session of package proxy does
		sent, want := 0, uint64(0)
		flush := func(s *Store, now time.Time) {
			for asked := false; sent < len(held); {
				held[sent].Holds = held[0].Sequence
				kept, _ := s.Count(held[sent], now)
				if kept.Again {
					if asked {
						t.Fatal("it was sent all there is, and asks again")
					}
					sent, asked = 0, true
					continue
				}
				for sent++; sent > 0 && held[0].Sequence <= kept.Sequence; sent-- {
					held = held[1:]
				}
			}
		}
		for seq := uint64(1); seq < 60; seq++ {
			now = now.Add(time.Second)
			series := ok(fmt.Sprint("s", rnd.IntN(4)), rnd.Uint64N(5))
			series.Revision = uint(rnd.IntN(2))
			want += series.Counts.Requests()
			held = append(held, delta("n", seq, 0, series))
			if rnd.IntN(4) > 0 { // else the service is away
				flush(s, now)
			}
			if rnd.IntN(3) == 0 {
				s.Tidy(now)
			}
			if b := (*Batch)(nil); rnd.IntN(6) == 0 {
				if b = s.Take(); b != nil {
					d.known, d.slots = append(d.known, b.Series...), append(d.slots, b.Slots...)
					for k, v := range b.Seen {
						d.seen[k] = Seen{v, now.Unix()}
					}
					if rnd.IntN(4) > 0 { // else it dies before it knows
						s.Written(b)
					} else {
						s = nil
					}
				}
			}
			if s == nil || rnd.IntN(12) == 0 {
				s = New()
				if err := s.Recall(d.known, d.slots, d.seen, noon.Unix()); err != nil {
					t.Fatal(err)
				}
			}
		}
		sent = 0 // as when the stream of snapshots breaks; in between it may be late to notice
		flush(s, now)
		if got := total(s, noon.Unix()-Step, now.Unix()+1); got != want {
			t.Fatalf("round %d: %d requests in memory, want %d", round, got, want)
		}
		if b := s.Take(); b != nil {
			d.slots = append(d.slots, b.Slots...)
		}
		var sealed [][]byte
		for _, slot := range d.slots {
			sealed = append(sealed, slot.Sealed)
		}
		sum, err := Merge(sealed)
		if err != nil {
			t.Fatal(err)
		}
		got := uint64(0)
		s.Read(sum, func(_ *Names, _ uint, c *stats.Counts) { got += c.Requests() })
		if got != want {
			t.Fatalf("round %d: %d requests on disk, want %d", round, got, want)
		}
	}
}

// TestItStaysBounded: names past the bound are counted as other, and are told
// apart again when others went.
func TestItStaysBounded(t *testing.T) {
	s := New()
	for i := range uint64(MaxSeries + 50) {
		s.Count(delta("n", i+1, i+1, ok(fmt.Sprint("s", i), 2)), noon)
	}
	if active, over := s.State(); active != MaxSeries+1 || over != 100 {
		t.Errorf("%d series, %d requests counted as other", active, over)
	}
	var other uint64
	s.Sum(noon.Unix(), noon.Unix()+1, func(n *Names, _ uint, c *stats.Counts) {
		if n.Service == wire.Other {
			other += c.OK
		}
	})
	if all := total(s, noon.Unix(), noon.Unix()+1); other != 100 || all != 2*(MaxSeries+50) {
		t.Errorf("other has %d of %d requests", other, all)
	}
	late := delta("another", 1, 1, ok("late", 1))
	late.AgoMS = math.MaxInt64
	s.Count(late, noon)
	later := noon.Add((Kept + Step + 1) * time.Second)
	s.Tidy(later)
	if active, _ := s.State(); active != 0 || total(s, noon.Unix()-Kept, later.Unix()) != 0 {
		t.Errorf("%d series are kept for ever", active)
	}
	s.Count(delta("n", MaxSeries+51, MaxSeries+51, ok("s7", 1), ok("new", 1)), later)
	if active, over := s.State(); active != 2 || over != 101 {
		t.Errorf("later: %d series, %d as other", active, over)
	}
}

func TestEachSecondByItself(t *testing.T) {
	s := New()
	for i := range uint64(20) {
		d := delta("n", i+1, 1, ok("s", i))
		d.AgoMS = int64(i%3) * 1000
		s.Count(d, noon.Add(time.Duration(i)*time.Second))
		s.Tidy(noon.Add(time.Duration(i) * time.Second))
	}
	want := map[int64]uint64{}
	for i := range uint64(20) {
		want[noon.Unix()+int64(i)-int64(i%3)] += i
	}
	last := int64(0)
	s.Each(noon.Unix()-1, noon.Unix()+20, func(at int64, _ *Names, _ uint, c *stats.Counts) {
		if at < last {
			t.Errorf("%d comes after %d", at, last)
		}
		last = at
		want[at] -= c.OK
	})
	for at, n := range want {
		if n != 0 {
			t.Errorf("second %d lacks %d", at, n)
		}
	}
}

// TestAt: what two proxies counted in one second is filed under it, however long
// each took to tell.
func TestAt(t *testing.T) {
	second := time.Unix(1_700_000_000, 0)
	for _, late := range []time.Duration{0, 20 * time.Millisecond, 450 * time.Millisecond, 90 * time.Second} {
		told := second.Add(time.Second + late) // the middle of the second is told of
		if at := At(&wire.Delta{AgoMS: (500*time.Millisecond + late).Milliseconds()}, told); at != second.Unix() {
			t.Errorf("told %s late: filed %d s off", late, at-second.Unix())
		}
	}
	if at := At(&wire.Delta{AgoMS: -5}, second); at != second.Unix() {
		t.Errorf("from the future: filed %d s off", at-second.Unix())
	}
}

// TestNamesThatAreNone are filed as others, so that they can be shown and exported.
func TestNamesThatAreNone(t *testing.T) {
	n := Names{Caller: "\xff", Service: "berths", Route: strings.Repeat("r", 257)}
	n.makeValid()
	if n != (Names{Caller: wire.Other, Service: "berths", Route: wire.Other}) {
		t.Errorf("%+v", n)
	}
}

// TestManyProcesses: however many processes of proxies came before, and however many
// come now, what a living one sends again counts once.
func TestManyProcesses(t *testing.T) {
	s, before := New(), map[string]Seen{}
	for i := range MaxSeen {
		before[fmt.Sprint("old-", i)] = Seen{1, noon.Unix() - 3600 + int64(i%3000)}
	}
	if err := s.Recall(nil, nil, before, 0); err != nil {
		t.Fatal(err)
	}
	s.Count(delta("living", 1, 1, ok("s", 5)), noon)
	for i := range 2000 {
		now := noon.Add(time.Duration(i) * time.Second / 10)
		s.Count(delta(fmt.Sprint("new-", i), 1, 1), now)
		if _, isNew := s.Count(delta("living", 1, 1, ok("s", 5)), now); isNew {
			t.Fatalf("with %d others it counts twice", i)
		}
	}
	if len(s.seen) > MaxSeen {
		t.Errorf("%d processes are remembered", len(s.seen))
	}
}

// TestTheClockGoesBack: what comes after the clock was set back an hour is counted and
// seen at once; what it counted in the hour that comes again stays on disk alone.
func TestTheClockGoesBack(t *testing.T) {
	s := New()
	seq := uint64(0)
	count := func(at time.Time) {
		seq++
		s.Count(delta("n", seq, 1, ok("s", 1)), at)
		s.Tidy(at)
	}
	for i := range 1000 {
		count(noon.Add(time.Duration(i) * time.Second))
	}
	back := noon.Add(-time.Hour)
	for i := range 60 {
		count(back.Add(time.Duration(i) * time.Second))
	}
	if n := total(s, back.Unix(), back.Unix()+60); n != 60 {
		t.Errorf("%d requests are seen, want 60", n)
	}
	if n := total(s, noon.Unix(), noon.Unix()+2000); n != 0 {
		t.Errorf("%d requests in the future", n)
	}
	b := s.Take()
	var onDisk uint64
	for _, slot := range b.Slots {
		s.Read(slot.Sealed, func(_ *Names, _ uint, c *stats.Counts) { onDisk += c.OK })
	}
	if onDisk != 1060 {
		t.Errorf("%d requests are written", onDisk)
	}
	s.Tidy(back.Add((Kept + Step + 70) * time.Second))
	if active, _ := s.State(); active != 0 {
		t.Errorf("%d series are active for ever", active)
	}
}
