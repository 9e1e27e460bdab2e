package test

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/test/browser"
	"nightjar/test/contract"
)

// record notes the calls of the console until the test ends; an answer that is given for
// a call replaces the one of the service.
func (m *mesh) record(t *testing.T, answer func(call string) int) (seen func(part string) []string) {
	var mu sync.Mutex
	var calls []string
	m.door.Before(func(r *http.Request) int {
		call := r.Method + " " + r.URL.RequestURI()
		mu.Lock()
		calls = append(calls, call)
		mu.Unlock()
		if answer == nil {
			return 0
		}
		return answer(call)
	})
	t.Cleanup(func() { m.door.Before(nil) })
	return func(part string) (list []string) {
		mu.Lock()
		defer mu.Unlock()
		for _, c := range calls {
			if strings.Contains(c, part) {
				list = append(list, c)
			}
		}
		return list
	}
}

// calls answers every call with part in it with status, as long as on holds.
func calls(part string, status int, on *atomic.Bool) func(string) int {
	return func(call string) int {
		if on.Load() && strings.Contains(call, part) {
			return status
		}
		return 0
	}
}

// goTo changes the address as a link does, without loading the console anew.
func (b tab) goTo(path string) {
	b.t.Helper()
	b.until(fmt.Sprintf("(history.pushState({}, '', %[1]q), history.pushState({}, '', %[1]q), history.back(), true)", path))
	b.until(fmt.Sprintf("location.pathname + location.search === %q", path))
}

