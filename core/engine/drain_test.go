package engine

import (
	"math"
	"testing"
	"time"

	"nightjar/core/rules"
)

// TestDrain: instances of a site that is drained give the part away that they are to, to
// instances elsewhere, and nothing is refused where there are none.
func TestDrain(t *testing.T) {
	list := []Instance{
		{ID: "n1", Service: "s", Version: "v1", Site: "north", Address: "10.0.0.1:1"},
		{ID: "n2", Service: "s", Version: "v1", Site: "north", Address: "10.0.0.2:1"},
		{ID: "s1", Service: "s", Version: "v1", Site: "south", Address: "10.0.0.3:1"},
		{ID: "s2", Service: "s", Version: "v1", Site: "south", Address: "10.0.0.4:1"},
		{ID: "n3", Service: "alone", Version: "v1", Site: "north", Address: "10.0.0.5:1"},
	}
	failover := "failover: {order: [north, south], below: 50%}, "
	route := func(send string) string { return "routes: [{name: all, send: " + send + "}]" }
	for _, c := range []struct {
		name, service string
		leaves        float64
		away          string // instances that are sidelined or lost: none, or a site
		want          float64
	}{
		{"no drain", route("v1"), 0, "", 0.5},
		{"half, weights", route("v1"), 0.5, "", 1.0 / 3},
		{"all, weights", route("v1"), 1, "", 0},
		{"failover, no drain", failover + route("v1"), 0, "", 1},
		{"failover, a quarter", failover + route("v1"), 0.25, "", 0.75},
		{"failover, all", failover + route("v1"), 1, "", 0},
		{"all, and the other site is down", route("v1"), 1, "south", 1},
		{"all by failover, and the other site is down", failover + route("v1"), 1, "south", 1},
		{"by hash", "balance: 'hash:header:x', " + route("v1"), 1, "", 0},
		{"least busy", "balance: least-busy, " + route("v1"), 1, "", 0},
		{"bound to the site", route("v1@north"), 0.6, "", 1},
		{"bound to the site, otherwise elsewhere, a part", "routes: [{name: all, send: v1@north, otherwise: v1@south}]", 0.6, "", 0.4},
		{"bound to the site, otherwise elsewhere, all", "routes: [{name: all, send: v1@north, otherwise: v1@south}]", 1, "", 0},
		{"bound to the site, otherwise there too", "routes: [{name: all, send: v1@north, otherwise: v1@north}]", 1, "", 1},
	} {
		rs, found := rules.Check([]rules.File{{Name: "f", Text: "sites: [north, south]\nservices: {s: {versions: [v1], " + c.service + "}, alone: {versions: [v1]}}"}}, rules.Live{})
		if n := rules.Mistakes(found); n > 0 {
			t.Fatalf("%s: %s", c.name, found[0].Text())
		}
		table, err := Compile(rs, list, Options{Seed: 7, Site: "west", Leaves: map[string]float64{"north": c.leaves}})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range table.services["s"].all.peers {
			p.SetShut(p.Site == c.away, 0)
		}
		north, all := 0, 4000
		for range all {
			var x Exchange
			step := x.Begin(table, Entry{Service: "s"}, get("s", "/", "X: a"), time.Minute)
			if step.Instance == nil {
				t.Fatalf("%s: refused: %+v", c.name, step)
			}
			if step.Instance.Site == "north" {
				north++
			}
			x.Next(Outcome{Status: 200}, time.Minute)
			x.End(Finished, time.Minute)
		}
		if got := float64(north) / float64(all); math.Abs(got-c.want) > 0.03 {
			t.Errorf("%s: %.3f of the requests stay, not %.3f", c.name, got, c.want)
		}
		var x Exchange
		if step := x.Begin(table, Entry{Service: "alone"}, get("alone", "/"), time.Minute); step.Instance == nil {
			t.Errorf("%s: a service that runs nowhere else is refused", c.name)
		}
	}
}
