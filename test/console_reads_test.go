package test

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"github.com/chromedp/chromedp"
)

// consolePages are all pages of the console, each with what is there when it is drawn.
var consolePages = []struct{ path, ready string }{
	{"/", "document.querySelectorAll('.card').length > 6"},
	{"/?pick=sailings", "document.querySelector('[data-test=panel] [data-test=sides]')"},
	{"/?bands=site", "document.querySelector('[data-test=band-south-quay]') && document.querySelector('[data-test=\"card-sailings@south-quay\"]')"},
	{"/services", "document.querySelectorAll('[data-id]').length > 6"},
	{"/sites", "document.querySelectorAll('[data-id]').length > 3"},
	{"/services?view=links", "document.querySelectorAll('[data-id]').length > 6"},
	{"/services?view=routes", "document.querySelectorAll('[data-id]').length > 6"},
	{"/services/sailings", "document.querySelector('[data-test=history] svg') && document.querySelector('[data-id]')"},
	{"/services/sailings?tab=routes", "document.querySelectorAll('[data-test=handle-0]').length > 0"},
	{"/services/sailings?tab=settings", "document.querySelectorAll('[data-id]').length > 4"},
	{"/services/sailings?tab=instances", "document.querySelectorAll('[data-id]').length > 2"},
	{"/services/sailings?tab=requests", "document.querySelector('main h2')"},
	{"/services/sailings?tab=activity", "document.querySelector('[data-test=activity] [role=grid]')"},
	{"/gateways/front-door?tab=routes", "document.querySelector('[data-test=route-home]')"},
	{"/requests", "document.querySelectorAll('[data-id]').length > 3"},
	{"/traces?site=south-quay", "document.querySelector('[data-test=table-traces] [role=grid]')"},
	{"/rules?compare=1", "document.querySelector('.cm-content') && document.querySelector('[data-test=compared] [data-test=difference]')"},
	{"/releases", "document.querySelector('[data-test^=declared]')"},
	{"/drills", "document.querySelector('[data-test=drill-form]')"},
	{"/try", "document.querySelector('[data-test=explanation] table')"},
	{"/effects", "document.querySelector('[data-test=effect] [data-id]')"},
	{"/trials", "document.querySelector('[data-test=start-trial]')"},
	{"/forecast", "document.querySelector('[data-test=forecast]')"},
	{"/access?from=kiosk&to=fares", "document.querySelector('[data-test=access-link]') && document.querySelector('[data-test=table-certificates] [data-id]')"},
	{"/fleet", "document.querySelectorAll('[data-test=proxy]').length > 10"},
	{"/activity?site=south-quay", "document.querySelector('[data-test=activity] [role=grid]')"},
	{"/people", "document.querySelectorAll('[role=grid]').length === 2"},
	{"/nowhere", "document.querySelector('h1')"},
}

// readable is JavaScript that gives what is wrong with a page for those who cannot see
// it, or not well, by axe; and some rules of the look. In another mode only colours differ.
// The rows of a table are alike: five of them are looked at.
const readable = `(async (rules) => {
	const all = await axe.run({exclude: [".MuiDataGrid-row:nth-of-type(n+6)"]}, {resultTypes: ["violations"], ...rules});
	const wrong = all.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + " — " + (n.any[0]?.message ?? n.all[0]?.message ?? n.none[0]?.message ?? "")).join(" | "));
	if (getComputedStyle(document.body).fontSize !== "13px") wrong.push("the body text is " + getComputedStyle(document.body).fontSize);
	const clock = /\d[:.]\d\d (AM|PM)\b/i.exec(document.body.innerText);
	if (clock) wrong.push("a 12-hour time: " + clock[0]);
	for (const e of document.querySelectorAll("[role=status], [role=alert], [aria-live]")) if (/\d+ s left/.test(e.innerText)) wrong.push("announces seconds: " + e.innerText);
	if (!document.title.endsWith("Nightjar")) wrong.push("the title is " + document.title);
	return JSON.stringify(wrong);
})`

// The rules by which axe looks at a page.
const (
	allRules    = `{rules: {"label-content-name-mismatch": {enabled: true}}}`
	colourRules = `{runOnly: ["color-contrast", "link-in-text-block"]}`
)

// tooWide is JavaScript that gives some of the elements that make a page wider than the window.
const tooWide = `document.documentElement.scrollWidth <= innerWidth ? "" : [...document.querySelectorAll("body *")]
	.filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest("[role=grid], [data-test=mesh]")).slice(0, 4).map((e) => e.outerHTML.slice(0, 120)).join(" | ")`

// TestConsoleReads opens every page in both modes, and on a phone.
func TestConsoleReads(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	m := startQuickDemo(t)
	m.drill("--service", "tides", "--fail", "10%", "--for", "10m")
	b := openTab(t, m)
	b.visit("/mark.svg")
	b.until("(localStorage.setItem('nightjar.mode', 'light'), true)")
	read := func(t *testing.T, mode, rules string) {
		t.Helper()
		text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](readable+"("+rules+")", chromedp.EvalAwaitPromise))
		var wrong []string
		if err == nil {
			err = json.Unmarshal([]byte(text), &wrong)
		}
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range wrong {
			t.Errorf("%s: %s", mode, w)
		}
	}
	narrow := func(t *testing.T, width int) {
		t.Helper()
		b.until(fmt.Sprintf("document.documentElement.scrollWidth <= %d || (window.tries = (window.tries ?? 0) + 1) > 20", width))
		wide, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](tooWide))
		if wide != "" || err != nil {
			t.Errorf("wider than a window of %d: %s %v", width, wide, err)
		}
	}
	for _, p := range consolePages {
		t.Run(p.path, func(t *testing.T) {
			b.t = t
			b.do(chromedp.EmulateViewport(1280, 800))
			b.visit(p.path)
			b.until(p.ready)
			if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[any](string(axe)+"; 0")); err != nil {
				t.Fatal(err)
			}
			read(t, "light", allRules)
			narrow(t, 1280)
			b.until("(document.querySelector('[aria-label=\"Dark colours\"]').click(), true)")
			b.until(p.ready)
			read(t, "dark", colourRules)
			b.until("(document.querySelector('[aria-label=\"Light colours\"]').click(), true)")
			b.do(chromedp.EmulateViewport(390, 844))
			b.until(p.ready)
			narrow(t, 390)
			if !b.now("document.querySelector('[data-test=stale]') || document.querySelector('main').getBoundingClientRect().top + scrollY <= 84") {
				t.Error("the head takes more than a tenth of a phone")
			}
		})
	}
}
