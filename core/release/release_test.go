package release

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
)

const mesh = `
services:
  s:
    versions: [v1, v2, v3]
    routes:
      - {name: crew, when: {headers: {x-crew: "yes"}}, send: v3}
      - {name: main, when: [{path: /a/**}, {path: /b}], labels: {kind: read}, timeout: 2s, send: {v1: 80, v2: 5, v3: 15}}
      - {name: rest, send: {v1@north: 60, v1@south: 40}}
gateways:
  g: {listen: ":80", hosts: [x.example], routes: [{name: pinned, send: s/v1}]}
sites: [north, south]
`

func read(t *testing.T, release string) (*rules.Rules, *rules.Release) {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "f", Text: mesh + "releases: {r: {service: s, from: v1, to: v2, " + release + "}}\n"}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found)
	}
	return rs, rs.Releases[0]
}

// sends are the targets of every route, in one line.
func sends(rs *rules.Rules) string {
	var out []string
	each := func(ladder string, routes []*rules.Route) {
		for _, rt := range routes {
			text := rt.Name + ": " + rules.SendText(rt.Send, ladder)
			if rt.Mirror != nil {
				text += fmt.Sprintf(" copies %s%% to %s", rt.Mirror.Share, rt.Mirror.To)
			}
			out = append(out, text)
		}
	}
	for _, s := range rs.Services {
		each(s.Name, s.Routes)
	}
	for _, g := range rs.Gateways {
		each("", g.Routes)
	}
	return strings.Join(out, "; ")
}

func TestOverlay(t *testing.T) {
	rs, p := read(t, "dark: 10%, first-to: {headers: {x: y}}, stages: [15%, 100%]")
	all, err := Places(rs, p)
	if err != nil || fmt.Sprint(all) != "[s/main s/rest g/pinned]" {
		t.Fatal(all, err)
	}
	steps := Steps(p)
	one := []Place{{"s", "main"}}
	before := sends(rs)
	for _, c := range []struct {
		name   string
		places []Place
		step   Step
		want   string
	}{
		{"dark", one, steps[0], "crew: v3; main: v1 85, v2 0, v3 15 copies 10% to s/v2; rest: v1@north 60, v1@south 40; pinned: s/v1"},
		{"cohort", one, steps[1], "crew: v3; r: v2 85, v3 15; main: v1 85, v2 0, v3 15; rest: v1@north 60, v1@south 40; pinned: s/v1"},
		{"weight", one, steps[2], "crew: v3; r: v2 85, v3 15; main: v1 72.25, v2 12.75, v3 15; rest: v1@north 60, v1@south 40; pinned: s/v1"},
		{"everywhere", all, steps[2], "crew: v3; r-main: v2 85, v3 15; main: v1 72.25, v2 12.75, v3 15; r-rest: v2@north 60, v2@south 40; rest: v1@north 51, v1@south 34, v2@north 9, v2@south 6; r-pinned: s/v2; pinned: s/v1 85, s/v2 15"},
		{"all", one, steps[3], "crew: v3; r: v2 85, v3 15; main: v1 0, v2 85, v3 15; rest: v1@north 60, v1@south 40; pinned: s/v1"},
	} {
		got := Apply(rs, []Overlay{OverlayAt(p, c.places, c.step)})
		if text := sends(got); text != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, text, c.want)
		}
		if sends(rs) != before {
			t.Fatalf("%s changed the rules that it was applied to", c.name)
		}
		for i := range got.Services[0].Routes {
			rt := got.Services[0].Routes[i]
			if sum := 0; len(rt.Send) > 0 {
				for _, to := range rt.Send {
					sum += int(to.Weight)
				}
				if sum != int(rules.Whole) {
					t.Errorf("%s: the weights of %s add to %d", c.name, rt.Name, sum)
				}
			}
		}
	}
	// The cohort's route is the old one in all but name, condition and target.
	cohort := Apply(rs, []Overlay{OverlayAt(p, one, steps[1])}).Services[0].Routes[1]
	if len(cohort.When) != 2 || cohort.When[0].All[0].Path != "/a/**" || cohort.When[1].All[1].Headers[0].Name != "X" || cohort.Labels["kind"] != "read" || cohort.Timeout == nil {
		t.Errorf("the cohort's route: %+v", cohort)
	}
	main := rs.Services[0].Routes[1]
	o := OverlayAt(p, one, steps[3])
	back := o.Back()
	for _, c := range []struct {
		name string
		got  []rules.Target
		want string
	}{{"default", o.Final(main.Send, true), "v2 85, v3 15"}, {"left", o.Final(main.Send, false), "v1 0, v2 85, v3 15"}, {"back", back.Final(main.Send, true), "v1 85, v3 15"},
		{"back from the default", back.Final(o.Final(main.Send, true), true), "v3 15, v1 85"}} {
		if text := rules.SendText(c.got, "s"); text != c.want {
			t.Errorf("%s: %s, want %s", c.name, text, c.want)
		}
	}
	if _, err := Places(rs, &rules.Release{Service: "s", Route: "crew", From: "v1", To: "v2"}); err == nil || !strings.Contains(err.Error(), "sends nothing to v1") {
		t.Errorf("a route that does not send there: %v", err)
	}
}

