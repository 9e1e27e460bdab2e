package control

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/effects"
	"nightjar/control/problem"
	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/wire"
)

// traffic counts requests of every second from begin to before end, of one
// revision.
func (k *clock) traffic(seq *uint64, revision uint, begin, end time.Time, ok, failed uint64) {
	k.t.Helper()
	for k.now = begin; k.now.Before(end); k.now = k.now.Add(time.Second) {
		*seq++
		bucket := uint16(stats.Bucket(20 * time.Millisecond))
		k.Count("p", delta(*seq, wire.Series{Revision: revision, Service: "s", Version: "v1", RouteOf: "s", Route: "all",
			Counts: stats.Counts{OK: ok, FirstOK: ok, Failed: failed, Tries: ok + failed, Latency: []stats.Bin{{Bucket: bucket, N: ok + failed}}}}))
		k.Figures.Tidy(k.now)
	}
	if err := k.Figures.Write(k.t.Context()); err != nil {
		k.t.Fatal(err)
	}
}

// Each revision gets its own windows: nothing of another one is in them, nothing
// counts twice, and what was cut is said.
func TestEffectsKeepRevisionsApart(t *testing.T) {
	dir := t.TempDir()
	k := reopen(t, dir)
	begin, seq := k.now, uint64(0)
	at := func(s int) time.Time { return begin.Add(time.Duration(s) * time.Second) }
	k.mustPublish(two)
	k.traffic(&seq, 1, at(0), at(400), 9, 1)
	k.now = at(400).Add(300 * time.Millisecond)
	k.mustPublish(strings.Replace(two, "v1: 80, v2: 20", "v1: 100, v2: 0", 1))
	k.traffic(&seq, 2, at(401), at(450), 10, 0)
	k.traffic(&seq, 1, at(450), at(452), 0, 100) // by a proxy that was told late
	k.traffic(&seq, 2, at(450), at(500), 10, 0)
	k.now = at(500)
	k.mustPublish(two)
	k.traffic(&seq, 3, at(501), at(900), 6, 4)

	get := func(revision uint) model.Effect {
		t.Helper()
		e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Revision: revision, Settle: -1})
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	row := func(e model.Effect, kind string, name string) model.EffectRow {
		t.Helper()
		for _, r := range e.Rows {
			if r.Kind == kind && r.Name == name {
				return r
			}
		}
		t.Fatalf("no row %s %s", kind, name)
		return model.EffectRow{}
	}
	second := get(2)
	if second.Before.Seconds != 300 || second.After.From != at(406).Unix() || second.After.To != at(500).Unix() || !second.IsComplete || second.IsRecorded {
		t.Errorf("windows of revision 2: %+v, %+v", second.Before, second.After)
	}
	if !strings.Contains(strings.Join(second.Notes, " "), "window after is short: revision 3 came 1m40s later") {
		t.Errorf("notes: %q", second.Notes)
	}
	r := row(second, model.RowRoute, "s/all")
	if r.Before.Requests != 3000 || r.After.Requests != 940 || r.Verdict != model.Better || math.Abs(*r.Success.Change-0.1) > 1e-9 || r.Before.RPS != 10 {
		t.Errorf("revision 2: %+v", r)
	}
	third := get(3)
	if r := row(third, model.RowCaller, "kiosk"); r.Before.Requests != 940 || r.After.Requests != 3000 || r.Verdict != model.Worse {
		t.Errorf("revision 3: %+v, %v", r, third.Notes)
	}
	if first := get(1); first.Before.Seconds != 0 || first.Whole().Verdict != model.TooFew {
		t.Errorf("revision 1 has a side before: %+v", first.Before)
	}
	moment, err := k.Effects.Effect(t.Context(), model.EffectQuery{At: at(650).Unix(), Window: 60, Settle: 0})
	if r := row(moment, model.RowMesh, ""); err != nil || r.Before.Requests != 600 || r.After.Requests != 600 || r.Verdict != model.NoClearChange {
		t.Errorf("a moment at which nothing changed: %+v, %v", r, err)
	}

	// What is full is recorded once, and read back when nothing is in memory any more.
	for range 2 {
		if err := k.Effects.Record(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	k.now = at(5000)
	later := reopen(t, dir)
	later.clockFrom(k)
	e, err := later.Effects.Effect(t.Context(), model.EffectQuery{Revision: 2, Settle: -1})
	if err != nil || !e.IsRecorded || e.Whole().Before.Requests != 3000 {
		t.Errorf("recorded: %+v, %v", e.Whole(), err)
	}
	heads, err := later.Effects.List(t.Context(), 0, 10)
	if err != nil || len(heads) != 3 || heads[0].Revision != 3 || heads[0].Verdict != model.Worse || heads[0].Worse == 0 || heads[1].Verdict != model.Better || !heads[2].IsComplete {
		t.Errorf("the list: %+v, %v", heads, err)
	}
	for _, bad := range []model.EffectQuery{{Revision: 9, Settle: -1}, {At: 5, Settle: -1}, {Window: 100_000, Settle: -1}} {
		_, err := later.Effects.Effect(t.Context(), bad)
		var no problem.InvalidRequest
		if err == nil || !errors.As(err, new(problem.NotFound)) && !errors.As(err, &no) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

func (k *clock) clockFrom(o *clock) { k.now = o.now }

// An effect that is not full yet says when it will be, and is not recorded.
func TestYoungEffect(t *testing.T) {
	k := newClock(t)
	seq := uint64(0)
	k.mustPublish(two)
	begin := k.now
	k.traffic(&seq, 1, begin, begin.Add(30*time.Second), 10, 0)
	if err := k.Effects.Record(t.Context()); err != nil {
		t.Fatal(err)
	}
	e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Settle: -1})
	if err != nil || e.IsComplete || e.Due == nil || e.Due.Unix() != begin.Unix()+306 || e.After.Seconds != 24 || e.Whole().After.Requests != 240 {
		t.Errorf("%+v, %v", e, err)
	}
	if heads, err := k.Effects.List(t.Context(), 0, 5); err != nil || len(heads) != 1 || heads[0].IsComplete || heads[0].Due == nil {
		t.Errorf("%+v, %v", heads, err)
	}
}

const harbour = `
services:
  front: {versions: [v1]}
  back: {versions: [v1, v2], routes: [{name: crew, when: {headers: {x-crew: "yes"}}, send: v2}, {name: all, when: {path: /back/**}, send: v1}]}
gateways:
  door: {listen: ":8080", hosts: [ferry.example], routes: [{name: home, when: {path: /}, rewrite: {path: /front}, send: front}]}
`

// A model takes versions, rates and calls for what was measured: the own time of
// a workload is without that of what it calls, and what fails together is needed.
func TestModelOfWhatWasMeasured(t *testing.T) {
	k := newClock(t)
	k.mustPublish(harbour)
	k.register("front-1", "front", "v1")
	k.register("back-1", "back", "v1")
	k.register("back-2", "back", "v2")
	if _, err := k.Fleet.Register(wire.Registration{ID: "door-1", Nonce: "n-door", Gateway: "door"}); err != nil {
		t.Fatal(err)
	}
	bins := func(ms int, n uint64) []stats.Bin {
		return []stats.Bin{{Bucket: uint16(stats.Bucket(time.Duration(ms) * time.Millisecond)), N: n}}
	}
	begin := k.now
	for i := range uint64(120) {
		k.now = begin.Add(time.Duration(i+1) * time.Second)
		bad := i % 10 / 9 // one second in ten a call fails, and with it the request that needs it
		count := func(id, nonce, caller, version string, s ...wire.Series) {
			k.Count(id, wire.Delta{Nonce: nonce, Sequence: i + 1, Caller: caller, CallerVersion: version, Series: s})
		}
		count("door-1", "n-door", "door", "", wire.Series{Revision: 1, Gate: "home", RouteOf: "front", Route: "", Service: "front", Version: "v1", Counts: stats.Counts{OK: 20 - bad, FirstOK: 20 - bad, Failed: bad, Tries: 20, Latency: bins(31, 20)}})
		count("front-1", "n-front-1", "front", "v1",
			wire.Series{App: true, Caller: "door", Service: "front", Version: "v1", Instance: "front-1", Counts: stats.Counts{OK: 20 - bad, Failed: bad, Tries: 20, Latency: bins(30, 20)}},
			wire.Series{Revision: 1, RouteOf: "back", Route: "all", Service: "back", Version: "v1", Counts: stats.Counts{OK: 9, FirstOK: 9, Tries: 9, Latency: bins(20, 9)}},
			wire.Series{Revision: 1, RouteOf: "back", Route: "crew", Service: "back", Version: "v2", Counts: stats.Counts{OK: 11 - bad, FirstOK: 11 - bad, Failed: bad, Tries: 11, Latency: bins(20, 11)}})
		count("back-1", "n-back-1", "back", "v1", wire.Series{App: true, Caller: "front", Service: "back", Version: "v1", Instance: "back-1", Counts: stats.Counts{OK: 9, Tries: 9, Latency: bins(19, 9)}})
		count("back-2", "n-back-2", "back", "v2", wire.Series{App: true, Caller: "front", Service: "back", Version: "v2", Instance: "back-2", Counts: stats.Counts{OK: 11 - bad, Failed: bad, Tries: 11, Latency: bins(19, 11)}})
		k.Figures.Tidy(k.now)
	}
	k.now = k.now.Add(time.Second)
	f, err := k.Forecasts.Forecast(t.Context(), model.ForecastRequest{Window: 60, Requests: 20_000, Expect: []string{"success >= 99%", "p50 <= 33ms"}})
	if err != nil {
		t.Fatal(err)
	}
	taken := map[string]model.VersionBehaviour{}
	for _, b := range f.Behaviour {
		taken[b.Target] = b
	}
	if front := taken["front/v1"]; math.Abs(front.P50MS-10) > 1.2 || front.Errors > 0.0005 || front.Calls != "1 × back (needed)" {
		t.Errorf("front/v1 is taken for %+v; its own time is 10 ms of 30", front)
	}
	if back := taken["back/v2"]; math.Abs(back.Errors-0.1/11) > 0.0005 || math.Abs(back.P50MS-19) > 0.3 || math.Abs(back.HopMS-1) > 0.3 {
		t.Errorf("back/v2 is taken for %+v", back)
	}
	rows := map[string]model.EffectRow{}
	for _, r := range f.Rows {
		rows[string(r.Kind)+" "+r.Name] = r
	}
	if r := rows["caller door"]; r.Verdict != model.NoClearChange || math.Abs(*r.P50MS.After-31) > 1.5 || math.Abs(*r.Success.After-0.995) > 0.001 {
		t.Errorf("the forecast of what is: %+v, p50 %v", r.Success, *r.P50MS.After)
	}
	if r := rows["route back/crew"]; math.Abs(float64(r.After.Requests)/20_000-0.55) > 0.01 {
		t.Errorf("%d of 20000 requests take the route that 11 of 20 took", r.After.Requests)
	}
	if len(f.Expected) != 2 || !f.Expected[0].IsMet || !f.Expected[1].IsMet || len(f.Calibration) == 0 || f.After != model.SideForecast {
		t.Errorf("%+v, %q", f.Expected, f.Calibration)
	}

	// A draft that takes the crew's version away, and one that gives up too early.
	draft := func(old, now string) model.Forecast {
		t.Helper()
		f, err := k.Forecasts.Forecast(t.Context(), model.ForecastRequest{Window: 60, Requests: 20_000, Rules: []model.File{{Name: "a.yaml", Text: strings.Replace(harbour, old, now, 1)}}})
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if f := draft(`{path: /back/**}, send: v1}]`, `{path: /back/**}, send: v1, timeout: 15ms}]`); !strings.HasPrefix(f.Worse, "caller") || f.Rows[0].Verdict != model.Worse {
		t.Errorf("a timeout of 15 ms on what takes 20: worse is %q", f.Worse)
	}
	if f := draft("send: v2}", "send: v1}"); f.Rows[0].Verdict != model.Better || f.Worse != "" {
		t.Errorf("without the version that fails: %+v", f.Rows[0].Success)
	}
	down, err := k.Forecasts.Forecast(t.Context(), model.ForecastRequest{Window: 60, Requests: 2000, Down: []string{"back/v2"}, Behaviour: "behaviour: {front/v1: {calls: [{to: back, needed: true}]}}", Sweep: true})
	if err != nil || math.Abs(*down.Rows[0].Success.After-0.45) > 0.1 || len(down.Sweep) == 0 {
		t.Errorf("with back/v2 down: %+v, %v", down.Rows[0].Success, err)
	}

	for _, bad := range []model.ForecastRequest{{Trial: "none"}, {Behaviour: "x"}, {Expect: []string{"much"}}, {Window: 2}, {Down: []string{"the sea"}}, {Rate: -1}, {Split: &model.SplitChange{Service: "sea"}}, {Requests: 1 << 40}} {
		if _, err := k.Forecasts.Forecast(t.Context(), bad); err == nil {
			t.Errorf("%+v is forecast", bad)
		}
	}
}

// BenchmarkEffect compares five minutes with five minutes of 200 services.
func BenchmarkEffect(b *testing.B) {
	st, err := store.Open(b.TempDir(), "test")
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	begin := time.Now().Add(-620 * time.Second)
	now := begin
	c, err := New(b.Context(), Config{Store: st, Program: "bench", Now: func() time.Time { return now }})
	if err != nil {
		b.Fatal(err)
	}
	const services = 200
	for s := range uint64(615) {
		now = begin.Add(time.Duration(s) * time.Second)
		for i := range services {
			d := wire.Delta{Nonce: fmt.Sprint(i), Sequence: s + 1, Caller: fmt.Sprint("service-", i)}
			for k := range 8 {
				to, v := fmt.Sprint("service-", (i*3+k/2+1)%services), []string{"v1", "v2"}[k%2]
				d.Series = append(d.Series, wire.Series{Service: to, Version: v, Instance: to + v, RouteOf: to, Route: "all",
					Counts: stats.Counts{OK: 20 + s%7, Tries: 20, Latency: []stats.Bin{{Bucket: uint16(800 + k), N: 10}, {Bucket: uint16(820 + s%40), N: 10 + s%7}}}})
			}
			c.Count(d.Nonce, d)
		}
		c.Figures.Tidy(now)
	}
	now = now.Add(time.Second)
	for b.Loop() {
		e, err := c.Effects.Effect(b.Context(), model.EffectQuery{At: begin.Unix() + 306, Settle: -1})
		if err != nil || e.Before.Seconds < 290 || len(e.Rows) < 1000 {
			b.Fatalf("%d rows, %v", len(e.Rows), err)
		}
	}
}

// TestBusyMesh: revisions that touch other services reset no shares, cut no windows and
// spoil no figures; those that touch the same service do.
func TestBusyMesh(t *testing.T) {
	k := newClock(t)
	text := func(s, o int) string {
		return fmt.Sprintf("services:\n  s: {versions: [v1, v2], routes: [{name: all, send: {v1: %d, v2: %d}}]}\n  o: {versions: [v1, v2], routes: [{name: all, send: {v1: %d, v2: %d}}]}\n", s, 100-s, o, 100-o)
	}
	begin, seq := k.now, uint64(0)
	count := func(second int, revision uint, sFailed, oFailed uint64) {
		k.now = begin.Add(time.Duration(second)*time.Second + 500*time.Millisecond)
		seq++
		of := func(service string, failed uint64) wire.Series {
			return wire.Series{Revision: revision, Service: service, Version: "v1", RouteOf: service, Route: "all", Counts: stats.Counts{OK: 10 - failed, Failed: failed, Tries: 10}}
		}
		k.Count("p", delta(seq, of("s", sFailed), of("o", oFailed)))
		k.Figures.Tidy(k.now)
		if second%10 == 9 {
			if err := k.Figures.Write(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
	}
	k.mustPublish(text(100, 100))
	revision, changed := uint(1), uint(0)
	for second := 1; second < 700; second++ {
		switch {
		case second == 350: // s gets worse by this one
			revision = k.mustPublish(text(50, 30)).Revision
			changed = revision
		case second%30 == 0: // and o gets another one every half minute
			s := 100
			if changed > 0 {
				s = 50
			}
			revision = k.mustPublish(text(s, second%100)).Revision
		}
		oFailed := uint64(0)
		if changed > 0 && revision > changed { // by one that came later
			oFailed = 9
		}
		if changed > 0 {
			count(second, revision, 2, oFailed)
		} else {
			count(second, revision, 0, 0)
		}
	}
	k.now = begin.Add(700 * time.Second)
	e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Revision: changed, Settle: -1})
	if err != nil || e.Before.Seconds != 300 || e.After.Seconds != 300 || !e.IsComplete {
		t.Fatalf("windows: %+v, %+v, %v", e.Before, e.After, err)
	}
	for _, r := range e.Rows {
		switch r.Kind + " " + r.Name {
		case "service s", "route s/all", "mesh ", "caller kiosk":
			if r.Before.Requests != 3000 || r.After.Requests != 3000 || r.Verdict != model.Worse || math.Abs(*r.Success.Change+0.2) > 1e-9 || r.Before.RPS != 10 {
				t.Errorf("%s %s: %+v", r.Kind, r.Name, r)
			}
		case "service o": // until the next revision of o, ten seconds later
			if r.Before.Requests > 300 || r.After.Requests > 100 || r.After.Failed != 0 || math.Abs(r.Before.RPS-10) > 1.5 {
				t.Errorf("o, which others changed: %+v, %+v", r.Before, r.After)
			}
		}
	}
	if notes := strings.Join(e.Notes, " "); len(e.Notes) != 1 || !strings.Contains(notes, "changed o in the windows (revision 12 before, revision 14 after)") {
		t.Errorf("notes: %q", e.Notes)
	}
	// The share of s is that of all requests since its own revision; that of o begins anew.
	m, err := k.Views.Mesh(t.Context(), 300, 0, "")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range m.Services {
		want := map[string]uint64{"s": 2990, "o": 90}[s.Name]
		if got := s.Routes[0].Send[0].Requests; got < want || got > want+110 {
			t.Errorf("%s: %d requests in its shares, want about %d", s.Name, got, want)
		}
	}
	if err := k.Effects.Record(t.Context()); err != nil {
		t.Fatal(err)
	}
	if e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Revision: changed, Settle: -1}); err != nil || !e.IsRecorded {
		t.Errorf("it was not recorded: %v", err)
	}
}

