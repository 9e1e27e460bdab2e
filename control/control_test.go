package control

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/identity/authority"
	"nightjar/store"
	"nightjar/wire"
)

// clock is a Control with its own time.
type clock struct {
	*Control
	t     *testing.T
	now   time.Time
	store *store.Store
}

func newClock(t *testing.T) *clock {
	t.Helper()
	return reopen(t, t.TempDir())
}

func reopen(t *testing.T, dir string) *clock {
	t.Helper()
	// By the middle of a second all proxies have reported the one before.
	return reopenAt(t, dir, time.Date(2026, 11, 23, 22, 40, 0, 5e8, time.UTC), nil)
}

// opened are the stores of running tests, by their directories.
var opened sync.Map

// reopenAt is a service that starts at a time.
func reopenAt(t *testing.T, dir string, now time.Time, key ed25519.PrivateKey, edits ...func(*Config)) *clock {
	t.Helper()
	if before, isOpen := opened.LoadAndDelete(dir); isOpen {
		before.(*store.Store).Close() // as when its process was killed
	}
	st, err := store.Open(dir, "test")
	if err != nil {
		t.Fatal(err)
	}
	opened.Store(dir, st)
	t.Cleanup(func() { st.Close() })
	k := &clock{t: t, now: now, store: st}
	ca, err := authority.Open(authority.Config{Dir: dir + "/authority", Now: func() time.Time { return k.now }})
	if err != nil {
		t.Fatal(err)
	}
	c := Config{Store: st, Authority: ca, Program: "test", Key: key, Dir: dir, Now: func() time.Time { return k.now }}
	for _, edit := range edits {
		edit(&c)
	}
	if k.Control, err = New(t.Context(), c); err != nil {
		t.Fatal(err)
	}
	return k
}

// snapshot is what a line of news says.
func snapshot(t *testing.T, u *fleet.Update) wire.Snapshot {
	t.Helper()
	var s wire.Snapshot
	if err := json.Unmarshal(u.Line(), &s); err != nil {
		t.Fatal(err)
	}
	return s
}

