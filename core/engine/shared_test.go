package engine

import (
	"testing"
	"time"

	"nightjar/core/lease"
	"nightjar/core/rules"
)

const sharedRules = `
services:
  s:
    versions: [v1, v2]
    routes: [{name: own, limit: {rate: 2/m, scope: mesh, per: "header:x-k"}, send: {v1: 50, v2: 50}}]
gateways:
  edge:
    listen: ':80'
    hosts: ['*']
    routes: [{name: gate, limit: {rate: 6/m, scope: mesh}, rewrite: {path: /in}, send: s}]
`

// sharing is two proxies that follow one table each, and the dealers of their limits.
type sharing struct {
	tables  [2]*Table
	dealers map[string]*lease.Dealer
}

func newSharing(t *testing.T) *sharing {
	s := &sharing{dealers: map[string]*lease.Dealer{}}
	rs, _ := rules.Check([]rules.File{{Name: "s", Text: sharedRules}}, rules.Live{})
	for i := range s.tables {
		var err error
		s.tables[i], err = Compile(rs, crowd("s/v1", "s/v2"), Options{Seed: uint64(i), Signal: func() {}})
		if err != nil {
			t.Fatal(err)
		}
	}
	s.dealers[LimitID("s", "own", rs.Service("s").Routes[0].Limit)] = lease.NewDealer(2, time.Minute, 2)
	s.dealers[LimitID("edge", "gate", rs.Gateway("edge").Routes[0].Limit)] = lease.NewDealer(6, time.Minute, 6)
	return s
}

// settle asks for what proxy i waits for.
func (s *sharing) settle(i int, now time.Duration) {
	for _, h := range s.tables[i].Shared() {
		if r, _ := h.Collect(now, true); len(r.Asks) > 0 {
			r.Settle(s.dealers[h.ID].Deal(string(rune('a'+i)), now, r.Asks), 2, now)
		}
	}
}

// TestLimitOfTheMesh: a request waits for the token of each limit in turn, and goes on where
// it stood; the limit is one for both proxies.
func TestLimitOfTheMesh(t *testing.T) {
	s := newSharing(t)
	now := time.Second
	taken := map[string]int{}
	for n, k := range []string{"a", "a", "a", "b", "b", "c", "c"} {
		i := n % 2
		var x Exchange
		began := now
		step := x.Begin(s.tables[i], Entry{Gateway: "edge", Wake: func() {}}, get("h", "/", "X-K: "+k), now)
		for waits := 0; step.Kind == Wait; waits++ {
			if waits == 2 || step.Deadline != now+lease.MaxWait {
				t.Fatalf("request %d waits again: %+v", n, step)
			}
			s.settle(i, now)
			now += 10 * time.Millisecond
			step = x.Next(Outcome{}, now)
		}
		if step.Kind == Attempt {
			if taken[k]++; x.Path() != "/in" || step.Deadline != began+15*time.Second {
				t.Errorf("request %d goes to %s until %s, at %s", n, x.Path(), step.Deadline, now)
			}
		} else if step.Reason != Limited || step.After == 0 {
			t.Errorf("request %d: %+v", n, step)
		}
		x.End(Left, now)
	}
	// The third with a is over the limit of its key, and the seventh over the gateway's: one
	// that was refused by the service's limit has taken a token of the gateway's.
	if taken["a"] != 2 || taken["b"] != 2 || taken["c"] != 1 {
		t.Errorf("%v went through", taken)
	}
}

// TestLimitOfTheMeshAlone: without an answer a request waits once, and goes by the share.
func TestLimitOfTheMeshAlone(t *testing.T) {
	s := newSharing(t)
	now, ok, waited := time.Second, 0, 0
	for range 20 {
		var x Exchange
		step := x.Begin(s.tables[0], Entry{Gateway: "edge", Wake: func() {}}, get("h", "/"), now)
		for ; step.Kind == Wait; waited++ {
			now += lease.MaxWait
			for _, h := range s.tables[0].Shared() {
				r, _ := h.Collect(now, true)
				r.Failed(now)
			}
			step = x.Next(Outcome{}, now)
		}
		if step.Kind == Attempt {
			ok++
		}
		x.End(Left, now)
	}
	if ok != 1 || waited > 3 {
		t.Errorf("%d went through, and %d waits", ok, waited)
	}
}