// TestConsoleChanges: what somebody changes in the console is what is published, in the
// name of who did it, and nothing goes without a question.
func TestConsoleChanges(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) { t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) }

	step("a draft of weights stays with its service", func(t *testing.T) {
		b.visit("/services/fares?tab=routes")
		b.weighs("all", "v1", "90")
		b.press("[data-test=handle-0]", arrowLeft, 5)
		b.weighs("all", "v1", "85")
		b.goTo("/services/berths?tab=routes")
		b.weighs("all", "v1", "50")
		if b.now("document.querySelector('[data-test=publish]')") {
			t.Error("the draft of fares can be published at berths")
		}
	})
	step("two handles at one place can both move", func(t *testing.T) {
		b.visit("/services/sailings?tab=routes")
		route := "document.querySelector('[data-test=route-crew-first]')"
		b.clickOn(fmt.Sprintf("[...%s.querySelectorAll('button')].find((e) => e.innerText.trim() === 'Add v1')", route))
		b.clickOn(fmt.Sprintf("[...%s.querySelectorAll('button')].find((e) => e.innerText.trim() === 'Add v2')", route))
		b.drag(route+".querySelector('[data-test=handle-1]')", -200, false)
		b.until("Number(" + route + ".querySelector('[data-test=weight-v2]').value) > 9")
		b.drag(route+".querySelector('[data-test=handle-0]')", -100, false)
		b.until("Number(" + route + ".querySelector('[data-test=weight-v1]').value) > 4")
	})
	step("a forecast goes when the weights change", func(t *testing.T) {
		m.call(60, "http://tickets.ferry.example/fares/adult")
		eventually(t, "there is what a forecast is made of", func() bool {
			_, err := m.api.Forecast(t.Context(), model.ForecastRequest{Requests: 1000})
			return err == nil
		})
		b.visit("/services/fares?tab=routes")
		b.press("[data-test=handle-0]", arrowLeft, 5)
		b.click("preview-go")
		b.until("document.querySelector('[data-test=preview-answer]')")
		b.press("[data-test=handle-0]", arrowLeft, 40)
		b.weighs("all", "v1", "45")
		if b.now("document.querySelector('[data-test=preview-answer]')") {
			t.Error("the forecast for 85% is still there")
		}
	})
	step("discarding asks", func(t *testing.T) {
		b.clickOn(button("Discard"))
		b.says("[role=dialog]", "Discard")
		b.click("act-confirm")
		b.weighs("all", "v1", "90")
	})
	step("splits and drills have the name of who made them", func(t *testing.T) {
		mara, err := m.api.CreateAccessToken(t.Context(), model.AccessTokenRequest{Name: "mara", Role: "editor"})
		if err != nil {
			t.Fatal(err)
		}
		b.signIn(clientOf(t, m.web, client.Token(mara.Token)))
		defer b.signIn(m.api)
		b.visit("/services/fares?tab=routes")
		b.press("[data-test=handle-0]", arrowLeft, 1)
		next := m.revision() + 1
		b.click("publish")
		b.says("[data-test=published]", fmt.Sprintf("Revision %d is in force", next))
		if out := m.must(0, "rules", "log"); !strings.Contains(out, "mara") {
			t.Errorf("log:\n%s", out)
		}
		b.visit("/drills?service=fares")
		b.click("drill-start")
		b.says("[data-test=running-drill-1]", "by mara")
		b.click("stop-drill-1")
		b.click("act-confirm")
		eventually(t, "the drill has ended", func() bool { return strings.Contains(m.must(0, "activity"), "drill-ended") })
		if out := m.must(0, "activity", "--who", "mara"); strings.Count(out, "mara") < 4 || !strings.Contains(out, "sign-in") {
			t.Errorf("activity:\n%s", out)
		}
	})
	step("the rules open after a failed read", func(t *testing.T) {
		var away atomic.Bool
		away.Store(true)
		m.record(b.t, calls("/revisions/", contract.Break, &away))
		b.visit("/rules")
		b.says("main", "Rules")
		time.Sleep(time.Second)
		away.Store(false)
		b.until("document.querySelector('.cm-content')")
	})
	step("findings stay while figures come in, and lead to their files", func(t *testing.T) {
		b.visit("/rules")
		b.edit("{v1: 85, v2: 15}", "{v1: 80, v22: 15}")
		b.until("[...document.querySelectorAll('.cm-lintRange-error')].some((e) => e.innerText.startsWith('v22'))")
		x, y, err := browser.Place(b.ctx, "[...document.querySelectorAll('.cm-lintRange-error')].find((e) => e.innerText.startsWith('v22'))")
		if err != nil {
			t.Fatal(err)
		}
		b.do(chromedp.MouseEvent(chromedp.MouseMoved, x-30, y), chromedp.MouseEvent(chromedp.MouseMoved, x, y))
		b.says(".cm-tooltip", "declares no version v22")
		b.until("(window.tip = document.querySelector('.cm-tooltip'), true)")
		time.Sleep(2500 * time.Millisecond)
		if !b.now("document.querySelector('.cm-tooltip') === window.tip") {
			t.Error("the words at the finding went, or were drawn anew")
		}
		b.click("add-file")
		b.do(chromedp.KeyEvent("more.yaml\r"))
		b.until("document.querySelector('.cm-content').innerText.startsWith('services:')")
		b.clickOn("document.querySelector('[data-test=finding-weights] button')")
		b.until("document.querySelector('.cm-content').innerText.includes('crew-first')")
		b.clickOn(button("more.yaml"))
		b.until("document.querySelector('.cm-content').innerText.startsWith('services:')")
		b.edit("services:\n", "services:\n  pier: {versions: [v1]}\n")
		b.clickOn("[...document.querySelectorAll('[role=tab]')].find((e) => e.innerText.startsWith('examples/'))")
		time.Sleep(500 * time.Millisecond)
		if b.now("document.activeElement.classList.contains('cm-content')") {
			t.Error("choosing a file jumped to an old finding")
		}
		b.click("discard")
		b.click("act-confirm")
		b.says("[data-test=saving]", "unchanged")
		// Another bundle refers to the tides, which this draft does away with.
		file := write(b.t, b.t.TempDir(), "night.yaml", "services:\n  night-kiosk:\n    versions: [v1]\n    routes: [{name: all, send: tides/v1}]\n")
		m.must(0, "rules", "publish", file, "--bundle", "night")
		b.visit("/rules")
		b.edit("  tides:\n    owner: harbour-team\n    versions: [v1]", "  tides:\n    owner: harbour-team\n    versions: [v2]")
		b.clickOn("[...document.querySelectorAll('[data-test^=finding] button')].find((e) => e.innerText.includes('night:'))")
		b.until("new URLSearchParams(location.search).get('bundle') === 'night' && document.querySelector('.cm-content')?.innerText.includes('night-kiosk')")
		b.visit("/rules")
		b.click("discard")
		b.click("act-confirm")
		b.says("[data-test=saving]", "unchanged")
		m.must(0, "rules", "remove", "night", "--yes")
	})
	step("a publish is told of when the draft cannot be discarded", func(t *testing.T) {
		b.visit("/rules")
		b.edit("{v1: 85, v2: 15}", "{v1: 80, v2: 20}")
		b.says("[data-test=saving]", "draft saved")
		b.until("!document.querySelector('[data-test=publish]').disabled")
		var away atomic.Bool
		away.Store(true)
		m.record(b.t, calls("DELETE /api/v1/drafts/", contract.Break, &away))
		next := m.revision() + 1
		b.click("publish")
		b.says("[data-test=published]", fmt.Sprintf("Revision %d is in force", next))
		b.says("[data-test=refused]", "The draft could not be discarded")
		away.Store(false)
	})
	step("any revision can be compared", func(t *testing.T) {
		for i := range 11 {
			if _, err := m.api.Split(b.t.Context(), "sailings", model.SplitRequest{Route: "timetable", Weights: []model.Weight{{Target: "v1", Weight: fmt.Sprint(50 + i)}, {Target: "v2", Weight: fmt.Sprint(50 - i)}}}, nil); err != nil {
				t.Fatal(err)
			}
		}
		b.visit("/rules?compare=1")
		b.says("[aria-label=History] .cm-merge-a", "send: {v1: 85, v2: 15}")
	})
	step("an action is carried out once", func(t *testing.T) {
		b.visit("/releases")
		b.click("start-sailings-to-v2")
		b.click("act-confirm")
		b.click("act-withdraw")
		var slow atomic.Bool
		slow.Store(true)
		seen := m.record(b.t, func(call string) int {
			if strings.HasPrefix(call, "POST") && strings.Contains(call, "/withdraw") {
				time.Sleep(700 * time.Millisecond)
			}
			return 0
		})
		b.clickOn("document.querySelector('[data-test=act-confirm]')")
		b.until("(document.querySelector('[data-test=act-confirm]')?.click(), true)")
		b.until("!document.querySelector('[role=dialog]')")
		time.Sleep(time.Second)
		if got := seen("/withdraw"); len(got) != 1 {
			t.Errorf("withdrawn %d times", len(got))
		}
	})
}