// eventually waits for what happens in the background.
func (k *clock) eventually(what string, done func() bool) {
	k.t.Helper()
	for range 500 {
		if done() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	k.t.Fatalf("waited 5s for: %s", what)
}

func (k *clock) publish(text string) (model.Published, error) {
	return k.Revisions.Publish(k.t.Context(), revisions.Publication{Bundle: model.MainBundle, Files: []rules.File{{Name: "a.yaml", Text: text}}, Author: "mate"})
}

func (k *clock) mustPublish(text string) model.Published {
	k.t.Helper()
	p, err := k.publish(text)
	if err != nil {
		k.t.Fatal(err)
	}
	return p
}

func (k *clock) register(id, service, version string) {
	k.t.Helper()
	if _, err := k.Fleet.Register(wire.Registration{ID: id, Nonce: "n-" + id, Service: service, Version: version, Inbound: "127.0.0.1:1"}); err != nil {
		k.t.Fatal(err)
	}
}

const two = "services:\n  s:\n    versions: [v1, v2]\n    routes:\n      - {name: crew, when: {path: /crew}, send: v2}\n      - {name: all, send: {v1: 80, v2: 20}}\n"

func firstMistake(m problem.RulesRejected) rules.Finding {
	for _, f := range m.Findings {
		if f.Severity == rules.Mistake {
			return f
		}
	}
	return rules.Finding{}
}

func TestPublishing(t *testing.T) {
	k := newClock(t)
	p := k.mustPublish(two)
	if p.Revision != 1 || len(p.Changes) == 0 || p.Rollout.Connected != 0 {
		t.Errorf("first: %+v", p)
	}
	var mistaken problem.RulesRejected
	if _, err := k.publish(strings.Replace(two, "20", "10", 1)); !errors.As(err, &mistaken) || firstMistake(mistaken).Code != rules.CodeWeights {
		t.Errorf("weights: %v", err)
	}
	old := uint(0)
	var overtaken problem.RevisionConflict
	if _, err := k.Revisions.Publish(t.Context(), revisions.Publication{Bundle: model.MainBundle, Files: []rules.File{{Name: "a"}}, Expect: &old}); !errors.As(err, &overtaken) || overtaken.Current != 1 {
		t.Errorf("overtaken: %v", err)
	}
	var unusable problem.InvalidRequest
	if _, err := k.Revisions.Publish(t.Context(), revisions.Publication{Bundle: "No Name"}); !errors.As(err, &unusable) {
		t.Errorf("bundle name: %v", err)
	}
	if _, err := k.Revisions.Publish(t.Context(), revisions.Publication{Bundle: model.MainBundle, Files: []rules.File{{Name: "a"}, {Name: "a"}}}); !errors.As(err, &unusable) {
		t.Errorf("a file twice: %v", err)
	}
	if n := k.Revisions.Current().Revision.Number; n != 1 {
		t.Errorf("after refusals revision %d is in force", n)
	}

	// A second bundle joins; one that declares the same again is refused, and
	// its positions say whose file it is.
	if _, err := k.Revisions.Publish(t.Context(), revisions.Publication{Bundle: "crew", Files: []rules.File{{Name: "a.yaml", Text: "services: {bunks: {versions: [v1]}}\n"}}}); err != nil {
		t.Fatal(err)
	}
	_, err := k.Revisions.Publish(t.Context(), revisions.Publication{Bundle: "night", Files: []rules.File{{Name: "a.yaml", Text: "services: {s: {}}\n"}}})
	if !errors.As(err, &mistaken) || firstMistake(mistaken).At.File != "night:a.yaml" || firstMistake(mistaken).Also.File != "a.yaml" {
		t.Errorf("declared in two bundles: %v", err)
	}
	if rs := k.Revisions.Current().Rules; rs.Service("s") == nil || rs.Service("bunks") == nil {
		t.Error("a bundle replaced another")
	}

	split, err := k.Revisions.Split(t.Context(), "s", "", []model.Weight{{Target: "v1", Weight: "12.5"}, {Target: "v2", Weight: "87.5"}}, revisions.Publication{Author: "mate"})
	if err != nil || split.Changes[0].After != "v1 12.5, v2 87.5" {
		t.Errorf("split: %+v, %v", split, err)
	}
	if r, _ := k.Revisions.Revision(t.Context(), 0); r.Kind != "split" || r.Message != "split all of s: v1 12.5, v2 87.5" || !strings.Contains(r.Bundles[model.MainBundle][0].Text, "send: {v1: 12.5, v2: 87.5}}") {
		t.Errorf("revision: %+v", r)
	}
	back, err := k.Revisions.Restore(t.Context(), 1, revisions.Publication{Author: "mate", Message: ""})
	if err != nil || back.Revision != 4 || k.Revisions.Current().Rules.Service("bunks") != nil {
		t.Errorf("restore: %+v, %v", back, err)
	}
	if _, err := k.Revisions.Restore(t.Context(), 99, revisions.Publication{Author: "", Message: ""}); !errors.As(err, new(problem.NotFound)) {
		t.Errorf("restore of nothing: %v", err)
	}
}

func TestUnpublishedFiles(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	check := func(text string) []model.Unpublished {
		t.Helper()
		if _, err := k.Revisions.Remember(as(t, "mate"), model.MainBundle, []rules.File{{Name: "a.yaml", Text: text}}); err != nil {
			t.Fatal(err)
		}
		u, err := k.Revisions.Unpublished(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return u
	}
	if u := check("# a comment\n" + two); len(u) != 0 {
		t.Errorf("a comment: %+v", u)
	}
	if u := check("nonsense: 1\n"); len(u) != 1 || u[0].Mistakes != 1 {
		t.Errorf("a mistake: %+v", u)
	}
	other := strings.Replace(two, "80, v2: 20", "70, v2: 30", 1)
	if u := check(other); len(u) != 1 || u[0].Changes != 1 || u[0].By != "mate" {
		t.Errorf("a change: %+v", u)
	}
	k.mustPublish(other)
	if u, _ := k.Revisions.Unpublished(t.Context()); len(u) != 0 {
		t.Errorf("after publishing: %+v", u)
	}
}

func TestLeases(t *testing.T) {
	k := newClock(t)
	k.register("a", "s", "v1")
	k.register("b", "s", "v1")
	_, detach, err := k.Fleet.Attach("b", "n-b")
	if err != nil {
		t.Fatal(err)
	}
	var taken fleet.NameTaken
	if _, err := k.Fleet.Register(wire.Registration{ID: "b", Nonce: "other"}); !errors.As(err, &taken) {
		t.Errorf("a name twice: %v", err)
	}
	if _, _, err := k.Fleet.Attach("ghost", ""); !errors.As(err, new(fleet.NotRegistered)) {
		t.Errorf("attach without registering: %v", err)
	}
	news, changed := k.Fleet.Next("b", 0)
	if s := snapshot(t, news); len(s.Instances) != 2 || s.Rest == nil || !s.Whole || !s.Settled {
		t.Errorf("first snapshot: %+v", s)
	}
	seen := news.Sequence
	k.now = k.now.Add(fleet.LeaseTime + time.Second)
	k.Fleet.Expire(k.now)
	select {
	case <-changed:
	default:
		t.Error("nobody was woken")
	}
	news, _ = k.Fleet.Next("b", seen)
	if s := snapshot(t, news); fmt.Sprint(s.GoneInstances) != "[a]" || len(s.Instances) > 0 || s.Whole || s.Services != nil || s.Rest != nil || s.Revision != 0 {
		t.Errorf("a is gone, and nothing else changed: %s", news.Line())
	}
	if again, _ := k.Fleet.Next("b", news.Sequence); again != nil {
		t.Errorf("nothing is new: %s", again.Line())
	}
	detach()
	k.Fleet.Expire(k.now.Add(time.Second))
	if len(k.Fleet.List().Proxies) != 1 {
		t.Error("a proxy that lost its stream has a lease to come back in")
	}
	k.Fleet.Withdraw("b", "other")
	if len(k.Fleet.List().Proxies) != 1 {
		t.Error("another process withdrew it")
	}
	k.Fleet.Withdraw("b", "n-b")
	if len(k.Fleet.List().Proxies) != 0 {
		t.Error("withdrawn, and still there")
	}
}

// TestUnsettledAfterARestart: for one lease time after a restart the registry
// may lack instances, and the snapshots say so.
func TestUnsettledAfterARestart(t *testing.T) {
	dir := t.TempDir()
	first := reopen(t, dir)
	first.mustPublish(two)
	k := reopen(t, dir)
	if n, _ := k.Fleet.Next("", 0); snapshot(t, n).Settled || snapshot(t, n).Revision != 1 || snapshot(t, n).Services[0].Name != "s" {
		t.Errorf("right after: %s", n.Line())
	}
	k.Fleet.Expire(k.now.Add(fleet.LeaseTime + time.Second))
	if n, _ := k.Fleet.Next("", 0); !snapshot(t, n).Settled {
		t.Error("later")
	}
}

func TestAwaitCountsConnectedProxies(t *testing.T) {
	k := newClock(t)
	nonces := map[string]string{}
	for _, id := range []string{"a", "b", "away"} {
		k.register(id, "s", "v1")
		if id != "away" {
			nonce, _, err := k.Fleet.Attach(id, "n-"+id)
			if err != nil {
				t.Fatal(err)
			}
			nonces[id] = nonce
		}
	}
	k.Fleet.Acknowledge("a", wire.Ack{Nonce: nonces["a"], Revision: 1})
	k.Fleet.Acknowledge("b", wire.Ack{Nonce: nonces["b"], Revision: 0, Error: "no port"})
	for _, lie := range []wire.Ack{{Revision: 1}, {Nonce: nonces["a"], Revision: 1}, {Nonce: nonces["b"], Sequence: 1 << 40, Revision: 1}} {
		if err := k.Fleet.Acknowledge("b", lie); err == nil {
			t.Errorf("taken: %+v", lie)
		}
	}
	p := k.mustPublish(two)
	if p.Rollout.Connected != 2 || p.Rollout.Acknowledged != 1 || fmt.Sprint(p.Rollout.Missing) != "[b: no port]" {
		t.Errorf("%+v", p.Rollout)
	}
	k.now = k.now.Add(7 * time.Millisecond)
	go k.Fleet.Acknowledge("b", wire.Ack{Nonce: nonces["b"], Revision: 1})
	if r := k.Fleet.Await(t.Context(), 1, k.now.Add(-7*time.Millisecond), time.Minute); r.Acknowledged != 2 || r.AfterMS != 7 {
		t.Errorf("%+v", r)
	}
}

func delta(seq uint64, s ...wire.Series) wire.Delta {
	return wire.Delta{Nonce: "n", Sequence: seq, Caller: "kiosk", CallerVersion: "v1", Series: s}
}

func near(a *float64, b float64) bool { return a != nil && math.Abs(*a-b) < 1e-9 }

func TestFigures(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	k.register("s-1", "s", "v1")
	k.register("s-2", "s", "v1")
	k.register("s-3", "s", "v2")
	bucket := uint16(stats.Bucket(20 * time.Millisecond))
	all := func(version, instance string, ok, failed uint64) wire.Series {
		return wire.Series{Revision: 1, Service: "s", Version: version, Instance: instance, RouteOf: "s", Route: "all", Counts: stats.Counts{OK: ok, Failed: failed, Latency: []stats.Bin{{Bucket: bucket, N: ok + failed}}}}
	}
	d := delta(1, all("v1", "s-1", 60, 0), all("v1", "s-2", 20, 0), all("v2", "s-3", 15, 5),
		wire.Series{Revision: 1, Service: "s", Version: "v2", Instance: "s-3", RouteOf: "s", Route: "crew", Counts: stats.Counts{OK: 100}},
		wire.Series{Revision: 1, Service: "s", RouteOf: "s", Counts: stats.Counts{Refused: 4, Reasons: [16]uint64{4: 4}}})
	k.Count("p", d)
	k.Count("p", d) // sent again after a lost answer
	k.now = k.now.Add(2 * time.Second)
	k.Count("p", delta(2, all("v1", "s-1", 1, 0))) // the second that runs does not count yet
	m, err := k.Views.Mesh(t.Context(), 10, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	s := m.Services[0]
	if m.Window != 2 || s.Figures.Requests != 204 || s.Figures.RPS != 102 || s.Figures.Failed != 5 || s.Figures.Refused != 4 || s.Figures.Reasons["no-route"] != 4 {
		t.Errorf("window %d, service %+v", m.Window, s.Figures)
	}
	if !near(s.Figures.Success, 195.0/204) || math.Abs(s.Figures.P95MS-20) > 0.2 {
		t.Errorf("success %v, p95 %v", *s.Figures.Success, s.Figures.P95MS)
	}
	// 100 requests took the route 80/20, 100 the one to v2 alone; 4 were refused before any
	// version was chosen, and are in no share of one.
	v1, v2 := s.Versions[0], s.Versions[1]
	if !near(v1.Intended, 0.4) || !near(v2.Intended, 0.6) || !near(v1.Observed, 80.0/200) {
		t.Errorf("intended %v and %v, observed %v", *v1.Intended, *v2.Intended, *v1.Observed)
	}
	if !near(v1.Instances[0].Share, 0.75) || !near(v1.Instances[1].Share, 0.25) {
		t.Errorf("instances %+v", v1.Instances)
	}
	if r := s.Routes[1]; r.Name != "all" || !near(r.Send[0].Observed, 0.8) || r.Send[0].Intended != 0.8 || !near(r.Share, 100.0/204) {
		t.Errorf("route %+v", r)
	}
	if l := m.Links; len(l) != 1 || l[0].From != "kiosk" || l[0].Figures.Requests != 204 {
		t.Errorf("links %+v", l)
	}
	// A new revision: its shares are not mixed with those of the one before.
	k.mustPublish(strings.Replace(two, "80, v2: 20", "10, v2: 90", 1))
	if v := view(t, k).Versions[0]; v.Observed != nil || !near(v.Intended, 0.1) {
		t.Errorf("right after a change: observed %v, intended %v", v.Observed, *v.Intended)
	}
	next := all("v2", "s-3", 5, 0)
	next.Revision = 2
	k.Count("p", delta(3, all("v1", "s-1", 7, 0), next))
	k.now = k.now.Add(time.Second)
	if s := view(t, k); !near(s.Versions[1].Observed, 1) || s.Figures.Requests != 217 {
		t.Errorf("after a change: observed %v of %d", *s.Versions[1].Observed, s.Figures.Requests)
	}
	k.mustPublish(two)
	k.now = k.now.Add(time.Minute)
	if m, _ := k.Views.Mesh(t.Context(), 10, 0, ""); m.Services[0].Figures.Success != nil || m.Services[0].Versions[0].Observed != nil {
		t.Error("without requests nothing is known")
	} else if !near(m.Services[0].Versions[0].Intended, 0.8) {
		t.Errorf("without requests the last route tells what is intended: %v", m.Services[0].Versions[0].Intended)
	}
}

func view(t *testing.T, k *clock) model.Service {
	t.Helper()
	m, err := k.Views.Mesh(t.Context(), 10, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	return m.Services[0]
}

// as is a context in which somebody acts.
func as(t *testing.T, name string) context.Context {
	return actor.With(t.Context(), actor.Actor{Name: name})
}