func TestTouched(t *testing.T) {
	rs, p := read(t, "route: main, stages: [100%]")
	o := OverlayAt(p, []Place{{"s", "main"}}, Step{})
	for edit, want := range map[string]string{
		"v1: 80, v2: 5, v3: 15|v1: 85, v3: 15":      "route main of s",
		"timeout: 2s|timeout: 3s":                   "route main of s",
		"{name: main|{name: mains":                  "route main of s",
		"v1@north: 60, v1@south: 40|v1@north: 100":  "",
		"services:|# more\nservices:":               "",
		"versions: [v1, v2, v3]|versions: [v1, v3]": "route main of s",
	} {
		was, is, _ := strings.Cut(edit, "|")
		text := strings.Replace(mesh, was, is, 1)
		if strings.Contains(edit, "versions") {
			text = strings.Replace(text, "v2: 5, v3: 15", "v3: 20", 1)
		}
		now, found := rules.Check([]rules.File{{Name: "f", Text: text}}, rules.Live{})
		if rules.Mistakes(found) > 0 {
			t.Fatal(edit, found)
		}
		if got := Touched(rules.Diff(rs, now), now, &o); got != want {
			t.Errorf("%s: %q, want %q", edit, got, want)
		}
	}
}

// drive runs a release second by second. Every few seconds it is written down and
// read again, as after a kill.
type drive struct {
	t    *testing.T
	r    *Run
	now  time.Time
	good [2]float64 // success of both versions
	rate [2]int     // requests a second
	seen Sample
	kept int // judgements of the last step that are to be kept
	log  []string
}

func begin(t *testing.T, text string) *drive {
	_, p := read(t, "route: main, "+text)
	now := time.Unix(1_800_000_000, 0).UTC()
	base := &stats.Counts{OK: 990, Failed: 10}
	return &drive{t: t, r: Start(p, []Place{{"s", "main"}}, base, "mate", now), now: now, good: [2]float64{1, 1}, rate: [2]int{50, 50}}
}

func (d *drive) run(until State, most time.Duration) {
	d.t.Helper()
	for end := d.now.Add(most); ; d.now = d.now.Add(time.Second) {
		d.step()
		if d.r.State == until {
			return
		}
		if d.now.After(end) {
			d.t.Fatalf("after %v it is %s in step %d, and was to be %s:\n%s", most, d.r.State, d.r.Step, until, strings.Join(d.log, "\n"))
		}
	}
}

func (d *drive) step() {
	if d.r.Shift {
		d.r.Shifted(d.now, d.r.Revision+1)
	}
	d.r.Tick(d.now, true)
	for i, side := range []*stats.Counts{&d.seen.To, &d.seen.From} {
		n := uint64(d.rate[i])
		ok := uint64(float64(n)*d.good[i] + 0.5)
		side.Add(&stats.Counts{OK: ok, Failed: n - ok, Tries: n, FirstOK: ok, Latency: []stats.Bin{{Bucket: 300, N: n}}})
	}
	d.seen.Seconds++
	if d.r.Due() {
		d.r.Look(d.now, &d.seen)
		d.seen = Sample{}
	}
	for _, e := range d.r.Events {
		d.log = append(d.log, strings.TrimSpace(e.Step+" "+e.Kind))
	}
	d.kept = len(d.r.Judgements)
	d.r.Events, d.r.Judgements = nil, nil
	text, err := json.Marshal(d.r)
	if err != nil {
		d.t.Fatal(err)
	}
	var again Run
	if err := json.Unmarshal(text, &again); err != nil {
		d.t.Fatal(err)
	}
	again.Wake(d.now)
	again.Events = nil
	if was, is := d.r.Now(), again.Now(); !reflect.DeepEqual(was, is) {
		d.t.Fatalf("read again, the step is %+v, not %+v", is, was)
	}
	d.r = &again
}

