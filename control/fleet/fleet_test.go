package fleet

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/journal"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// discard is a store that keeps nothing.
type discard struct{ journal.Records }

func (discard) Apply(context.Context, ...store.Change) error { return nil }

// clock is a Fleet with its own time.
type clock struct {
	*Fleet
	t        *testing.T
	now      time.Time
	revision uint
}

func newClock(t *testing.T) *clock {
	k := &clock{t: t, now: time.Date(2026, 11, 23, 22, 40, 0, 0, time.UTC)}
	k.Fleet = New(Config{Mesh: "m", Journal: journal.New(discard{}), Now: func() time.Time { return k.now }})
	return k
}

func (k *clock) publish(text string) {
	k.t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "a.yaml", Text: text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		k.t.Fatal(found)
	}
	k.revision++
	k.SetRules(rs, k.revision, k.now)
}

func (k *clock) register(id, service, version string) {
	k.t.Helper()
	if _, err := k.Register(wire.Registration{ID: id, Nonce: "n-" + id, Service: service, Version: version, Inbound: "127.0.0.1:1"}); err != nil {
		k.t.Fatal(err)
	}
}

// read is the snapshot that an update carries.
func read(t *testing.T, u *Update) (s wire.Snapshot) {
	t.Helper()
	if err := json.Unmarshal(u.Line(), &s); err != nil {
		t.Fatal(err)
	}
	return s
}

