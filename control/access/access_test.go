package access

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/wire"
)

const mesh = `
services: {kiosk: {}, sailings: {}, fares: {identity: optional}, tides: {identity: none}, away: {versions: [v1], instances: [{at: "http://127.0.0.1:9", version: v1}]}}
gateways: {door: {listen: ":80", hosts: ["*"], routes: [{name: all, send: kiosk}]}}
access:
  default: deny
  rules:
    - {name: a, from: [kiosk], to: [sailings], allow: {method: GET}}
    - {name: b, from: [gateway/door, kiosk], to: [fares], allow: all}
    - {name: c, from: [anyone], to: [tides], allow: all}
`

// open is Access over a store of its own, at a time that the test moves.
func open(t *testing.T, dir string, now *time.Time) *Access {
	t.Helper()
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	rs, found := rules.Check([]rules.File{{Name: "f", Text: mesh}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found)
	}
	return New(Config{
		Records: st,
		Current: func() revisions.Current { return revisions.Current{Rules: rs} },
		Sites:   func(string) []string { return nil },
		Now:     func() time.Time { return *now },
	})
}

// requests are some that were answered and some that access rules refused.
func requests(s wire.Series, ok, refused uint64) wire.Series {
	s.Counts = stats.Counts{OK: ok, Refused: refused}
	s.Counts.Reasons[deniedNumber] = refused
	return s
}