func TestTheWayToTheEnd(t *testing.T) {
	d := begin(t, "dark: 10%, first-to: {headers: {x: y}}, stages: [2%, 100%], each: 20s, watch: 30s, judge: {every: 5s}")
	began := d.now
	d.run(Completed, 5*time.Minute)
	want := "started; dark 10% shifted; dark 10% in-force; cohort shifted; cohort in-force; 2% shifted; 2% in-force; 100% shifted; 100% in-force; watch shifted; watch completed"
	if got := strings.Join(d.log, "; "); got != want {
		t.Errorf("events:\n%s\nwant\n%s", got, want)
	}
	if took := d.now.Sub(began); took < 110*time.Second || took > 125*time.Second {
		t.Errorf("it took %v", took)
	}
	if bad, more := d.r.Cost(); bad != 0 || more != 0 || d.r.Total.To.Requests() == 0 {
		t.Errorf("cost: %d, %v of %d", bad, more, d.r.Total.To.Requests())
	}
	if o, on := d.r.Overlay(); on {
		t.Errorf("it still changes %+v", o)
	}
	if !d.r.Shift || d.r.By != ByPlan {
		t.Error("its end is not to be written")
	}
}

func TestJudgements(t *testing.T) {
	for _, c := range []struct {
		name, text string
		good       [2]float64
		rate       [2]int
		until      State
		by         string
		why        string
		took       time.Duration
	}{
		{"worse", "judge: {every: 10s}", [2]float64{0.8, 1}, [2]int{50, 50}, Withdrawn, ByJudge, "success-against-from >= -1% missed in stage 10%", 12 * time.Second},
		{"worse, one borne", "judge: {every: 10s, misses: 1}", [2]float64{0.8, 1}, [2]int{50, 50}, Withdrawn, ByJudge, "success-against-from", 22 * time.Second},
		{"both bad", "judge: {every: 10s}", [2]float64{0.7, 0.7}, [2]int{50, 50}, Completed, ByPlan, "", 0},
		{"both bad, absolutely", "judge: {success: \">= 95%\"}", [2]float64{0.7, 0.7}, [2]int{50, 50}, Withdrawn, ByJudge, "success >= 95% missed", 12 * time.Second},
		{"no requests", "judge: {patience: 50s}", [2]float64{1, 1}, [2]int{0, 50}, Withdrawn, ByJudge, "too few requests: 0 requests reached v2; at least 50 are needed", 82 * time.Second},
		{"few requests", "judge: {least: 100}", [2]float64{1, 1}, [2]int{2, 50}, Completed, ByPlan, "", 0},
		{"between", "judge: {success: \">= 93%\", patience: 20s}", [2]float64{0.9, 1}, [2]int{10, 50}, Held, ByJudge, "the figures are inconclusive on success >= 93%", 0},
		{"slow", "judge: {p99: \"<= 1us\"}", [2]float64{1, 1}, [2]int{50, 50}, Withdrawn, ByJudge, "p99 <= 1us missed", 12 * time.Second},
		{"refusals", "judge: {expect: [refused = 0, requests >= 300]}", [2]float64{1, 1}, [2]int{5, 50}, Completed, ByPlan, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := begin(t, "stages: [10%, 100%], each: 30s, "+c.text)
			d.good, d.rate = c.good, c.rate
			began := d.now
			d.run(c.until, 10*time.Minute)
			if d.r.By != c.by || !strings.Contains(d.r.Why, c.why) {
				t.Errorf("by %s: %s", d.r.By, d.r.Why)
			}
			if took := d.now.Sub(began); c.took > 0 && took > c.took {
				t.Errorf("it took %v, at most %v was expected", took, c.took)
			}
		})
	}
	// What goes bad midway shows in what is new.
	d := begin(t, "stages: [10%, 100%], each: 30s, judge: {success: '>= 90%', every: 10s}")
	d.run(Judging, 5*time.Second)
	for range 22 {
		d.now = d.now.Add(time.Second)
		d.step()
	}
	d.good[0] = 0.8
	if d.run(Withdrawn, 10*time.Second); !strings.Contains(d.r.Why, "since the last judgement") {
		t.Errorf("withdrawn since %s", d.r.Why)
	}
	// What was unclear goes on by itself once it is clear.
	d = begin(t, "stages: [10%, 100%], each: 30s, judge: {success: '>= 93%', patience: 20s}")
	d.good, d.rate = [2]float64{0.9, 1}, [2]int{10, 50}
	d.run(Held, 10*time.Minute)
	d.good[0] = 1
	d.run(Completed, 10*time.Minute)
	// At the last stage the old version gets nothing, and stands for itself by what it did before.
	d = begin(t, "stages: [100%], each: 30s")
	d.good, d.rate = [2]float64{0.9, 1}, [2]int{50, 0}
	d.run(Withdrawn, time.Minute)
	if !strings.Contains(d.r.Why, "v1 before the stage, as it gets too few requests now 99.00% of 1000") {
		t.Errorf("judged against: %s", d.r.Why)
	}
}

