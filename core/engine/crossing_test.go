package engine

import (
	"testing"

	"nightjar/core/rules"
)

// TestCrossings: what is at another site is called through the crossing there, if there is
// one, and by mutual TLS then, and its connections are kept apart from all others.
func TestCrossings(t *testing.T) {
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: `
sites: {north: {crossing: "n.example:7443"}, south: {reach: direct}}
services:
  s: {versions: [v1]}
  open: {versions: [v1], identity: none}
  away: {versions: [v1], instances: [{at: "http://10.0.0.9:80", version: v1, site: north}]}
`}}, rules.Live{})
	at := func(id, service, site string, isMember bool) Instance {
		return Instance{ID: id, Service: service, Version: "v1", Site: site, Address: "10.0.0.1:80", Member: isMember}
	}
	list := []Instance{
		at("a", "s", "north", true), at("b", "s", "north", true), at("c", "s", "south", true), at("d", "s", "", true),
		at("e", "open", "north", true), at("f", "open", "south", true), at("g", "open", "north", false),
	}
	const via = "n.example:7443"
	north, south, none := way{Mutual: true}, way{Mutual: true, IsFar: true}, way{Mutual: true}
	across := way{Mutual: true, Via: via, IsFar: true}
	for site, want := range map[string]map[string]way{
		"north": {"a": north, "b": north, "c": south, "d": none, "e": {}, "f": {IsFar: true}, "g": {}, "away@10.0.0.9:80": {}},
		"south": {"a": across, "b": across, "c": north, "d": none, "e": across, "f": {}, "g": {IsFar: true}, "away@10.0.0.9:80": {IsFar: true}},
		"":      {"a": across, "b": across, "c": none, "d": none, "e": across, "f": {}, "g": {}, "away@10.0.0.9:80": {}},
	} {
		table, err := Compile(rs, list, Options{Site: site})
		if err != nil {
			t.Fatal(err)
		}
		keys := map[string]string{}
		for _, s := range table.services {
			for _, p := range s.all.peers {
				if p.way != want[p.ID] {
					t.Errorf("from %q, %s: %+v", site, p.ID, p.way)
				}
				if p.Via != "" && keys[p.Key] != "" {
					t.Errorf("%s shares its connections with %s", p.ID, keys[p.Key])
				}
				keys[p.Key] = p.ID
			}
		}
		again, err := Compile(&rules.Rules{Services: rs.Services}, list, Options{Site: site, Previous: table})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range again.services["s"].all.peers {
			if p.Via != "" {
				t.Errorf("from %q, %s is called through a crossing that is gone", site, p.ID)
			}
		}
	}
}
