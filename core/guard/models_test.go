package guard

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"nightjar/core/rules"
)

// sees is one thing that a model remembers.
type sees struct {
	part int64 // of the window
	bad  bool
	slow bool
}

// recent are those of the last 16 parts.
func recent(list []sees, now, over time.Duration) []sees {
	at := int64(now / (over / 16))
	return slices.DeleteFunc(list, func(s sees) bool { return s.part <= at-16 })
}

func TestBreakerAgainstModel(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 1))
	r := &rules.Breaker{Errors: 50_000, Slow: 80_000, SlowOver: time.Second, Over: 8 * time.Second, Least: 6, OpenFor: 5 * time.Second, Probes: 3}
	now := time.Duration(0)
	b := NewBreaker(r, now)

	mode, until, sent, good := Closed, time.Duration(0), 0, 0
	var seen []sees
	period := 0
	turn := func(m Mode) {
		mode, sent, good, seen = m, 0, 0, nil
		period++
		until = now + r.OpenFor
	}
	type flight struct {
		permit Permit
		period int
	}
	var out []flight
	changes := map[Change]int{}
	harm := 0.3
	for i := range steps {
		now += time.Duration(rnd.Int64N(int64(300 * time.Millisecond)))
		if rnd.IntN(500) == 0 {
			now += time.Duration(rnd.Int64N(int64(20 * time.Second)))
			harm = rnd.Float64()
		}
		switch {
		case len(out) == 0 || len(out) < 12 && rnd.IntN(2) == 0: // a request comes
			if mode == Probing && sent >= r.Probes && now >= until { // the places of probes that do not come back
				sent, until = good, now+r.OpenFor
			}
			want := mode == Closed || mode == Open && now >= until || mode == Probing && sent < r.Probes
			wait, refused := b.Refuses(now)
			p, wait2, ok, c := b.Allow(now)
			if ok != want || refused == want || !ok && (wait != wait2 || mode == Open && wait != until-now) {
				t.Fatalf("step %d: let through %t, want %t (%v, wait %v)", i, ok, want, mode, wait)
			}
			if changes[c]++; c == Probes {
				turn(Probing)
			}
			if ok {
				sent++
				out = append(out, flight{p, period})
			}
		default: // one ends
			k := rnd.IntN(len(out))
			f := out[k]
			out = slices.Delete(out, k, k+1)
			if rnd.IntN(20) == 0 {
				if b.Cancel(f.permit); f.period == period && mode == Probing && sent > good {
					sent--
				}
				break
			}
			failed, took := rnd.Float64() < harm, time.Duration(0)
			if rnd.Float64() < harm*0.9 {
				took = r.SlowOver + 1
			}
			c := b.Done(f.permit, failed, took, now)
			changes[c]++
			want := Same
			if f.period == period {
				switch mode {
				case Closed:
					seen = append(recent(seen, now, r.Over), sees{int64(now / (r.Over / 16)), failed, took > r.SlowOver})
					bad, slow, was := 0, 0, seen
					for _, s := range seen {
						if s.bad {
							bad++
						}
						if s.slow {
							slow++
						}
					}
					if len(seen) >= r.Least && (bad*2 >= len(seen) || slow*5 >= len(seen)*4) {
						want = Opened
						turn(Open)
						if s := b.State(now); s.Seen != uint64(len(was)) || s.Failed != uint64(bad) || s.Slow != uint64(slow) {
							t.Fatalf("step %d: it opened for %+v, want %d of %d failed, %d slow", i, s, bad, len(was), slow)
						}
					}
				case Probing:
					if failed || took > r.SlowOver {
						want = Reopened
						turn(Open)
					} else if good++; good == r.Probes {
						want = Reclosed
						turn(Closed)
					}
				}
			}
			if c != want {
				t.Fatalf("step %d: change %v, want %v", i, c, want)
			}
		}
		if s := b.State(now); s.Mode != mode || mode == Closed && s.Seen != uint64(len(recent(seen, now, r.Over))) {
			t.Fatalf("step %d: %+v, want %v", i, s, mode)
		}
		seen = recent(seen, now, r.Over)
	}
	for _, c := range []Change{Opened, Reopened, Probes, Reclosed} {
		if changes[c] < steps/10_000 {
			t.Errorf("change %v came %d times: the schedule does not try it", c, changes[c])
		}
	}
}