// oneBad is records of which the neighbours of one revision cannot be read.
type oneBad struct {
	effects.Records
	bad uint
}

func (o oneBad) Around(ctx context.Context, number uint, at time.Time) (before, after store.Revision, err error) {
	if number == o.bad {
		return before, after, errors.New("unreadable")
	}
	return o.Records.Around(ctx, number, at)
}

// TestOneBadRevision keeps no later one from being recorded.
func TestOneBadRevision(t *testing.T) {
	k := newClock(t)
	for i := range 30 {
		k.now = k.now.Add(20 * time.Second)
		k.mustPublish(strings.Replace(two, "80, v2: 20", fmt.Sprintf("%d, v2: %d", 50+i, 50-i), 1))
	}
	k.now = k.now.Add(time.Hour)
	k.Effects.Records = oneBad{k.Effects.Records, 1}
	for range 3 {
		if err := k.Effects.Record(t.Context()); err == nil || !strings.Contains(err.Error(), "revision 1: unreadable") {
			t.Errorf("it says %v", err)
		}
	}
	left, err := k.store.WithoutEffect(t.Context(), 0, time.Time{}, 100)
	if err != nil || len(left) != 1 || left[0].Number != 1 {
		t.Errorf("%d revisions have no effect: %v", len(left), err)
	}
}

// TestTheClockGoesBack: revisions of which the later has the earlier time have no effect
// that could be told, and say why.
func TestTheClockGoesBack(t *testing.T) {
	k := newClock(t)
	k.mustPublish(two)
	k.now = k.now.Add(-time.Hour)
	k.mustPublish(strings.Replace(two, "v1: 80, v2: 20", "v1: 70, v2: 30", 1))
	for revision, want := range map[uint]string{1: "no window after: the clock", 2: "no window before: the clock"} {
		e, err := k.Effects.Effect(t.Context(), model.EffectQuery{Revision: revision, Settle: -1})
		if err != nil || !strings.Contains(strings.Join(e.Notes, " "), want) || e.Before.Seconds < 0 || e.After.Seconds < 0 {
			t.Errorf("revision %d: %q, %+v, %+v, %v", revision, e.Notes, e.Before, e.After, err)
		}
	}
	if m, err := k.Views.Mesh(t.Context(), 60, 0, ""); err != nil || m.Revision.Number != 2 {
		t.Errorf("%d, %v", m.Revision.Number, err)
	}
	if err := k.Effects.Record(t.Context()); err != nil {
		t.Error(err)
	}
}
