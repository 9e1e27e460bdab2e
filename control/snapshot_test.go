package control

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/wire"
)

// told is what a line of news says, in short.
func told(n *News) string {
	if n == nil {
		return "nothing new"
	}
	if n.Nothing {
		return "nothing for it"
	}
	s := n.snap
	var parts []string
	for _, v := range s.Services {
		parts = append(parts, v.Name)
	}
	for _, v := range s.GoneServices {
		parts = append(parts, "-"+v)
	}
	for _, in := range s.Instances {
		parts = append(parts, "@"+in.ID)
	}
	for _, id := range s.GoneInstances {
		parts = append(parts, "-@"+id)
	}
	if s.Rest != nil {
		parts = append(parts, fmt.Sprintf("rest:%d", len(s.Rest.Gateways)))
	}
	return fmt.Sprintf("whole=%t r%d %s", s.Whole, s.Revision, strings.Join(parts, " "))
}

const four = `services:
  kiosk: {versions: [v1], calls: [sailings]}
  sailings: {versions: [v1], routes: [{name: all, send: v1, otherwise: %s}]}
  fares: {versions: [v1], timeout: %s}
  tides: {versions: [v1]}
gateways:
  front: {listen: ":8080", hosts: [a.example], routes: [{name: all, send: %s}]}
  back: {listen: ":8081", hosts: [b.example], routes: [{name: all, send: tides}]}
`

// TestNews: a proxy is told only what it needs and does not have yet.
func TestNews(t *testing.T) {
	k := newClock(t)
	publish := func(otherwise, timeout, front string) {
		t.Helper()
		k.mustPublish(fmt.Sprintf(four, otherwise, timeout, front))
	}
	publish("v1", "1s", "fares")
	for _, r := range []wire.Registration{{ID: "kiosk-1", Service: "kiosk", Version: "v1"}, {ID: "fares-1", Service: "fares", Version: "v1", Inbound: "127.0.0.1:1"}, {ID: "sailings-1", Service: "sailings", Version: "v1", Inbound: "127.0.0.1:2"}, {ID: "front-1", Gateway: "front"}} {
		r.Nonce = "n"
		if _, err := k.Register(r); err != nil {
			t.Fatal(err)
		}
	}
	seen := map[string]uint64{}
	expect := func(when string, want map[string]string) {
		t.Helper()
		for id, w := range want {
			n, _ := k.News(id, seen[id])
			if got := told(n); got != w {
				t.Errorf("%s, %s is told %q, want %q", when, id, got, w)
			}
			if n != nil {
				seen[id] = n.Sequence
			}
		}
	}
	expect("at first", map[string]string{
		"kiosk-1": "whole=true r1 kiosk sailings @sailings-1 rest:0", // itself, whom it calls, and no gateway
		"front-1": "whole=true r1 fares @fares-1 rest:1",
		"fares-1": "whole=true r1 fares kiosk sailings tides @fares-1 @sailings-1 rest:2"})
	publish("v1", "2s", "fares")
	expect("with another timeout of fares", map[string]string{"kiosk-1": "whole=false r2 ", "front-1": "whole=false r2 fares", "fares-1": "whole=false r2 fares"})
	expect("then", map[string]string{"kiosk-1": "nothing new", "fares-1": "nothing new"})
	k.Withdraw("fares-1", "n")
	expect("when an instance leaves", map[string]string{"kiosk-1": "nothing for it", "front-1": "whole=false r0 -@fares-1"})
	publish("fares/v1", "2s", "fares")
	expect("when a route leads to another service", map[string]string{"kiosk-1": "whole=true r3 fares kiosk sailings @sailings-1 rest:0", "front-1": "whole=false r3 "})
	publish("v1", "2s", "tides")
	expect("when a gateway leads elsewhere", map[string]string{"front-1": "whole=true r4 tides rest:1"})
	k.mustPublish("services: {kiosk: {versions: [v1]}, sailings: {versions: [v1]}}")
	expect("when services go, and nobody says whom it calls", map[string]string{"kiosk-1": "whole=true r5 kiosk sailings @sailings-1 rest:0", "nobody": "whole=true r5 kiosk sailings @sailings-1 rest:0"})

	at := seen["nobody"]
	for i := range maxGone + 10 { // more is forgotten than is remembered
		id := fmt.Sprint("passing-", i)
		if _, err := k.Register(wire.Registration{ID: id, Nonce: "n", Service: "sailings", Version: "v1", Inbound: "127.0.0.1:3"}); err != nil {
			t.Fatal(err)
		}
		k.Withdraw(id, "n")
	}
	if n, _ := k.News("nobody", at); !n.snap.Whole {
		t.Error("a proxy that missed too much is told a part")
	}
	if n, _ := k.News("nobody", k.ledger.sequence-2); n.snap.Whole || len(n.snap.GoneInstances) != 1 {
		t.Errorf("one that missed little: %s", told(n))
	}
}