// told is an update in short.
func told(t *testing.T, n *Update) string {
	if n == nil {
		return "nothing new"
	}
	if n.IsEmpty {
		return "nothing for it"
	}
	s := read(t, n)
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

// TestUpdates: a proxy gets only what it needs and does not have yet.
func TestUpdates(t *testing.T) {
	k := newClock(t)
	publish := func(otherwise, timeout, front string) {
		t.Helper()
		k.publish(fmt.Sprintf(four, otherwise, timeout, front))
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
			n, _ := k.Next(id, seen[id])
			if got := told(t, n); got != w {
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
	k.publish("services: {kiosk: {versions: [v1]}, sailings: {versions: [v1]}}")
	expect("when services go, and nobody says whom it calls", map[string]string{"kiosk-1": "whole=true r5 kiosk sailings @sailings-1 rest:0", "nobody": "whole=true r5 kiosk sailings @sailings-1 rest:0"})

	at := seen["nobody"]
	for i := range maxRemovals + 10 { // more is forgotten than is remembered
		id := fmt.Sprint("passing-", i)
		if _, err := k.Register(wire.Registration{ID: id, Nonce: "n", Service: "sailings", Version: "v1", Inbound: "127.0.0.1:3"}); err != nil {
			t.Fatal(err)
		}
		k.Withdraw(id, "n")
	}
	if n, _ := k.Next("nobody", at); !read(t, n).Whole {
		t.Error("a proxy that missed too much is told a part")
	}
	if n, _ := k.Next("nobody", k.Sequence()-2); read(t, n).Whole || len(read(t, n).GoneInstances) != 1 {
		t.Errorf("one that missed little: %s", told(t, n))
	}
}

// TestUnconfirmed: one lost instance leaves its pool; most of a version at once
// stay in it, unconfirmed, until some are back or it is too long ago.
func TestUnconfirmed(t *testing.T) {
	k := newClock(t)
	for _, id := range []string{"a", "b", "c"} {
		k.register(id, "s", "v1")
	}
	state := func() string {
		text := ""
		for _, in := range k.Instances() {
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
			k.Expire(k.now)
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
	if f := k.List().Proxies; f[0].State == model.ProxyUnconfirmed || f[1].State != model.ProxyUnconfirmed {
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
	later(unconfirmedTime)
	if got := state(); got != "" {
		t.Errorf("much later: %s", got)
	}
	k.register("a", "s", "v1")
	k.publish("services: {s: {versions: [v1], guard: {sideline: {after: 3, for: 20s, most: 100%, counts: [5xx]}}}}")
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
	if _, _, err := k.Attach("c", "n-c"); err != nil {
		t.Fatal(err)
	}
	for _, jump := range []time.Duration{24 * time.Hour, -48 * time.Hour} {
		k.now = k.now.Add(jump)
		k.Expire(k.now)
		if n := len(k.Instances()); n != 3 {
			t.Fatalf("after a jump by %s: %d instances", jump, n)
		}
		for _, id := range []string{"a", "b", "c"} { // as they renew
			k.register(id, "s", "v1")
		}
		k.Expire(k.now)
		for _, m := range k.List().Proxies {
			if m.State == model.ProxyUnconfirmed {
				t.Errorf("after a jump by %s %s is still unconfirmed", jump, m.ID)
			}
		}
	}
}

// TestTakeOver: a process that takes over keeps the name while the one before
// is still connected.
func TestTakeOver(t *testing.T) {
	k := newClock(t)
	k.register("a", "s", "v1")
	if _, _, err := k.Attach("a", "n-a"); err != nil {
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
	if len(k.List().Proxies) != 1 {
		t.Error("the one before withdrew the new one")
	}
	if _, _, err := k.Attach("a", "new"); err != nil {
		t.Error(err)
	}
}

// TestLateAcknowledgements: one that comes after a newer one changes nothing.
func TestLateAcknowledgements(t *testing.T) {
	k := newClock(t)
	k.register("a", "s", "v1")
	if err := k.Acknowledge("a", wire.Ack{}); err == nil {
		t.Error("it was sent nothing yet")
	}
	nonce, _, err := k.Attach("a", "n-a")
	if err != nil {
		t.Fatal(err)
	}
	k.publish("services: {s: {versions: [v1]}}")
	for _, sequence := range []uint64{3, 2} {
		if err := k.Acknowledge("a", wire.Ack{Nonce: nonce, Sequence: sequence, Revision: uint(sequence) - 2}); err != nil {
			t.Fatal(err)
		}
	}
	if p := k.List().Proxies[0]; p.Revision != 1 || p.State != model.ProxyCurrent {
		t.Errorf("it has revision %d, %s", p.Revision, p.State)
	}
}

// TestAStreamThatOutlivesItsLease counts no more, also when the proxy has registered
// again.
func TestAStreamThatOutlivesItsLease(t *testing.T) {
	k := newClock(t)
	for _, id := range []string{"a", "b", "c"} {
		k.register(id, "s", "v1")
	}
	_, detach, err := k.Attach("a", "n-a")
	if err != nil || !k.HasStream("a") {
		t.Fatal(err)
	}
	k.now = k.now.Add(2*LeaseTime + time.Second)
	k.register("b", "s", "v1")
	k.register("c", "s", "v1")
	k.Expire(k.now)
	if k.HasStream("a") {
		t.Error("its lease ran out")
	}
	k.register("a", "s", "v1")
	if k.HasStream("a") {
		t.Error("it has to open another one")
	}
	detach()
	if _, _, err := k.Attach("a", "n-a"); err != nil || !k.HasStream("a") {
		t.Error(err)
	}
}

// TestRolloutDoesNotWaitForNewcomers: a proxy that joins after a publish begins with it.
func TestRolloutDoesNotWaitForNewcomers(t *testing.T) {
	k := newClock(t)
	join := func(id string) (nonce string) {
		k.register(id, "s", "v1")
		nonce, _, err := k.Attach(id, "n-"+id)
		if err != nil {
			t.Fatal(err)
		}
		return nonce
	}
	a := join("a")
	k.publish("services: {s: {versions: [v1]}}")
	published := k.now
	k.now = k.now.Add(time.Second)
	b := join("b")
	want := func(connected, acknowledged, missing int, afterMS float64) {
		t.Helper()
		r, _ := k.rollout(1, published)
		if r.Connected != connected || r.Acknowledged != acknowledged || len(r.Missing) != missing || r.AfterMS != afterMS {
			t.Errorf("%+v", r)
		}
	}
	want(1, 0, 1, 0)
	k.Acknowledge("a", wire.Ack{Nonce: a, Revision: 1})
	want(1, 1, 0, 1000)
	k.now = k.now.Add(time.Second)
	k.Acknowledge("b", wire.Ack{Nonce: b, Revision: 1})
	want(2, 2, 0, 1000)
}

// TestSettle: whoever changes something can wait until the proxies have it, and no
// longer than a limit.
func TestSettle(t *testing.T) {
	k := newClock(t)
	k.register("a", "s", "v1")
	a, _, err := k.Attach("a", "n-a")
	if err != nil {
		t.Fatal(err)
	}
	k.SetDrills([]wire.Drill{{}})
	sequence, began := k.Sequence(), time.Now()
	k.Settle(t.Context(), 20*time.Millisecond)
	if time.Since(began) < 20*time.Millisecond {
		t.Error("it was not waited for")
	}
	done := make(chan struct{})
	go func() { k.Settle(t.Context(), time.Hour); close(done) }()
	k.Acknowledge("a", wire.Ack{Nonce: a, Sequence: sequence - 1})
	select {
	case <-done:
		t.Error("an older snapshot is enough")
	case <-time.After(20 * time.Millisecond):
	}
	k.Acknowledge("a", wire.Ack{Nonce: a, Sequence: sequence})
	<-done
}