func TestPersons(t *testing.T) {
	d := begin(t, "stages: [2%, 50%, 100%], each: 20s, hold-at: [2%]")
	d.run(Held, time.Minute)
	if d.r.By != ByPlan || !d.r.Done || d.r.Hold(d.now, "cook", "") == nil {
		t.Errorf("held: %+v", d.r)
	}
	kept := 0
	for range 3 * 3600 {
		d.now = d.now.Add(time.Second)
		d.step()
		kept += d.kept
	}
	if d.r.State != Held || kept < 20 || kept > 150 || d.r.Looks < 1000 { // of 1,080 judgements that say the same
		t.Fatalf("after three hours it is %s, with %d of %d judgements kept", d.r.State, kept, d.r.Looks)
	}
	if err := d.r.Resume(d.now, "cook", ""); err != nil || d.r.Step != 1 || !d.r.Shift {
		t.Fatalf("resumed: %v, %+v", err, d.r)
	}
	if d.r.Resume(d.now, "cook", "") == nil {
		t.Error("it was resumed twice")
	}
	d.run(Judging, 10*time.Second)
	d.now = d.now.Add(5 * time.Second)
	d.step()
	if err := d.r.Hold(d.now, "cook", "a look"); err != nil {
		t.Fatal(err)
	}
	spent := d.r.Spent
	if err := d.r.Resume(d.now, "cook", ""); err != nil || d.r.State != Judging || d.r.Step != 1 || d.r.Spent != spent {
		t.Errorf("resumed in the middle: %v, %+v", err, d.r)
	}
	if err := d.r.Skip(d.now, "cook", ""); err != nil || d.r.Step != 2 {
		t.Errorf("skipped: %v", err)
	}
	d.run(Judging, 10*time.Second)
	if err := d.r.Finish(d.now, "cook", "enough"); err != nil || d.r.State != Completed || d.r.By != "cook" || d.r.Now().Share != rules.Whole {
		t.Errorf("finished: %v, %+v", err, d.r)
	}
	for _, act := range []error{d.r.Hold(d.now, "x", ""), d.r.Resume(d.now, "x", ""), d.r.Skip(d.now, "x", ""), d.r.Withdraw(d.now, "x", ""), d.r.Finish(d.now, "x", "")} {
		if act == nil {
			t.Error("something was done to a release that is over")
		}
	}
	if err := d.r.Undo(d.now, "cook", ""); err != nil || d.r.State != Withdrawn || !d.r.Back || !d.r.Shift {
		t.Errorf("taken back: %v, %+v", err, d.r)
	}
	// Held, it is still judged.
	d = begin(t, "stages: [2%, 100%], each: 20s, hold-at: [2%]")
	d.run(Held, time.Minute)
	d.good[0] = 0.5
	d.run(Withdrawn, 15*time.Second)
	// Before anything is in force there is nothing to take back.
	d = begin(t, "stages: [100%]")
	if err := d.r.Withdraw(d.now, "cook", ""); err != nil || d.r.Shift {
		t.Errorf("withdrawn at once: %v, %+v", err, d.r)
	}
}