// TestMistrust: one lost instance leaves its pool; most of a version at once
// are doubted and called on, until some are back or it is too long ago.
func TestMistrust(t *testing.T) {
	k := newClock(t)
	for _, id := range []string{"a", "b", "c"} {
		k.register(id, "s", "v1")
	}
	state := func() string {
		text := ""
		for _, in := range k.instances() {
			if text += in.ID; in.Doubted {
				text += "?"
			}
		}
		return text
	}
	later := func(d time.Duration, alive ...string) {
		for end := k.now.Add(d); k.now.Before(end); {
			k.now = k.now.Add(time.Second)
			for _, id := range alive {
				k.register(id, "s", "v1")
			}
			k.expire(k.now)
		}
	}
	later(LeaseTime+2*time.Second, "a", "b")
	if got := state(); got != "ab" {
		t.Errorf("with one of three lost: %s", got)
	}
	k.register("c", "s", "v1")
	later(LeaseTime+2*time.Second, "a")
	if got := state(); got != "ab?c?" {
		t.Errorf("with two of three lost: %s", got)
	}
	if f := k.Fleet(); f[0].Doubted || !f[1].Doubted {
		t.Errorf("fleet: %+v", f)
	}
	k.register("b", "s", "v1")
	later(time.Second, "a", "b")
	if got := state(); got != "ab" {
		t.Errorf("with one of them back: %s", got)
	}
	later(LeaseTime + 2*time.Second)
	if got := state(); got != "a?b?" {
		t.Errorf("with all lost: %s", got)
	}
	k.Withdraw("a", "n-a")
	if got := state(); got != "b?" {
		t.Errorf("who says that it leaves is believed: %s", got)
	}
	later(doubtTime)
	if got := state(); got != "" {
		t.Errorf("much later: %s", got)
	}
	k.register("a", "s", "v1")
	k.mustPublish("services: {s: {versions: [v1], guard: {sideline: {after: 3, for: 20s, most: 100%, counts: [5xx]}}}}")
	later(LeaseTime + 2*time.Second)
	if got := state(); got != "" {
		t.Errorf("where the rules let all be taken out: %s", got)
	}
}

// TestAClockThatJumps: a day ahead or back loses nobody who is alive.
func TestAClockThatJumps(t *testing.T) {
	k := newClock(t)
	for _, id := range []string{"a", "b", "c"} {
		k.register(id, "s", "v1")
	}
	if _, err := k.Attach("c", "n-c"); err != nil {
		t.Fatal(err)
	}
	for _, jump := range []time.Duration{24 * time.Hour, -48 * time.Hour} {
		k.now = k.now.Add(jump)
		k.expire(k.now)
		if n := len(k.instances()); n != 3 {
			t.Fatalf("after a jump by %s: %d instances", jump, n)
		}
		for _, id := range []string{"a", "b", "c"} { // as they renew
			k.register(id, "s", "v1")
		}
		k.expire(k.now)
		for _, m := range k.Fleet() {
			if m.Doubted {
				t.Errorf("after a jump by %s %s is still doubted", jump, m.ID)
			}
		}
	}
}

// TestTakeOver: a process that takes over keeps the name while the one before
// is still connected.
func TestTakeOver(t *testing.T) {
	k := newClock(t)
	k.register("a", "s", "v1")
	if _, err := k.Attach("a", "n-a"); err != nil {
		t.Fatal(err)
	}
	r := wire.Registration{ID: "a", Nonce: "new", Service: "s", Version: "v1", Inbound: "127.0.0.1:1"}
	if _, err := k.Register(r); err == nil {
		t.Error("a stranger took the name")
	}
	r.Takes = "n-a"
	if _, err := k.Register(r); err != nil {
		t.Fatal(err)
	}
	k.Withdraw("a", "n-a") // the one before, at its end
	if len(k.Fleet()) != 1 {
		t.Error("the one before withdrew the new one")
	}
	if _, err := k.Attach("a", "new"); err != nil {
		t.Error(err)
	}
}
