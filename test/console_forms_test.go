package test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/test/browser"
)

// fill replaces what a field of a form holds.
func (b tab) fill(field, text string) {
	b.t.Helper()
	b.enter(fmt.Sprintf("[data-test=form] [data-test='field-%s']", field), text)
}

// enter replaces what a field holds.
func (b tab) enter(css, text string) {
	b.t.Helper()
	b.until(fmt.Sprintf("((e) => e && (e.focus(), e.select(), document.activeElement === e))(document.querySelector(%q))", css))
	b.do(chromedp.KeyEvent(text))
}

// choose picks an entry of a select.
func (b tab) choose(test, words string) {
	b.t.Helper()
	for range 3 { // what comes in may move the field just then
		b.clickOn(fmt.Sprintf("document.querySelector(\"[data-test='%s'] [role=combobox]\")", test))
		b.until("document.querySelector('[role=option]') || (window.waits = (window.waits ?? 0) + 1) % 10 === 0")
		if b.now("document.querySelector('[role=option]')") {
			break
		}
	}
	b.clickOn(fmt.Sprintf("[...document.querySelectorAll('[role=option]')].find((e) => e.innerText.startsWith(%q))", words))
}

// TestForms: forms write the draft, in the text of the file; from there it goes by
// forecast and publish to its effect.
func TestForms(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) {
		if !t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) {
			t.FailNow() // the next ones build on it
		}
	}
	force, err := m.api.Revision(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	before := force.Bundles["main"][0].Text
	draft := func() string {
		d, err := m.api.Draft(b.t.Context(), "main", "console")
		if err != nil {
			b.t.Fatal(err)
		}
		return d.Files[0].Text
	}

	step("a setting at the level that one picks", func(t *testing.T) {
		b.visit("/services/sailings?tab=settings")
		b.click("set-retry")
		b.choose("level", "route timetable")
		b.click("set-here")
		b.fill("times", "2")
		b.click("add-to-retry")
		b.click("add-each")
		b.fill("each", "900ms")
		b.click("to-draft")
		b.says("[data-test=draft-bar]", "services.sailings.routes[timetable].retry")
		want := strings.Replace(before, "        send: {v1: 85, v2: 15}\n", "        send: {v1: 85, v2: 15}\n        retry: {times: 2, each: 900ms}\n", 1)
		if got := draft(); got != want {
			t.Errorf("the draft is\n%s", got)
		}
	})
	step("mistakes are told, and nothing is written", func(t *testing.T) {
		kept := draft()
		b.click("set-timeout")
		b.fill("timeout", "soon")
		b.click("to-draft")
		b.says("[data-test=form-wrong]", "soon")
		if draft() != kept {
			t.Error("a mistake was written into the draft")
		}
		b.clickOn(button("Cancel"))
	})
	step("a new route with a condition, at its place", func(t *testing.T) {
		b.click("tab-routes")
		b.click("add-route")
		b.fill("name", "night-owls")
		b.choose("place", "2, before timetable")
		b.fill("send", "v2")
		b.do(chromedp.KeyEvent("\x1b")) // the list of targets
		b.click("add-to-route")
		b.click("add-when")
		b.click("add-to-when")
		b.click("add-headers")
		b.click("more-headers")
		b.until("((e) => e && (e.focus(), document.activeElement === e))([...document.querySelectorAll('[data-test=form] input[role=combobox]')].find((e) => e.value === ''))")
		b.do(chromedp.KeyEvent("x-owl"))
		b.fill("value", "yes")
		b.click("to-draft")
		b.says("[data-test=draft-bar]", "services.sailings.routes[night-owls]")
		want := "        send: v3\n      - name: night-owls\n        send: v2\n        when: {headers: {x-owl: \"yes\"}}\n      - name: timetable\n"
		if got := draft(); !strings.Contains(got, want) || strings.Count(got, "#") != strings.Count(before, "#") {
			t.Errorf("the draft is\n%s", got)
		}
	})
	step("the draft is rehearsed in a trial, and forecast in full", func(t *testing.T) {
		m.call(60, "http://tickets.ferry.example/sailings/today") // what a forecast is made of
		b.click("draft-trial")
		b.says("[data-test=draft-bar]", "night-owls")
		b.do(chromedp.Focus(chromedp.CSS("[data-test=trial-duration] input")), chromedp.KeyEvent("2s"))
		b.click("start-trial")
		b.says("[data-test=trial]", "rehearsal of a draft with 4 changes to revision 1; ")
		eventually(t, "its end", func() bool { // before its time, on a machine that is too busy for it
			trial, err := m.api.Trial(t.Context(), 0)
			return err == nil && trial.State != model.TrialRunning
		})
		b.click("draft-forecast")
		b.click("forecast")
		b.says("[data-test=forecast-answer]", "services.sailings.routes[night-owls]")
		d, err := m.api.Draft(t.Context(), "main", "console") // another tab changes it
		if err != nil {
			t.Fatal(err)
		}
		d.Files[0].Text = strings.Replace(d.Files[0].Text, "each: 900ms", "each: 800ms", 1)
		if _, err := m.api.SaveDraft(t.Context(), "main", model.DraftRequest{Base: d.Base, Files: d.Files}, d.Version); err != nil {
			t.Fatal(err)
		}
		b.click("forecast")
		b.says("[data-test=forecast-answer]", "each 800ms")
		b.visit("/services/sailings?tab=routes")
	})
	step("forecast, publish, effect", func(t *testing.T) {
		b.click("preview-go")
		b.until("document.querySelector('[data-test=preview-answer]')")
		next := m.revision() + 1
		b.click("publish-draft")
		b.says("[data-test=published]", fmt.Sprintf("Revision %d is in force in 12 of 12", next))
		b.says("[data-test=effect-line]", "Effect")
		b.until("document.querySelector('[data-test=route-night-owls]')")
		if got := m.call(10, "http://sailings/sailings/today", "-H", "x-owl: yes"); answers(got) != "v2=10" {
			t.Errorf("after publishing: %s", answers(got))
		}
	})
	step("a form that is being saved leaves the next one open", func(t *testing.T) {
		m.record(t, func(call string) int {
			if strings.Contains(call, "/rules/values") {
				time.Sleep(500 * time.Millisecond)
			}
			return 0
		})
		b.click("edit-night-owls")
		b.choose("place", "1, before crew-first")
		b.click("to-draft")
		b.click("edit-old-links")
		b.until("document.querySelector('[data-test=draft-bar] [data-test=publish-draft]')")
		time.Sleep(500 * time.Millisecond) // in which it would close
		b.says("[data-test=form]", "Route old-links")
		if got := draft(); strings.Index(got, "night-owls") > strings.Index(got, "crew-first") {
			t.Errorf("the draft is\n%s", got)
		}
	})
	step("a route goes with its comment", func(t *testing.T) {
		b.click("remove-route")
		b.click("act-confirm")
		b.until("!document.querySelector('[role=dialog]')")
		eventually(t, "the route has left the draft", func() bool { return !strings.Contains(draft(), "old-links") })
		b.click("discard-draft")
		b.click("act-confirm")
		b.until("!document.querySelector('[data-test=publish-draft]')")
	})
	step("moved weights, beside other changes", func(t *testing.T) {
		b.visit("/services/sailings?tab=routes")
		b.do(chromedp.Focus(chromedp.CSS("[data-test=route-timetable] [data-test=weight-v2]")), chromedp.KeyEvent("\b\b\b12.5\r"))
		b.weighs("timetable", "v1", "87.5")
		b.click("weights-to-draft")
		b.says("[data-test=draft-bar]", "services.sailings.routes[timetable].send: v1 85, v2 15 → v1 87.5, v2 12.5")
		if got := draft(); !strings.Contains(got, "{v1: 87.5, v2: 12.5}") || strings.Count(got, "#") != strings.Count(before, "#") {
			t.Errorf("the draft is\n%s", got)
		}
		b.until("!document.querySelector('[data-test=weights-to-draft]')")
		b.click("discard-draft")
		b.click("act-confirm")
	})
	step("a gateway's route", func(t *testing.T) {
		b.visit("/gateways/front-door?tab=routes&edit=tides")
		b.fill("send", "tides")
		b.click("to-draft")
		b.says("[data-test=draft-bar]", "gateways.front-door.routes[tides].send: tides/v1 → tides")
	})
}

