package drains

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

// mesh is a fleet that remembers what it was told.
type mesh struct{ told []float64 }

func (m *mesh) SetDrains(list []wire.Drain) {
	part := 0.0
	for _, d := range list {
		part = d.Leaves
	}
	m.told = append(m.told, part)
}
func (m *mesh) Names() fleet.Names { return fleet.Names{Sites: map[string]bool{"north": true}} }
func (m *mesh) List() model.Fleet {
	return model.Fleet{Proxies: []model.Proxy{
		{ID: "n", Service: "s", Site: "north", Inbound: "1:1"}, {ID: "s", Service: "s", Site: "south", Inbound: "1:1"},
		{ID: "a", Service: "alone", Site: "north", Inbound: "1:1"}, {ID: "g", Gateway: "pier", Site: "north"},
	}}
}

// TestDrains: a site gives its requests away step by step, over restarts of the service, and
// takes them back from where it was.
func TestDrains(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	rs, _ := rules.Check([]rules.File{{Name: "f", Text: `
sites: [north, south]
services: {s: {versions: [v1], routes: [{name: bound, when: {path: /x}, send: v1@north}, {name: all, send: v1@north, otherwise: v1}]}}`}}, rules.Live{})
	var m *mesh
	var st *store.Store
	open := func() *Drains {
		t.Helper()
		var err error
		if st, err = store.Open(dir, "test"); err != nil {
			t.Fatal(err)
		}
		m = &mesh{}
		d, err := Open(ctx, Config{
			Records: st, Fleet: m, Journal: journal.New(st), Rules: func() *rules.Rules { return rs }, Now: func() time.Time { return now },
		})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	d := open()
	after := func(pass time.Duration) float64 {
		t.Helper()
		now = now.Add(pass)
		if err := d.Step(context.Background()); err != nil {
			t.Fatal(err)
		}
		if len(m.told) == 0 {
			return 0
		}
		return m.told[len(m.told)-1]
	}
	for _, bad := range []struct{ site, over, why string }{{"west", "1m", "no instance"}, {"north", "1", "not a time"}, {"north", "-1s", "not a time"}, {"north", "25h", "not a time"}} {
		if _, err := d.Drain(ctx, bad.site, bad.over); err == nil || !strings.Contains(err.Error(), bad.why) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if _, err := d.Resume(ctx, "north", ""); err == nil {
		t.Error("it takes back what it has not given away")
	}
	got, err := d.Drain(ctx, "north", "100s")
	want := []string{
		"proxy g serves gateway pier there: send its callers elsewhere",
		"route bound of s sends to v1@north alone: give it otherwise: TARGET",
		"service alone runs at no other site",
	}
	if err != nil || !slices.Equal(got.Stays, want) {
		t.Errorf("stays %q, %v", got.Stays, err)
	}
	if a, b := after(25*time.Second), after(500*time.Millisecond); a != 0.24 && a != 0.25 || a != b {
		t.Errorf("after a quarter %v, then %v", a, b)
	}
	if n := len(m.told); n > 2 {
		t.Errorf("told %d times", n)
	}
	st.Close()
	d = open()
	if got := after(35 * time.Second); got != 0.6 {
		t.Errorf("after a restart %v", got)
	}
	if _, err := d.Resume(ctx, "north", "10s"); err != nil {
		t.Fatal(err)
	}
	if got := after(5 * time.Second); got < 0.28 || got > 0.3 {
		t.Errorf("on the way back %v", got)
	}
	if _, err := d.Drain(ctx, "north", "10s"); err != nil {
		t.Fatal(err)
	}
	if a, b := after(5*time.Second), after(time.Hour); a < 0.6 || a > 0.66 || b != 1 {
		t.Errorf("drained again %v, and then %v", a, b)
	}
	if v := d.Of("north"); v == nil || v.Leaves != 1 || v.IsReturning || d.Of("south") != nil {
		t.Errorf("it is %+v", v)
	}
	d.Resume(ctx, "north", "")
	if got := after(time.Second); got != 0 || d.Of("north") != nil {
		t.Errorf("back, it is %v, %+v", got, d.Of("north"))
	}
	st.Close()
	if d = open(); len(d.all()) != 0 {
		t.Error("a drain that is over is kept")
	}
	st.Close()
}
