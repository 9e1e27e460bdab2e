package test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/client"
	"nightjar/test/browser"
)

// tab is a page of the console in a real browser.
type tab struct {
	t   *testing.T
	ctx context.Context
	m   *mesh
}

func openTab(t *testing.T, m *mesh) tab {
	t.Helper()
	ctx, end, err := browser.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(end)
	b := tab{t, ctx, m}
	b.signIn(m.api)
	return b
}

func (b tab) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatal(err)
	}
}

// signIn signs the browser in as whoever a client calls as.
func (b tab) signIn(as *client.Client) {
	b.t.Helper()
	link, _, err := as.Console(b.t.Context(), 0)
	if err != nil {
		b.t.Fatal(err)
	}
	if err := browser.SignIn(b.ctx, link); err != nil {
		b.t.Fatal(err)
	}
}

func (b tab) visit(path string) { b.t.Helper(); b.do(chromedp.Navigate("http://" + b.m.web + path)) }

// until waits for JavaScript to be true.
func (b tab) until(js string) {
	b.t.Helper()
	if err := browser.Wait(b.ctx, js); err != nil {
		text, _ := browser.Text(b.ctx, "body")
		b.t.Fatalf("%v\nthe page says:\n%s", err, text)
	}
}

// click clicks an element by its place, as soon as it can be reached.
func (b tab) click(test string) {
	b.t.Helper()
	b.clickOn(fmt.Sprintf("document.querySelector(%q)", "[data-test='"+test+"']"))
}

// clickOn is click for the element that JavaScript gives.
func (b tab) clickOn(js string) {
	b.t.Helper()
	if err := browser.Click(b.ctx, js); err != nil {
		text, _ := browser.Text(b.ctx, "body")
		b.t.Fatalf("%v\nthe page says:\n%s", err, text)
	}
}

// button is JavaScript that gives the first button or link of those words.
func button(words string) string {
	return fmt.Sprintf("[...document.querySelectorAll('button, a, [role=tab], [role=menuitem]')].find((e) => e.innerText.trim() === %q)", words)
}

// drag presses the mouse on an element, moves it and, unless hold is set, lets it go.
func (b tab) drag(js string, right float64, hold bool) (x, y float64) {
	b.t.Helper()
	x, y, err := browser.Place(b.ctx, js)
	if err != nil {
		b.t.Fatal(err)
	}
	b.do(chromedp.MouseEvent(chromedp.MousePressed, x, y, chromedp.ButtonLeft, chromedp.ClickCount(1)))
	for i := range 5 {
		b.do(chromedp.MouseEvent(chromedp.MouseMoved, x+right*float64(i+1)/5, y, chromedp.ButtonLeft))
	}
	if !hold {
		b.do(chromedp.MouseEvent(chromedp.MouseReleased, x+right, y, chromedp.ButtonLeft, chromedp.ClickCount(1)))
	}
	return x + right, y
}

// now tells whether JavaScript is true.
func (b tab) now(js string) bool {
	b.t.Helper()
	ok, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool]("!!("+js+")"))
	if err != nil {
		b.t.Fatal(err)
	}
	return ok
}

// says waits for words in an element.
func (b tab) says(css, words string) {
	b.t.Helper()
	b.until(fmt.Sprintf("[...document.querySelectorAll(%q)].some(e => e.innerText.replace(/\\s+/g, ' ').includes(%q))", css, words))
}

func (b tab) press(css, key string, times int) {
	b.t.Helper()
	b.do(chromedp.Focus(chromedp.CSS(css)))
	for range times {
		b.do(chromedp.KeyEvent(key))
	}
}

// weighs waits for a weight of a route, in percent.
func (b tab) weighs(route, target, percent string) {
	b.t.Helper()
	b.until(fmt.Sprintf("document.querySelector(\"[data-test='route-%s'] [data-test='weight-%s']\")?.value === %q", route, target, percent))
}

// Keys, in the protocol's private code.
const arrowLeft, arrowRight = "\u0302", "\u0303"

