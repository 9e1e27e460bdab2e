package trial

import (
	"math"
	"testing"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
)

func perSecond(n float64) rules.Rate { return rules.Rate{Count: n, Per: time.Second} }

func dues(a *Arrivals) (out []time.Duration) {
	for d, ok := a.Next(); ok; d, ok = a.Next() {
		out = append(out, d)
	}
	return out
}

func TestArrivalsFollowTheirShape(t *testing.T) {
	between := func(list []time.Duration, from, to time.Duration) (n int) {
		for _, d := range list {
			if d >= from && d < to {
				n++
			}
		}
		return n
	}
	s := time.Second
	for _, c := range []struct {
		name   string
		load   rules.Load
		warm   time.Duration
		slack  int
		counts map[[2]time.Duration]int
	}{
		{"even", rules.Load{Rate: perSecond(40)}, 3 * s, 1, map[[2]time.Duration]int{{-3 * s, 0}: 120, {0, 12 * s}: 480, {12 * s, 99 * s}: 0, {5 * s, 6 * s}: 40}},
		{"steps", rules.Load{Steps: []rules.Rate{perSecond(10), perSecond(30), perSecond(5)}}, s, 1, map[[2]time.Duration]int{{-s, 0}: 10, {0, 4 * s}: 40, {4 * s, 8 * s}: 120, {8 * s, 12 * s}: 20}},
		{"spike over two steps", rules.Load{Steps: []rules.Rate{perSecond(10), perSecond(20)}, Spike: &rules.Spike{Rate: perSecond(100), After: 5 * s, For: 2 * s}}, 0, 1,
			map[[2]time.Duration]int{{0, 5 * s}: 50, {5 * s, 7 * s}: 200, {7 * s, 12 * s}: 100}},
		{"random", rules.Load{Rate: perSecond(1000), Random: true}, s, 440, map[[2]time.Duration]int{{-s, 0}: 1000, {0, 12 * s}: 12000}},
	} {
		list := dues(NewArrivals(&c.load, c.warm, 12*s, 7))
		for i := range list[1:] {
			if list[i+1] < list[i] {
				t.Fatalf("%s: %v after %v", c.name, list[i+1], list[i])
			}
		}
		total := 0
		for span, want := range c.counts {
			if got := between(list, span[0], span[1]); got < want-c.slack || got > want+c.slack {
				t.Errorf("%s: %d requests from %v to %v, want %d", c.name, got, span[0], span[1], want)
			}
			if span[0] >= 0 && c.name != "even" {
				total += want
			}
		}
		if p := NewArrivals(&c.load, c.warm, 12*s, 7).Planned(); c.name != "even" && math.Abs(p-float64(total)) > 1 {
			t.Errorf("%s: %v planned, want %d", c.name, p, total)
		}
	}
	// Gaps of a Poisson stream have their mean as standard deviation.
	list := dues(NewArrivals(&rules.Load{Rate: perSecond(5000), Random: true}, 0, 12*s, 1))
	sum, squares := 0.0, 0.0
	for i := range list[1:] {
		gap := (list[i+1] - list[i]).Seconds()
		sum, squares = sum+gap, squares+gap*gap
	}
	mean := sum / float64(len(list)-1)
	if cv := math.Sqrt(squares/float64(len(list)-1)-mean*mean) / mean; math.Abs(cv-1) > 0.02 {
		t.Errorf("the gaps vary by %.3f of their mean, want 1", cv)
	}
}

func TestSharesAreExact(t *testing.T) {
	p := NewPicks(&rules.Load{Shares: []rules.LoadShare{{Of: 5_000}, {Of: 20_000}}})
	counts := map[int]int{}
	for i := 1; i <= 2000; i++ {
		counts[p.Next()]++
		for share, of := range map[int]float64{0: 0.05, 1: 0.20, -1: 0.75} {
			if off := math.Abs(float64(counts[share]) - of*float64(i)); off > 2.5 {
				t.Fatalf("after %d requests %d are of share %d", i, counts[share], share)
			}
		}
	}
}

func TestJudge(t *testing.T) {
	tally := Tally{Versions: map[string]uint64{"sailings/v1": 850, "sailings/v2": 150, "kiosk/v1": 5000}}
	tally.OK, tally.Failed, tally.Refused, tally.FirstOK, tally.Tries = 985, 5, 10, 900, 1100
	limited, _ := engine.Limited.Number()
	tally.Reasons[limited] = 10
	for i := range 1000 {
		tally.Observe(time.Duration(i+1) * time.Millisecond)
	}
	for _, c := range []struct {
		text     string
		left     uint64
		met      bool
		sure     bool
		hopeless bool
		measured string
	}{
		{"success >= 98.5%", 0, true, false, false, "98.50% (97.54% to 99.09%)"},
		{"success >= 90%", 0, true, true, false, ""},
		{"success > 98.5%", 0, false, false, true, ""},
		{"success >= 99%", 500, false, false, false, ""}, // 1485 of 1500 would do
		{"success >= 99%", 499, false, false, true, ""},
		{"success >= 99.9%", 100, false, true, true, ""},
		{"success <= 90%", 20_000, false, true, false, ""},
		{"first-try >= 90%", 0, true, false, false, "90.00% (87.98% to 91.71%)"},
		{"share(sailings/v2) = 15% ± 2%", 0, true, false, false, "15.00% (12.92% to 17.35%)"},
		{"share(sailings/v2) = 15% ± 3%", 0, true, true, false, ""},
		{"share(sailings/v2) = 30% ± 1%", 100, false, true, true, ""},
		{"share(sailings/v2) = 30% ± 1%", 250, false, true, false, ""},
		{"refused(limited) = 0", 1000, false, true, true, "10"},
		{"refused <= 10", 0, true, true, false, "10"},
		{"refused(overflow) = 0", 10, true, true, false, "0"},
		{"failed < 5", 0, false, true, true, "5"},
		{"requests >= 1200", 200, false, true, false, "1000"},
		{"rps >= 99", 0, true, true, false, "100"},
		{"load-factor <= 1.1", 0, true, true, false, "1.1"},
		{"load-factor <= 1", 99, false, true, true, ""},
		{"p99 <= 1s", 0, true, true, false, ""},
		{"p95 <= 900ms", 0, false, true, true, ""},
		{"p95 <= 900ms", 1200, false, true, false, ""}, // the fast half can still come
		{"p50 <= 100ms", 500, false, true, true, ""},
		{"p50 >= 2s", 999, false, true, true, ""},
		{"p50 >= 2s", 1002, false, true, false, ""},
	} {
		e, err := rules.ParseExpectation(c.text)
		if err != nil {
			t.Fatal(err)
		}
		j := Judge(&e, &tally, 10, c.left)
		if j.Met != c.met || j.Sure != c.sure || j.Hopeless != c.hopeless || c.measured != "" && j.Measured != c.measured {
			t.Errorf("%s with %d to come: met %v, sure %v, hopeless %v, %s", c.text, c.left, j.Met, j.Sure, j.Hopeless, j.Measured)
		}
	}
	e, _ := rules.ParseExpectation("success >= 50%")
	if j := Judge(&e, &Tally{}, 10, 0); j.Met || j.Value != nil || j.Measured != "no requests" {
		t.Errorf("without requests: %+v", j)
	}
	if j := Judge(&e, &Tally{}, 10, 5); j.Hopeless {
		t.Error("there is hope before the first request")
	}
}
