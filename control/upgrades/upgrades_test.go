package upgrades

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/core/stats"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/wire"
)

// sea is a simulated fleet, whose proxies renew their leases every two seconds, and need a
// while to take a program.
type sea struct {
	t       *testing.T
	now     time.Time
	rng     *rand.Rand
	proxies []*boat
	records *store.Store
	node    *identity.Credentials
	dir     string
	*Upgrades
}

type boat struct {
	fleet.Running
	renews time.Time
	takes  time.Time // when it has the program that it is at; zero: it is at none
	next   string
	bad    float64 // share of its requests that fail with the new program
}

const old = "0000000000000000000000000000000000000000000000000000000000000000"

func newSea(t *testing.T, n int) *sea {
	t.Helper()
	ca, err := authority.Open(authority.Config{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	s := &sea{t: t, now: time.Now(), rng: rand.New(rand.NewPCG(1, 2)), node: &identity.Credentials{}, dir: t.TempDir()}
	who := identity.Member{Name: identity.Name{Kind: identity.Node, Name: "nightjar"}, Domain: ca.Domain(), ID: "node"}
	if err := ca.Credentials(who, s.node); err != nil {
		t.Fatal(err)
	}
	for i := range n {
		b := &boat{}
		b.ID, b.Nonce, b.Build, b.TakesPrograms, b.Memory, b.IsConnected = fmt.Sprintf("boat-%03d", i), fmt.Sprint(i), old, true, 40<<20, true
		b.renews = s.now.Add(time.Duration(s.rng.IntN(2000)) * time.Millisecond)
		s.proxies = append(s.proxies, b)
	}
	s.open()
	t.Cleanup(func() { s.records.Close() })
	return s
}

// open starts the service, again.
func (s *sea) open() {
	s.t.Helper()
	if s.records != nil {
		s.records.Close()
	}
	var err error
	if s.records, err = store.Open(s.dir, "test"); err != nil {
		s.t.Fatal(err)
	}
	s.Upgrades, err = Open(context.Background(), Config{
		Records: s.records, Fleet: s, Node: s.node, Dir: s.dir + "/programs", Journal: journal.New(s.records), Now: func() time.Time { return s.now },
	})
	if err != nil {
		s.t.Fatal(err)
	}
}

func (s *sea) Running() []fleet.Running {
	out := make([]fleet.Running, len(s.proxies))
	for i, b := range s.proxies {
		out[i] = b.Running
	}
	return out
}

// pass lets half a second go by.
func (s *sea) pass() {
	s.t.Helper()
	s.now = s.now.Add(StepEvery)
	for _, b := range s.proxies {
		if b.IsConnected {
			b.LastSeen = s.now
		}
		if !b.takes.IsZero() && s.now.After(b.takes) {
			b.Build, b.Nonce, b.takes = b.next, b.Nonce+"+", time.Time{}
		}
		if s.now.After(b.renews) && b.IsConnected {
			b.renews = s.now.Add(2 * time.Second)
			if o := s.Offer(b.ID, b.Build); o != nil && b.takes.IsZero() {
				b.takes, b.next = s.now.Add(time.Second+time.Duration(s.rng.IntN(4000))*time.Millisecond), o.Hash
				if o.Back {
					b.next = old
				}
			}
		}
		c := stats.Counts{OK: 10}
		if b.Build != old {
			for range 10 {
				if s.rng.Float64() < b.bad {
					c.OK, c.Failed = c.OK-1, c.Failed+1
				}
			}
		}
		s.Count(b.ID, &wire.Delta{Series: wire.SeriesList{{Service: "s", Counts: c}}})
	}
	if err := s.Step(context.Background()); err != nil {
		s.t.Fatal(err)
	}
}

// upgrade runs one to its end, and returns it with how long it took.
func (s *sea) upgrade(during func(i int)) (model.Upgrade, time.Duration) {
	s.t.Helper()
	for range 130 {
		s.pass()
	}
	p, err := s.Upload(strings.NewReader("program"))
	if err != nil {
		s.t.Fatal(err)
	}
	if _, err := s.Start(context.Background(), model.UpgradeRequest{Hash: p.Hash}); err != nil {
		s.t.Fatal(err)
	}
	began := s.now
	for i := 0; s.Newest().Ended == nil; i++ {
		if during != nil {
			during(i)
		}
		if s.pass(); i > 1000 {
			s.t.Fatalf("no end: %+v", s.Newest())
		}
	}
	return *s.Newest(), s.now.Sub(began)
}

func (s *sea) have(hash string) (n int) {
	for _, b := range s.proxies {
		if b.Build == hash {
			n++
		}
	}
	return n
}

// TestFiveHundred: a fleet of 500 has a program within two minutes, also when the service is
// started again meanwhile.
func TestFiveHundred(t *testing.T) {
	s := newSea(t, 500)
	u, took := s.upgrade(func(i int) {
		if i == 40 {
			s.open()
		}
	})
	if u.State != model.UpgradeCompleted || took > 2*time.Minute || s.have(u.Hash) != 500 || len(u.Waves[0].Proxies) != 25 {
		t.Errorf("%s (%s) after %s: %d have it", u.State, u.Why, took, s.have(u.Hash))
	}
	t.Logf("500 proxies in %s", took)
}

// TestTakenBack: of a bad program no more than the first wave is touched.
func TestTakenBack(t *testing.T) {
	for _, c := range []struct {
		name string
		bad  func(s *sea, i int)
		why  string
	}{
		{"a third fails", func(s *sea, i int) {
			for _, b := range s.proxies {
				b.bad = 0.3
			}
		}, "wave 1: success"},
		{"one fails to start", func(s *sea, i int) {
			for _, b := range s.proxies {
				if !b.takes.IsZero() && b.next != old {
					b.takes = time.Time{}
					b.Upgrade = &wire.UpgradeReport{Upgrade: s.Newest().Number, Failed: "exit status 3"}
				}
			}
		}, "exit status 3"},
		{"one ends", func(s *sea, i int) {
			for _, b := range s.proxies {
				if b.Build != old && i > 20 {
					b.IsConnected = false
					return
				}
			}
		}, "is gone"},
		{"one takes all memory", func(s *sea, i int) {
			for _, b := range s.proxies {
				if b.Build != old {
					b.Memory += 10 << 20
				}
			}
		}, "wave 1: memory"},
		{"one never comes", func(s *sea, i int) {
			for _, b := range s.proxies {
				if !b.takes.IsZero() {
					b.takes = s.now.Add(time.Hour)
				}
			}
		}, "does not have the program after 1m30s"},
	} {
		s := newSea(t, 100)
		touched := 0
		u, _ := s.upgrade(func(i int) {
			c.bad(s, i)
			touched = max(touched, 100-s.have(old))
		})
		if u.State != model.UpgradeTakenBack || !strings.Contains(u.Why, c.why) || touched > 5 {
			t.Errorf("%s: %s: %q, %d touched", c.name, u.State, u.Why, touched)
		}
	}
}
