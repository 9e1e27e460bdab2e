package test

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
)

// TestLimitOfTheMesh: six a minute for each pair of values, at two gateways together: the
// seventh is refused wherever it comes in.
func TestLimitOfTheMesh(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	side := l.Addr().String()
	l.Close()
	m.change("    routes:\n      - {name: all, send: {v1: 90, v2: 10}, timeout: 25s}",
		"    routes:\n      - {name: all, limit: {rate: 6/m, scope: mesh, per: [\"header:x-quay\", \"header:x-deck\"]}, send: {v1: 90, v2: 10}, timeout: 25s}",
		"gateways:\n", "gateways:\n  side-door: {listen: \""+side+"\", hosts: [\"*\"], routes: [{name: fares, send: fares}]}\n",
		"from: [gateway/front-door], to: [kiosk, sailings, fares]", "from: [gateway/front-door, gateway/side-door], to: [kiosk, sailings, fares]")
	start(t, "proxy ready", "proxy", "--server", m.addr, "--gateway", "side-door", "--state", t.TempDir())
	front, _ := m.addresses()
	eventually(t, "both gateways serve", func() bool {
		conn, err := net.Dial("tcp", side)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	for _, quay := range []string{"T1", "T2"} {
		for _, deck := range []string{"adult", "child"} {
			limited := 0
			for n := range 9 {
				at := []string{front, side}[n%2]
				a := m.ask(at, "tickets.ferry.example", "/fares/7", "X-Quay", quay, "X-Deck", deck)
				if isOver := n >= 6; (a.status == 429) != isOver {
					t.Errorf("%s %s: request %d: %d %s", quay, deck, n, a.status, a.body)
				}
				if a.status == 429 {
					if limited++; a.head.Get("Retry-After") == "" || !strings.Contains(a.body, "limited") {
						t.Errorf("%v %s", a.head, a.body)
					}
				}
			}
			if limited != 3 {
				t.Errorf("%s %s: %d were refused", quay, deck, limited)
			}
		}
	}
	eventually(t, "both gateways tell their part", func() bool {
		told := 0
		for _, g := range asJSON[model.Service](m, 0, "services", "fares").Guards {
			for _, l := range g.Limits {
				if strings.HasPrefix(g.Proxy, "front-door") || strings.HasPrefix(g.Proxy, "side-door") {
					if l.Shared != nil && l.Shared.IsDealt && l.Keys == 4 {
						told++
					}
				}
			}
		}
		return told == 2
	})
	if out := m.must(0, "explain", "GET", "http://fares/7"); !strings.Contains(out, "6/m, burst 6, per header:x-quay and header:x-deck, for the whole mesh") {
		t.Error(out)
	}
	// A limit that is changed begins anew.
	m.change("rate: 6/m, scope: mesh", "rate: 2/m, scope: mesh")
	got := ""
	for n := range 4 {
		got += fmt.Sprint(m.ask([]string{front, side}[n%2], "tickets.ferry.example", "/fares/7", "X-Quay", "T1", "X-Deck", "adult").status, " ")
		time.Sleep(10 * time.Millisecond)
	}
	if strings.Count(got, "429") != 2 {
		t.Errorf("two a minute: %s", got)
	}
}