// TestConsoleTime: moments, spans and streams of the console.
func TestConsoleTime(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) { t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) }
	const slider = "[data-test=timebar] input[type=range]"

	step("a ribbon between groups has figures", func(t *testing.T) {
		b.visit("/?by=owner")
		b.until("document.querySelector('[data-test=\"ribbon-front-team~timetable-team\"] text')?.textContent.includes('/s')")
		b.do(chromedp.Focus(chromedp.CSS("[data-test='ribbon-front-team~timetable-team']")), chromedp.KeyEvent("\r"))
		b.says("[data-test=link]", "kiosk → sailings")
		b.until("/[1-9][\\d.]*\\/s, [\\d.>]+%/.test(document.querySelector('[data-test=link]').innerText)")
	})
	step("a key leaves the present", func(t *testing.T) {
		b.visit("/")
		b.press(slider, arrowLeft, 1)
		b.until("new URLSearchParams(location.search).get('at') > 0")
	})
	step("scrubbing keeps the picture and reads little", func(t *testing.T) {
		b.visit("/")
		b.until("document.querySelectorAll('.card').length === 7")
		seen := m.record(b.t, nil)
		b.until(`(window.least = 99, new MutationObserver(() => { window.least = Math.min(window.least, document.querySelectorAll(".card").length); }).observe(document.querySelector("main"), {childList: true, subtree: true}), true)`)
		begun := time.Now()
		b.press(slider, arrowLeft, 40)
		b.until("new URLSearchParams(location.search).get('at') > 0")
		b.says("[data-test=incoming]", "before")
		most := 2 + int(5*time.Since(begun).Seconds())
		if got := seen("/mesh?at="); len(got) > most || len(got) > 30 {
			t.Errorf("%d reads of the mesh for 40 steps in %v", len(got), time.Since(begun))
		}
		if got, _ := chromedp.Run(b.ctx, chromedp.Evaluate[float64]("window.least")); got < 7 {
			t.Errorf("%v cards were left meanwhile", got)
		}
	})
	step("a moment is read again after a failure", func(t *testing.T) {
		var away atomic.Bool
		away.Store(true)
		m.record(b.t, calls("/mesh?at=", contract.Break, &away))
		b.visit(fmt.Sprintf("/?at=%d", time.Now().Unix()-20))
		time.Sleep(2 * time.Second)
		away.Store(false)
		b.until("document.querySelectorAll('.card').length > 5")
	})
	step("an effect's chart shows its own time", func(t *testing.T) {
		seen := m.record(b.t, nil)
		at := time.Now().Add(-2 * time.Hour).Unix()
		b.visit(fmt.Sprintf("/effects?at=%d", at))
		b.until("document.querySelector('[data-test=history]')")
		eventually(t, "a read of the time of the effect", func() bool {
			for _, call := range seen("/timeline?") {
				var from, to int64
				for _, part := range strings.FieldsFunc(call, func(r rune) bool { return r == '?' || r == '&' }) {
					fmt.Sscanf(part, "from=%d", &from)
					fmt.Sscanf(part, "to=%d", &to)
				}
				if from > 0 && from < at && at < to && to-from < 3600 {
					return true
				}
			}
			return false
		})
	})
	step("requests are not followed in a hidden tab", func(t *testing.T) {
		seen := m.record(b.t, nil)
		b.visit("/requests")
		b.until("/[1-9]\\d* requests? so far/.test(document.querySelector('[data-test=received]').innerText)")
		b.until("(Object.defineProperty(document, 'visibilityState', {value: 'hidden', configurable: true}), document.dispatchEvent(new Event('visibilitychange')), true)")
		time.Sleep(time.Second)
		b.until("(window.got = document.querySelector('[data-test=received]').innerText, true)")
		time.Sleep(1500 * time.Millisecond)
		if !b.now("window.got === document.querySelector('[data-test=received]').innerText") {
			t.Error("requests still come")
		}
		before := len(seen("/api/v1/requests?"))
		b.until("(delete document.visibilityState, document.dispatchEvent(new Event('visibilitychange')), true)")
		b.until("window.got !== document.querySelector('[data-test=received]').innerText")
		if got := len(seen("/api/v1/requests?")); got != before+1 {
			t.Errorf("%d streams were opened for the way back", got-before)
		}
	})
	step("a slider stays where it is held", func(t *testing.T) {
		b.visit("/try")
		knob := "document.querySelector(\"[data-test='standin-tides/v1'] .MuiSlider-thumb\")"
		value := "Number(document.querySelector(\"[data-test='standin-tides/v1'] input\").value)"
		b.drag(knob, 40, false)
		x, y := b.drag(knob, 60, true)
		b.until("(window.held = " + value + ", held > 0)")
		time.Sleep(3500 * time.Millisecond)
		if !b.now("window.held === " + value) {
			t.Error("the knob left the mouse")
		}
		b.do(chromedp.MouseEvent(chromedp.MouseReleased, x, y, chromedp.ButtonLeft, chromedp.ClickCount(1)))
		b.clickOn("[...document.querySelectorAll(\"[data-test='standin-tides/v1'] button\")].find((e) => e.innerText === 'Reset')")
	})
	step("a page whose code is gone offers to reload", func(t *testing.T) {
		b.visit("/")
		b.until("document.querySelector('.card')")
		var away atomic.Bool
		away.Store(true)
		m.record(b.t, calls("/assets/RulesPage", http.StatusNotFound, &away))
		b.clickOn(button("Rules"))
		b.says("main", "Reload")
		b.says("nav", "Mesh")
		away.Store(false)
		b.clickOn(button("Reload"))
		b.until("document.querySelector('.cm-content')")
	})
	step("versions look the same on every page", func(t *testing.T) {
		const fill = `(e) => e && getComputedStyle(e).backgroundColor + getComputedStyle(e).backgroundImage`
		b.visit("/services/sailings?tab=routes")
		b.until("document.querySelector('[data-test=\"mark-v3\"]')")
		want, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](fmt.Sprintf("(%s)(document.querySelector('[data-test=\"mark-v3\"]'))", fill)))
		if err != nil {
			t.Fatal(err)
		}
		b.visit("/try?url=http%3A%2F%2Fsailings%2Fsailings%2Ftoday&headers=x-crew%3A%20yes&count=20")
		b.click("send")
		b.until("document.querySelector('[data-test=tally]')?.dataset.final === 'true'")
		b.until(fmt.Sprintf("(%s)(document.querySelector('[data-test=tally] [data-test=\"mark-v3\"]')) === %q", fill, want))
	})
}