func TestGates(t *testing.T) {
	d := begin(t, "stages: [2%, 100%], each: 10s, notify: {url: 'http://x/', gate: true}")
	d.step()
	if !d.r.Asking || d.r.State != Shifting || d.r.Shift {
		t.Fatalf("not asked: %+v", d.r)
	}
	// What To did by the rules before is nothing to judge by.
	if d.r.Glance(d.now, &Sample{To: stats.Counts{Failed: 500}, From: stats.Counts{OK: 500}}); d.r.State != Shifting || d.r.Looks > 0 {
		t.Fatalf("judged before it began: %s, %s", d.r.State, d.r.Why)
	}
	d.r.Gate(d.now, "")
	d.run(Judging, 5*time.Second)
	d.run(Shifting, 15*time.Second)
	d.r.Gate(d.now, "it said no")
	if d.r.State != Held || d.r.By != ByGate || d.r.Step != 0 {
		t.Fatalf("refused: %+v", d.r)
	}
	d.r.Gate(d.now, "") // an answer that comes late
	if d.r.State != Held {
		t.Error("a late answer counted")
	}
	if err := d.r.Resume(d.now, "mate", ""); err != nil || d.r.Asking || d.r.Step != 1 {
		t.Errorf("a person answered for the receiver: %v, %+v", err, d.r)
	}
	// An answer to a question that nobody asks any more moves nothing.
	d = begin(t, "stages: [2%, 100%], each: 10s, notify: {url: 'http://x/', gate: true}")
	d.step()
	if err := d.r.Hold(d.now, "mate", ""); err != nil {
		t.Fatal(err)
	}
	if d.r.Gate(d.now, ""); d.r.State != Held || d.r.Shift {
		t.Errorf("held, and the receiver's yes moved it: %s", d.r.State)
	}
	// While somebody is asked, the stage that is in force is looked after.
	d = begin(t, "stages: [2%, 100%], each: 10s, notify: {url: 'http://x/', gate: true}")
	d.step()
	d.r.Gate(d.now, "")
	d.run(Judging, 5*time.Second)
	d.run(Shifting, 15*time.Second)
	if d.r.Glance(d.now, &Sample{To: stats.Counts{Failed: 100}, From: stats.Counts{OK: 100}}); d.r.State != Withdrawn || d.r.By != ByJudge {
		t.Errorf("it went bad while somebody was asked: %s", d.r.State)
	}
}

func TestTimeAwayIsNotJudged(t *testing.T) {
	d := begin(t, "stages: [2%, 100%], each: 60s, judge: {every: 10s}")
	d.run(Judging, 5*time.Second)
	for range 15 {
		d.now = d.now.Add(time.Second)
		d.step()
	}
	spent, looks := d.r.Spent, d.r.Looks
	d.now = d.now.Add(3 * time.Hour)
	d.r.Wake(d.now)
	d.r.Tick(d.now, true)
	if d.r.Spent != spent || d.r.Looks != looks || d.r.State != Judging || d.r.Step != 0 {
		t.Errorf("after hours away: spent %v, was %v", d.r.Spent, spent)
	}
	d.now = d.now.Add(time.Hour) // nobody even noticed
	if d.r.Tick(d.now, true); d.r.Spent != spent || d.r.Events[len(d.r.Events)-1].Kind != "away" {
		t.Errorf("after an hour of sleep: spent %v, was %v, %+v", d.r.Spent, spent, d.r.Events)
	}
}

// TestTheBudgetIsKept: what all looks together may take is the budget, however
// many there are.
func TestTheBudgetIsKept(t *testing.T) {
	_, p := read(t, "route: main, stages: [10%, 100%], judge: {success: '>= 90%', p99: '<= 1s', every: 10s}")
	sum := 0.0
	for k := 1; k < 200_000; k++ {
		looks, glances := level(p, k)
		sum += 2 * (2*looks + 10*glances) // both expectations
	}
	if sum > Budget || sum < 0.9*Budget {
		t.Errorf("all looks take %v of %v", sum, Budget)
	}
}

// TestRunIsReadByMany: whoever reads a run leaves it as it is, also one that was stored;
// the detector of races finds out.
func TestRunIsReadByMany(t *testing.T) {
	_, p := read(t, "dark: 10%, stages: [10%, 100%]")
	begun := Start(p, nil, nil, "mara", time.Unix(1, 0))
	text, err := json.Marshal(begun)
	if err != nil {
		t.Fatal(err)
	}
	stored := &Run{}
	if err := json.Unmarshal(text, stored); err != nil {
		t.Fatal(err)
	}
	for _, r := range []*Run{begun, stored} {
		var readers sync.WaitGroup
		for range 4 {
			readers.Go(func() {
				if c := r.Copy(); len(c.Steps()) == 0 || len(r.Steps()) != len(c.Steps()) {
					t.Errorf("%d steps, and %d of its copy", len(r.Steps()), len(c.Steps()))
				}
			})
		}
		readers.Wait()
	}
}