func TestConsole(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	b := openTab(t, m)

	t.Run("the mesh shows flow and lanes", func(t *testing.T) {
		b.t = t
		b.visit("/")
		b.says("[data-test=revision]", fmt.Sprintf("Revision %d in force in 12 of 12 proxies", m.revision()))
		b.until("document.querySelectorAll('[data-test=card-sailings] [data-test=lane]').length === 3")
		b.until("document.querySelector('[data-test=\"ribbon-kiosk~sailings\"] .whole')")
		b.says("[data-test=card-berths]", "v1 ×2")
		b.says("[data-test=card-berths]", "of 50.0%")
		b.do(chromedp.Focus(chromedp.CSS("[data-test='ribbon-kiosk~sailings']")), chromedp.KeyEvent("\r"))
		b.says("[data-test=link]", "kiosk → sailings")
		b.says("[data-test=link]", "success")
		b.until("location.search.includes('pick=kiosk')")
		b.says("[data-test=sides]", "Workloads")
		b.click("card-sailings")
		b.says("[data-test=panel]", "Routes, guards, instances")
		b.until("document.querySelector('[data-test=\"mark-revision-1\"]')")
	})
	t.Run("a tour, until it is closed", func(t *testing.T) {
		b.t = t
		b.visit("/")
		b.says("[data-test=tour]", "Tour, 1 of 5")
		b.click("tour-next")
		b.until("location.pathname === '/services/sailings' && document.querySelector('[data-test=handle-0]')")
		b.says("[data-test=tour]", "Tour, 2 of 5")
		b.click("tour-close")
		b.visit("/")
		b.until("document.querySelector('.card')")
		if b.now("document.querySelector('[data-test=tour]')") {
			t.Error("the tour is back")
		}
	})
	t.Run("what Ctrl-K finds", func(t *testing.T) {
		b.t = t
		b.visit("/fleet?range=1h")
		b.until("document.querySelector('[data-test=proxy]')")
		b.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
		b.until("document.querySelector('[role=dialog] input')")
		b.do(chromedp.KeyEvent("sailings/timet"))
		b.says("[data-test=found]", "Route sailings/timetable")
		b.do(chromedp.KeyEvent("\r"))
		b.until("location.search.includes('route=timetable') && location.search.includes('range=1h') && document.querySelector('[data-test=route-timetable]')")
	})
	t.Run("cards keep their places while figures change", func(t *testing.T) {
		b.t = t
		b.visit("/")
		places := `JSON.stringify([...document.querySelectorAll('.card')].map((c) => [c.dataset.test, c.style.left, c.style.top]))`
		b.until("document.querySelectorAll('.card').length === 7")
		b.until(fmt.Sprintf("document.querySelectorAll('[data-test^=ribbon]').length >= 9 && (window.before = %s)", places)) // all links have had requests
		m.call(60, "http://tides/tides/next", "--from", "kiosk")                                                             // a link that was not there
		b.until("document.querySelector('[data-test=\"ribbon-kiosk~tides\"]')")
		b.until(fmt.Sprintf("(window.before = %s)", places))
		m.call(200, "http://berths/berths/free", "--from", "sailings") // rates change
		b.until("/\\b(4|5|6)\\d\\/s/.test(document.querySelector('[data-test=card-berths]').innerText)")
		b.until(fmt.Sprintf("window.before === %s", places))
	})
	t.Run("a moment of the past, a search, and cards for owners", func(t *testing.T) {
		b.t = t
		b.visit(fmt.Sprintf("/?at=%d", time.Now().Add(-time.Hour).Unix()))
		b.says("[data-test=incoming]", "0.0 requests per second enter the mesh")
		b.click("live")
		b.until("!location.search.includes('at=')")
		b.do(chromedp.Focus(chromedp.CSS("[data-test=search]")), chromedp.KeyEvent("fares"))
		b.until("document.querySelectorAll('.card.faded').length === document.querySelectorAll('.card').length - 1")
		b.visit("/?by=owner")
		b.click("card-timetable-team")
		b.click("ungroup")
		b.says("[data-test=card-sailings]", "v1")
	})
	t.Run("weights move by handle and are published from there", func(t *testing.T) {
		b.t = t
		b.visit("/services/sailings?tab=routes")
		b.weighs("timetable", "v1", "85")
		b.press("[data-test=route-timetable] [data-test=handle-0]", arrowLeft, 15)
		b.weighs("timetable", "v1", "70")
		b.do(chromedp.Focus(chromedp.CSS("[data-test=route-timetable] [data-test=weight-v2]")), chromedp.KeyEvent("\b\b40\r"))
		b.weighs("timetable", "v1", "60")
		b.press("[data-test=route-timetable] [data-test=handle-0]", arrowRight, 10)
		b.weighs("timetable", "v2", "30")
		next := m.revision() + 1
		b.click("publish")
		b.says("[data-test=published]", fmt.Sprintf("Revision %d is in force in 12 of 12 connected proxies", next))
		b.says("[data-test=revision]", fmt.Sprintf("Revision %d in force in 12 of 12", next))
		if got := m.call(100, "http://sailings/sailings/today"); answers(got) != "v1=70 v2=30" {
			t.Errorf("after publishing: %s", answers(got))
		}
	})
	t.Run("a change from elsewhere is not lost", func(t *testing.T) {
		b.t = t
		b.visit("/services/sailings?tab=routes")
		b.weighs("timetable", "v1", "70")
		b.press("[data-test=route-timetable] [data-test=handle-0]", arrowLeft, 1)
		seen := m.revision()
		m.must(0, "split", "sailings", "v1=10", "v2=90")
		b.says("[data-test=overtaken]", fmt.Sprintf("Revision %d was published meanwhile", seen+1))
		b.click("publish")
		b.says("[data-test=refused]", fmt.Sprintf("revision %d was published meanwhile (yours is based on %d)", seen+1, seen))
		if out := m.must(0, "rules", "show"); !strings.Contains(out, "{v1: 10, v2: 90}") {
			t.Errorf("in force:\n%s", out)
		}
	})
	t.Run("a request is explained and tallied", func(t *testing.T) {
		b.t = t
		b.visit("/try?url=http%3A%2F%2Fsailings%2Fsailings%2Ftoday")
		b.says("[data-test=explanation]", "timetable taken: path /sailings/**")
		b.do(chromedp.SendKeys(chromedp.CSS("[data-test=headers]"), "x-crew: yes"))
		b.says("[data-test=explanation]", `crew-first taken: header x-crew is "yes"`)
		b.do(chromedp.SendKeys(chromedp.CSS("[data-test=count]"), "\b\b\b60"))
		b.click("send")
		b.until("document.querySelector('[data-test=tally]')?.dataset.final === 'true'")
		b.says("[data-test=tally]", "60 of 60 requests done")
		b.says("[data-test='tally-sailings/v3']", "sailings/v3 60")
		b.until("document.querySelectorAll('[data-test^=\"tally-\"]').length === 1")
	})
	t.Run("what people changed, before and after", func(t *testing.T) {
		b.t = t
		b.visit("/activity?about=rules&who=mat")
		b.says("[data-test=activity]", "Nothing matches")
		b.visit("/services/sailings?tab=activity")
		row := "[...document.querySelectorAll('[data-test=activity] [role=row][data-id]')].find((e) => e.innerText.includes('split'))"
		b.clickOn(row + ".querySelector('[data-field=detail]')")
		b.says("[data-test=changes]", "services.sailings.routes[timetable].send v1 70, v2 30 → v1 10, v2 90")
		b.until(fmt.Sprintf("new URLSearchParams(location.search).get('changes') === '%d'", m.revision()))
		b.clickOn("[...document.querySelectorAll('[data-test=changes] a')].at(-1)")
		b.until("location.pathname === '/rules' && document.querySelector('.cm-activeLine')?.innerText.includes('v1: 10')")
	})
	t.Run("proxies that need attention come first", func(t *testing.T) {
		b.t = t
		b.visit("/fleet")
		b.says("[data-test=summary]", fmt.Sprintf("Revision %d is in force in all 12 proxies", m.revision()))
		// A second proxy of the gateway finds the port of the first one taken.
		start(t, "address already in use", "proxy", "--server", m.addr, "--gateway", "front-door", "--name", "front-door-b", "--state", "")
		b.says("[data-test=summary]", fmt.Sprintf("Revision %d is in force in 13 of 13 proxies; 1 needs attention", m.revision()))
		b.says("[data-id]:first-child [data-test=proxy][data-state=current]", "front-door-b")
		b.says("[data-id]:first-child", "address already in use")
		b.says("[data-test=notices]", "front-door-b")
		b.click("notices")
		b.says("[data-test=problem-front-door-b]", "does not listen at")
		b.click("examine")
		b.says("[data-test=examination]", "proxies: Proxy front-door-b has a problem")
		b.says("[data-test=examination]", "clock: The clocks of the service and the proxies agree.")
		b.visit("/fleet?find=tides")
		b.until("document.querySelectorAll('[data-test=proxy]').length === 1")
	})
	t.Run("who may call whom, who was refused, and a new root", func(t *testing.T) {
		b.t = t
		m.call(3, "http://sailings/sailings/today")
		m.must(1, "call", "http://berths/berths/9", "--from", "kiosk", "-n", "4")
		b.visit("/access")
		b.says("[data-test=summary]", "who is not allowed by a rule is refused")
		b.says("[data-test=cell][data-state=refused]", "4 refused")
		b.clickOn("document.querySelector('[data-test=cell][data-state=refused]')")
		b.says("[data-test=access-link]", "no request is allowed, by the default (deny)")
		b.until("new URLSearchParams(location.search).get('to') === 'berths'")
		b.click("suggest")
		b.says("[data-test=suggestion]", "default: deny")
		b.until("!document.querySelector('[data-test=take-draft]')") // there are access rules already
		b.says("[data-test=table-certificates]", "spiffe://nightjar.internal/gateway/front-door")
		b.click("rotate")
		b.click("act-confirm")
		b.says("[data-test=phase]", "step 1 of 3")
		b.says("[data-test=phase]", "step 3 of 3")
		b.until("!document.querySelector('[data-test=phase]')")
	})
	t.Run("files that are not in force, and a service that is gone", func(t *testing.T) {
		b.t = t
		file := write(t, t.TempDir(), "rules.yaml", strings.Replace(m.must(0, "rules", "show"), "timeout: 26s", "timeout: 27s", 1))
		m.must(0, "rules", "check", file, "--remember")
		b.visit("/")
		b.click("notices")
		b.says("[data-test=unpublished]", "1 difference (services.sailings.timeout)")
		known := m.revision()
		m.cmd.Process.Signal(interrupt)
		b.says("[data-test=stale]", "The service does not respond")
		b.says("[data-test=revision]", fmt.Sprintf("Revision %d", known)) // what was known stays
	})
}