func TestQueueAgainstModel(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(2, 2))
	limit := &rules.Queue{InFlight: 3, Waiting: 4}
	q := NewQueue(limit)
	type request struct {
		Ticket
		woken int
	}
	var in, line []*request
	called := 0
	callUp := func() { // the model: who waits longest comes in
		for len(line) > 0 && len(in) < limit.InFlight {
			in, line = append(in, line[0]), line[1:]
			called++
		}
	}
	entered, full, left := 0, 0, 0
	for i := range steps {
		switch what := rnd.IntN(100); {
		case what < 45:
			r := new(request)
			got := q.Enter(&r.Ticket, func() { r.woken++ })
			want := Full
			switch {
			case len(in) < limit.InFlight && len(line) == 0:
				want, in = Enters, append(in, r)
				entered++
			case len(line) < limit.Waiting:
				want, line = Waits, append(line, r)
			default:
				full++
			}
			if got != want {
				t.Fatalf("step %d: got %v, want %v with %d and %d", i, got, want, len(in), len(line))
			}
		case what < 85 && len(in) > 0:
			k := rnd.IntN(len(in))
			in = slices.Delete(in, k, k+1)
			q.Exit()
			callUp()
		case what < 99 && len(line) > 0:
			k := rnd.IntN(len(line))
			if !q.Leave(&line[k].Ticket) {
				t.Fatalf("step %d: the one who leaves was called up", i)
			}
			line = slices.Delete(line, k, k+1)
			left++
		case what == 99:
			limit = &rules.Queue{InFlight: 1 + rnd.IntN(5), Waiting: rnd.IntN(6)}
			q.Set(limit)
			callUp()
		}
		for _, r := range line {
			if r.Called() || r.woken > 0 {
				t.Fatalf("step %d: one in the line was called up out of turn", i)
			}
		}
		for _, r := range in {
			if r.wake != nil && (!r.Called() || r.woken != 1) {
				t.Fatalf("step %d: one that came in from the line was woken %d times", i, r.woken)
			}
		}
		if s := q.State(); s.InFlight != len(in) || s.Waiting != len(line) {
			t.Fatalf("step %d: %+v, want %d and %d", i, s, len(in), len(line))
		}
	}
	if min(entered, called, full, left) < steps/100 {
		t.Errorf("%d entered, %d called, %d full, %d left: the schedule does not try all", entered, called, full, left)
	}
}

