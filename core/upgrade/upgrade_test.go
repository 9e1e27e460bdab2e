package upgrade

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestWaves(t *testing.T) {
	var ids []string
	for i := range 500 {
		ids = append(ids, fmt.Sprintf("%s-%d", []string{"sailings", "kiosk", "berths", "tides", "fares"}[i%5], i))
	}
	waves := Waves(ids, []float64{0.05, 0.25, 1}, 3)
	var sizes []int
	var all []string
	for _, w := range waves {
		sizes = append(sizes, len(w))
		all = append(all, w...)
	}
	if !slices.Equal(sizes, []int{25, 100, 375}) {
		t.Errorf("waves of %d", sizes)
	}
	services := map[string]int{}
	for _, id := range waves[0] {
		services[strings.Split(id, "-")[0]]++
	}
	if len(services) < 4 {
		t.Errorf("the first wave is of %v", services)
	}
	slices.Sort(all)
	slices.Sort(ids)
	if !slices.Equal(all, ids) {
		t.Error("not every proxy is in one wave")
	}
	for _, c := range []struct {
		n      int
		shares []float64
		want   []int
	}{{1, []float64{0.05, 0.25, 1}, []int{1}}, {3, []float64{0.05, 0.25, 1}, []int{1, 2}}, {4, []float64{0.25, 0.5, 1}, []int{1, 1, 2}}, {0, []float64{1}, nil}} {
		var got []int
		for _, w := range Waves(ids[:c.n], c.shares, 1) {
			got = append(got, len(w))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%d proxies: waves of %d instead of %d", c.n, got, c.want)
		}
	}
}

func TestJudge(t *testing.T) {
	ok := Proxy{ID: "a", Before: Count{1000, 999}, Now: Count{1000, 998}, MemoryBefore: 40 << 20, Memory: 45 << 20}
	for _, c := range []struct {
		name   string
		change func(p *Proxy)
		why    string
	}{
		{"as before", func(p *Proxy) {}, ""},
		{"no requests", func(p *Proxy) { p.Now = Count{} }, ""},
		{"few requests, all bad", func(p *Proxy) { p.Now = Count{19, 0} }, ""},
		{"all bad", func(p *Proxy) { p.Now = Count{20, 0} }, "success: 0.00% of 20"},
		{"a little worse, which may be chance", func(p *Proxy) { p.Before, p.Now = Count{1000, 990}, Count{50, 49} }, ""},
		{"worse", func(p *Proxy) { p.Now = Count{1000, 950} }, "success: 95.00% of 1000 requests, 99.90% of 1000 before"},
		{"worse by less than a point", func(p *Proxy) { p.Before, p.Now = Count{100000, 99900}, Count{100000, 99400} }, ""},
		{"bad as before", func(p *Proxy) { p.Before, p.Now = Count{1000, 200}, Count{1000, 210} }, ""},
		{"nothing known of before, and bad", func(p *Proxy) { p.Before, p.Now = Count{}, Count{100, 10} }, "success: 10.00% of 100"},
		{"nothing known of before, and half bad", func(p *Proxy) { p.Before, p.Now = Count{}, Count{100, 55} }, ""},
		{"more memory", func(p *Proxy) { p.Memory = 90 << 20 }, ""},
		{"far more memory", func(p *Proxy) { p.Memory = 200 << 20 }, "memory: a has 200 MiB instead of 40"},
		{"gone", func(p *Proxy) { p.IsGone = true }, "a is gone"},
		{"another process", func(p *Proxy) { p.HasRestarted = true }, "a ended"},
		{"a problem", func(p *Proxy) { p.NewProblems = []string{"listener: taken"} }, "a: listener: taken"},
	} {
		p := ok
		c.change(&p)
		if why := Judge([]Proxy{p}); c.why == "" && why != "" || !strings.Contains(why, c.why) {
			t.Errorf("%s: %q", c.name, why)
		}
	}
	// A healthy program is not sent back by chance, and a failing one is found among others.
	rng := rand.New(rand.NewPCG(1, 2))
	wrong, found := 0, 0
	const runs = 400
	for range runs {
		draw := func(p float64) (c Count) {
			for range 300 {
				c.Requests++
				if rng.Float64() < p {
					c.OK++
				}
			}
			return c
		}
		var same, worse []Proxy
		for i := range 5 {
			same = append(same, Proxy{ID: "a", Before: draw(0.98), Now: draw(0.98)})
			bad := 0.98
			if i == 0 {
				bad = 0.7
			}
			worse = append(worse, Proxy{ID: "a", Before: draw(0.98), Now: draw(bad)})
		}
		if Judge(same) != "" {
			wrong++
		}
		if Judge(worse) != "" {
			found++
		}
	}
	if wrong > runs/20 || found < runs*95/100 {
		t.Errorf("of %d, %d healthy ones sent back, %d bad ones found", runs, wrong, found)
	}
}