// TestMatrix: what callers' proxies and workloads' proxies report comes together without
// counting anything twice, also over a restart, and is forgotten after two weeks.
func TestMatrix(t *testing.T) {
	now, dir := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC), t.TempDir()
	a := open(t, dir, &now)
	unproven := wire.Series{App: true, Service: "fares", Instance: "fares-1", Counts: stats.Counts{OK: 4, CallerFault: 3}}
	unproven.Counts.Reasons[deniedNumber] = 3
	deltas := []wire.Delta{
		{Caller: "kiosk", Series: wire.SeriesList{
			requests(wire.Series{Service: "sailings", Version: "v1", Instance: "sailings-1"}, 10, 0),
			requests(wire.Series{Service: "sailings"}, 0, 2), // refused by its own proxy
			requests(wire.Series{Service: wire.Other}, 9, 9),
		}},
		{Caller: "door", Series: wire.SeriesList{requests(wire.Series{Service: "fares", Version: "v1", Instance: "fares-1"}, 5, 0)}},
		{Caller: "fares", Watched: []wire.Watched{{From: "kiosk", Rule: "soon", Requests: 6}}, Series: wire.SeriesList{
			requests(wire.Series{App: true, Caller: "door", Service: "fares", Instance: "fares-1"}, 5, 0),
			requests(wire.Series{App: true, Caller: "tides", Service: "fares", Instance: "fares-1"}, 0, 1), // it came without its proxy
			unproven,
		}},
		{Caller: "nightjar", Series: wire.SeriesList{requests(wire.Series{Service: "sailings", Version: "v1", Instance: "sailings-1"}, 1, 0)}},
	}
	report := func() {
		t.Helper()
		for i := range deltas {
			a.Count(&deltas[i])
		}
		if err := a.Write(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	check := func(what string, times uint64, want map[string]string) {
		t.Helper()
		m, err := a.Matrix(context.Background(), "", "")
		if err != nil {
			t.Fatal(err)
		}
		if len(m.Links) != len(want) {
			t.Errorf("%s: %+v", what, m.Links)
		}
		for _, l := range m.Links {
			got := l.State + " " + strings.Join(l.Rules, "+")
			for _, n := range []uint64{l.Used, l.Refused, l.Watched} {
				got += " " + string(rune('0'+n/times))
			}
			if want[l.From+">"+l.To] != got {
				t.Errorf("%s: %s to %s: %s, want %s", what, l.From, l.To, got, want[l.From+">"+l.To])
			}
		}
	}
	report()
	want := map[string]string{
		"kiosk>sailings":     "partly a : 2 0",
		"kiosk>fares":        "allowed b 0 0 6",
		"gateway/door>fares": "allowed b 5 0 0",
		"tides>fares":        "denied  0 1 0",
		">fares":             "denied  4 3 0",
		"nightjar>sailings":  "allowed  1 0 0",
	}
	check("at once", 1, want)
	a.Records.(*store.Store).Close()
	a = open(t, dir, &now)
	now = now.Add(24 * time.Hour)
	report()
	check("two days, and a restart between them", 2, want)

	links := a.Links(context.Background(), []rules.Link{{From: "kiosk", To: "sailings", Rate: 3}, {From: "nightjar", To: "sailings", Rate: 1}})
	if len(links) != 2 || links[0].From != "door" || links[0].Recent != 10 || links[1].Recent != 20 || links[1].Rate != 3 {
		t.Errorf("links: %+v", links)
	}
	s, err := a.Suggest(context.Background())
	if err != nil || s.Links != 2 || s.Requests != 30 {
		t.Errorf("%+v, %v", s, err)
	}
	rs, found := rules.Check([]rules.File{{Name: "f", Text: strings.Split(mesh, "access:")[0]}, {Name: "a", Text: s.File.Text}}, rules.Live{})
	if rules.Mistakes(found) > 0 || len(rs.RefusedLinks(links)) > 0 || len(rs.Access.Rules) != 2 {
		t.Errorf("what is suggested lets in what is used:\n%s\n%v", s.File.Text, found)
	}
	if state, _ := rs.Permission(rules.Link{From: "door", To: "sailings"}); state != rules.Forbidden {
		t.Error("and nothing else")
	}
	now = now.Add(16 * 24 * time.Hour)
	if err := a.Write(context.Background()); err != nil {
		t.Fatal(err)
	}
	check("two weeks later", 1, map[string]string{
		"kiosk>sailings":     "partly a 0 0 0",
		"kiosk>fares":        "allowed b 0 0 0",
		"gateway/door>fares": "allowed b 0 0 0",
	})
}

// TestOutsideServices ask nobody for an identity.
func TestOutsideServices(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	a := open(t, t.TempDir(), &now)
	a.Count(&wire.Delta{Caller: "kiosk", Series: wire.SeriesList{requests(wire.Series{Service: "away", Version: "v1", Instance: "x"}, 1, 0), requests(wire.Series{Service: "sailings", Version: "v1", Instance: "y"}, 1, 0)}})
	m, err := a.Matrix(t.Context(), "kiosk", "")
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, l := range m.Links {
		got[l.To] = l.Identity
	}
	if got["away"] != "" || got["sailings"] != "required" {
		t.Errorf("%v", got)
	}
}

// TestAddressesAreBounded: whoever calls without an identity from many addresses fills
// nothing.
func TestAddressesAreBounded(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	a := open(t, t.TempDir(), &now)
	for i := range 300 {
		a.Count(&wire.Delta{Caller: "fares", Unproven: []wire.Unproven{{Address: fmt.Sprintf("10.0.%d.%d", i/256, i%256), Requests: 1}}})
	}
	a.Count(&wire.Delta{Caller: "fares", Unproven: []wire.Unproven{{Address: "not an address", Requests: 1}}})
	m, err := a.Matrix(t.Context(), "", "fares")
	if err != nil {
		t.Fatal(err)
	}
	total, others := uint64(0), uint64(0)
	for _, u := range m.Unproven {
		if total += u.Requests; u.Address == wire.Other {
			others = u.Requests
		}
	}
	if len(m.Unproven) != maxAddresses+1 || total != 301 || others != 301-maxAddresses {
		t.Errorf("%d addresses, %d requests, %d of others", len(m.Unproven), total, others)
	}
	for _, l := range m.Links {
		if l.From == "" && l.Used > 0 {
			t.Errorf("they are counted once more: %+v", l)
		}
	}
}