// TestConsoleFunctions calls the console's own functions, without its pages.
func TestConsoleFunctions(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../console/testing/pure.js")
	if err != nil {
		t.Fatalf("%v: make console/testing/pure.js", err)
	}
	ctx, end, err := browser.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer end()
	b := tab{t: t, ctx: ctx}
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[any](string(script)+"; window.pure = pure; 0")); err != nil {
		t.Fatal(err)
	}
	const noon = "new Date(2026, 10, 29, 12, 0, 0).getTime()"
	for js, want := range map[string]string{
		`pure.moveEnd([50000, 50000], 0, 30000)`:                                      `[30000,70000]`,
		`pure.moveEnd([100000, 0, 0], 1, 80000)`:                                      `[80000,0,20000]`, // the lower handle is in the way, and goes along
		`pure.moveEnd([100000, 0, 0], 0, 90000)`:                                      `[90000,10000,0]`,
		`pure.moveEnd([0, 0, 100000], 0, 40000)`:                                      `[40000,0,60000]`,
		`pure.moveEnd([50000, 50000], 0, -5)`:                                         `[0,100000]`,
		`pure.withWeight([80000, 15000, 5000], 0, 50000)`:                             `[50000,37500,12500]`,
		`pure.withWeight([100000, 0], 1, 30000)`:                                      `[70000,30000]`,
		`pure.withWeight([100000, 0], 0, 60000)`:                                      `[60000,40000]`,
		`pure.withWeight([33000, 33000, 34000], 1, 250000)`:                           `[0,100000,0]`,
		`pure.withWeight([100000], 0, 20000)`:                                         `[100000]`,
		`[...pure.looksOf(["v1", "v2", "v3"])]`:                                       `[["v1",0],["v2",1],["v3",2]]`,
		`[...pure.looksOf(["v3", "v2"])]`:                                             `[["v2",1],["v3",2]]`, // v1 is gone, and the others keep theirs
		`[...pure.looksOf(["v1", "v7"])]`:                                             `[["v1",0],["v7",1]]`,
		`new Set(pure.looksOf(["blue", "green", "canary", "old"]).values()).size`:     `4`,
		`pure.moment(new Date(2026, 10, 29, 9, 5, 7).getTime(), ` + noon + `)`:        `"09:05:07"`,
		`pure.moment(new Date(2026, 10, 28, 23, 5, 7).getTime(), ` + noon + `)`:       `"28 Nov, 23:05:07"`,
		`pure.moment(new Date(2025, 0, 2, 3, 4, 5).getTime(), ` + noon + `)`:          `"2 Jan 2025, 03:04:05"`,
		`[0, 0.0001, 0.5, 0.99999, 1, null].map(pure.percent)`:                        `["0.0%","<0.1%","50.0%",">99.9%","100.0%","–"]`,
		`[0, 900, 61000, 7200000].map(pure.seconds)`:                                  `["0 s","0.9 s","61 s","2 h"]`,
		`((r) => [r.span, r.at, r.seconds])(pure.rangeOf(new URLSearchParams("")))`:   `[null,0,10]`,
		`((r) => [r.span, r.seconds])(pure.rangeOf(new URLSearchParams("range=6h")))`: `["6h",21600]`,
		`((r) => [r.span, r.seconds])(pure.rangeOf(new URLSearchParams("range=x")))`:  `[null,10]`,
		`pure.rangeOf(new URLSearchParams("at=-4")).at`:                               `0`,
		`pure.placeOf("a/b.yaml:35:9")`:                                               `{"file":"a/b.yaml","line":35,"col":9}`,
		`pure.placeOf("a/b.yaml")`:                                                    `{"file":"a/b.yaml","line":1}`,
		`["a-b", "x: y", "it's"].map(pure.shellWord)`:                                 `["a-b","'x: y'","'it'\\''s'"]`,
		`((p) => [p.bands.map((b) => [b.name, b.y, b.height]), p.spots.get("b").y, p.height])(pure.planOf([{id: "a", height: 60, band: "n"}, {id: "b", height: 60, band: "s"}, {id: "c", height: 60}], [["a", "b"]], [], 800))`: `[[["",0,91],["n",100,91],["s",200,91]],222,300]`,
		`((f) => [f.nodes.map((n) => [n.id, n.band, n.sums.requests, n.service?.versions.map((v) => [v.name, v.instances.length, v.observed])]), f.links.map((l) => [l.id, l.sums.bad, l.sums.rps])])(pure.flowBySite({window: 10, gateways: [{name: "g", sites: ["n"], routes: []}],
			services: [{name: "s", versions: [{name: "v1", instances: [{site: "n"}, {site: "m"}]}, {name: "v2", instances: [{site: "n"}]}]}, {name: "t", versions: [{name: "v1", instances: [{}]}]}],
			links: [{from: "k", to: "s", sites: [{from: "n", to: "", version: "", requests: 5, bad: 5}, {from: "n", to: "n", version: "v1", requests: 60, bad: 1}, {from: "n", to: "n", version: "v2", requests: 20, bad: 0}, {from: "m", to: "gone", version: "v1", requests: 10, bad: 0}]},
				{from: "s", to: "t", versions: [{version: "v1", requests: 4, bad: 1}], figures: {requests: 7, failed: 1, refused: 1}}]}, new Set(["k@old~s@m", "g~t", "s~t"])))`: `[[["s@gone","gone",10,[["v1",0,1]]],["s@m","m",0,[["v1",1,null]]],["s@n","n",85,[["v1",1,0.75],["v2",1,0.25]]],["t","",7,[["v1",1,1]]],["g@n","n",0,null],["k@old","old",0,null],["k@n","n",0,null],["k@m","m",0,null]],[["k@n~s@n",6,8.5],["k@m~s@gone",0,1],["s@gone~t",2,0.7],["k@old~s@m",0,0]]]`,
		`((b) => ((n) => [n, n.same === b.same, b.list])(pure.applied(b, {n: [2], gone: [], none: [null], list: {1: {v: [3]}}})))({n: 1, gone: 1, same: {}, list: [{v: 1}, {v: 2}]})`: `[{"n":2,"same":{},"list":[{"v":1},{"v":3}],"none":null},true,[{"v":1},{"v":2}]]`,
		`["Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) HeadlessChrome/150.0.0.0 Safari/537.36",
			"Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0.0.0 Safari/537.36 Edg/140.0.0.0",
			"Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.0 Mobile/15E148 Safari/604.1",
			"Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0", "curl/7.88.1", ""].map(pure.browserOf)`: `["Chrome 150 on Linux","Edge 140 on Windows","Safari 18 on iOS","Firefox 128 on Linux","curl/7.88.1",""]`,
		`pure.cursorPlace(["services:", "  a:", "    send: {v1: 1, "])`: `{"path":["services","a","send"],"value":false}`,
	} {
		got, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("JSON.stringify("+js+")"))
		if err != nil || got != want {
			t.Errorf("%s: %s, want %s (%v)", js, got, want, err)
		}
	}
}
