package test

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/control/effects"
	"nightjar/core/effect"
)

// asJSON runs a command and reads what it prints.
func asJSON[T any](m *mesh, code int, args ...string) (v T) {
	m.t.Helper()
	out, errs, got := m.run(append(args, "-o", "json")...)
	if err := json.Unmarshal([]byte(out), &v); err != nil || got != code {
		m.t.Fatalf("%v: exit %d, want %d, %v\n%s%s", args, got, code, err, out, errs)
	}
	return v
}

func rowOf(t *testing.T, rows []model.EffectRow, kind string, name string) model.EffectRow {
	t.Helper()
	for _, r := range rows {
		if r.Kind == kind && r.Name == name {
			return r
		}
	}
	t.Fatalf("there is no row %s %s", kind, name)
	return model.EffectRow{}
}

// sample is the rules in force, changed.
func (m *mesh) sample(t *testing.T, pairs ...string) string {
	t.Helper()
	r, err := m.api.Revision(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	text := r.Bundles[model.MainBundle][0].Text
	for i := 0; i < len(pairs); i += 2 {
		if !strings.Contains(text, pairs[i]) {
			t.Fatalf("the rules in force hold no %q", pairs[i])
		}
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	return write(t, t.TempDir(), "rules.yaml", text)
}

const timetableLabels = "        labels: {kind: read}     # see the policy quick-reads\n"

// TestEffects: what a retry does to a version that fails, a change that has too
// few requests for a verdict, and an end to both.
func TestEffects(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	m.must(0, "drill", "start", "--service", "sailings", "--version", "v1", "--fail", "30%", "--for", "10m")
	ask := func(n int) { m.call(n, "http://sailings/sailings/today") }
	counted := func(n uint64, args ...string) (e model.Effect) {
		t.Helper()
		eventually(t, fmt.Sprintf("%d requests are counted after the change", n), func() bool {
			e = asJSON[model.Effect](m, 0, append([]string{"effect"}, args...)...)
			for _, r := range e.Rows {
				if r.Kind == model.RowRoute && r.Name == "sailings/timetable" && r.After.Requests == n {
					return true
				}
			}
			return false
		})
		return e
	}
	// What comes within the time to settle belongs to neither side.
	settled := func() {
		began := time.Now().Truncate(time.Second)
		eventually(t, "the change has settled", func() bool { return time.Since(began) > (effects.Settle+2)*time.Second })
	}

	settled()
	ask(400)
	time.Sleep(2 * time.Second) // until the proxy has told of them
	m.must(0, "rules", "publish", m.sample(t, timetableLabels, timetableLabels+"        retry: {times: 2, on: [5xx], wait: 1ms..5ms, budget: 100%}\n"), "-m", "retry reads")
	settled()
	ask(400)
	e := counted(400)
	r := rowOf(t, e.Rows, model.RowRoute, "sailings/timetable")
	if r.Before.Requests != 400 || r.Verdict != model.Better || *r.Success.Change < 0.18 || *r.Success.Low <= 0.1 || *r.Success.High >= 0.36 || r.FirstAttempt.Verdict != model.NoClearChange {
		t.Errorf("what the retry did: %+v, first tries %+v", r.Success, r.FirstAttempt)
	}
	if *r.AttemptsPerRequest.Before != 1 || math.Abs(*r.AttemptsPerRequest.After-1.33) > 0.1 { // 85% of them go to the version that fails
		t.Errorf("load factor %v, then %v", *r.AttemptsPerRequest.Before, *r.AttemptsPerRequest.After)
	}
	if len(r.Shares) != 2 || r.ShareP == nil || *r.ShareP < effect.OffShare || r.Shares[1].Target != "sailings/v2" {
		t.Errorf("shares: %+v, p %v", r.Shares, r.ShareP)
	}
	if notes := strings.Join(e.Notes, "\n"); !strings.Contains(notes, "Drill drill-1") || !strings.Contains(notes, "both windows") {
		t.Errorf("notes: %s", notes)
	}
	text := m.must(0, "effect", "--by", "route")
	for _, want := range []string{"\"retry reads\", by ", "better", "route sailings/timetable", "1.00 → 1.3", "95% interval"} {
		if !strings.Contains(text, want) {
			t.Errorf("effect does not say %q:\n%s", want, text)
		}
	}
	if html := m.must(0, "effect", "-o", "html"); !strings.Contains(html, "<svg") || strings.Contains(html, "src=") || strings.Contains(html, "href=") || !strings.Contains(html, "sailings/timetable") {
		t.Errorf("the page is not whole by itself: %.300s", html)
	}
	if csv := m.must(0, "effect", "-o", "csv", "--of", "sailings/timetable"); strings.Count(csv, "\n") != 2 || !strings.HasPrefix(csv, "kind,name,") {
		t.Errorf("as CSV: %s", csv)
	}

	m.must(0, "drill", "stop", "drill-1")
	m.must(0, "split", "sailings", "v1=80", "v2=20", "--route", "timetable")
	settled()
	ask(10)
	if r := rowOf(t, counted(10).Rows, model.RowRoute, "sailings/timetable"); r.Verdict != model.TooFew {
		t.Errorf("ten requests are enough for %q", r.Verdict)
	}
	m.must(1, "effect", "--fail-on", "unclear", "--by", "mesh")
	// The effect before has a window that ended with the next revision.
	if e = asJSON[model.Effect](m, 0, "effect", "2"); !e.IsComplete || e.Whole() == nil {
		t.Errorf("revision 2: %+v", e)
	}
	for _, bad := range [][]string{{"effect", "0"}, {"effect", "77"}, {"effect", "1", "--ago", "1m"}, {"effect", "--by", "hour"}, {"effect", "--at", "noon"}, {"effect", "--fail-on", "rain"}, {"effect", "--window", "90h"}} {
		if out := m.must(2, bad...); !strings.HasPrefix(out, "nightjar: ") {
			t.Errorf("%v: %s", bad, out)
		}
	}

	b := openTab(t, m)
	b.visit("/effects?revision=2")
	b.until(`document.querySelector("[data-test=headline]")?.textContent.includes("better")`)
	b.until(`document.querySelector("[data-test='row-route-sailings/timetable']")?.closest("[role=row]").textContent.includes("better")`)
	b.until(`document.querySelector("[data-test=notes]").textContent.includes("revision 3 came")`)
	b.click("effect-3")
	b.until(`document.querySelector("[data-test=effect] h2")?.textContent === "Revision 3"`)
	b.says("[data-test=notes]", "is full at")
}

const trials = `trials:
  calm:
    load:
      - {to: sailings, path: /sailings/today, rate: 30/s, share: {headers: {x-crew: "yes"}, of: 50%}}
      - {to: front-door, path: /tides/next, steps: [5/s, 15/s]}
      - {from: kiosk, to: fares, method: POST, path: /fares/book, body: "{}", rate: 5/s, arrivals: random}
    for: 3s
    warm-up: 1s
    expect: [success >= 95%, share(sailings/v3) = 50% ± 3%, refused = 0, requests >= 120, load-factor <= 1.01]
  hopeless:
    load: {to: sailings, path: /sailings/today, rate: 50/s}
    for: 25s
    expect: [share(sailings/v3) >= 90%, success >= 50%]
  long:
    load: {to: tides, path: /tides/next, rate: 5/s}
    for: 60s
`

// TestTrials: a load with expectations, by the rules in force and by a draft that
// nobody else follows; its end, early and by force.
func TestTrials(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	dir := t.TempDir()
	file, junit := write(t, dir, "trials.yaml", trials), filepath.Join(dir, "trial.xml")

	calm := asJSON[model.Trial](m, 0, "trial", "run", "calm", "--file", file, "--junit", junit)
	if calm.State != model.TrialMet || calm.Figures.Requests < 120 || calm.Figures.Requests > 145 || len(calm.Expected) != 5 || len(calm.Curve) == 0 || len(calm.Points) != 3 || calm.Figures.OK != calm.Figures.Requests-calm.Figures.Failed {
		t.Errorf("%+v", calm)
	}
	var suites struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Cases    []struct {
				Name    string    `xml:"name,attr"`
				Failure *struct{} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if text, err := os.ReadFile(junit); err != nil || xml.Unmarshal(text, &suites) != nil || len(suites.Suites) != 1 || suites.Suites[0].Tests != 5 || suites.Suites[0].Failures != 0 || suites.Suites[0].Cases[0].Name != "success >= 95%" {
		t.Errorf("as JUnit XML: %+v, %v", suites, err)
	}
	began := time.Now()
	hopeless := asJSON[model.Trial](m, 1, "trial", "run", "hopeless", "--file", file)
	if hopeless.State != model.TrialMissed || !strings.Contains(hopeless.Why, "share(sailings/v3) >= 90% cannot be met any more") || time.Since(began) > 20*time.Second {
		t.Errorf("after %v: %s, %s", time.Since(began), hopeless.State, hopeless.Why)
	}

	// A rehearsal: all of the trial's requests go to v3, none of the others.
	draft := m.sample(t, "send: {v1: 85, v2: 15}", "send: v3")
	stop := load(t, m.outbound(""), "berths", "/berths/free")
	rehearsed := asJSON[model.Trial](m, 1, "trial", "run", "calm", "--file", file, "--rules", draft)
	if sent, bad := stop(); sent == 0 || len(bad) > 0 {
		t.Errorf("%d requests beside the rehearsal, bad: %v", sent, bad)
	}
	if !rehearsed.IsRehearsal || len(rehearsed.Draft) != 1 || rehearsed.Expected[1].Value == nil || *rehearsed.Expected[1].Value != 1 {
		t.Errorf("by the draft: %+v", rehearsed)
	}
	if got := m.call(100, "http://sailings/sailings/today"); strings.Contains(answers(got), "v3=") {
		t.Errorf("after the rehearsal: %s", answers(got))
	}
	if f := asJSON[struct{ Revision uint }](m, 0, "fleet"); f.Revision != 1 {
		t.Errorf("a rehearsal published revision %d", f.Revision)
	}
	c := asJSON[model.TrialComparison](m, 0, "trial", "compare", fmt.Sprint(calm.Number), fmt.Sprint(rehearsed.Number))
	if r := rowOf(t, c.Rows, model.RowVersion, "sailings/v3"); r.After.Requests <= r.Before.Requests || len(c.Notes) != 0 {
		t.Errorf("compared: %+v, %v", r, c.Notes)
	}

	// Two at once, an interrupt, and a service that dies.
	m.must(0, "trial", "run", "long", "--file", file, "--wait=false")
	if out := m.must(2, "trial", "run", "calm", "--file", file); !strings.Contains(out, "two at once would measure each other") {
		t.Errorf("a second one: %s", out)
	}
	var n uint
	eventually(t, "the trial measures", func() bool {
		s := asJSON[model.Trial](m, 0, "trial", "show")
		n = s.Number
		return s.Figures.Requests > 3
	})
	if s := asJSON[model.Trial](m, 0, "trial", "stop", fmt.Sprint(n)); s.State != model.TrialStopped || s.Figures.Requests == 0 {
		t.Errorf("stopped: %+v", s)
	}
	run := m.signedIn(exec.Command(binary, "trial", "run", "long", "--file", file, "--server", m.web))
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the next one runs", func() bool {
		s := asJSON[model.Trial](m, 0, "trial", "show")
		return s.Number > n && s.Figures.Requests > 0
	})
	run.Process.Signal(interrupt)
	run.Wait()
	if s := asJSON[model.Trial](m, 0, "trial", "show"); run.ProcessState.ExitCode() != 1 || s.State != model.TrialStopped {
		t.Errorf("interrupted: exit %d, %s", run.ProcessState.ExitCode(), s.State)
	}
	for _, bad := range [][]string{{"trial", "run", "nothing", "--file", file}, {"trial", "run", "calm"}, {"trial", "show", "99"}, {"trial", "show", "x"}, {"trial", "stop", "1"}, {"trial", "compare", "1", "99"}, {"trial", "run", "calm", "--file", file, "--for", "3"}} {
		if out := m.must(2, bad...); !strings.HasPrefix(out, "nightjar: ") {
			t.Errorf("%v: %s", bad, out)
		}
	}
	wrong := write(t, dir, "wrong.yaml", "trials: {w: {load: {to: nobody, rate: 1/s}, expect: [succes > 3%]}}")
	if out := m.must(1, "trial", "run", "w", "--file", wrong); !strings.Contains(out, "unknown-service") || !strings.Contains(out, `"succes" is not a figure`) {
		t.Errorf("with mistakes: %s", out)
	}
}

// TestForecast: an answer before anything is published, in the pipeline's order,
// each step stopping it by its exit code; and on the pages.
func TestForecast(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	for _, v := range []string{"sailings/v1", "sailings/v2", "sailings/v3", "fares/v2"} {
		m.must(0, "standin", "set", v, "--errors", "0%") // two failures of a short window would be a forecast of trouble
	}
	eventually(t, "a forecast can be made, of more than the start of a mesh", func() bool {
		f, err := m.api.Forecast(t.Context(), model.ForecastRequest{Window: 30, Requests: 5000})
		return err == nil && len(f.Behaviour) >= 9 && f.Rows[0].Kind == model.RowMesh && f.Rows[0].Before.Requests >= 900
	})
	m.must(0, "forecast", "--window", "30")
	same := asJSON[model.Forecast](m, 0, "forecast", "--window", "30", "--requests", "20000")
	if r := rowOf(t, same.Rows, model.RowCaller, "front-door"); r.After.Requests != 20000 || math.Abs(*r.Success.Change) > 0.05 || same.After != model.SideForecast {
		t.Errorf("the rules in force: %+v", r)
	}
	split := asJSON[model.Forecast](m, 0, "forecast", "--window", "30", "--split", "sailings/timetable:v1=50,v2=50")
	if r := rowOf(t, split.Rows, model.RowRoute, "sailings/timetable"); len(split.Draft) == 0 || len(r.Shares) != 2 || math.Abs(r.Shares[0].Observed-0.5) > 0.01 {
		t.Errorf("50 to 50: %+v", r.Shares)
	}
	good, broken := m.sample(t, timetableLabels, timetableLabels+"        timeout: 24s\n"), m.sample(t, timetableLabels, timetableLabels+"        fault: {status: 503, share: 40%}\n")
	file := write(t, t.TempDir(), "trials.yaml", "trials: {gate: {load: {to: sailings, path: /sailings/today, rate: 40/s}, for: 2s, expect: [success >= 90%]}}")
	pipeline := func(rules string) (steps []int) {
		for _, args := range [][]string{{"rules", "check", rules}, {"forecast", rules, "--window", "30"}, {"trial", "run", "gate", "--file", file, "--rules", rules}, {"rules", "publish", rules}} {
			_, _, code := m.run(args...)
			if steps = append(steps, code); code != 0 {
				return steps
			}
		}
		return steps
	}
	if got := fmt.Sprint(pipeline(broken)); got != "[0 1]" {
		t.Errorf("a draft that refuses 40%%: %s", got)
	}
	if out := m.must(1, "trial", "run", "gate", "--file", file, "--rules", broken); !strings.Contains(out, "! missed") {
		t.Errorf("the trial of it: %s", out)
	}
	if got := fmt.Sprint(pipeline(good)); got != "[0 0 0 0]" {
		t.Errorf("a draft that does no harm: %s", got)
	}
	out := m.must(0, "forecast", "--window", "30", "--sweep", "--requests", "5000", "--down", "north-quay", "-o", "wide")
	for _, want := range []string{"REQ/S", "No instance of north-quay answers", "OWN P50 (ms)", "Assumptions:"} {
		if !strings.Contains(out, want) {
			t.Errorf("forecast does not say %q:\n%s", want, out)
		}
	}
	behaviour := write(t, t.TempDir(), "behaviour.yaml", "behaviour: {fares/v2: {errors: 50%, time: {median: 40ms, spread: 0.2}, hop: 1ms}}")
	f := asJSON[model.Forecast](m, 1, "forecast", "--window", "30", "--behaviour", behaviour, "--expect", "success >= 99.9%")
	if r := rowOf(t, f.Rows, model.RowVersion, "fares/v2"); math.Abs(*r.Success.After-0.5) > 0.05 || math.Abs(*r.P50MS.After-41) > 2 {
		t.Errorf("as the file says: %+v, p50 %v", r.Success, *r.P50MS.After)
	}
	for _, bad := range [][]string{{"forecast", "--split", "sailings"}, {"forecast", "--down", "moon"}, {"forecast", "--expect", "good"}, {"forecast", "--window", "1"}, {"forecast", "--behaviour", "none.yaml"}, {"forecast", "--trial", "none"}} {
		if out := m.must(2, bad...); !strings.HasPrefix(out, "nightjar: ") {
			t.Errorf("%v: %s", bad, out)
		}
	}
	status, page := m.answer("POST", "/forecasts/report", map[string]any{"window": 30, "requests": 2000, "sweep": true})
	if status != 200 || strings.Count(page, "<svg") != 3 || !strings.Contains(page, "Assumptions") {
		t.Errorf("the report: %d, %.200s", status, page)
	}

	b := openTab(t, m)
	b.visit("/services/fares?tab=routes")
	b.until(`!!document.querySelector("[data-test=handle-0]")`)
	b.press("[data-test=handle-0]", arrowLeft, 20)
	b.click("preview-go")
	b.until(`document.querySelector("[data-test=preview-answer] [data-test='row-version-fares/v1']")?.closest("[role=row]").textContent.includes("→")`)
	b.says("[data-test=preview-answer]", "drops by more than one point")
	b.visit("/services/sailings?tab=instances")
	b.do(chromedp.Focus(chromedp.CSS("[data-test=guard-in-flight]")), chromedp.KeyEvent("\b\b1"))
	b.click("preview-go")
	b.says("[data-test=guard-preview] [data-test=preview-answer]", "services.sailings.guard.in-flight: – → 1, waiting 10")
	b.visit("/forecast")
	b.click("forecast")
	b.until(`document.querySelectorAll("[data-test=sweep] svg").length >= 2`)
	b.until(`document.querySelector("[data-test=assumed]").textContent.includes("(measured ")`)
}