func TestSidelineAgainstModel(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(3, 3))
	r := &rules.Sideline{After: 3, For: 10 * time.Second, Most: 50_000}
	const n = 5
	var s Sideline
	peers := make([]*Peer, n)
	for i := range peers {
		peers[i] = new(Peer)
	}
	s.Set(r, peers, 0)
	type model struct {
		out, trial        bool
		fails, stay       int // stay: the number of stays outside in a row
		until, back, last time.Duration
	}
	models := make([]model, n)
	count := func() (out int) {
		for _, m := range models {
			if m.out {
				out++
			}
		}
		return out
	}
	length := func(stay int) time.Duration { return min(r.For<<stay, 10*r.For) }
	now := time.Duration(0)
	changes := map[Change]int{}
	harm := 0.5
	for i := range steps {
		now += time.Duration(rnd.Int64N(int64(2 * time.Second)))
		if rnd.IntN(200) == 0 {
			harm = rnd.Float64()
		}
		k := rnd.IntN(n)
		p, m := peers[k], &models[k]
		failed := rnd.Float64() < harm
		if m.out && m.trial && rnd.IntN(2) == 0 {
			answered := rnd.IntN(10) > 0
			got, want := s.Tried(p, answered, !failed, "503", now), Same
			m.trial = false
			switch {
			case !answered:
			case failed:
				want = Longer
				m.last = length(m.stay)
				m.stay, m.until = m.stay+1, now+m.last
			default:
				want = Back
				m.out, m.fails, m.back = false, 0, now
			}
			if changes[got]++; got != want {
				t.Fatalf("step %d: trial %v, want %v", i, got, want)
			}
		} else if rnd.IntN(3) == 0 {
			want := m.out && !m.trial && now >= m.until
			m.trial = m.trial || want
			if got := s.Try(p, now); got != want {
				t.Fatalf("step %d: trial given %t, want %t", i, got, want)
			}
		} else if !failed {
			s.Good(p)
			m.fails = 0
		} else {
			got, want := s.Failed(p, "503", now), Same
			if m.fails++; m.fails >= r.After && !m.out && count() < 2 {
				want = Out
				if now-m.back >= m.last {
					m.stay = 0
				}
				m.last = length(m.stay)
				m.out, m.stay, m.until = true, m.stay+1, now+m.last
			}
			if changes[got]++; got != want {
				t.Fatalf("step %d: failure %v, want %v (%+v)", i, got, want, *m)
			}
		}
		for k, p := range peers {
			if st, out := s.State(p); out != models[k].out || out && st.Until != models[k].until || (p.Weight(now) == 0) != out {
				t.Fatalf("step %d, peer %d: out %t %+v, weight %v, want %+v", i, k, out, st, p.Weight(now), models[k])
			}
		}
	}
	for _, c := range []Change{Out, Longer, Back} {
		if changes[c] < steps/1000 {
			t.Errorf("change %v came %d times: the schedule does not try it", c, changes[c])
		}
	}
	s.Set(&rules.Sideline{After: 3, For: time.Second, Most: 20_000}, peers, now)
	if s.out > 1 {
		t.Errorf("%d are out where one may be", s.out)
	}
	if s.Set(nil, peers, now); slices.ContainsFunc(peers, (*Peer).IsOut) {
		t.Error("one is out although nothing is sidelined any more")
	}
}

func TestBudgetAgainstModel(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(4, 4))
	var b Budget
	var requests, retries []sees
	now, share := time.Duration(0), rules.Percent(20_000)
	given, denied := 0, 0
	for i := range steps {
		now += time.Duration(rnd.Int64N(int64(20 * time.Millisecond)))
		if rnd.IntN(5000) == 0 {
			now += time.Duration(rnd.Int64N(int64(15 * time.Second)))
		}
		at := sees{part: int64(now / (BudgetOver / 16))}
		requests, retries = recent(requests, now, BudgetOver), recent(retries, now, BudgetOver)
		if rnd.IntN(3) > 0 {
			b.Request(now)
			requests = append(requests, at)
			continue
		}
		want := len(retries) < max(10, len(requests)/5)
		if got := b.Retry(share, now); got != want {
			t.Fatalf("step %d: %t, want %t with %d of %d", i, got, want, len(retries), len(requests))
		}
		if denied++; want {
			retries = append(retries, at)
			given++
			denied--
		}
	}
	if min(given, denied) < steps/100 {
		t.Errorf("%d given, %d denied", given, denied)
	}
}

func TestHealthAgainstModel(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(5, 5))
	r := &rules.Health{DownAfter: 3, UpAfter: 2}
	var h Health
	var last []bool
	down, changes := false, 0
	for i := range steps {
		good := rnd.IntN(2) == 0
		last = append(last, good)
		want := false
		if n := len(last); !down && n >= 3 && !last[n-1] && !last[n-2] && !last[n-3] || down && n >= 2 && last[n-1] && last[n-2] {
			down, want, last = !down, true, nil
			changes++
		}
		if got := h.Note(r, good); got != want || h.Down != down {
			t.Fatalf("step %d: changed %t, down %t, want %t, %t", i, got, h.Down, want, down)
		}
	}
	if changes < steps/100 {
		t.Errorf("%d changes", changes)
	}
}
